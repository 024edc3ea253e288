package pictures

import (
	"bytes"
	"errors"
	"io"

	"missivum/core/source"
)

// PhotosInLDIF lists the photos of a directory's export (RFC 2849): the attribute jpegPhoto (RFC 2798, 2.6) of
// each entry that has a mail address. Entries that cannot be read are reported in bad.
func PhotosInLDIF(r io.Reader) (photos []Photo, bad []error, err error) {
	for entries := source.NewEntries(r); ; {
		list, err := entries.Next()
		var row source.RowError
		switch {
		case errors.Is(err, io.EOF):
			return photos, bad, nil
		case errors.As(err, &row):
			bad = append(bad, row)
			continue
		case err != nil:
			return nil, nil, err
		}
		mail, data := "", []byte(nil)
		for _, a := range list {
			switch {
			case string(a.Name) == "mail" && mail == "":
				mail = string(a.Value)
			case string(a.Name) == "jpegphoto" && data == nil:
				data = bytes.Clone(a.Value)
			}
		}
		if mail != "" && len(data) > 0 {
			photos = append(photos, Photo{Mail: mail, Read: func() ([]byte, error) { return data, nil }})
		}
	}
}
