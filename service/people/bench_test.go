package people

import (
	"errors"
	"fmt"
	"io"
	"missivum/core/source"
	"missivum/service/store"
	"os"
	"strings"
	"testing"
	"time"
)

// table is a made-up table of n people; of every hundredth the title differs by variant.
func table(n, variant int) string {
	var b strings.Builder
	b.WriteString("mail,cn,givenName,sn,title,ou,telephoneNumber,mobile,street,postalCode,l,c\n")
	for i := range n {
		title := "Cook"
		if i%100 == 0 {
			title = fmt.Sprintf("Captain %d", variant)
		}
		fmt.Fprintf(&b, "p%d@b.example,Maren Lind %d,Maren,Lind %d,%s,Bridge,+44 1632 96%04d,07700 90%04d,Quay %d,BW%d,Havsund,GB\n",
			i, i, i, title, i%10000, i%10000, i%50, i%90)
	}
	return b.String()
}

// BenchmarkFirstImport imports 10,000 people into an empty directory.
func BenchmarkFirstImport(b *testing.B) {
	text := table(10_000, 0)
	for b.Loop() {
		p := open(b)
		take(b, p, text, true)
	}
}

// entries is LDIF of n made-up people; of every hundredth the title differs by variant.
func entries(n, variant int) string {
	var b strings.Builder
	b.WriteString("version: 1\n")
	for i := range n {
		title := "Cook"
		if i%100 == 0 {
			title = fmt.Sprintf("Captain %d", variant)
		}
		fmt.Fprintf(&b, "\ndn: uid=p%d,ou=crew,dc=b,dc=example\nobjectClass: inetOrgPerson\nuid: p%d\ncn: Maren "+
			"Lind %d\ngivenName: Maren\nsn: Lind %d\n"+
			"mail: p%d@b.example\ntitle: %s\nou: Bridge\ntelephoneNumber: +44 1632 96%04d\nmobile: 07700 90%04d\nstreet: Quay %d\n"+
			"postalCode: BW%d\nl: Havsund\nc: GB\nemployeeNumber: %d\n", i, i, i, i, i, title, i%10000, i%10000, i%50, i%90, i)
	}
	return b.String()
}

// readThrough reads LDIF and does nothing with it.
func readThrough(b *testing.B, text string) {
	r, err := source.Open(strings.NewReader(text), source.Reading{})
	if err != nil {
		b.Fatal(err)
	}
	for {
		if _, err := r.Next(); errors.Is(err, io.EOF) {
			return
		} else if err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkPlanning plans a file of 100,000 people of whom one in a hundred changed, and compares that with reading the file.
func BenchmarkPlanning(b *testing.B) {
	const n = 100_000
	p := open(b)
	began := time.Now()
	first := plan(b, p, File{Body: strings.NewReader(entries(n, 0)), Replace: true})
	b.Logf("planning the first import: %v", time.Since(began))
	began = time.Now()
	if _, err := p.Apply(acting, first.ID, true); err != nil {
		b.Fatal(err)
	}
	b.Logf("applying it: %v", time.Since(began))
	began = time.Now()
	if d, _, err := p.Directory(acting); err != nil || len(d.People) != n {
		b.Fatal(err)
	}
	b.Logf("reading the directory from the store: %v", time.Since(began))
	next := entries(n, 1)
	var reading, planning time.Duration
	for b.Loop() {
		began := time.Now()
		readThrough(b, next)
		reading += time.Since(began)
		began = time.Now()
		run := plan(b, p, File{Body: strings.NewReader(next), Replace: true})
		planning += time.Since(began)
		if run.Summary.Changed != n/100 {
			b.Fatalf("%+v", run.Summary)
		}
	}
	b.ReportMetric(float64(planning)/float64(reading), "planning/reading")
	b.ReportMetric(float64(reading.Milliseconds())/float64(b.N), "ms-reading")
	for _, f := range []store.PeopleFilter{{}, {Search: "lind 99999"}, {Search: "nobody at all"}, {Blank: "title"}} {
		began := time.Now()
		err := p.Store.Read(acting, func(tx *store.Tx) error { _, _, err := tx.People(f, 0, 50); return err })
		if err != nil {
			b.Fatal(err)
		}
		b.Logf("a page of %+v: %v", f, time.Since(began))
	}
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Fatal(err)
	}
	for line := range strings.Lines(string(status)) {
		if strings.HasPrefix(line, "VmHWM") {
			b.Log(strings.TrimSpace(line))
		}
	}
}
