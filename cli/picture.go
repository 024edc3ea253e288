package cli

import (
	"fmt"
	"image"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/delivery"
	"missivum/core/picture"
)

// pictureCommand is missivum picture, the tools for pictures.
func (a *app) pictureCommand() *cobra.Command {
	c := &cobra.Command{Use: "picture", Short: "Probe, fit, cut, compress and check pictures"}
	c.AddCommand(
		a.pictureProbe(), a.pictureFit(), a.pictureCompress(), a.pictureDark(), a.pictureSlice(), a.pictureCode(), a.picturePhotos(),
		a.pictureDelivery(), a.pictureExport(), a.pictureCheck(), a.pictureStore(),
	)
	return c
}

// readPicture reads a picture file of at most the size that is read.
func readPicture(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("the picture cannot be read: %w", err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, picture.MaxBytes+1))
	if err != nil {
		return nil, fmt.Errorf("the picture cannot be read: %w", err)
	}
	return data, nil
}

// ofPicture puts the file's name before what is wrong with it; a picture that cannot be read is refused.
func ofPicture(name string, err error) error {
	return exitError{ExitFindings, fmt.Errorf("%s: %w", name, err)}
}

// probed is what probe says of a file.
type probed struct {
	File      string            `json:"file"`
	Facts     *picture.Facts    `json:"facts,omitempty"`
	Refused   string            `json:"refused,omitempty"`
	Findings  []check.Finding   `json:"findings"`
	Multiples []delivery.Advice `json:"multiples"`
	Sights    []picture.Sight   `json:"sights,omitempty"`
}

// pictureProbe is missivum picture probe: what a file is, and what goes wrong where it is shown.
func (a *app) pictureProbe() *cobra.Command {
	var width, height int
	var format, date string
	c := &cobra.Command{
		Use:   "probe FILE...",
		Short: "Show what a picture is, and what goes wrong with it in which client",
		Long: `Shows format, true pixels, resolution tag, colours, transparency, frames, weight and what the file holds besides the
picture, and what will go wrong where it is shown at --width and --height in px (default its true pixels).`,
		Example: "  missivum picture probe demo/templates/regatta/pictures/strip.png --width 300",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			day, err := a.day(date)
			if err != nil {
				return err
			}
			var list []probed
			bad := false
			for _, name := range args {
				data, err := readPicture(name)
				if err != nil {
					return err
				}
				p := probed{File: name, Findings: []check.Finding{}, Multiples: delivery.Multiples(client.Shipped(), "attributes")}
				if facts, err := picture.Probe(data); err != nil {
					p.Refused = err.Error()
				} else {
					p.Facts = &facts
					if p.Findings, err = check.Picture(cmd.Context(), filepath.Base(name), data, width, height, client.Shipped(), day); err != nil {
						p.Refused = err.Error()
					} else if read, err := picture.Read(data); err != nil {
						p.Refused = err.Error()
					} else if read.Transparent {
						p.Sights = picture.Sights(read.Image())
					}
				}
				bad = bad || p.Refused != "" || slices.ContainsFunc(p.Findings, func(f check.Finding) bool { return f.Severity == client.Breaks })
				list = append(list, p)
			}
			if format == "json" {
				err = writeJSON(a.out, list)
			} else {
				for _, p := range list {
					a.printProbed(p)
				}
			}
			if err == nil && bad {
				return exitError{code: ExitFindings}
			}
			return err
		},
	}
	c.Flags().IntVar(&width, "width", 0, "px at which it is shown")
	c.Flags().IntVar(&height, "height", 0, "px at which it is shown")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	a.dayFlag(c, &date)
	return c
}

// printProbed writes the facts of a file and the findings that follow from them.
func (a *app) printProbed(p probed) {
	if p.Refused != "" {
		fmt.Fprintf(a.out, "%s: %s: %s\n", p.File, a.colour("31", "refused"), p.Refused)
		return
	}
	f := p.Facts
	fmt.Fprintf(a.out, "%s: %s, %d x %d px, %s bytes\n", p.File, strings.ToUpper(f.Format), f.Width, f.Height, grouped(f.Bytes))
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.out, "    %-12s %s\n", name, value)
		}
	}
	line("colours", fmt.Sprintf("%s, %d bits a channel", f.Colours, f.Depth))
	line("profile", f.Profile)
	if f.Resolution > 0 {
		line("resolution", fmt.Sprintf("tagged %d pixels per inch: %d x %d px where the tag is honoured", f.Resolution,
			f.Width*96/f.Resolution, f.Height*96/f.Resolution))
	}
	if f.Frames > 1 {
		line("frames", strconv.Itoa(f.Frames))
	}
	if f.Turned > 1 {
		line("turned", fmt.Sprintf("orientation tag %d; the size is that of the upright picture", f.Turned))
	}
	line("holds", strings.Join(f.Holds, ", "))
	if p.Sights != nil {
		var seen []string
		for _, s := range p.Sights {
			seen = append(seen, fmt.Sprintf("%.0f %% on %s", 100*s.Seen, s.Background))
		}
		line("edges seen", strings.Join(seen, ", "))
	}
	line("multiple", fmt.Sprintf("%d pixels for each px suit all clients when width and height are attributes", delivery.Best(p.Multiples)))
	if len(p.Findings) == 0 {
		line("findings", "none")
	}
	for _, found := range p.Findings {
		fmt.Fprintf(a.out, "    %s  %s\n        %s\n        Clients: %s\n        Remedy:  %s\n", a.severity(found.Severity),
			a.colour("1", found.Check), found.Message, strings.Join(found.Clients, ", "), found.Remedy)
	}
}

// recipeFlags are the flags that say how a rendition is made.
type recipeFlags struct {
	recipe             picture.Recipe
	dark               picture.DarkSafe
	focus, crop, shape string
	all                bool // with size, crop and shape; otherwise the weight only
}

func (f *recipeFlags) add(c *cobra.Command) {
	flags := c.Flags()
	if f.all {
		flags.IntVar(&f.recipe.Width, "width", 0, "px at which it is shown")
		flags.IntVar(&f.recipe.Height, "height", 0, "px at which it is shown; with only one of both the other follows")
		flags.IntVar(&f.recipe.Multiple, "multiple", 2, "pixels for each px: 1, 2 or 3")
		flags.StringVar(&f.focus, "focus", "", "what stays in view when something is cut off: shares such as 0.5,0.3, or find")
		flags.StringVar(&f.crop, "crop", "", "the part that is shown, in shares of the picture: x,y,width,height")
		flags.Float64Var(&f.recipe.Zoom, "zoom", 1, "how much closer than needed")
		flags.BoolVar(&f.recipe.Pad, "pad", false, "keep all of the picture and fill up instead of cutting off")
		flags.StringVar(&f.shape, "shape", "", "cut a shape into the pixels: round or rounded")
		flags.Float64Var(&f.recipe.Radius, "radius", 8, "px, of rounded corners")
		flags.Float64Var(&f.recipe.Ring, "ring", 0, "px, of a line around the shape")
		flags.StringVar(&f.recipe.Colour, "colour", "", "of the ring, such as 0b3c49")
		flags.StringVar(&f.dark.Way, "dark", "", "make it safe on a dark background, within its size: outline or plate")
		flags.StringVar(&f.dark.Colour, "dark-colour", "", "of the outline or the plate (default white)")
		flags.StringVar(&f.recipe.Background, "background", "", "colour where the picture is not; transparent without one")
	}
	flags.StringVar(&f.recipe.Format, "as", "", "png, jpeg or gif (default the lighter one)")
	flags.IntVar(&f.recipe.Limit, "limit", 0, "bytes that it must not exceed")
	flags.Float64Var(&f.recipe.Threshold, "threshold", 0, "largest difference that may be made (default what cannot be seen)")
}

// read settles the flags that are written as text.
func (f *recipeFlags) read() (picture.Recipe, error) {
	r := f.recipe
	r.Shape = picture.Shape(f.shape)
	if r.Shape != picture.Rounded {
		r.Radius = 0
	}
	if f.dark.Way != "" {
		r.Dark = &f.dark
	}
	if f.focus == "find" {
		r.Detect = true
	} else if f.focus != "" {
		v, err := shares(f.focus, 2)
		if err != nil {
			return r, usage("--focus %w", err)
		}
		r.Focus = &picture.Point{X: v[0], Y: v[1]}
	}
	if f.crop != "" {
		v, err := shares(f.crop, 4)
		if err != nil {
			return r, usage("--crop %w", err)
		}
		r.Crop = &picture.Area{X: v[0], Y: v[1], Width: v[2], Height: v[3]}
	}
	if f.all {
		if err := r.Check(); err != nil {
			return r, exitError{ExitUsage, err}
		}
	}
	return r, nil
}

// readWith is read, with the picture that the recipe is for.
func (f *recipeFlags) readWith(name string) (picture.Recipe, []byte, error) {
	r, err := f.read()
	if err != nil {
		return r, nil, err
	}
	data, err := readPicture(name)
	return r, data, err
}

// shares reads numbers with commas between, such as the corners of a crop in shares of the picture.
func shares(s string, count int) ([]float64, error) {
	parts := strings.Split(s, ",")
	var list []float64
	for _, p := range parts {
		n, err := strconv.ParseFloat(strings.TrimSpace(p), 64)
		if err != nil {
			return nil, fmt.Errorf("%q: %q is no number", s, p)
		}
		list = append(list, n)
	}
	if len(list) != count {
		return nil, fmt.Errorf("%q has %d numbers; it takes %d, with commas between", s, len(list), count)
	}
	return list, nil
}

// renditionFlags say where a rendition goes.
type renditionFlags struct {
	file, compare string
}

func (f *renditionFlags) add(c *cobra.Command) {
	c.Flags().StringVarP(&f.file, "output", "o", "", "file to write; - for the standard output")
	c.Flags().StringVar(&f.compare, "compare", "", "PNG to write with before, after and difference")
}

// finish writes a rendition, and the comparison where it is asked for, and reports on them.
func (a *app) finish(r *picture.Rendition, before int, out renditionFlags) error {
	output, compare := out.file, out.compare
	if output == "" {
		return usage("--output says where the file goes")
	}
	if err := a.writeFile(output, func(w io.Writer) error { _, err := w.Write(r.Data); return err }); err != nil {
		return err
	}
	if compare != "" {
		sheet := picture.SideBySide(r.Exact, r.Shown, picture.DifferenceImage(r.Exact, r.Shown))
		if err := a.writePNG(compare, sheet); err != nil {
			return err
		}
	}
	if output == "-" {
		return nil
	}
	fmt.Fprintf(a.out, "%s: %s, %d x %d px, %s bytes (%d %% of the %s before), difference %.4f\n", output, strings.ToUpper(r.Facts.Format),
		r.Facts.Width, r.Facts.Height, grouped(r.Facts.Bytes), percent(r.Facts.Bytes, max(before, 1)), grouped(before), r.Difference)
	for _, note := range r.Notes {
		fmt.Fprintf(a.out, "    %s\n", note)
	}
	if compare != "" {
		fmt.Fprintf(a.out, "%s: the exact pixels, those of the file, and their difference eight times as strong\n", compare)
	}
	return nil
}

// writePNG writes an image without loss.
func (a *app) writePNG(name string, img image.Image) error {
	return a.writeFile(name, func(w io.Writer) error { return png.Encode(w, img) })
}

// pictureFit is missivum picture fit: a rendition for exactly the size in which it is shown.
func (a *app) pictureFit() *cobra.Command {
	f := recipeFlags{all: true}
	var out renditionFlags
	c := &cobra.Command{
		Use:   "fit FILE",
		Short: "Make a picture for exactly the size in which it is shown",
		Long: `Makes a rendition with exactly the display size times the multiple in pixels, cropped and shaped in the pixels, turned
upright, in sRGB, without anything but the picture, and as light as it can be without a difference that is seen.
Its resolution tag makes engines that go by it draw the display size too.`,
		Example: "  missivum picture fit demo/templates/harbour/pictures/banner.png --width 320 -o /tmp/banner.png",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			r, data, err := f.readWith(args[0])
			if err != nil {
				return err
			}
			made, err := picture.Fit(data, r)
			if err != nil {
				return ofPicture(args[0], err)
			}
			if err := a.finish(made, len(data), out); err != nil || out.file == "-" {
				return err
			}
			facts, err := picture.Probe(data)
			if err != nil {
				return err
			}
			width, height := r.Display(facts)
			a.tellMultiples(r, width, height)
			return nil
		},
	}
	f.add(c)
	out.add(c)
	return c
}

// tellMultiples says how the rendition has to be written for the clients to draw it at its size.
func (a *app) tellMultiples(r picture.Recipe, width, height int) {
	fmt.Fprintf(a.out, "Write width=\"%d\" height=\"%d\" as attributes.\n", width, height)
	for _, advice := range delivery.Multiples(client.Shipped(), "styles") {
		if advice.Multiple < r.Multiple {
			fmt.Fprintf(a.out, "With styles alone, in %s %s; the tag is %d per inch.\n", advice.Client, advice.Says, 96*r.Multiple)
		}
	}
}

// pictureCompress is missivum picture compress: the same pixels in fewer bytes.
func (a *app) pictureCompress() *cobra.Command {
	f := recipeFlags{}
	var out renditionFlags
	var trials bool
	c := &cobra.Command{
		Use:   "compress FILE",
		Short: "Make a picture's file smaller without a visible difference",
		Long: `Makes a picture lighter at the same size: fewer colours, the other format, the lowest quality whose difference stays
unseen. What comes out is never larger than what came in. The difference is ` + picture.Measure + ".",
		Example: "  missivum picture compress demo/templates/harbour/pictures/banner.png -o /tmp/banner.png --trials",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			r, data, err := f.readWith(args[0])
			if err != nil {
				return err
			}
			made, err := picture.Compress(data, r.Weight)
			if err != nil {
				return ofPicture(args[0], err)
			}
			if err := a.finish(made, len(data), out); err != nil || !trials || out.file == "-" {
				return err
			}
			var rows [][]string
			for _, t := range made.Trials {
				chosen := ""
				if t.Chosen {
					chosen = "chosen"
				}
				rows = append(rows, []string{t.Way, amount(t.Bytes, "bytes"), fmt.Sprintf("%.4f", t.Difference), chosen})
			}
			printTable(a.out, []string{"Tried", "Weight", "Difference", ""}, rows)
			return nil
		},
	}
	f.add(c)
	out.add(c)
	c.Flags().BoolVar(&trials, "trials", false, "list all that was tried")
	return c
}

// pictureDark is missivum picture dark: whether a picture vanishes on dark background, and the fix.
func (a *app) pictureDark() *cobra.Command {
	var d picture.DarkSafe
	var output, compare string
	c := &cobra.Command{
		Use:   "dark FILE",
		Short: "Measure whether a picture vanishes on a dark background, and fix it",
		Long: `Measures how many of a picture's edges can be seen on light, dark and inverted background. With --output it is fixed with a
thin outline or a plate; the picture grows by it on every side.`,
		Example: "  missivum picture dark demo/templates/regatta/pictures/anchor.png --way outline -o /tmp/anchor.png",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := readPicture(args[0])
			if err != nil {
				return err
			}
			p, err := picture.Read(data)
			if err != nil {
				return ofPicture(args[0], err)
			}
			before := picture.Sights(p.Image())
			if output == "" {
				a.printSights([]string{"Background", "Colour", "Edges seen"}, before, nil)
				return a.saysVanishes(args[0], before, p.Transparent)
			}
			fixed, err := picture.MakeDarkSafe(p.Image(), d)
			if err != nil {
				return exitError{ExitUsage, err}
			}
			made, err := picture.Write(fixed, picture.Weight{}, p.Resolution)
			if err != nil {
				return err
			}
			if compare != "" {
				if err := a.writePNG(compare, picture.SideBySide(p.Image(), made.Shown)); err != nil {
					return err
				}
			}
			if err := a.finish(made, len(data), renditionFlags{file: output}); err != nil || output == "-" {
				return err
			}
			after := picture.Sights(made.Shown)
			a.printSights([]string{"Background", "Colour", "Edges seen before", "After"}, before, after)
			return a.saysVanishes(output, after, true)
		},
	}
	c.Flags().StringVar(&d.Way, "way", picture.Outline, "outline or plate")
	c.Flags().StringVar(&d.Colour, "colour", "ffffff", "of the outline or the plate")
	c.Flags().Float64Var(&d.Width, "line", 0, "pixels: of the outline (default 2), or of the plate around the picture (default 8)")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write the fixed picture to")
	c.Flags().StringVar(&compare, "compare", "", "PNG to write with before and after on light and dark")
	return c
}

// printSights writes how much of the edges can be seen on each background, before and after a fix.
func (a *app) printSights(heading []string, before, after []picture.Sight) {
	var rows [][]string
	for i, s := range before {
		row := []string{s.Background, s.Colour, fmt.Sprintf("%.0f %%", 100*s.Seen)}
		if after != nil {
			row = append(row, fmt.Sprintf("%.0f %%", 100*after[i].Seen))
		}
		rows = append(rows, row)
	}
	printTable(a.out, heading, rows)
}

// saysVanishes says what the measures mean; a picture that vanishes is a finding.
func (a *app) saysVanishes(name string, sights []picture.Sight, transparent bool) error {
	backgrounds := picture.Vanishes(sights)
	switch {
	case len(backgrounds) > 0:
		fmt.Fprintf(a.out, "%s vanishes on a %s background.\n", name, strings.Join(backgrounds, " and "))
		return exitError{code: ExitFindings}
	case !transparent:
		fmt.Fprintf(a.out, "%s has a background of its own everywhere: nothing vanishes, but it stands as a box on a dark background.\n", name)
	default:
		fmt.Fprintf(a.out, "%s can be seen on every background.\n", name)
	}
	return nil
}
