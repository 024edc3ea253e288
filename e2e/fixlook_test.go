package e2e

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/fix"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/template"
	"missivum/demo"
	"missivum/e2e/rig"
)

// changesLook are the checks whose fixes are there to change what is seen in clients that the finding does not name too: signs,
// texts and colours become those that were meant, what a browser drops holds, gaps close, a direction is set.
var changesLook = strings.Fields(`bare-length blank-field character-reference colour-form contrast direction
	dropped-declaration effect-property joined-script misspelt-attribute name-blank number-reversed picture-gap small-text`)

// betterPasted are the checks whose fixes keep in the paste what is lost there with the block that is all of a signature.
var betterPasted = []string{"flex-layout", "block-width"}

// shifted is the share of what is drawn that may differ where a text is cut into runs and so shifted by a part of a pixel: up to
// 6 % in a short one from right to left. What harmed was 10 % and more.
const shifted = 0.07

// drawings draws signatures, each markup once.
type drawings struct {
	t    *testing.T
	tab  context.Context
	seen map[string][]byte
}

func (l *drawings) of(body string) []byte {
	if l.seen[body] == nil {
		l.seen[body] = drawn(l.t, l.tab, there(l.t, body))
	}
	return l.seen[body]
}

// kept is what a client shows of one person's signature, or what a good browser shows for a nil profile.
func kept(t *testing.T, tmpl *template.Template, people *person.Directory, profile *client.Profile, who *person.Person) string {
	t.Helper()
	prepared, err := compose.Prepare(tmpl, people.Schema, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), compose.Data)
	if err != nil {
		t.Fatal(err)
	}
	if profile == nil {
		shown, err := preview.Of(prepared).Shown(tmpl.Variants()[0], who)
		if err != nil {
			t.Fatal(err)
		}
		return shown
	}
	shown, err := preview.Of(prepared).Kept(profile, client.Render, tmpl.Variants()[0], who)
	if err != nil {
		t.Fatal(err)
	}
	return shown.Body
}

// TestFixesKeepTheLookOfTheCorpus makes the fixes of each check alone, the costly ones too, in every twelfth signature of
// the corpus, in a soak in all of them, and draws
// them before and after: in a good browser, and as each client keeps them that the findings do not name. Only fixes
// that are there to be seen may be seen.
func TestFixesKeepTheLookOfTheCorpus(t *testing.T) {
	t.Parallel()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	signatures, err := demo.Signatures()
	if err != nil {
		t.Fatal(err)
	}
	l := drawings{t, browser(t), map[string][]byte{}}
	fixes, compared := 0, 0
	for i, s := range signatures {
		if i%rig.Soak(36, 1) != 0 {
			continue
		}
		tmpl := bareTemplate(t, s.Source)
		in := check.Input{Template: tmpl, People: people, Profiles: client.Shipped(), Day: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
		report, err := check.Findings(t.Context(), in)
		if err != nil {
			t.Fatal(err)
		}
		named := map[string][]string{} // the clients that the findings of a check name
		for _, f := range report.Findings {
			if f.Fix != nil && !slices.Contains(changesLook, f.Check) {
				named[f.Check] = append(named[f.Check], f.Clients...)
			}
		}
		for id, clients := range named {
			r, err := fix.Run(t.Context(), in, fix.Options{At: -1, Checks: []string{id}})
			if err != nil {
				t.Fatal(err)
			}
			fixes += len(r.Done)
			for _, profile := range append([]*client.Profile{nil}, client.Shipped()...) {
				if profile != nil && (profile.Form != "html" || slices.Contains(clients, profile.ID) ||
					profile.Pasted() && slices.Contains(betterPasted, id)) {
					continue
				}
				for _, mail := range []string{"maren.lind@brackwater.example", "salma.albahri@brackwater.example"} {
					before, after := kept(t, tmpl, people, profile, people.Find(mail)), kept(t, r.Template, people, profile, people.Find(mail))
					if before == after {
						continue
					}
					compared++
					if off := inkThatDiffers(t, l.of(before), l.of(after)); off > shifted {
						where := "a good browser"
						if profile != nil {
							where = profile.ID
						}
						t.Errorf("%s, %s in %s for %s: %.1f %% of what is drawn differs\n%s\n%s", s.Name, id, where, mail, 100*off, before, after)
					}
				}
			}
		}
	}
	t.Logf("%d fixes, %d pairs that are not the same markup, %d drawings", fixes, compared, len(l.seen))
}
