package packages

import (
	"errors"
	"fmt"
	"missivum/core/pack"
	"os"
)

// SpoolIn gives spools that are temporary files in a folder.
func SpoolIn(folder string) func() (pack.Spool, error) {
	return func() (pack.Spool, error) {
		f, err := os.CreateTemp(folder, ".spool-*")
		if err != nil {
			return nil, fmt.Errorf("a file for what grows with the package: %w", err)
		}
		return &fileSpool{f}, nil
	}
}

// fileSpool is a temporary file that is gone when it is closed.
type fileSpool struct{ *os.File }

func (s *fileSpool) Close() error { return errors.Join(s.File.Close(), os.Remove(s.Name())) }
