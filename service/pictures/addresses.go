package pictures

import (
	"context"
	"encoding/json"
	"path"
	"slices"
	"time"

	"missivum/core/delivery"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/service/jobs"
	"missivum/service/store"
)

// asker asks addresses for the service.
func (p *Pictures) asker() *Asker { return &Asker{Allow: p.Allow, Now: p.Now} }

// CheckAddresses asks addresses and keeps what came back.
func (p *Pictures) CheckAddresses(ctx context.Context, addresses []string) ([]Checked, error) {
	list := []Checked{}
	for _, address := range addresses {
		c, err := p.check(ctx, address, "", picture.Display{})
		if err != nil {
			return list, err
		}
		list = append(list, c)
	}
	return list, nil
}

// Checked is what asking an address brought, and the template that it stands in.
type Checked struct {
	Report
	Template string `json:"template"` // empty for an address that was asked by itself
	Restored bool   `json:"restored"` // it was missing and was written again into the tree
}

// check asks one address and stores the answer.
func (p *Pictures) check(ctx context.Context, address, template string, d picture.Display) (Checked, error) {
	c := Checked{Report: p.asker().Check(ctx, address, d), Template: template}
	if err := ctx.Err(); err != nil {
		return c, err
	}
	missing := slices.ContainsFunc(c.Faults, func(f picture.Fault) bool { return f.ID == "missing" })
	if missing {
		var err error
		if c.Restored, err = p.Hosting.Restore(ctx, path.Base(address)); err != nil {
			p.Log.Warn("a missing picture cannot be written again", "address", address, "error", err)
		}
	}
	text, err := json.Marshal(c)
	if err != nil {
		return c, err
	}
	return c, p.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.PutAddressCheck(store.AddressCheck{Address: address, Template: template, Report: string(text), Asked: c.Asked})
	})
}

// CheckTemplate asks all picture addresses of a template's version; number 0 is the latest.
func (p *Pictures) CheckTemplate(ctx context.Context, name string, number int) ([]Checked, error) {
	t, err := p.Templates.Get(ctx, name, number)
	if err != nil {
		return nil, err
	}
	d, _, err := p.People.Directory(ctx)
	if err != nil {
		return nil, err
	}
	addresses, err := delivery.Addresses(t.Template, d.Schema, p.Now())
	if err != nil {
		return nil, problem.As(problem.Refused, err)
	}
	list := []Checked{}
	for _, a := range addresses {
		c, err := p.check(ctx, a.Address, name, a.Display)
		if err != nil {
			return list, err
		}
		list = append(list, c)
	}
	return list, nil
}

// Checks lists what asking brought last, the newest first.
func (p *Pictures) Checks(ctx context.Context) ([]Checked, error) {
	var records []store.AddressCheck
	err := p.Store.Read(ctx, func(tx *store.Tx) (err error) {
		records, err = tx.AddressChecks()
		return err
	})
	list := []Checked{}
	for _, r := range records {
		var c Checked
		if err := json.Unmarshal([]byte(r.Report), &c); err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, err
}

// Watch checks all picture addresses of all templates as often as the settings say, until the context ends.
func (p *Pictures) Watch(ctx context.Context, every time.Duration) {
	var last time.Time
	jobs.Every(ctx, every, p.Log, "address check", func(ctx context.Context) error {
		s, err := p.Hosting.Settings(ctx)
		if err != nil {
			return err
		}
		if s.Hours == 0 || p.Now().Sub(last) < time.Duration(s.Hours)*time.Hour {
			return nil
		}
		last = p.Now()
		return p.checkAll(ctx)
	})
}

// sentVersion is a version of a template that goes out, or went out in a package.
type sentVersion struct {
	template string
	number   int // 0 for the latest
}

// checkAll asks the addresses of every template, and of the versions that packages were made of. A template that
// cannot be read or filled sends nothing and ends the check of no other.
func (p *Pictures) checkAll(ctx context.Context) error {
	var sent []sentVersion
	err := p.Store.Read(ctx, func(tx *store.Tx) (err error) {
		sent, err = sentIn(tx)
		return err
	})
	if err != nil {
		return err
	}
	for _, v := range sent {
		checked, err := p.CheckTemplate(ctx, v.template, v.number)
		if _, known := problem.Of(err); known {
			p.Log.Warn("the addresses of a template are not checked", "template", v.template, "version", v.number, "error", err)
			continue
		}
		if err != nil {
			return err
		}
		for _, c := range checked {
			if c.Broken() {
				p.Log.Warn("a picture is not shown", "template", v.template, "address", c.Address, "fault", c.Faults[0].ID)
			}
		}
	}
	return nil
}

// sentIn lists the latest version of every template and those that packages were made of, each once.
func sentIn(tx *store.Tx) ([]sentVersion, error) {
	names, err := tx.TemplateNames()
	if err != nil {
		return nil, err
	}
	packages, err := tx.Packages()
	var sent []sentVersion
	add := func(v sentVersion) {
		if !slices.Contains(sent, v) {
			sent = append(sent, v)
		}
	}
	for _, name := range names {
		add(sentVersion{name, 0})
	}
	for _, made := range packages {
		add(sentVersion{made.Template, made.Version})
	}
	return sent, err
}
