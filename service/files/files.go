// Package files writes files as a whole or not at all, and removes what a program that was killed left half
// written.
package files

import (
	"bufio"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
)

// Half begins the names of files that are being written.
const Half = ".part-"

// Write writes a file beside its place and moves it there when it is whole and on the disk. After an error nothing
// is left of it, and what was there before is still there. A new file has the permissions of the one that it replaces;
// without one, those that the process gives to new files (umask). Links are followed, and the file that they lead to
// is replaced. What is no regular file, such as a pipe or a device, is written through to.
func Write(name string, write func(io.Writer) error) error {
	name, err := target(name)
	if err != nil {
		return err
	}
	info, err := os.Stat(name)
	if err == nil && !info.Mode().IsRegular() {
		return through(name, write)
	}
	f, err := temporary(filepath.Dir(name))
	if err != nil {
		return err
	}
	b := bufio.NewWriterSize(f, 256<<10)
	err = write(b)
	if err == nil {
		err = b.Flush()
		if info != nil {
			err = errors.Join(err, f.Chmod(info.Mode().Perm()))
		}
		err = errors.Join(err, f.Sync())
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// mostLinks is how many links are followed, as systems do.
const mostLinks = 40

// target is the file that a name stands for, which need not be there.
func target(name string) (string, error) {
	for range mostLinks {
		to, err := os.Readlink(name)
		if err != nil {
			return name, nil // no link; what else is wrong shows when it is written
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(name), to)
		}
		name = to
	}
	return "", &os.PathError{Op: "write", Path: name, Err: errors.New("too many links")}
}

// through writes to what is no regular file.
func through(name string, write func(io.Writer) error) error {
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	b := bufio.NewWriterSize(f, 256<<10)
	return errors.Join(write(b), b.Flush(), f.Close())
}

// temporary makes a file beside others, with the permissions that the process gives to new files.
func temporary(folder string) (*os.File, error) {
	for {
		name := filepath.Join(folder, Half+strconv.FormatUint(rand.Uint64(), 36))
		f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
		if !errors.Is(err, os.ErrExist) {
			return f, err
		}
	}
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
