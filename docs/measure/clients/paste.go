package main

import (
	"context"
	"strings"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/style"
	"missivum/service/drawing"
)

// neighbours stand around a probe, so that it is not all that is copied: that is a case of its own.
const (
	before = `<div>Harbour</div>`
	after  = `<div>Saltmouth</div>`
)

// paste compares what Chromium makes of each probe, copied and pasted by key presses, with what is predicted.
func paste(probes []Probe) (Result, error) {
	r := Result{Profile: "paste-rendered", Against: "Chromium", Version: version("chromium"), Stage: client.Install,
		Real: map[string]int{}, Disagreements: []Disagreement{}}
	var list []string
	for _, p := range probes {
		list = append(list, before+p.HTML+after)
	}
	real, err := drawing.PastedEach(context.Background(), list)
	if err != nil {
		return r, err
	}
	for i := range real { // relative addresses become those of the page that was copied, and which one that is nobody knows
		real[i] = strings.NewReplacer("file:///C:", "file:///C:", "file:///", "/", "file://", "//").Replace(real[i])
	}
	r.Probes = len(probes)
	for i, p := range probes {
		ours, err := predicted(list[i])
		if err != nil {
			return r, err
		}
		r.compare(p, list[i], real[i], ours)
	}
	return r, nil
}

// predicted is what the paste is said to make of markup.
func predicted(source string) (string, error) {
	doc, err := markup.Parse(source)
	if err != nil {
		return "", err
	}
	style.Inline(doc)
	journey.Paste(doc)
	return doc.Render(), nil
}
