// Package drawing draws pages with the Chromium and the LibreOffice that are installed.
package drawing

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/core/problem"
)

// ErrNoBrowser is returned where no Chromium is installed.
var ErrNoBrowser error = problem.New(problem.Unavailable, "no Chromium is installed; Debian's package is chromium")

// errNoOffice is returned where no LibreOffice Writer is installed.
var errNoOffice error = problem.New(problem.Unavailable,
	"LibreOffice Writer and pdftoppm are needed; Debian's packages are libreoffice-writer-nogui and poppler-utils")

// Chromium finds the installed browser.
func Chromium() (string, error) {
	for _, name := range []string{"chromium", "chromium-browser"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", ErrNoBrowser
}

// longest is how long a drawing may take.
const longest = 20 * time.Second

// nowhere is an address at which nothing answers: what would be loaded from the network is asked for there.
const nowhere = "127.0.0.1:1"

// Page draws a whole page as PNG at a width in px, as high as it is.
func Page(ctx context.Context, html string, width int) ([]byte, error) {
	path, err := Chromium()
	if err != nil {
		return nil, err
	}
	return inFolder(ctx, html, func(ctx context.Context, folder, file string) ([]byte, error) {
		return screenshot(ctx, path, folder, file, width)
	})
}

// inFolder writes markup as page.html into a folder of its own, which is gone when the drawing is done.
func inFolder(ctx context.Context, html string, draw func(ctx context.Context, folder, file string) ([]byte, error)) ([]byte, error) {
	folder, err := newFolder()
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	file := filepath.Join(folder, "page.html")
	if err := writeFor(file, html); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	return draw(ctx, folder, file)
}

// start starts a browser with one tab, whose files are in a folder of newFolder.
func start(ctx context.Context, path, folder string, width int) (context.Context, context.CancelFunc) {
	profile := filepath.Join(folder, "browser")
	options := append(slices.Clone(chromedp.DefaultExecAllocatorOptions[:]), chromedp.ExecPath(path), chromedp.DisableGPU,
		chromedp.WindowSize(width, 900), chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("proxy-server", nowhere), chromedp.Flag("proxy-bypass-list", "<-loopback>"),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND"), chromedp.Flag("disable-remote-fonts", true),
		chromedp.UserDataDir(profile), chromedp.ModifyCmdFunc(func(c *exec.Cmd) { confine(c, folder) }))
	if os.Geteuid() == 0 { // Chromium's own sandbox does not start for root
		options = append(options, chromedp.NoSandbox)
	}
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, stop := chromedp.NewContext(allocator)
	return tab, func() {
		stop()
		stopAllocator()
	}
}

// screenshot opens a file in a fresh browser and takes all of its height.
func screenshot(ctx context.Context, path, folder, file string, width int) ([]byte, error) {
	tab, stop := start(ctx, path, folder, width)
	defer stop()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), 900), chromedp.Navigate("file://"+file)); err != nil {
		return nil, fmt.Errorf("drawing with Chromium: %w", err)
	}
	picture, err := chromedp.Run(tab, chromedp.FullScreenshot(100))
	if err != nil {
		return nil, fmt.Errorf("drawing with Chromium: %w", err)
	}
	return picture, nil
}

// writer draws markup with LibreOffice Writer as PNG, without the empty paper around it.
func writer(ctx context.Context, html string) ([]byte, error) {
	for _, program := range []string{"soffice", "pdftoppm"} {
		if _, err := exec.LookPath(program); err != nil {
			return nil, errNoOffice
		}
	}
	return inFolder(ctx, html, written)
}

// written lets LibreOffice make a PDF of the page, and draws its first sheet.
func written(ctx context.Context, folder, file string) ([]byte, error) {
	c := ending(ctx, folder, "soffice", "-env:UserInstallation=file://"+folder+"/profile", "--headless",
		"--infilter=HTML (StarWriter)", "--convert-to", "pdf", "--outdir", folder, file)
	if said, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("drawing with LibreOffice: %w: %s", err, said)
	}
	drawn := filepath.Join(folder, "page")
	if said, err := ending(ctx, folder, "pdftoppm", "-r", "96", "-png", "-singlefile", drawn+".pdf", drawn).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("drawing LibreOffice's page: %w: %s", err, said)
	}
	data, err := os.ReadFile(drawn + ".png")
	if err != nil {
		return nil, fmt.Errorf("LibreOffice drew nothing: %w", err)
	}
	return trimmed(data)
}

// trimmed cuts the white around a drawing off, but for some px.
func trimmed(data []byte) ([]byte, error) {
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("reading LibreOffice's drawing: %w", err)
	}
	box := image.Rectangle{}
	for y := img.Bounds().Min.Y; y < img.Bounds().Max.Y; y++ {
		for x := img.Bounds().Min.X; x < img.Bounds().Max.X; x++ {
			if c := color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA); c.A > 8 && (c.R < 250 || c.G < 250 || c.B < 250) {
				box = box.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	if box.Empty() {
		return data, nil
	}
	box = box.Inset(-8).Intersect(img.Bounds())
	out := image.NewRGBA(image.Rect(0, 0, box.Dx(), box.Dy()))
	draw.Draw(out, out.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(out, out.Bounds(), img, box.Min, draw.Over)
	var b bytes.Buffer
	err = png.Encode(&b, out)
	return b.Bytes(), err
}

// Signature draws a page as a picture of two pixels for each px, without the empty paper around it; width and height are in px.
func Signature(ctx context.Context, html string, widest int) (data []byte, width, height int, err error) {
	path, err := Chromium()
	if err != nil {
		return nil, 0, 0, err
	}
	data, err = inFolder(ctx, html, func(ctx context.Context, folder, file string) ([]byte, error) {
		tab, stop := start(ctx, path, folder, widest)
		defer stop()
		if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(widest), 900, chromedp.EmulateScale(2)),
			chromedp.Navigate("file://"+file)); err != nil {
			return nil, fmt.Errorf("drawing with Chromium: %w", err)
		}
		picture, err := chromedp.Run(tab, chromedp.FullScreenshot(100))
		if err != nil {
			return nil, fmt.Errorf("drawing with Chromium: %w", err)
		}
		return trimmed(picture)
	})
	if err != nil {
		return nil, 0, 0, err
	}
	config, err := png.DecodeConfig(bytes.NewReader(data))
	return data, (config.Width + 1) / 2, (config.Height + 1) / 2, err
}
