//go:build !windows

package desk

import (
	"errors"
	"os"
	"syscall"
)

// replace puts a file in the place of another in one step. A read-only file is replaced too: the folder decides.
func replace(from, to string) error { return os.Rename(from, to) }

// remove removes a file.
func remove(name string) error { return os.Remove(name) }

// syncFolder waits until names in a folder are on the disk. Some file systems cannot do that for folders.
func syncFolder(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) && !errors.Is(err, syscall.ENOTSUP) {
		return err
	}
	return nil
}

// full reports whether an error says that the disk has no room left.
func full(err error) bool { return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) }

// notPermitted reports whether an error says that something may not be written.
func notPermitted(err error) bool {
	return errors.Is(err, os.ErrPermission) || errors.Is(err, syscall.EROFS)
}
