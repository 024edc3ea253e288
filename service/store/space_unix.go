//go:build !windows

package store

import (
	"errors"
	"syscall"
)

// outOfSpace reports whether an error of the system says that a disk has no room left.
func outOfSpace(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
