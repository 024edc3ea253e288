package cli

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/core/audience"
	"missivum/core/client"
	"missivum/core/kit"
	"missivum/core/pack"
	"missivum/core/person"
	"missivum/core/template"
	"missivum/service/drawing"
	"missivum/service/files"
)

// kitFlags say of which way kits are, and who signs them.
type kitFlags struct {
	way, client, base, sign, folders string
}

// add puts the flags on a command.
func (f *kitFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.way, "way", "", "way of installing for which kits are made: "+strings.Join(client.WayIDs(), ", "))
	c.Flags().StringVar(&f.client, "client", "", "client profile for which kits are made; its way and what it wants on a desk")
	c.Flags().StringVar(&f.base, "base", "",
		"base name of a kit's files (default the template's name); with -new and -reply behind it where both differ")
	c.Flags().StringVar(&f.sign, "sign-with", "", "private key that signs each kit's list (missivum kit key makes one)")
}

// chosen reports whether kits are asked for.
func (f *kitFlags) chosen() bool { return f.way != "" || f.client != "" }

// kits readies the kits of one template, in which each situation gets the variant that is called like it.
func (a *app) kits(ctx context.Context, f kitFlags, t *template.Template, schema *person.Schema, day time.Time) (*pack.Kits, error) {
	in := kit.Input{Templates: map[string]*template.Template{t.Name: t}, Schema: schema, Day: day, Way: f.way, Client: f.client, Base: f.base}
	if f.client != "" {
		found, err := a.findClients([]string{f.client})
		if err != nil {
			return nil, err
		}
		install := found[0].Install
		if f.way != "" && f.way != install.Way {
			return nil, usage("--way %s does not fit --client %s, whose way is %s", f.way, f.client, install.Way)
		}
		in.Way, in.Desk = install.Way, install.OnDesk()
	}
	switch in.Way {
	case client.AppendBlock:
		return nil, usage("the way append-block has one block for everybody; missivum block writes it, with its rule sheet")
	case client.PictureLink:
		key, err := readKey(f.sign)
		choice := kit.Choice{Situation: "new", Template: t.Name, Variant: t.Variants()[0]}
		return &pack.Kits{Key: key, Folders: f.folders, Way: in.Way,
			Make: func(who *person.Person) (kit.Kit, error) { return drawing.Kit(ctx, in, choice, who) }}, err
	}
	maker, err := kit.New(in)
	if err != nil {
		return nil, err
	}
	key, err := readKey(f.sign)
	if err != nil {
		return nil, err
	}
	var choices []kit.Choice
	for _, situation := range maker.Situations() {
		choices = append(choices, kit.Choice{Situation: situation, Template: t.Name, Variant: audience.Variant("", situation, t.Variants())})
	}
	return &pack.Kits{Maker: maker, Choices: func(*person.Person) []kit.Choice { return choices }, Key: key, Folders: f.folders,
		Way: in.Way, Client: f.client}, nil
}

// readKey reads the key of --sign-with; nil without one.
func readKey(file string) (*kit.Key, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the key cannot be read: %w", err)
	}
	key, err := kit.ReadKey(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return &key, nil
}

// kitCommand is missivum kit: one person's files for one way of installing.
func (a *app) kitCommand() *cobra.Command {
	var flags templateFlags
	var kits kitFlags
	var mail, output string
	c := &cobra.Command{
		Use:   "kit TEMPLATE",
		Short: "Write one person's files for one way of installing",
		Long: `Writes a folder with exactly the files that a way of installing wants, under the names that the client takes, and
the list of them, kit.json. Prints the steps in plain words and how to see that it worked. With --sign-with the list
is signed, and missivum desk place takes the folder.`,
		Example: "  missivum kit demo/templates/harbour --people demo/people.csv --person " +
			"maren.lind@brackwater.example --client wordproc-desktop -o /tmp/kit",
		Args: exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if flags.people.file == "" || mail == "" || output == "" || !kits.chosen() {
				return usage("kit needs --people, --person, --output, and --way or --client")
			}
			l, err := a.load(args[0], flags)
			if err != nil {
				return err
			}
			who, err := findPerson(l.people, mail)
			if err != nil {
				return err
			}
			k, key, err := a.oneKit(cmd.Context(), kits, l, who)
			if err != nil {
				return mistakes(l.source, err)
			}
			if err := writeKit(output, k, key); err != nil {
				return err
			}
			a.printKit(output, k, key != nil)
			for _, note := range pack.DatedNotes(l.template, l.day) {
				fmt.Fprintln(a.err, note)
			}
			return nil
		},
	}
	a.templateFlags(c, &flags)
	kits.add(c)
	c.Flags().StringVar(&mail, "person", "", "mail address of the person")
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write; it must be empty or not there")
	c.AddCommand(a.kitKeyCommand())
	return c
}

// oneKit makes one person's kit, and reads the key that signs it.
func (a *app) oneKit(ctx context.Context, f kitFlags, l loaded, who *person.Person) (kit.Kit, *kit.Key, error) {
	if f.way != client.PictureLink {
		made, err := a.kits(ctx, f, l.template, l.schema, l.day)
		if err != nil {
			return kit.Kit{}, nil, err
		}
		k, err := made.Maker.Worker().Make(who, made.Choices(who))
		return k, made.Key, err
	}
	key, err := readKey(f.sign)
	if err != nil {
		return kit.Kit{}, nil, err
	}
	in := kit.Input{Templates: map[string]*template.Template{l.template.Name: l.template}, Schema: l.schema, Day: l.day,
		Way: f.way, Base: f.base}
	choice := kit.Choice{Situation: "new", Template: l.template.Name, Variant: l.template.Variants()[0]}
	k, err := drawing.Kit(ctx, in, choice, who)
	return k, key, err
}

// writeKit writes a kit into a folder, the list last.
func writeKit(folder string, k kit.Kit, key *kit.Key) error {
	if entries, err := os.ReadDir(folder); err == nil && len(entries) > 0 {
		return exitError{ExitFindings, fmt.Errorf("the folder %s is not empty; nothing was written", folder)}
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, f := range k.Contents {
		name := filepath.Join(folder, filepath.FromSlash(f.File))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := files.WriteBytes(name, f.Data); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	list := k.JSON()
	if key != nil {
		if err := files.WriteBytes(filepath.Join(folder, kit.SignFile), key.Sign(list)); err != nil {
			return err
		}
	}
	return files.WriteBytes(filepath.Join(folder, kit.ListFile), list)
}

// printKit lists what was written, and what is done with it.
func (a *app) printKit(folder string, k kit.Kit, signed bool) {
	for _, f := range k.Files {
		fmt.Fprintf(a.out, "%s  %s bytes\n", filepath.Join(folder, filepath.FromSlash(f.File)), grouped(f.Bytes))
	}
	for _, note := range k.Notes {
		fmt.Fprintln(a.out, note)
	}
	way, _ := client.FindWay(k.Way)
	for _, d := range way.Drawbacks {
		fmt.Fprintln(a.out, "Mind: "+d)
	}
	steps := k.Steps()
	fmt.Fprintln(a.out, "\nSteps:")
	for i, step := range steps.Install {
		fmt.Fprintf(a.out, "%3d. %s\n", i+1, step)
	}
	fmt.Fprintln(a.out, "\nHow to see that it worked:")
	for i, step := range steps.Proof {
		fmt.Fprintf(a.out, "%3d. %s\n", i+1, step)
	}
	if way.Places && !signed {
		fmt.Fprintln(a.out, "\nThe kit is not signed, so missivum desk does not take it; --sign-with signs it.")
	}
}

// kitKeyCommand makes the key that signs kits.
func (a *app) kitKeyCommand() *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "key", Short: "Make the key that signs kits", Example: "  missivum kit key -o brackwater",
		Long: `Makes a key pair: NAME.key, which signs kits and stays with whoever makes them, and NAME.pub, which goes to every desk.
The key is of the kind Ed25519 (RFC 8032), the files are PEM (RFC 8410).`,
		Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			if output == "" {
				return usage("key needs --output, the name of the two files without their endings")
			}
			private, public := output+".key", output+".pub"
			var seed [ed25519.SeedSize]byte
			rand.Read(seed[:]) // never fails (crypto/rand)
			key := kit.NewKey(seed)
			f, err := os.OpenFile(private, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return fmt.Errorf("the key cannot be written: %w", err)
			}
			_, err = f.Write(key.PEM())
			if err := errors.Join(err, f.Close()); err != nil {
				return err
			}
			if err := files.WriteBytes(public, key.Trusted().PEM()); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s signs kits: keep it safe.\n%s goes to the desks: missivum desk place --trust %s\n", private, public, public)
			return nil
		},
	}
	c.Flags().StringVarP(&output, "output", "o", "", "name of the two files, without their endings")
	return c
}
