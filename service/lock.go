package service

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"github.com/gofrs/flock"

	"missivum/core/problem"
)

// lockFile is the file of a data folder that the service which works on it keeps locked.
const lockFile = "lock"

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
