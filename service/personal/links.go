package personal

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

// ofLink is the kind of a personal link's token (access.Marks).
const ofLink = "link"

// wrongLink is the one answer to every token that opens nothing, whatever is wrong with it.
var wrongLink = problem.New(problem.Unknown, "This link opens nothing: it has ended, was replaced by a newer one, or is not whole. "+
	"Ask for a new one.")

// Link makes a link for a person of the directory, and ends the ones before. Whoever has it reaches that person's page and nothing
// else.
func (p *Personal) Link(ctx context.Context, mail string) (address string, link store.PersonalLink, err error) {
	known, err := p.Desks.Known(ctx, mail)
	if err != nil {
		return "", link, err
	}
	if !known {
		return "", link, problem.Missing("person", mail)
	}
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		settings, err := settingsIn(tx)
		if err != nil {
			return err
		}
		address, link, err = p.linkIn(tx, mail, settings)
		return err
	})
	return address, link, err
}

// linkIn is Link in a unit of work, for somebody who is known.
func (p *Personal) linkIn(tx *store.Tx, mail string, settings Settings) (string, store.PersonalLink, error) {
	mail = fold(mail)
	if err := tx.RevokePersonalLinks(mail); err != nil {
		return "", store.PersonalLink{}, err
	}
	secret, digest := access.NewSecret()
	ends := p.Now().Add(time.Duration(settings.LinkDays) * 24 * time.Hour).Truncate(time.Second)
	id, err := tx.AddPersonalLink(mail, digest, ends)
	if err != nil {
		return "", store.PersonalLink{}, err
	}
	link, err := tx.PersonalLink(id)
	return p.Address() + Page + "#" + p.Marks.Token(ofLink, id, ends, secret), link, err
}

// Page is the path of the page.
const Page = "/your-signature"

// Visitor is who looks at the page.
type Visitor struct {
	Person string // mail address, folded
	Link   int64  // number of the link by which they came; 0 for one who signed in
	Guest  bool   // on another device than the one that opened the link first: nothing may be changed
}

// SignedIn is the visitor who signed in with an account named by a mail address.
func SignedIn(mail string) Visitor { return Visitor{Person: fold(mail)} }

// Open exchanges a link's token for what the device keeps. The first device that opens a link can change things; others can look and
// copy. device is what the device kept before; blank for nothing.
func (p *Personal) Open(ctx context.Context, token, device string) (keep string, ends time.Time, v Visitor, err error) {
	if wait := p.tries.Wait(p.Now(), access.Where(ctx)); wait > 0 {
		return "", ends, v, access.TooOften(wait)
	}
	id, secret, ok := p.Marks.ReadToken(ofLink, strings.TrimSpace(token), p.Now())
	if !ok {
		p.tries.Count(p.Now(), access.Where(ctx))
		return "", ends, v, wrongLink
	}
	digest := sha256.Sum256(secret)
	var link store.PersonalLink
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		link, err = tx.PersonalLinkBy(id, digest[:])
		return err
	})
	if problem.Is(err, problem.NotFound) || err == nil && !p.stands(link) {
		return "", ends, v, wrongLink
	}
	if err != nil {
		return "", ends, v, err
	}
	if known, err := p.Desks.Known(ctx, link.Person); err != nil || !known {
		if err == nil {
			err = wrongLink
		}
		return "", ends, v, err
	}
	if again, ok := p.visitor(link, device); ok && !again.Guest {
		return device, link.Ends, again, nil
	}
	if len(link.Device) == 0 {
		own, digest := access.NewSecret()
		first := false
		acting := access.With(ctx, access.Principal{Kind: access.Person, Name: link.Person})
		err := p.Store.Write(acting, func(tx *store.Tx) (err error) {
			first, err = tx.OpenPersonalLink(link, digest)
			return err
		})
		if err != nil {
			return "", ends, v, err
		}
		if first {
			return deviceText(id, "own", own), link.Ends, Visitor{link.Person, id, false}, nil
		}
	}
	return deviceText(id, "guest", p.guestMark(link)), link.Ends, Visitor{link.Person, id, true}, nil
}

// guestMark is what a device keeps that was not the first to open a link.
func (p *Personal) guestMark(l store.PersonalLink) []byte {
	return p.Marks.Mark("guest", binary.BigEndian.AppendUint64(nil, uint64(l.ID)))
}

// stands reports whether a link can be used now.
func (p *Personal) stands(l store.PersonalLink) bool {
	return l.Revoked.IsZero() && p.Now().Before(l.Ends)
}

// deviceText is what a device keeps: the link's number, what it may do, and its secret.
func deviceText(id int64, as string, secret []byte) string {
	number := binary.BigEndian.AppendUint64(nil, uint64(id))
	return base64.RawURLEncoding.EncodeToString(number) + "." + as + "." + base64.RawURLEncoding.EncodeToString(secret)
}

// readDevice reads what a device kept.
func readDevice(text string) (id int64, as string, secret []byte, ok bool) {
	parts := strings.Split(text, ".")
	if len(text) > 200 || len(parts) != 3 {
		return 0, "", nil, false
	}
	number, err := base64.RawURLEncoding.Strict().DecodeString(parts[0])
	secret, err2 := base64.RawURLEncoding.Strict().DecodeString(parts[2])
	if err != nil || err2 != nil || len(number) != 8 || len(secret) != access.SecretSize {
		return 0, "", nil, false
	}
	return int64(binary.BigEndian.Uint64(number)), parts[1], secret, true
}

// visitor is who comes with what a device kept, held against its link.
func (p *Personal) visitor(l store.PersonalLink, device string) (Visitor, bool) {
	id, as, secret, ok := readDevice(device)
	if !ok || id != l.ID {
		return Visitor{}, false
	}
	switch as {
	case "own":
		digest := sha256.Sum256(secret)
		return Visitor{l.Person, id, false}, len(l.Device) > 0 && subtle.ConstantTimeCompare(digest[:], l.Device) == 1
	case "guest":
		return Visitor{l.Person, id, true}, hmac.Equal(secret, p.guestMark(l))
	}
	return Visitor{}, false
}

// Visitor gives who comes with what a device kept; false for nobody, as after the link has ended or the person has left.
func (p *Personal) Visitor(ctx context.Context, device string) (v Visitor, ok bool, err error) {
	id, _, _, ok := readDevice(device)
	if !ok {
		return v, false, nil
	}
	var link store.PersonalLink
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		link, err = tx.PersonalLink(id)
		return err
	})
	if problem.Is(err, problem.NotFound) {
		return v, false, nil
	}
	if err != nil || !p.stands(link) {
		return v, false, err
	}
	if v, ok = p.visitor(link, device); !ok {
		return v, false, nil
	}
	known, err := p.Desks.Known(ctx, v.Person)
	return v, known, err
}
