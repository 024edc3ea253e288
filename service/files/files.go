// Package files writes files as a whole or not at all, and removes what a program that was killed left half
// written.
package files

import (
	"bufio"
	"errors"
	"io"
	"os"
	"path/filepath"
)

// Half begins the names of files that are being written.
const Half = ".part-"

// Write writes a file beside its place and moves it there when it is whole and on the disk. After an error nothing
// is left of it, and what was there before is still there. The new file has the permissions of the one that it replaces.
func Write(name string, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(name), Half+"*")
	if err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	b := bufio.NewWriterSize(f, 256<<10)
	err = write(b)
	if err == nil {
		err = errors.Join(b.Flush(), f.Chmod(mode), f.Sync())
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// WriteBytes is Write for what is in memory.
func WriteBytes(name string, data []byte) error {
	return Write(name, func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
}

// Sweep removes the files of a folder whose names match one of the patterns (path/filepath.Match).
func Sweep(folder string, patterns ...string) error {
	for _, pattern := range patterns {
		leftovers, err := filepath.Glob(filepath.Join(folder, pattern))
		if err != nil {
			return err
		}
		for _, file := range leftovers {
			if err := os.Remove(file); err != nil {
				return err
			}
		}
	}
	return nil
}
