package message

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/emersion/go-mbox"

	"missivum/core/problem"
)

// Stored gives the messages of a file one after another: of a mailbox file (mbox), of a zip archive with messages or mailbox files
// in it, or the one message that the file is. each hears where a message lies; its error ends the reading. A message beyond
// MaxSize is cut there.
func Stored(name string, file io.ReaderAt, size int64, each func(name string, raw []byte) error) error {
	begin := make([]byte, 5)
	n, err := file.ReadAt(begin, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if !strings.HasPrefix(string(begin[:n]), "PK\x03\x04") {
		return stored(name, string(begin[:n]), io.NewSectionReader(file, 0, size), each)
	}
	archive, err := zip.NewReader(file, size)
	if err != nil {
		return problem.New(problem.Refused, "%s is not a zip archive: %v", name, err)
	}
	for _, f := range archive.File {
		if base := path.Base(f.Name); f.FileInfo().IsDir() || strings.HasPrefix(base, ".") || strings.HasPrefix(f.Name, "__MACOSX/") {
			continue
		}
		if err := archived(f, each); err != nil {
			return err
		}
	}
	return nil
}

// archived gives the messages of a file in an archive.
func archived(f *zip.File, each func(name string, raw []byte) error) error {
	r, err := f.Open()
	if err != nil {
		return problem.New(problem.Refused, "%s in the archive cannot be read: %v", f.Name, err)
	}
	defer r.Close()
	begin := make([]byte, 5)
	n, err := io.ReadFull(r, begin)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return problem.New(problem.Refused, "%s in the archive cannot be read: %v", f.Name, err)
	}
	return stored(f.Name, string(begin[:n]), io.MultiReader(strings.NewReader(string(begin[:n])), r), each)
}

// stored gives the messages of a mailbox file, or the one message that the file is.
func stored(name, begin string, r io.Reader, each func(name string, raw []byte) error) error {
	if begin != "From " {
		raw, err := io.ReadAll(io.LimitReader(r, MaxSize+1))
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return each(name, raw)
	}
	reader := mbox.NewReader(r)
	for i := 1; ; i++ {
		m, err := reader.NextMessage()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s, message %d: %w", name, i, err)
		}
		raw, err := io.ReadAll(io.LimitReader(m, MaxSize+1))
		if err != nil {
			return fmt.Errorf("%s, message %d: %w", name, i, err)
		}
		if err := each(fmt.Sprintf("%s#%d", name, i), raw); err != nil {
			return err
		}
	}
}
