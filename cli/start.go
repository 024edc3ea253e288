package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/person"
	"missivum/core/starter"
)

func (a *app) startCommand() *cobra.Command {
	var output string
	c := &cobra.Command{
		Use:     "start [STARTER]",
		Short:   "Begin a template from a starter",
		Long:    "Writes the folder of a starter template, to go on from. Without a name it lists the starters.",
		Example: "  missivum start columns -o signature",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.listStarters()
			}
			t, err := starter.Find(args[0])
			if err != nil {
				names, _ := starter.Names()
				message := fmt.Sprintf("there is no starter %q; there are %s", args[0], strings.Join(names, ", "))
				if near := person.Nearest(args[0], names); len(near) > 0 {
					message = fmt.Sprintf("there is no starter %q; there is %s", args[0], strings.Join(near, ", "))
				}
				return usage("%s", message)
			}
			if output == "" {
				output = t.Name
			}
			if err := newFolder(output, t); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: %s\n", output, plural(len(t.Files()), "file", "files"))
			return nil
		},
	}
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write (default the starter's name)")
	return c
}

func (a *app) listStarters() error {
	all, err := starter.All()
	if err != nil {
		return err
	}
	var rows [][]string
	for _, t := range all {
		rows = append(rows, []string{t.Name, t.Settings.About})
	}
	printTable(a.out, []string{"Starter", "About"}, rows)
	return nil
}
