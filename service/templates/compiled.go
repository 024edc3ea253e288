package templates

import (
	"fmt"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/template"
)

// mostCompiled is how much source and pictures the templates that are kept compiled may have together, in bytes. A
// compiled form takes a few times its source.
const mostCompiled = 64 << 20

// compiled are templates that were compiled in one form and variant, those used last.
type compiled struct {
	mu     sync.Mutex
	known  *simplelru.LRU[string, kept]
	weight int // of all that are kept, in bytes
}

// kept is a compiled form with what it counts for.
type kept struct {
	signature *compose.Signature
	weight    int
}

// Compiled gives a template compiled in one form and variant for a schema, as it is on a day. What was compiled is kept
// by the template's content and its pictures' public address, the directory's revision and the day, so that to fill it
// for one person more takes microseconds. The error is that of compose.Compile and is not kept.
func (t *Templates) Compiled(tmpl *template.Template, schema *person.Schema, revision int, day time.Time, variant string,
	form compose.Form) (*compose.Signature, error) {
	key := fmt.Sprintf("%s %s %s %s %d %s %s %s", tmpl.Name, tmpl.Version(), tmpl.Home.Digest(), tmpl.Public, revision,
		day.Format(time.DateOnly), variant, form)
	if s, ok := t.compiled.get(key); ok {
		return s, nil
	}
	s, err := compose.Compile(compose.Source{Template: tmpl, Schema: schema, Day: day, Variants: []string{variant}}, form)
	if err != nil {
		return nil, err
	}
	weight := len(tmpl.Source)
	for _, p := range tmpl.Pictures {
		weight += len(p.Data)
	}
	t.compiled.put(key, kept{s, weight})
	return s, nil
}

// get finds what was compiled, and makes it the last used.
func (c *compiled) get(key string) (*compose.Signature, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil {
		return nil, false
	}
	k, ok := c.known.Get(key)
	return k.signature, ok
}

// put keeps what was compiled; what was not used for longest goes.
func (c *compiled) put(key string, k kept) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil {
		// the number is a second limit: a small template still has its program
		c.known, _ = simplelru.NewLRU(1000, func(_ string, gone kept) { c.weight -= gone.weight })
	}
	if _, ok := c.known.Peek(key); ok {
		return // two asked at once
	}
	c.known.Add(key, k)
	c.weight += k.weight
	for c.weight > mostCompiled && c.known.Len() > 1 {
		c.known.RemoveOldest()
	}
}
