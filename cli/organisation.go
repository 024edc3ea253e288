package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/spf13/cobra"
	"gopkg.in/yaml.v3"
)

// organisationFile are the settings of an organisation as a file has them.
type organisationFile struct {
	Language  string                       `json:"language" yaml:"language"`
	Country   string                       `json:"country" yaml:"country"`
	Address   string                       `json:"address" yaml:"address"` // public, of pictures
	Domains   []string                     `json:"domains" yaml:"domains"`
	Constants map[string]string            `json:"constants" yaml:"constants"`
	Texts     map[string]map[string]string `json:"texts" yaml:"texts"`
}

// organisationCommand is missivum organisation, which works against a service.
func (a *app) organisationCommand() *cobra.Command {
	return onlineGroup("organisation", "Say what all templates share: constants, texts, language, country, mail domains",
		a.organisationPull, a.organisationPush)
}

// organisationPull writes the settings into a file.
func (a *app) organisationPull(server *string) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "pull", Short: "Write the organisation's settings as YAML", Example: "  missivum organisation pull -o organisation.yaml",
		Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var s organisationFile
			if err := r.json(ctx, http.MethodGet, "/api/v1/organisation", nil, &s); err != nil {
				return err
			}
			return a.writeFile(output, func(w io.Writer) error {
				out := yaml.NewEncoder(w)
				out.SetIndent(2)
				if err := out.Encode(s); err != nil {
					return err
				}
				return out.Close()
			})
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	return c
}

// organisationPush stores a file.
func (a *app) organisationPush(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "push FILE", Short: "Store the organisation's settings from a file that pull wrote",
		Long: `Stores the settings. A template that has a constant, a text, a language or a country of its own keeps it; missivum check and the
workbench say where each value comes from.`,
		Example: "  missivum organisation push organisation.yaml", Args: exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			data, err := os.ReadFile(args[0])
			if err != nil {
				return fmt.Errorf("the settings cannot be read: %w", err)
			}
			var s organisationFile
			d := yaml.NewDecoder(bytes.NewReader(data))
			d.KnownFields(true)
			if err := d.Decode(&s); err != nil {
				return usage("%s: %w", args[0], err)
			}
			if err := r.json(ctx, http.MethodPut, "/api/v1/organisation", s, &s); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%d constants, %d texts, %d mail domains.\n", len(s.Constants), len(s.Texts), len(s.Domains))
			return nil
		}),
	}
}
