package rule

import (
	"slices"
	"strings"

	"missivum/core/person"
)

// Index finds the people of a directory by their mail addresses.
type Index struct {
	byMail  map[string]*person.Person
	domains []string
}

// NewIndex makes an index. The people must not change afterwards.
func NewIndex(d *person.Directory) *Index {
	x := &Index{byMail: make(map[string]*person.Person, len(d.People))}
	column, _, _ := d.Schema.Column("mail")
	for i := range d.People {
		mail := strings.ToLower(strings.TrimSpace(d.People[i].At(column)))
		if mail == "" {
			continue
		}
		x.byMail[mail] = &d.People[i]
		if _, domain, ok := strings.Cut(mail, "@"); ok && !slices.Contains(x.domains, domain) && len(x.domains) < 1_000 {
			x.domains = append(x.domains, domain)
		}
	}
	return x
}

// ByMail finds a person; nil for nobody. Letter case does not count.
func (x *Index) ByMail(address string) *person.Person { return x.byMail[strings.ToLower(address)] }

// Domains are the domains of the people's addresses.
func (x *Index) Domains() []string { return x.domains }
