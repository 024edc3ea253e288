package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/person"
	"missivum/core/personal"
	"missivum/core/template"
)

// given is a signature as a page puts it onto the clipboard, letter by letter.
type given struct {
	name, html string
	predicted  int // characters in an editable element of Gecko
}

// givenSignatures are those of the demo's and the starters' templates, and the corpus, each of it or one of so many.
func givenSignatures(oneOf int) (list []given, err error) {
	anywhere := &client.Profile{Form: "html", Install: client.Installation{Way: client.PasteRender}}
	add := func(name string, t *template.Template, people *person.Directory, who *person.Person) error {
		prepared, err := personal.Prepare(personal.Input{Template: t, Schema: people.Schema, Day: formDay, Variant: t.Variants()[0],
			Person: who, Client: anywhere})
		if err != nil {
			return err
		}
		at := slices.IndexFunc(prepared.Whole.Pastes, func(p personal.Paste) bool { return p.Engine == journey.Gecko })
		list = append(list, given{name, prepared.Whole.HTML, prepared.Whole.Pastes[at].Characters})
		return nil
	}
	people, templates, err := demosAndStarters()
	if err != nil {
		return nil, err
	}
	for _, t := range templates {
		if err := add(t.Name, t, people, &people.People[0]); err != nil {
			return nil, err
		}
	}
	err = eachOfCorpus(oneOf, add)
	return list, err
}

// givenPage copies what a script left in window.given, and keeps what a paste is handed.
const givenPage = `<!doctype html><meta charset="utf-8"><div id="from" tabindex="0">x</div>
<div id="box" contenteditable style="min-height: 50px"></div><script>
document.addEventListener('copy', e => {
	e.clipboardData.setData('text/html', window.given); e.clipboardData.setData('text/plain', 'x'); e.preventDefault() })
document.addEventListener('paste', e => { window.handed = e.clipboardData.getData('text/html') })
</script>`

// pastedAsGiven is what Gecko hands a paste of each markup, and what stands in an editable element then.
func pastedAsGiven(ctx context.Context, list []given) (handed, stored []string, err error) {
	folder, err := os.MkdirTemp("", "given")
	if err != nil {
		return nil, nil, err
	}
	defer os.RemoveAll(folder)
	file := filepath.Join(folder, "given.html")
	if err := os.WriteFile(file, []byte(givenPage), 0o600); err != nil {
		return nil, nil, err
	}
	g, err := startGecko(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer g.Close()
	if err := g.show(ctx, "file://"+file); err != nil {
		return nil, nil, err
	}
	for _, one := range list {
		letters, err := json.Marshal(one.html)
		if err != nil {
			return nil, nil, err
		}
		ready := fmt.Sprintf(
			`window.given = %s; window.handed = ''; box = document.getElementById('box'); box.innerHTML = ''; box.blur();
			document.getElementById('from').focus();
			getSelection().selectAllChildren(document.getElementById('from')); ''`,
			letters,
		)
		var got [2]string
		_, err = g.evaluate(ctx, ready)
		if err == nil {
			err = g.control(ctx, "a")
		}
		if err == nil {
			err = g.control(ctx, "c")
		}
		if err == nil {
			_, err = g.evaluate(ctx, inBox)
		}
		if err == nil {
			err = g.control(ctx, "v")
		}
		for i, script := range []string{"window.handed", "document.getElementById('box').innerHTML"} {
			if err == nil {
				got[i], err = g.evaluate(ctx, script)
			}
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", one.name, err)
		}
		handed, stored = append(handed, got[0]), append(stored, got[1])
	}
	return handed, stored, nil
}
