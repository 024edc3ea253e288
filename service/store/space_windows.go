package store

import (
	"errors"

	"golang.org/x/sys/windows"
)

// outOfSpace reports whether an error of the system says that a disk has no room left.
func outOfSpace(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}
