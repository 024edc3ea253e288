package personal

import (
	"bytes"
	"context"
	"strings"
	"time"

	"missivum/core/diagnosis"
	"missivum/core/message"
	core "missivum/core/personal"
	"missivum/core/problem"
	"missivum/core/proof"
	"missivum/service/desks"
	"missivum/service/store"
)

// The ways by which a proof is known.
const (
	ByPage  = "page"
	ByAddOn = "add-on"
)

// Proof is what is known of a person's signature in a program, for the person.
type Proof struct {
	Client    string    `json:"client"`
	Situation string    `json:"situation"`
	State     string    `json:"state"`
	Kinds     []string  `json:"kinds"`
	Way       string    `json:"way"`
	Release   string    `json:"release"`
	At        time.Time `json:"at"`
}

// proofsOf gives proofs as they stand now.
func (p *Personal) proofsOf(ctx context.Context, stored []store.Proof) ([]Proof, error) {
	list := []Proof{}
	for _, s := range stored {
		now, err := p.Desks.ProofNow(ctx, s)
		if err != nil {
			return nil, err
		}
		list = append(list, Proof{s.Client, s.Situation, now, s.Kinds, s.Way, s.Release, s.At})
	}
	return list, nil
}

// Pasted is what somebody gives to be checked: what their program shows, or a message as a file.
type Pasted struct {
	Client    string `json:"client"`
	Situation string `json:"situation"` // that they meant; blank for any
	HTML      string `json:"html"`
	Text      string `json:"text"`
	Message   []byte `json:"message"` // RFC 5322; then HTML and Text are blank
}

// releasesBefore is how many releases before the present one are held against what is pasted.
const releasesBefore = 4

// Check says whether what somebody pasted is the signature they should have, and keeps the answer as proof. Nothing of what was pasted
// is kept but the state and the kinds of differences.
func (p *Personal) Check(ctx context.Context, v Visitor, in Pasted) (verdict proof.Verdict, err error) {
	if err := v.MayChange(); err != nil {
		return verdict, err
	}
	shown := proof.Shown{HTML: in.HTML, Text: in.Text}
	if len(in.Message) > 0 {
		if shown, err = shownBy(in.Message, true); err != nil {
			return verdict, err
		}
	}
	if strings.TrimSpace(shown.HTML+shown.Text) == "" {
		return verdict, problem.New(problem.Invalid, "There is nothing to check: paste what your program shows, or choose a message.").In("html")
	}
	own, err := p.Desks.Own(ctx, v.Person)
	if err != nil {
		return verdict, notReached(err)
	}
	profile, err := p.profile(ctx, in.Client)
	if err != nil {
		return verdict, err
	}
	wanted, err := wantedOf(own, core.Input{Client: profile}, in.Situation, false)
	if err != nil {
		return verdict, err
	}
	older, err := p.before(ctx, v.Person, core.Input{Client: profile}, in.Situation)
	if err != nil {
		return verdict, err
	}
	wanted = append(wanted, older...)
	directory, _, err := p.People.Directory(ctx)
	if err != nil {
		return verdict, err
	}
	judged := proof.Input{Owner: proof.Owner{Mail: v.Person, Name: own.Get("cn")}, Wanted: wanted, Shown: shown,
		Colleague: func(mail string) bool { return fold(mail) != v.Person && directory.Find(mail) != nil }}
	if verdict, err = proof.Judge(judged); err != nil {
		return verdict, err
	}
	if verdict.State == proof.None && len(in.Message) > 0 { // below the conversation, it may be
		if judged.Shown, err = shownBy(in.Message, false); err != nil {
			return verdict, err
		}
		if verdict, err = proof.Judge(judged); err != nil {
			return verdict, err
		}
	}
	return verdict, p.keep(ctx, v.Person, in, own.Release, verdict)
}

// keep stores a verdict as proof: for the situation that it is of, or that was meant.
func (p *Personal) keep(ctx context.Context, mail string, in Pasted, release string, v proof.Verdict) error {
	situation := v.Situation
	if situation == "" {
		situation = in.Situation
	}
	if situation == "" {
		situation = "new"
	}
	if v.Release != "" {
		release = v.Release
	}
	one := store.Proof{
		Person:    mail,
		Client:    in.Client,
		Way:       ByPage,
		Situation: situation,
		Release:   release,
		State:     string(v.State),
		Kinds:     []string{},
	}
	for _, k := range v.Kinds() {
		one.Kinds = append(one.Kinds, string(k))
	}
	if v.State == proof.Right {
		if tag, _, err := p.Desks.Tag(ctx, desks.Asked{Person: mail, Client: in.Client}); err == nil { // some programs get no kit
			one.Kit = tag
		}
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutProof(one) })
}

// wantedOf are the signatures of a release as they are held against what is shown; the one that was meant first.
func wantedOf(own desks.Own, in core.Input, meant string, older bool) (list []proof.Wanted, err error) {
	in.Schema, in.Day, in.Person = own.Schema, own.Day, own.Person
	done := map[[2]string]bool{}
	for _, c := range own.Choices {
		key := [2]string{c.Template, c.Variant}
		if c.Template == "" || done[key] && c.Situation != meant {
			continue
		}
		done[key] = true
		in.Template, in.Variant = own.Templates[c.Template], c.Variant
		w, err := in.Wanted(c.Situation, own.Release, older)
		if err != nil {
			return nil, err
		}
		if c.Situation == meant {
			list = append([]proof.Wanted{w}, list...)
		} else {
			list = append(list, w)
		}
	}
	return list, nil
}

// maxMessage is how large a message may be that is checked, in bytes.
const maxMessage = 20 << 20

// shownBy is the text of a message: what its sender wrote last, where only the newest is asked for and can be told.
func shownBy(raw []byte, newest bool) (s proof.Shown, err error) {
	if len(raw) > maxMessage {
		return s, problem.New(problem.TooLarge, "The message is larger than %d MB.", maxMessage>>20)
	}
	m := message.Read(bytes.Clone(raw))
	bodies := m.Bodies()
	for _, part := range []struct {
		part *message.Part
		into *string
	}{{bodies.HTML, &s.HTML}, {bodies.Plain, &s.Text}} {
		if part.part == nil {
			continue
		}
		content, err := m.Content(part.part)
		if err != nil {
			return s, problem.New(problem.Refused, "The message's text cannot be read: %v.", err)
		}
		*part.into = content.Text
		if place := content.Find(m.HintsOf()); newest && place.Sure && place.At > 0 {
			*part.into = content.Text[:min(place.Quote, len(content.Text))]
		}
	}
	return s, nil
}

// Diagnose says why the signature, or its pictures, are missing or wrong in a message. Whose it should be is who sent it.
func (p *Personal) Diagnose(ctx context.Context, raw []byte) (r diagnosis.Result, err error) {
	if len(raw) > maxMessage {
		return r, problem.New(problem.TooLarge, "The message is larger than %d MB.", maxMessage>>20)
	}
	m := message.Read(raw)
	directory, _, err := p.People.Directory(ctx)
	if err != nil {
		return r, err
	}
	in := diagnosis.Input{}
	for _, from := range m.Addresses("From") {
		in.Owner.Mail = fold(from.Address)
	}
	in.Colleague = func(mail string) bool { return fold(mail) != in.Owner.Mail && directory.Find(mail) != nil }
	if who := directory.Find(in.Owner.Mail); who != nil {
		in.Owner.Name = directory.Get(who, "cn")
		if in.Wanted, err = p.everything(ctx, in.Owner.Mail); err != nil {
			return r, err
		}
	}
	return diagnosis.Diagnose(m, in)
}

// everything are a person's signatures of the present release and those before, whatever the program.
func (p *Personal) everything(ctx context.Context, mail string) (wanted []proof.Wanted, err error) {
	own, err := p.Desks.Own(ctx, mail)
	switch {
	case problem.Is(err, problem.NotFound) || problem.Is(err, problem.Gone):
	case err != nil:
		return nil, err
	default:
		if wanted, err = wantedOf(own, core.Input{}, "", false); err != nil {
			return nil, err
		}
	}
	older, err := p.before(ctx, mail, core.Input{}, "")
	return append(wanted, older...), err
}

// before are a person's signatures of releases before, as they are held against what is shown. One that can no longer be filled says
// nothing.
func (p *Personal) before(ctx context.Context, mail string, in core.Input, meant string) (list []proof.Wanted, err error) {
	all, err := p.Desks.Before(ctx, mail, releasesBefore)
	for _, one := range all {
		if older, err := wantedOf(one, in, meant, true); err == nil {
			list = append(list, older...)
		}
	}
	return list, err
}
