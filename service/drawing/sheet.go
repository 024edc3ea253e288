package drawing

import (
	"context"
	"encoding/base64"
	"slices"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/passive"
	"missivum/core/preview"
	"missivum/core/problem"
	"missivum/core/sheet"
)

// ErrNoWordProcessor is returned when a second opinion is asked for and the client that it stands beside is not shown.
var ErrNoWordProcessor error = problem.New(problem.Invalid,
	"a second opinion stands beside wordproc-desktop, which is not among the clients")

// secondFor is the client beside which LibreOffice's drawing stands.
const secondFor = "wordproc-desktop"

// SheetOptions say how a contact sheet is drawn.
type SheetOptions struct {
	Picture       bool // a PNG that Chromium draws, not a page
	SecondOpinion bool // LibreOffice Writer's drawing beside the word-processor client, for the first person
}

// Columns of a sheet's picture, in px: that of the clients' names, and that of each view.
const (
	namesWidth = 240
	viewWidth  = 540
)

// Sheet makes the contact sheet as a page, or as a picture of it. Errors are those of the template's language, of
// Chromium and of LibreOffice.
func Sheet(ctx context.Context, in sheet.Input, report *check.Report, o SheetOptions) ([]byte, error) {
	s, err := sheet.Make(ctx, in, report)
	if err != nil {
		return nil, err
	}
	if o.SecondOpinion {
		if err := secondOpinion(ctx, in, s); err != nil {
			return nil, err
		}
	}
	page, err := s.HTML()
	if err != nil || !o.Picture {
		return []byte(page), err
	}
	return Page(ctx, page, namesWidth+viewWidth*len(in.Views))
}

// secondOpinion lets LibreOffice draw what the word-processor client receives.
func secondOpinion(ctx context.Context, in sheet.Input, s *sheet.Sheet) error {
	i := slices.IndexFunc(in.Profiles, func(p *client.Profile) bool { return p.ID == secondFor })
	if i < 0 {
		return ErrNoWordProcessor
	}
	prepared, err := compose.Prepare(in.Template, in.People.Schema, in.Day, compose.Data)
	if err != nil {
		return err
	}
	kept, err := preview.Of(prepared).Kept(in.Profiles[i], client.Receive, s.Variant, &in.People.People[in.Chosen[0]])
	if err != nil {
		return err
	}
	body, err := passive.Sealed(kept.Body)
	if err != nil {
		return err
	}
	picture, err := writer(ctx, `<!doctype html><html><head><meta charset="utf-8"></head><body>`+body+`</body></html>`)
	if err != nil {
		return err
	}
	s.SecondOpinion(secondFor, "LibreOffice Writer", "data:image/png;base64,"+base64.StdEncoding.EncodeToString(picture))
	return nil
}
