package kit

import (
	"bytes"
	"encoding/base64"

	"missivum/core/problem"
	"missivum/core/richtext"
)

// Piece is a part of a file: text as it stands, or a picture that is written into it. A picture that many files hold is then
// fetched once.
type Piece struct {
	Text    string `json:"text,omitempty"`
	Picture string `json:"picture,omitempty"` // its digest, in hexadecimal
	As      string `json:"as,omitempty"`      // how it is written: base64 (RFC 4648, 4), or digits as rich text has them
}

// The ways in which a picture is written into a file.
const (
	asBase64 = "base64"
	asDigits = "digits"
)

// written is a picture as it is written into files.
type written struct {
	data   []byte
	digest string
	forms  map[string][]byte
}

func newWritten(data []byte) *written {
	return &written{data: data, digest: Digest(data), forms: map[string][]byte{asBase64: []byte(base64.StdEncoding.EncodeToString(data)),
		asDigits: []byte(richtext.Digits(data))}}
}

// Pieces takes one of the kit's files apart into text and the pictures that are written into it; nil where it holds none.
func (k Kit) Pieces(name string) []Piece {
	for _, f := range k.Contents {
		if f.File == name && f.Form != pictureForm {
			if list := apart(f.Data, k.inside); len(list) > 1 {
				return list
			}
		}
	}
	return nil
}

// Picture gives a picture that is written into one of the kit's files, by its digest; nil for another.
func (k Kit) Picture(digest string) []byte {
	for _, w := range k.inside {
		if w.digest == digest {
			return w.data
		}
	}
	return nil
}

// apart finds pictures in a file, the earliest first.
func apart(data []byte, pictures []*written) []Piece {
	var list []Piece
	for len(data) > 0 {
		at, length, found := len(data), 0, Piece{}
		for _, w := range pictures {
			for as, form := range w.forms {
				if i := bytes.Index(data, form); len(form) > 0 && i >= 0 && i < at {
					at, length, found = i, len(form), Piece{Picture: w.digest, As: as}
				}
			}
		}
		if at > 0 {
			list = append(list, Piece{Text: string(data[:at])})
		}
		if length == 0 {
			break
		}
		list = append(list, found)
		data = data[at+length:]
	}
	return list
}

// Together puts a file together from its pieces. picture gives a picture by its digest.
func Together(pieces []Piece, picture func(digest string) ([]byte, error)) ([]byte, error) {
	var out []byte
	for _, p := range pieces {
		if p.Picture == "" {
			out = append(out, p.Text...)
			continue
		}
		data, err := picture(p.Picture)
		if err != nil {
			return nil, err
		}
		switch p.As {
		case asBase64:
			out = append(out, base64.StdEncoding.EncodeToString(data)...)
		case asDigits:
			out = append(out, richtext.Digits(data)...)
		default:
			return nil, problem.New(problem.Refused, "The service writes a picture as %q, which this program does not know.", p.As)
		}
		if len(out) > MaxFile {
			return nil, problem.New(problem.TooLarge, "A file of the kit has more than %d MB.", MaxFile>>20)
		}
	}
	return out, nil
}
