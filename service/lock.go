package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"missivum/core/problem"
)

// lockFile is the file of a data folder that the service which works on it keeps locked.
const lockFile = "lock"

// lockFolder makes sure that no other service works on a data folder. The lock ends with the process, however it ends.
func lockFolder(folder string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(folder, lockFile), os.O_RDWR|os.O_CREATE, 0o640)
	if err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		if errors.Is(err, syscall.EWOULDBLOCK) {
			err = problem.New(problem.Conflict, "another service works on the data folder %s; stop it, or give another folder with --data", folder)
		}
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}
