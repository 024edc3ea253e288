package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/preview"
	"missivum/core/style"
	"missivum/service/drawing"
)

// neighbours stand around a probe, so that it is not all that is copied: that is a case of its own.
const (
	before = `<div>Harbour</div>`
	after  = `<div>Saltmouth</div>`
)

// engine is a browser in which signatures are copied and pasted, and what is predicted of it.
type engine struct {
	name, file string
	version    func() string
	pasted     func(ctx context.Context, list []string) ([]string, error)
	predict    func(doc *markup.Document)
	chosen     func(preview.Copy) string // what is predicted of a whole signature
}

var (
	inChromium = engine{"Chromium", "paste-rendered-install", func() string { return version("chromium") }, drawing.PastedEach,
		func(doc *markup.Document) {
			style.Inline(doc)
			journey.Paste(doc)
		}, func(c preview.Copy) string { return c.Pasted }}
	inGecko = engine{"Gecko", "paste-rendered-gecko-install", geckoVersion, geckoPasted,
		func(doc *markup.Document) {
			style.ReadAttributes(doc)
			journey.PasteInGecko(doc)
		}, func(c preview.Copy) string { return c.InGecko }}
)

// paste compares what a browser makes of each probe, copied and pasted by key presses, with what is predicted.
func paste(e engine, probes []Probe) (Result, error) {
	r := Result{Profile: "paste-rendered", Against: e.name, Version: e.version(), Stage: client.Install,
		Real: map[string]int{}, Disagreements: []Disagreement{}}
	var list []string
	for _, p := range probes {
		list = append(list, before+p.HTML+after)
	}
	real, err := e.pasted(context.Background(), list)
	if err != nil {
		return r, err
	}
	for i := range real { // relative addresses become those of the page that was copied, and which one that is nobody knows
		real[i] = strings.NewReplacer("file:///C:", "file:///C:", "file:///", "/", "file://", "//").Replace(real[i])
	}
	r.Probes = len(probes)
	for i, p := range probes {
		doc, err := markup.Parse(list[i])
		if err != nil {
			return r, err
		}
		e.predict(doc)
		r.compare(p, list[i], real[i], doc.Render())
	}
	return r, nil
}

// geckoPasted is what stands in an editable element after each markup was shown in a browser with the Gecko engine,
// selected whole, copied, and pasted there, by key presses. The pages come from a server on the loopback, since what is
// relative to a file is not pasted.
func geckoPasted(ctx context.Context, list []string) ([]string, error) {
	var shown string // written before each page is asked for
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
		io.WriteString(w, "<!doctype html><body>"+shown) // a browser that went away has its own error
	}))
	defer server.Close()
	g, err := startGecko(ctx)
	if err != nil {
		return nil, err
	}
	defer g.Close()
	var pasted []string
	for i, m := range list {
		one, err := g.pasted(ctx, server.URL, m, &shown)
		if err != nil {
			return nil, fmt.Errorf("pasting %d of %d: %w", i+1, len(list), err)
		}
		pasted = append(pasted, one)
	}
	return pasted, nil
}

// inBox puts the caret into the editable element, which it does not do by itself when no window has the keyboard.
const inBox = `box = document.getElementById('box'); box.focus(); getSelection().collapse(box, 0); 'ready'`

func (g *Gecko) pasted(ctx context.Context, address, markup string, shown *string) (string, error) {
	*shown = markup
	if err := g.show(ctx, address+"/from/page.html"); err != nil {
		return "", err
	}
	for _, key := range []string{"a", "c"} {
		if err := g.control(ctx, key); err != nil {
			return "", err
		}
	}
	*shown = `<div id="box" contenteditable style="min-height: 100px"></div>`
	if err := g.show(ctx, address+"/to/page.html"); err != nil {
		return "", err
	}
	if _, err := g.evaluate(ctx, inBox); err != nil {
		return "", err
	}
	if err := g.control(ctx, "v"); err != nil {
		return "", err
	}
	pasted, err := g.evaluate(ctx, `box.innerHTML`)
	return strings.NewReplacer(address+"/from/page.html", "", address+"/from/", "", address, "").Replace(pasted), err
}
