package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"missivum/service/config"
)

// configCommand is missivum config.
func (a *app) configCommand() *cobra.Command {
	c := &cobra.Command{Use: "config", Short: "Check the settings of the service, or write an example of them"}
	c.AddCommand(a.configCheck(), a.configExample())
	return c
}

// configCheck says what is in force and where it came from.
func (a *app) configCheck() *cobra.Command {
	f := serveFlags{}
	c := &cobra.Command{
		Use: "check", Short: "Print the settings that are in force, and where each came from",
		Long: `Reads the file of settings, the environment and the flags as missivum serve does, and prints what is in force, with secrets
hidden. Mistakes are named by line, with what would be right; then it ends with status 2.`,
		Example: "  missivum config check --config /etc/missivum/settings.yaml", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			v, err := f.load(nil)
			if err != nil {
				return err
			}
			var rows [][]string
			for _, one := range v.All() {
				rows = append(rows, []string{one.Name, or(one.Value, "-"), one.From})
			}
			printTable(a.out, []string{"Setting", "Value", "From"}, rows)
			for _, note := range v.Notes {
				fmt.Fprintln(a.err, note)
			}
			c, err := serviceConfig(v)
			if err == nil {
				err = c.Check()
			}
			if err != nil {
				return exitError{ExitUsage, err}
			}
			return nil
		},
	}
	f.add(c, nil)
	return c
}

// configExample writes the example.
func (a *app) configExample() *cobra.Command {
	var asSchema bool
	c := &cobra.Command{
		Use: "example", Short: "Write a file with every setting, its meaning and its default; or the JSON Schema of such files",
		Example: "  missivum config example > settings.yaml", Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			if asSchema {
				_, err := fmt.Fprintln(a.out, string(config.Schema()))
				return err
			}
			_, err := fmt.Fprint(a.out, config.Example())
			return err
		},
	}
	c.Flags().BoolVar(&asSchema, "schema", false, "write the JSON Schema (2020-12)")
	return c
}
