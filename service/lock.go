package service

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"

	"missivum/core/problem"
)

// lockFile is the file of a data folder that the service which works on it keeps locked.
const lockFile = "lock"

// LockExisting makes sure that no service works on a data folder while something is done with it; a folder that is not there, or is
// empty, needs no lock.
func LockExisting(folder string) (unlock func() error, err error) {
	if entries, err := os.ReadDir(folder); err != nil || len(entries) == 0 {
		return func() error { return nil }, nil
	}
	lock, err := lockFolder(folder)
	if err != nil {
		return nil, err
	}
	return lock.Close, nil
}

// lockFolder makes sure that no other service works on a data folder. The lock ends with the process, however it ends.
func lockFolder(folder string) (io.Closer, error) {
	lock := flock.New(filepath.Join(folder, lockFile), flock.SetPermissions(0o640))
	ok, err := lock.TryLock()
	if err == nil && !ok {
		err = problem.New(problem.Conflict, "another service works on the data folder %s; stop it, or give another folder with --data", folder)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the data folder: %w", err), lock.Close())
	}
	return lock, nil
}
