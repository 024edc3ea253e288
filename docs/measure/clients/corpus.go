package main

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing/fstest"

	"missivum/core/client"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/template"
	"missivum/demo"
)

// Lengths is how well the paste of whole signatures was predicted.
type Lengths struct {
	Against    string   `json:"against"`
	Version    string   `json:"version"`
	Signatures int      `json:"signatures"`
	Within     int      `json:"within"`   // whose length is within 2 % of the real one
	Elements   int      `json:"elements"` // that stand where they were pasted
	Alike      int      `json:"alike"`    // with their tag and attributes as predicted
	Others     []string `json:"others"`   // the signatures that are not within 2 %
}

func (l *Lengths) say() string {
	return fmt.Sprintf("the corpus pasted in %s: %d of %d lengths within 2 %%, %d of %d elements alike\n", l.Against, l.Within, l.Signatures,
		l.Alike, l.Elements)
}

// eachOfCorpus gives the corpus of signatures, each or one of so many, with the person for whom they are filled.
func eachOfCorpus(oneOf int, use func(name string, t *template.Template, people *person.Directory, who *person.Person) error) error {
	people, err := demo.Directory()
	if err != nil {
		return err
	}
	signatures, err := demo.Signatures()
	if err != nil {
		return err
	}
	for i, s := range signatures {
		if i%oneOf != 0 {
			continue
		}
		t, err := template.OpenBare(fstest.MapFS{"x.html": {Data: []byte(s.Source)}}, "x.html")
		if err == nil {
			err = use(s.Name, t, people, people.Find("maren.lind@brackwater.example"))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	return nil
}

// pasteCorpus copies and pastes the corpus of signatures, each or one of so many, filled for one person, and counts.
func pasteCorpus(e engine, oneOf int) (*Lengths, error) {
	var shown, predicted, names []string
	err := eachOfCorpus(oneOf, func(name string, t *template.Template, people *person.Directory, who *person.Person) error {
		c, err := preview.Paste(t, people.Schema, formDay, t.Variants()[0], who)
		names, shown, predicted = append(names, name), append(shown, c.Shown), append(predicted, e.chosen(c))
		return err
	})
	if err != nil {
		return nil, err
	}
	real, err := e.pasted(context.Background(), shown)
	if err != nil {
		return nil, err
	}
	l := &Lengths{Against: e.name, Version: e.version(), Signatures: len(real), Others: []string{}}
	for i := range real {
		want := float64(client.Units(real[i]))
		if math.Abs(float64(client.Units(predicted[i]))-want) <= 0.02*want {
			l.Within++
		} else {
			l.Others = append(l.Others, names[i])
		}
		a, b := elements(real[i]), elements(predicted[i])
		l.Elements += len(a)
		l.Alike += common(a, b)
	}
	return l, nil
}

// elements lists the elements of markup, each with its attributes and declarations.
func elements(source string) []string {
	var list []string
	for _, piece := range canonical(source) {
		switch {
		case strings.HasPrefix(piece, "<") && !strings.HasPrefix(piece, "</"):
			list = append(list, piece)
		case len(list) > 0 && (piece[0] == '[' || piece[0] == '{'):
			list[len(list)-1] += piece
		}
	}
	return list
}

// common is the length of the longest common subsequence.
func common(a, b []string) int {
	row := make([]int, len(b)+1)
	for _, x := range a {
		diagonal := 0
		for j, y := range b {
			above := row[j+1]
			if x == y {
				row[j+1] = diagonal + 1
			} else {
				row[j+1] = max(above, row[j])
			}
			diagonal = above
		}
	}
	return row[len(b)]
}
