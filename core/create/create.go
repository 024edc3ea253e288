// Package create makes a new template of what people have: one of the starters, a page, or somebody's finished
// signature. Bytes go in, the parts of a template come out, with what was recognised on the way. Start with From.
package create

import (
	"fmt"
	"io/fs"
	"time"

	"missivum/core/charset"
	"missivum/core/clean"
	"missivum/core/page"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/recognise"
	"missivum/core/starter"
	"missivum/core/template"
)

// ErrSource is returned when it is not said, or said twice, what the template is made of, or when there is no such
// starter or person; the message says which.
var ErrSource error = problem.New(problem.Invalid, "the template cannot be made")

// Input says what the template is made of: a starter, or a page. With a person the page is that person's signature,
// and fields take the place of the values found in it.
type Input struct {
	Starter string // name of a starter; empty: the page is used
	Page    []byte // as it came: HTML, or a page saved with its pictures in one file (RFC 2557)
	Files   fs.FS  // where the page's relative pictures are; nil for none

	Clean *clean.Options // nil leaves the markup as it is

	People  *person.Directory
	Person  string            // mail address; empty for a page that is nobody's signature
	Answers map[string]string // to recognise's questions, by their id
	Day     time.Time         // decides which dated pieces are in force
}

// Result is the template's parts and how they came about.
type Result struct {
	Parts      template.Parts
	Note       string       // how it was made, as a version's note
	Charset    charset.Text // what the page was written in, without the text; blank for a starter
	Pictures   []string     // files of the pictures that came along
	Missing    []string     // addresses of pictures that did not
	Cleaned    *clean.Result
	Recognised *recognise.Result
}

// From makes the parts of a template. The errors are ErrSource, those of page.Read, clean.Clean and recognise.Run.
func From(in Input) (Result, error) {
	switch {
	case in.Starter != "" && len(in.Page) > 0:
		return Result{}, fmt.Errorf("%w: name a starter or bring a page, not both", ErrSource)
	case in.Starter != "":
		return fromStarter(in.Starter)
	case len(in.Page) == 0:
		return Result{}, fmt.Errorf("%w: name a starter or bring a page", ErrSource)
	}
	return fromPage(in)
}

func fromStarter(name string) (Result, error) {
	t, err := starter.Find(name)
	if err != nil {
		return Result{}, fmt.Errorf("%w: there is no starter %q", ErrSource, name)
	}
	return Result{Parts: t.Parts(), Note: "From the starter " + t.Title()}, nil
}

func fromPage(in Input) (Result, error) {
	imported, err := page.Read(in.Page, in.Files)
	if err != nil {
		return Result{}, err
	}
	r := Result{
		Parts: imported.Parts, Note: "From a page",
		Charset: imported.Charset, Pictures: imported.Pictures, Missing: imported.Missing,
	}
	if in.Clean != nil {
		cleaned, err := clean.Clean(r.Parts.Source, *in.Clean)
		if err != nil {
			return Result{}, err
		}
		r.Parts.Source, r.Cleaned = cleaned.Source, &cleaned
	}
	if in.Person == "" {
		return r, nil
	}
	if in.People == nil {
		return Result{}, fmt.Errorf("%w: there is no directory to find %s in", ErrSource, in.Person)
	}
	who := in.People.Find(in.Person)
	if who == nil {
		return Result{}, fmt.Errorf("%w: there is nobody with the mail address %q", ErrSource, in.Person)
	}
	found, err := recognise.Run(recognise.Input{Parts: r.Parts, People: in.People, Person: who, Day: in.Day, Answers: in.Answers})
	if err != nil {
		return Result{}, err
	}
	r.Parts, r.Recognised, r.Note = found.Parts, &found, "From the signature of "+in.Person
	return r, nil
}
