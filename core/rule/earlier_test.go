package rule

import (
	"fmt"
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/message"
	"missivum/demo"
)

// rewritten is a stamped signature as a client has it after a stage; blank where the client keeps nothing of it.
func rewritten(t *testing.T, p *client.Profile, stage client.Stage, html string) string {
	t.Helper()
	doc, err := markup.ParseOutput(html)
	if err != nil {
		t.Fatal(err)
	}
	doc, _ = journey.Simulate(p, doc, stage)
	return doc.Render()
}

// TestEarlierSignatureAfterEachClient finds the signatures of the demo's people in replies after each profile rewrote them, in the
// newest text and in the conversation, with and without the marks, and does not take those of others for them.
func TestEarlierSignatureAfterEachClient(t *testing.T) {
	e := engine(t, "")
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	people := d.People[:min(len(d.People), 40)]
	found, all, wrong, asked := 0, 0, 0, 0
	missed := map[string]int{}
	for i := range people {
		who := &people[i]
		owner := e.signatures.Owner(who)
		other := &people[(i+1)%len(people)]
		if owner.Mail == "" || e.signatures.Owner(other).Mail == "" {
			continue
		}
		for _, name := range []string{"harbour", "voyage"} {
			s, err := e.signatures.Signature(name, "new", "", who)
			if err != nil {
				t.Fatal(err)
			}
			for _, marked := range []bool{true, false} {
				markup := s.HTML
				if marked {
					markup = fmt.Sprintf(`<div class="%s %s">%s</div>`, message.MarkClass, message.OwnerMark(owner.Mail), s.HTML)
				}
				for _, p := range client.Shipped() {
					html := rewritten(t, p, client.Receive, markup)
					if len(strings.Fields(message.Seen(true, html))) == 0 {
						continue // the client kept nothing of it
					}
					for _, quoted := range []bool{true, false} {
						page := "<p>See you at berth 4.</p>" + html
						if quoted {
							page = "<p>See you at berth 4.</p><p>On 3.11.2026 14:05, Nell Sandoval wrote:</p><blockquote type=cite><p>Fine.</p>" +
								html + "</blockquote>"
						}
						place := message.FindInPage(page, message.Hints{})
						all++
						mine := place.Earlier(owner, e.signatures.Known(who))
						if len(mine) > 0 {
							found++
						} else {
							missed[p.ID]++
						}
						asked++
						if theirs := place.Earlier(e.signatures.Owner(other), e.signatures.Known(other)); len(theirs) > 0 {
							wrong++
							t.Logf("%s's %s after %s was taken for %s's: %+v", owner.Mail, name, p.ID, e.signatures.Owner(other).Mail, theirs[0])
						}
					}
				}
			}
		}
	}
	share, false_ := 100*float64(found)/float64(all), 1000*float64(wrong)/float64(asked)
	t.Logf("found %d of %d (%.1f %%), missed %v; taken for somebody else's %d of %d (%.2f in 1,000)", found, all, share,
		missed, wrong, asked, false_)
	if share < 98 || false_ > 1 {
		t.Errorf("%.1f %% found, wanted 98; %.2f in 1,000 false, wanted 1 at most", share, false_)
	}
}
