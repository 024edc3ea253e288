package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/journey"
	"missivum/core/person"
	"missivum/core/preview"
)

// simulateCommand is missivum simulate. The markup goes to standard output, the events to standard error.
func (a *app) simulateCommand() *cobra.Command {
	var flags templateFlags
	var mail, id, stage, output string
	var view journey.View
	c := &cobra.Command{
		Use:   "simulate TEMPLATE",
		Short: "Show the markup as a client keeps it",
		Long: `Writes the markup as a client has it after a stage of its journey (install, send, receive, render) and, on the
standard error, what happened to it with line and column. Without a person the fields stay as written.`,
		Example: "  missivum simulate demo/templates/regatta --client wordproc-desktop --people demo/people.csv " +
			"--person maren.lind@brackwater.example",
		Args: exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if id == "" {
				return usage("simulate needs --client; there are %s", strings.Join(client.IDs(client.Shipped()), ", "))
			}
			profiles, err := a.findClients([]string{id})
			if err != nil {
				return err
			}
			if !knownStage(stage) {
				return usage("--stage %q is not known; it is install, send, receive or render", stage)
			}
			if mail != "" && flags.people.file == "" {
				return usage("--person needs --people")
			}
			l, err := a.load(args[0], flags)
			if err != nil {
				return err
			}
			var who *person.Person
			variant := flags.variant
			if mail != "" {
				variant = l.variant
				if who, err = findPerson(l.people, mail); err != nil {
					return err
				}
			}
			prepared, err := compose.Prepare(l.template, l.schema, l.day, compose.Delivered(l.template, compose.Fragment, compose.Beside))
			if err != nil {
				return mistakes(l.source, err)
			}
			kept, err := preview.Of(prepared).Seen(profiles[0], client.Stage(stage), view, variant, who)
			if err != nil {
				return err
			}
			for _, e := range kept.Log {
				place := prepared.Doc.Place(e.Span.Start)
				fmt.Fprintf(a.err, "%s:%d:%d  %s\n", l.source, place.Line, place.Column, e)
			}
			return a.writeFile(output, func(w io.Writer) error {
				_, err := w.Write(withNewline([]byte(kept.Body)))
				return err
			})
		},
	}
	c.Flags().StringVar(&id, "client", "", "client profile")
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&mail, "person", "", "mail address of the person to fill for")
	c.Flags().StringVar(&flags.variant, "variant", "", "variant (default the template's first, or all without a person)")
	c.Flags().BoolVar(&view.Dark, "dark", false, "with the colours of the client's dark mode")
	c.Flags().BoolVar(&view.Blocked, "blocked", false, "with the pictures that the client does not load at first as boxes")
	c.Flags().StringVar(&stage, "stage", "render", "how far the journey goes: install, send, receive or render")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	return c
}

// knownStage reports whether a stage is one of the journey.
func knownStage(stage string) bool {
	for _, h := range client.Stages {
		if string(h) == stage {
			return true
		}
	}
	return false
}
