package personal

import (
	"archive/zip"
	"context"
	"errors"
	"io"
	"strings"

	"missivum/core/client"
	"missivum/core/kit"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/service/drawing"
	"missivum/service/hosting"
	"missivum/service/store"
)

// TrustFile is the name of the public key in a signed kit.
const TrustFile = "missivum.pub"

// Files writes the files that a program wants into an archive; signed, with the list, its signature and the public key that the program
// on a desk asks for.
func (p *Personal) Files(ctx context.Context, v Visitor, id string, signed bool, w io.Writer) error {
	own, err := p.Desks.Own(ctx, v.Person)
	if err != nil {
		return notReached(err)
	}
	profile, err := p.profile(ctx, id)
	if err != nil {
		return err
	}
	maker, err := kit.New(kit.Input{Templates: own.Templates, Schema: own.Schema, Day: own.Day, Way: profile.Install.Way,
		Desk: profile.Install.OnDesk(), Client: id, Base: own.Base})
	if err != nil {
		return err
	}
	made, err := maker.Worker().Make(own.Person, own.Choices)
	if err != nil {
		return err
	}
	archive := zip.NewWriter(w)
	put := func(name string, data []byte) error {
		out, err := archive.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: p.Now()})
		if err == nil {
			_, err = out.Write(data)
		}
		return err
	}
	for _, f := range made.Contents {
		if err := put(f.File, f.Data); err != nil {
			return err
		}
	}
	if signed {
		list := made.JSON()
		err := errors.Join(put(kit.ListFile, list), put(kit.SignFile, p.Desks.Key().Sign(list)), put(TrustFile, p.Desks.Trusted().PEM()))
		if err != nil {
			return err
		}
	}
	return archive.Close()
}

// Picture is a signature as one hosted picture, for boxes that take nothing else.
type Picture struct {
	Address string `json:"address"`
	Link    string `json:"link"` // blank where the signature has none
	Alt     string `json:"alt"`
	Width   int    `json:"width"` // px, as it is shown
	Height  int    `json:"height"`
}

// widestPicture is how wide a signature is drawn at most, in px.
const widestPicture = 640

// Picture draws somebody's signature, hosts the picture and says what a box asks for.
func (p *Personal) Picture(ctx context.Context, v Visitor, situation string) (out Picture, err error) {
	own, err := p.Desks.Own(ctx, v.Person)
	if err != nil {
		return out, notReached(err)
	}
	c, err := own.Choice(situation)
	if err != nil {
		return out, err
	}
	in := kit.Input{Templates: own.Templates, Schema: own.Schema, Day: own.Day, Way: client.PictureLink}
	shot, err := kit.ShotOf(in, c, own.Person)
	if err != nil {
		return out, err
	}
	data, width, height, err := drawing.Signature(ctx, shot.Page, widestPicture)
	if err != nil {
		return out, err
	}
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		said, err := hosting.SettingsIn(tx)
		if err != nil {
			return err
		}
		if said.Address == "" {
			return problem.New(problem.Refused, "Your organisation has no address for pictures yet, so there is no picture to link to.")
		}
		out = Picture{strings.TrimSuffix(said.Address, "/") + "/" + picture.KeyOf(data), shot.Link, shot.Alt, width, height}
		var warnings []string
		return p.Hosting.Put(tx, &warnings, data)
	})
	return out, err
}

// Links lists the newest links of which the address holds a text.
func (p *Personal) Links(ctx context.Context, search string) (list []store.PersonalLink, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.PersonalLinks(search, mostLinks)
		return err
	})
	return list, err
}

const mostLinks = 200

// Revoke ends a link: whoever has it reaches nothing any more.
func (p *Personal) Revoke(ctx context.Context, id int64) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error { return tx.RevokePersonalLink(id) })
}
