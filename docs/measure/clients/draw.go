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

// The size of a probe's frame in px, and how many stand in a row.
const (
	cellWidth  = 220
	cellHeight = 110
	perRow     = 5
)

// draw compares what Gecko shows of each drawn probe with what Chromium shows of it as the profile keeps it. The
// question is whether the declarations do anything: whether the drawing differs from that without them.
func draw(probes []Probe) (Result, error) {
	r := Result{Profile: "gecko-desktop", Against: "Gecko", Version: version(filepath.Base(geckoBrowser())),
		Stage: client.Render, Real: map[string]int{}, Disagreements: []Disagreement{}}
	profile := client.Find("gecko-desktop")
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
	real, err := effects(gecko, with, without)
	if err != nil {
		return r, err
	}
	ours, err := effects(chromium, kept, without)
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
func effects(engine func(page, picture string, height int) error, a, b []string) ([]bool, error) {
	first, err := sheet(engine, "a", a)
	if err != nil {
		return nil, err
	}
	second, err := sheet(engine, "b", b)
	if err != nil {
		return nil, err
	}
	list := make([]bool, len(a))
	for i := range a {
		at := image.Pt(i%perRow*cellWidth, i/perRow*cellHeight)
		list[i] = differs(first, second, image.Rectangle{Min: at, Max: at.Add(image.Pt(cellWidth, cellHeight))})
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
func sheet(engine func(page, picture string, height int) error, name string, list []string) (image.Image, error) {
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
		fmt.Fprintf(&page, `<div style="left:%dpx;top:%dpx;width:%dpx;height:%dpx">%s</div>`+"\n", i%perRow*cellWidth,
			i/perRow*cellHeight, cellWidth, cellHeight, m)
	}
	file, picture := filepath.Join(folder, name+".html"), filepath.Join(folder, name+".png")
	if err := os.WriteFile(file, []byte(page.String()), 0o600); err != nil {
		return nil, err
	}
	if err := engine(file, picture, (len(list)+perRow-1)/perRow*cellHeight); err != nil {
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

// geckoBrowser is the path of the installed browser with the Gecko engine, the only program of Debian that ends in -esr;
// empty when there is none.
func geckoBrowser() string {
	found, err := filepath.Glob("/usr/bin/*-esr")
	if err != nil || len(found) == 0 {
		return ""
	}
	return found[0]
}

func gecko(page, picture string, height int) error {
	profile, err := os.MkdirTemp("", "gecko")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	_, err = run(geckoBrowser(), nil, "--headless", "--no-remote", "--profile", profile, "--screenshot", picture,
		fmt.Sprintf("--window-size=%d,%d", perRow*cellWidth, height), "file://"+page)
	return err
}

func chromium(page, picture string, height int) error {
	_, err := run("chromium", nil, "--headless", "--no-sandbox", "--hide-scrollbars", "--screenshot="+picture,
		fmt.Sprintf("--window-size=%d,%d", perRow*cellWidth, height), "file://"+page)
	return err
}
