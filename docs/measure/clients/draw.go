package main

import (
	"fmt"
	"image"
	_ "image/png"
	"os"
	"path/filepath"
	"strings"

	"missivum/core/client"
)

// renderer is an engine that draws pages, and the profile that is held against it.
type renderer struct {
	profile, against string
	version          func() string
	cells            cells
	draw             func(page, picture string, width, height int) error // a file into a PNG file
}

// cells says how the probes stand on a page, in px.
type cells struct{ perRow, width, height int }

var renderers = []renderer{
	{"gecko-desktop", "Gecko", geckoVersion, cells{5, 220, 110}, gecko},
	{"webkit-desktop", "WebKitGTK", webkitVersion, cells{5, 220, 110}, webkit},
	{"webkit-phone", "WebKitGTK", webkitVersion, cells{1, 390, 110}, webkit},
}

// draw compares what an engine shows of each drawn probe with what Chromium shows of it as the profile keeps it. The
// question is whether the declarations do anything: whether the drawing differs from that without them.
func (e renderer) measure(probes []Probe) (Result, error) {
	r := Result{Profile: e.profile, Against: e.against, Version: e.version(), Stage: client.Render, Real: map[string]int{},
		Disagreements: []Disagreement{}}
	profile := client.Find(e.profile)
	var drawn []Probe
	var with, without, kept []string
	for _, p := range probes {
		if !p.Draw {
			continue
		}
		ours, err := simulate(profile, client.Render, p.HTML)
		if err != nil {
			return r, err
		}
		drawn = append(drawn, p)
		with = append(with, p.HTML)
		without = append(without, withoutStyle(p.HTML))
		kept = append(kept, ours)
	}
	real, err := e.cells.effects(e.draw, with, without)
	if err != nil {
		return r, err
	}
	ours, err := e.cells.effects(chromium, kept, without)
	if err != nil {
		return r, err
	}
	words := map[bool]string{true: "drawn", false: "not drawn"}
	r.Probes = len(drawn)
	for i, p := range drawn {
		r.Real[words[real[i]]]++
		if real[i] == ours[i] {
			r.Same++
			continue
		}
		r.Disagreements = append(r.Disagreements, Disagreement{p.Group + " " + p.Name, p.HTML, words[real[i]], words[ours[i]]})
	}
	r.Exact = r.Same
	return r, nil
}

func withoutStyle(source string) string {
	before, rest, _ := strings.Cut(source, " style='")
	_, after, _ := strings.Cut(rest, "'")
	return before + after
}

// effects says for each pair of markup whether an engine draws the two differently.
func (c cells) effects(draw func(page, picture string, width, height int) error, a, b []string) ([]bool, error) {
	first, err := c.sheet(draw, "a", a)
	if err != nil {
		return nil, err
	}
	second, err := c.sheet(draw, "b", b)
	if err != nil {
		return nil, err
	}
	list := make([]bool, len(a))
	for i := range a {
		at := image.Pt(i%c.perRow*c.width, i/c.perRow*c.height)
		list[i] = differs(first, second, image.Rectangle{Min: at, Max: at.Add(image.Pt(c.width, c.height))})
	}
	return list, nil
}

func differs(a, b image.Image, cell image.Rectangle) bool {
	for y := cell.Min.Y; y < cell.Max.Y; y++ {
		for x := cell.Min.X; x < cell.Max.X; x++ {
			if a.At(x, y) != b.At(x, y) {
				return true
			}
		}
	}
	return false
}

// sheet draws markup, each in a cell that nothing leaves.
func (c cells) sheet(draw func(page, picture string, width, height int) error, name string, list []string) (image.Image, error) {
	folder, err := os.MkdirTemp("", "probes")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	var page strings.Builder
	page.WriteString(`<!DOCTYPE html><meta charset="utf-8">` +
		`<style>body{margin:0}body>div{position:absolute;contain:strict;padding:8px;box-sizing:border-box;font:16px ` +
		`'DejaVu Sans',sans-serif}</style>`)
	for i, m := range list {
		fmt.Fprintf(&page, `<div style="left:%dpx;top:%dpx;width:%dpx;height:%dpx">%s</div>`+"\n", i%c.perRow*c.width,
			i/c.perRow*c.height, c.width, c.height, m)
	}
	file, picture := filepath.Join(folder, name+".html"), filepath.Join(folder, name+".png")
	if err := os.WriteFile(file, []byte(page.String()), 0o600); err != nil {
		return nil, err
	}
	if err := draw(file, picture, c.perRow*c.width, (len(list)+c.perRow-1)/c.perRow*c.height); err != nil {
		return nil, err
	}
	f, err := os.Open(picture)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	img, _, err := image.Decode(f)
	return img, err
}

func gecko(page, picture string, width, height int) error {
	profile, err := os.MkdirTemp("", "gecko")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	_, err = run(geckoBrowser(), nil, "--headless", "--no-remote", "--profile", profile, "--screenshot", picture,
		fmt.Sprintf("--window-size=%d,%d", width, height), "file://"+page)
	return err
}

func chromium(page, picture string, width, height int) error {
	_, err := run("chromium", nil, "--headless", "--no-sandbox", "--hide-scrollbars", "--screenshot="+picture,
		fmt.Sprintf("--window-size=%d,%d", width, height), "file://"+page)
	return err
}
