package main

import (
	"strings"
	"testing/fstest"
	"time"

	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/starter"
	"missivum/core/template"
	"missivum/demo"
)

// formDay is the day that forms are filled for.
var formDay = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// filled is one signature filled for one person in one form, with the page to compare it with.
type filled struct {
	name, page, form string
	pictures         []string // the files of those that the template has
}

// demosAndStarters are the demo's directory, and the templates of the demo and of the starters.
func demosAndStarters() (*person.Directory, []*template.Template, error) {
	people, err := demo.Directory()
	if err != nil {
		return nil, nil, err
	}
	demos, err := demo.Templates()
	if err != nil {
		return nil, nil, err
	}
	starters, err := starter.All()
	return people, append(demos, starters...), err
}

// forms fills the demo's and the starters' signatures for people with names in several scripts, and the corpus for one of
// them, in a form.
func forms(form compose.Form) ([]filled, error) {
	people, templates, err := demosAndStarters()
	if err != nil {
		return nil, err
	}
	signatures, err := demo.Signatures()
	if err != nil {
		return nil, err
	}
	all := []string{"maren.lind", "salma.albahri", "kamome.minato", "siobhan.nifhloinn", "bo", "ilavenil.kadalarasan"}
	var list []filled
	for _, t := range templates {
		made, err := fill(t, people, all, form)
		if err != nil {
			return nil, err
		}
		list = append(list, made...)
	}
	for _, s := range signatures {
		t, err := template.OpenBare(fstest.MapFS{"x.html": {Data: []byte(s.Source)}}, "x.html")
		if err != nil {
			return nil, err
		}
		made, err := fill(t, people, all[:1], form)
		if err != nil {
			return nil, err
		}
		for i := range made {
			made[i].name = s.Name
		}
		list = append(list, made...)
	}
	return list, nil
}

// fill fills every variant of a template for people, named by the beginning of their address.
func fill(t *template.Template, people *person.Directory, names []string, form compose.Form) ([]filled, error) {
	s, err := compose.Compile(compose.Source{Template: t, Schema: people.Schema, Day: formDay, Variants: t.Variants()})
	if err != nil {
		return nil, err
	}
	var pictures []string
	for _, p := range t.Pictures {
		pictures = append(pictures, p.File)
	}
	var list []filled
	for _, name := range names {
		who := people.Find(name + "@brackwater.example")
		for _, variant := range t.Variants() {
			list = append(list, filled{t.Name + "-" + variant + "-" + strings.ReplaceAll(name, ".", "-"),
				string(s.Fill(variant, compose.HTML, who)), string(s.Fill(variant, form, who)), pictures})
		}
	}
	return list, nil
}
