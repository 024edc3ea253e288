package cli

import (
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"gopkg.in/yaml.v3"

	"missivum/core/client"
	"missivum/core/delivery"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/template"
	"missivum/service/pictures"
)

// pictureSlice is missivum picture slice: a design cut into pieces that a table joins.
func (a *app) pictureSlice() *cobra.Command {
	var m picture.SliceMap
	var file, output, name string
	c := &cobra.Command{
		Use:   "slice FILE",
		Short: "Cut a design into linked pieces that join in a table",
		Long: `Cuts a design by the lines of a map (YAML: width, lines, pieces) or by a grid, and writes a template folder: the pieces'
pictures, the table in which they join, and the settings that name them, with the map beside them to be edited and
cut anew. Pieces of one colour become the background of their cell; pieces that seem to hold text are pointed out.`,
		Example: "  missivum picture slice demo/pictures/crossings.png --map demo/pictures/crossings.map.yaml -o /tmp/crossings",
		Args:    exactly("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := readPicture(args[0])
			if err != nil {
				return err
			}
			if file != "" {
				if m, err = readMap(file); err != nil {
					return err
				}
			}
			if name == "" {
				name = strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0]))
			}
			if !template.ValidName(name) {
				return usage("--name %q: use lower-case letters, digits and hyphens", name)
			}
			cut, err := picture.Slice(data, m, name)
			if err != nil {
				return ofPicture(args[0], err)
			}
			if output == "" {
				return usage("--output says which folder the pieces go into")
			}
			if err := a.writeSliced(cut, m, output, name); err != nil {
				return err
			}
			var rows [][]string
			for i, p := range cut.Pieces {
				what := "background " + p.Plain
				if p.Plain == "" {
					what = fmt.Sprintf("%s, %s bytes", strings.ToUpper(p.Rendition.Facts.Format), grouped(p.Bytes))
				}
				rows = append(rows, []string{fmt.Sprint(i + 1), fmt.Sprintf("%d,%d", p.X, p.Y),
					fmt.Sprintf("%d x %d px", p.Width, p.Height), what, p.Link, p.Alt})
			}
			printTable(a.out, []string{"Piece", "At", "Size", "Becomes", "Link", "Alternative text"}, rows)
			for _, note := range cut.Notes {
				fmt.Fprintln(a.out, note+".")
			}
			fmt.Fprintf(a.out, "%s: a template of %s; cut anew after editing %s\n", output,
				plural(len(cut.Pieces), "piece", "pieces"), filepath.Join(output, name+".map.yaml"))
			return nil
		},
	}
	c.Flags().StringVar(&file, "map", "", "YAML with width, lines and pieces")
	c.Flags().IntVar(&m.Width, "width", 0, "px at which the design is shown, without a map")
	c.Flags().IntVar(&m.Columns, "columns", 0, "equal columns, without a map")
	c.Flags().IntVar(&m.Rows, "rows", 0, "equal rows, without a map")
	c.Flags().StringVar(&name, "name", "", "beginning of the pieces' names (default that of the file)")
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write")
	return c
}

// readMap reads the lines and pieces of a cut from YAML.
func readMap(file string) (m picture.SliceMap, err error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return m, fmt.Errorf("the map cannot be read: %w", err)
	}
	d := yaml.NewDecoder(strings.NewReader(string(data)))
	d.KnownFields(true)
	if err := d.Decode(&m); err != nil {
		return m, exitError{ExitUsage, fmt.Errorf("%s: %s", file, strings.TrimPrefix(err.Error(), "yaml: "))}
	}
	return m, nil
}

// writeSliced writes the folder of a template made of the pieces.
func (a *app) writeSliced(cut *picture.Sliced, m picture.SliceMap, folder, name string) error {
	files, err := pictures.SlicedFiles(cut, m, name)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(folder, template.PictureFolder), 0o755); err != nil {
		return err
	}
	for file, data := range files {
		if err := a.writeFile(filepath.Join(folder, filepath.FromSlash(file)),
			func(w io.Writer) error { _, err := w.Write(data); return err }); err != nil {
			return err
		}
	}
	return nil
}

// pictureCode is missivum picture code: a QR code for a link, a person, or everybody.
func (a *app) pictureCode() *cobra.Command {
	var r picture.CodeRecipe
	var people peopleFlags
	var who, organisation, output, address string
	c := &cobra.Command{
		Use:   "code [TEXT]",
		Short: "Draw a link or a person's vCard as a QR code",
		Long: `Draws a QR code (ISO/IEC 18004) in which every module is a whole number of pixels: of a text such as a link, of the vCard
(RFC 6350) of one person, or of everybody's into a folder.`,
		Example: "  missivum picture code https://www.brackwater.example/timetable --width 100 -o /tmp/timetable.png",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if output == "" || len(args) == 1 == (people.file != "") {
				return usage("code needs a text, or --people with --person or for everybody, and --output")
			}
			if len(args) == 1 {
				made, err := picture.Code(args[0], r)
				if err != nil {
					return exitError{ExitFindings, err}
				}
				return a.finishCode(made, output)
			}
			d, err := a.openPeople(people)
			if err != nil {
				return err
			}
			if who != "" {
				p, err := findPerson(d, who)
				if err != nil {
					return err
				}
				made, err := codeOf(d, p, organisation, r)
				if err != nil {
					return exitError{ExitFindings, err}
				}
				return a.finishCode(made, output)
			}
			return a.everybodysCodes(cmd, d, organisation, r, output, address)
		},
	}
	people.add(c)
	c.Flags().StringVar(&who, "person", "", "mail address of the person (default everybody, into a folder)")
	c.Flags().StringVar(&organisation, "organisation", "", "name of the organisation on the cards")
	c.Flags().IntVar(&r.Width, "width", 120, "px that it may take at most, with its clear margin")
	c.Flags().IntVar(&r.Multiple, "multiple", 2, "pixels for each px: 1, 2 or 3")
	c.Flags().StringVar(&r.Recovers, "recovers", "15", "percent that may be spoilt: 7, 15, 25 or 30")
	c.Flags().StringVar(&r.Dark, "dark", "", "colour of the modules, such as 0b3c49 (default black)")
	c.Flags().StringVar(&address, "address", "", "address below which the files will be hosted; codes.csv then holds everybody's")
	c.Flags().StringVarP(&output, "output", "o", "", "PNG to write, or folder for everybody's")
	return c
}

// codeOf draws the code of a person's vCard.
func codeOf(d *person.Directory, p *person.Person, organisation string, r picture.CodeRecipe) (*picture.CodePicture, error) {
	card, err := person.VCard(d.Schema, p, organisation)
	if err != nil {
		return nil, err
	}
	return picture.Code(card, r)
}

// finishCode writes a code and says how large it is shown, since each module must be a whole number of pixels.
func (a *app) finishCode(made *picture.CodePicture, output string) error {
	if err := a.writeFile(output, func(w io.Writer) error { _, err := w.Write(made.Data); return err }); err != nil || output == "-" {
		return err
	}
	fmt.Fprintf(a.out, "%s: %d x %d modules of %s, %d x %d px when shown at width=\"%d\" (the next larger takes %d px), %s bytes\n",
		output, made.Modules, made.Modules,
		plural(made.Module, "pixel", "pixels"), made.Facts.Width, made.Facts.Height, made.Width, made.Next, grouped(len(made.Data)))
	return nil
}

// everybodysCodes writes a code for each person, and the table of their addresses.
func (a *app) everybodysCodes(cmd *cobra.Command, d *person.Directory, organisation string, r picture.CodeRecipe, folder,
	address string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	bar := a.progress("codes", len(d.People))
	defer bar.end()
	rows := [][]string{{"mail", "codeAddress", "file"}}
	a.unaddressed("codes.csv", address)
	left := 0
	for i := range d.People {
		if err := cmd.Context().Err(); err != nil {
			return err
		}
		mail := d.Get(&d.People[i], "mail")
		made, err := codeOf(d, &d.People[i], organisation, r)
		if err != nil {
			left++
			fmt.Fprintf(a.err, "%s: %v; left out\n", mail, err)
			continue
		}
		key := picture.KeyOf(made.Data)
		if err := a.writeFile(filepath.Join(folder, key), func(w io.Writer) error { _, err := w.Write(made.Data); return err }); err != nil {
			return err
		}
		rows = append(rows, []string{mail, addressOf(address, key), key})
		bar.done(i + 1)
	}
	if err := a.writeTable(filepath.Join(folder, "codes.csv"), rows); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: %s, %d left out; codes.csv has the field codeAddress for people import\n", folder,
		plural(len(rows)-1, "code", "codes"), left)
	return nil
}

// addressOf is the address of a hosted file; blank when nobody said where it will be.
func addressOf(address, key string) string {
	if address == "" {
		return ""
	}
	return strings.TrimSuffix(address, "/") + "/" + key
}

// unaddressed says that a table has no addresses.
func (a *app) unaddressed(table, address string) {
	if address == "" {
		fmt.Fprintf(a.err, "%s has no addresses yet: give --address with the address below which the files will be hosted\n", table)
	}
}

// writeTable writes rows as CSV.
func (a *app) writeTable(name string, rows [][]string) error {
	return a.writeFile(name, func(w io.Writer) error { return csv.NewWriter(w).WriteAll(rows) })
}

// picturePhotos is missivum picture photos: everybody's photo by one recipe. A run that was killed is continued.
func (a *app) picturePhotos() *cobra.Command {
	f := recipeFlags{all: true}
	var output, address, export string
	c := &cobra.Command{
		Use:   "photos [FOLDER]",
		Short: "Fit everybody's photo",
		Long: `Fits photos in bulk, on all processors: those of a folder whose files are named by mail address, or the jpegPhoto of a
directory's LDIF export. A run that was ended goes on where it was: photos.jsonl in the output folder says what each
rendition was made of. The folder hosted has the files as they are to be hosted below --address, and photos.csv gives each
person's address for people import, as the field photoAddress.`,
		Example: "  missivum picture photos photos --width 96 --height 96 --focus find --shape round --background ffffff -o fitted",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := f.read()
			if err != nil {
				return err
			}
			if output == "" || len(args) == 1 == (export != "") {
				return usage("photos needs a folder or --ldif, and --output")
			}
			list, err := a.photosOf(args, export)
			if err != nil {
				return err
			}
			bar := a.progress("photos", len(list))
			result, err := pictures.Fit(cmd.Context(), list, r, output, bar.done)
			bar.end()
			if err != nil {
				return fmt.Errorf("stopped after %d of %d photos; the same command goes on: %w", result.Fitted+result.Kept, len(list), err)
			}
			return a.finishPhotos(result, list, output, address)
		},
	}
	f.add(c)
	c.Flags().StringVar(&export, "ldif", "", "LDIF export (RFC 2849) whose entries have mail and jpegPhoto")
	c.Flags().StringVar(&address, "address", "", "address below which the files will be hosted")
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write")
	return c
}

// photosOf lists the photos of a folder, or of an LDIF export.
func (a *app) photosOf(args []string, export string) ([]pictures.Photo, error) {
	if export == "" {
		list, err := pictures.PhotosIn(args[0])
		if err != nil {
			return nil, fmt.Errorf("the photos cannot be read: %w", err)
		}
		return list, nil
	}
	file, err := os.Open(export)
	if err != nil {
		return nil, fmt.Errorf("the export cannot be read: %w", err)
	}
	defer file.Close()
	list, bad, err := pictures.PhotosInLDIF(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", export, err)
	}
	for _, e := range bad {
		fmt.Fprintf(a.err, "%s: %v; left out\n", export, e)
	}
	return list, nil
}

// finishPhotos writes photos.csv, which brings the addresses into the directory, and says what was left out.
func (a *app) finishPhotos(result pictures.BulkResult, list []pictures.Photo, folder, address string) error {
	for _, r := range result.Refused {
		fmt.Fprintf(a.err, "%s: %s; left out\n", r.Mail, r.Error)
	}
	made, err := pictures.Fitted(folder)
	if err != nil {
		return err
	}
	rows := [][]string{{"mail", "photoAddress", "file"}}
	for _, p := range list {
		if r, ok := made[p.Mail]; ok {
			rows = append(rows, []string{p.Mail, addressOf(address, r.Key), pictures.HostedFolder + "/" + r.Key})
		}
	}
	a.unaddressed("photos.csv", address)
	if err := a.writeTable(filepath.Join(folder, "photos.csv"), rows); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: %s fitted, %d there already, %d left out; %s kB all together\n", folder,
		plural(result.Fitted, "photo", "photos"), result.Kept, len(result.Refused), grouped(int((result.Bytes+1023)/1024)))
	if len(result.Refused) > 0 {
		return exitError{code: ExitFindings}
	}
	return nil
}

// pictureDelivery is missivum picture delivery: what each way to deliver pictures costs, and where they are seen.
func (a *app) pictureDelivery() *cobra.Command {
	var flags templateFlags
	var volume int
	var format string
	c := &cobra.Command{
		Use:   "delivery TEMPLATE",
		Short: "Show what hosting, carrying or inlining the pictures costs and where each works",
		Long: `Shows for each form and each way in which its pictures can get to the reader what that costs and in which clients they
are shown at once. The way is chosen in template.yaml: pictures.delivery.`,
		Example: "  missivum picture delivery demo/templates/harbour --people demo/people.csv --volume 9000",
		Args:    exactly("TEMPLATE"),
		RunE: func(_ *cobra.Command, args []string) error {
			l, err := a.load(args[0], flags)
			if err != nil {
				return err
			}
			list, err := delivery.Weigh(delivery.Input{Template: l.template, People: l.people, Profiles: client.Shipped(),
				Day: l.day, Volume: volume})
			if err != nil {
				return err
			}
			if format == "json" {
				return writeJSON(a.out, list)
			}
			form := ""
			for _, w := range list {
				if w.Form != form {
					form = w.Form
					fmt.Fprintf(a.out, "%s\n", a.colour("1", form))
				}
				mark := " "
				if w.Chosen {
					mark = "*"
				}
				fmt.Fprintf(a.out, "  %s %s\n", mark, w.Says)
			}
			fmt.Fprintln(a.out, "* is the way that the template says.")
			if volume == 0 {
				fmt.Fprintln(a.out, "Give --volume, the messages a day, for the weight of a day.")
			}
			return nil
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().IntVar(&volume, "volume", 0, "messages that go out in a day")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	return c
}

// pictureExport is missivum picture export: the files as a web server must have them. Nothing there is changed: messages
// already sent show it.
func (a *app) pictureExport() *cobra.Command {
	var output string
	var replace bool
	c := &cobra.Command{
		Use:   "export TEMPLATE...",
		Short: "Write the pictures in the folders that a web server needs",
		Long: "Writes the tree of pictures for any static web server or storage, with the addresses that the " +
			"templates use. Files of older versions stay: messages already sent show them.",
		Example: "  missivum picture export demo/templates/voyage -o /tmp/tree",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if output == "" {
				return usage("--output says which folder the tree goes into")
			}
			var rows [][]string
			for _, path := range args {
				t, err := openTemplate(path)
				if err != nil {
					return err
				}
				list, err := pictures.Plant(t, output, replace)
				if err != nil {
					return exitError{ExitFindings, err}
				}
				for _, p := range list {
					state := "there already"
					if p.Written {
						state = "written"
					}
					rows = append(rows, []string{p.File, amount(p.Bytes, "bytes"), state, p.Address})
				}
			}
			printTable(a.out, []string{"File", "Weight", "", "Address"}, rows)
			return nil
		},
	}
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write")
	c.Flags().BoolVar(&replace, "replace", false, "replace files that are there with another content")
	return c
}

// pictureCheck is missivum picture check: whether readers get the pictures that templates name.
func (a *app) pictureCheck() *cobra.Command {
	var templates, allow []string
	var restore, format, date string
	var wait time.Duration
	c := &cobra.Command{
		Use:   "check [ADDRESS...]",
		Short: "Fetch picture addresses and report what is wrong with what comes back",
		Long: `Asks addresses, or those of all pictures of --template, and judges the answers: scheme, certificate, status, redirects,
sign-in, a page in place of the picture, type by content, endings in address and headers, true pixels against the
display size, weight and time. Nothing inside the private network is asked unless --allow names it.

Exit status: 0 every picture is shown, 1 one is not, 2 wrong usage, 3 could not run.`,
		Example: "  missivum picture check https://pictures.brackwater.example/harbour/logo.png\n  missivum picture " +
			"check --template demo/templates/harbour",
		RunE: func(cmd *cobra.Command, args []string) error {
			inside, err := networks("--allow", allow)
			if err != nil {
				return exitError{ExitUsage, err}
			}
			asker := &pictures.Asker{Allow: inside, Wait: wait, Now: a.now}
			day, err := a.day(date)
			if err != nil {
				return err
			}
			list := []asked{}
			for _, address := range args {
				list = append(list, asked{Addressed: delivery.Addressed{Address: address}})
			}
			for _, path := range templates {
				t, err := openTemplate(path)
				if err != nil {
					return err
				}
				found, err := delivery.Addresses(t, person.NewSchema(t.Settings.Fields...), day)
				if err != nil {
					return err
				}
				for _, f := range found {
					list = append(list, asked{f, t})
				}
			}
			if len(list) == 0 {
				return usage("check needs addresses, or --template with pictures")
			}
			return a.checkAddresses(cmd, asker, list, restore, format)
		},
	}
	c.Flags().StringArrayVar(&templates, "template", nil, "template whose picture addresses are asked; may be given several times")
	c.Flags().StringArrayVar(&allow, "allow", nil, "private network that may be asked, such as 10.20.0.0/16; may be given several times")
	c.Flags().DurationVar(&wait, "wait", 15*time.Second, "longest time for an answer")
	c.Flags().StringVar(&restore, "restore", "", "folder of the web server into which missing pictures of the template are written again")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	a.dayFlag(c, &date)
	return c
}

// asked is an address and the template that it stands in, if any.
type asked struct {
	delivery.Addressed
	template *template.Template
}

// checkAddresses asks the addresses one after the other: a host that is asked many at once may refuse.
func (a *app) checkAddresses(cmd *cobra.Command, asker *pictures.Asker, list []asked, restore, format string) error {
	reports := []pictures.Report{}
	broken := 0
	bar := a.progress("addresses", len(list))
	for i, address := range list {
		if err := cmd.Context().Err(); err != nil {
			return err
		}
		reports = append(reports, asker.Check(cmd.Context(), address.Address, address.Display))
		bar.done(i + 1)
	}
	bar.end()
	for i, r := range reports {
		if r.Broken() {
			broken++
		}
		if format != "json" {
			a.printAnswer(r, list[i])
		}
		missing := slices.ContainsFunc(r.Faults, func(f picture.Fault) bool { return f.ID == "missing" })
		if missing && restore != "" && list[i].template != nil {
			written, err := pictures.Restore(list[i].template, r.Address, restore)
			if err != nil {
				return err
			}
			if written {
				fmt.Fprintf(a.err, "%s: written again into %s\n", r.Address, restore)
			}
		}
	}
	if format == "json" {
		if err := writeJSON(a.out, reports); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(a.out, "%s asked, %d not shown.\n", plural(len(reports), "address", "addresses"), broken)
	}
	if broken > 0 {
		return exitError{code: ExitFindings}
	}
	return nil
}

// printAnswer writes what an address answered and what is wrong with it.
func (a *app) printAnswer(r pictures.Report, at asked) {
	state := a.colour("32", "fine")
	switch {
	case r.Broken():
		state = a.colour("31", "not shown")
	case len(r.Faults) > 0:
		state = a.colour("33", "shown")
	}
	where := ""
	if at.template != nil {
		where = fmt.Sprintf(" (%s, line %d)", at.template.Name, at.Line)
	}
	fmt.Fprintf(a.out, "%s%s: %s", r.Address, where, state)
	if r.Facts != nil {
		fmt.Fprintf(a.out, ", %s, %d x %d px, %s bytes", strings.ToUpper(r.Facts.Format), r.Facts.Width, r.Facts.Height, grouped(r.Facts.Bytes))
	}
	if r.Status > 0 {
		fmt.Fprintf(a.out, ", %d ms", r.Milliseconds)
	}
	fmt.Fprintln(a.out)
	for _, f := range r.Faults {
		fmt.Fprintf(a.out, "    %s  %s\n    Remedy: %s\n", a.colour("1", f.ID), f.Message, f.Remedy)
	}
}
