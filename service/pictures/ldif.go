package pictures

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"regexp"

	"github.com/go-ldap/ldif"
)

// outward is an LDIF line whose value is to be read from an address (RFC 2849, note 6): not done, since a file that
// comes from elsewhere could so have any file of this machine read.
var outward = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9;.-]*:<`)

// PhotosInLDIF lists the photos of a directory's export (RFC 2849): the attribute jpegPhoto (RFC 2798, 2.6) of
// each entry that has a mail address. Entries that cannot be read are reported in bad.
func PhotosInLDIF(r io.ReadSeeker) (photos []Photo, bad []error, err error) {
	lines := bufio.NewReaderSize(r, 64<<10)
	for n := 1; ; n++ {
		line, err := lines.ReadSlice('\n')
		if outward.Match(line) {
			return nil, nil, fmt.Errorf("line %d: values from addresses (:<) are not read; export the values themselves", n)
		}
		for errors.Is(err, bufio.ErrBufferFull) { // the rest of a long line
			_, err = lines.ReadSlice('\n')
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, err
		}
	}
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return nil, nil, err
	}
	for entry, err := range ldif.UnmarshalEntries(r, &ldif.LDIF{}) {
		if err != nil {
			bad = append(bad, err)
			continue
		}
		if entry.Entry == nil {
			continue
		}
		mail, data := entry.Entry.GetAttributeValue("mail"), entry.Entry.GetRawAttributeValue("jpegPhoto")
		if mail != "" && len(data) > 0 {
			photos = append(photos, Photo{Mail: mail, Read: func() ([]byte, error) { return data, nil }})
		}
	}
	return photos, bad, nil
}
