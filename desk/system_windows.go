package desk

import (
	"errors"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// replace puts a file in the place of another in one step, also of a read-only one, without making that writable first.
func replace(from, to string) error {
	err := os.Rename(from, to)
	if err == nil || !errors.Is(err, windows.ERROR_ACCESS_DENIED) {
		return err
	}
	if posix := renameIgnoringReadOnly(from, to); posix == nil {
		return nil
	}
	return err
}

// renameInformation is FILE_RENAME_INFO with its extended flags.
type renameInformation struct {
	flags  uint32
	root   windows.Handle
	length uint32
	name   [windows.MAX_LONG_PATH]uint16
}

// renameIgnoringReadOnly renames with the flags for replacing a read-only file.
func renameIgnoringReadOnly(from, to string) error {
	path, err := windows.UTF16PtrFromString(from)
	if err != nil {
		return err
	}
	h, err := windows.CreateFile(path, windows.DELETE, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil,
		windows.OPEN_EXISTING, windows.FILE_ATTRIBUTE_NORMAL, 0)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	name, err := windows.UTF16FromString(to)
	if err != nil || len(name) > windows.MAX_LONG_PATH {
		return errors.Join(err, windows.ERROR_FILENAME_EXCED_RANGE)
	}
	info := renameInformation{flags: windows.FILE_RENAME_REPLACE_IF_EXISTS | windows.FILE_RENAME_POSIX_SEMANTICS |
		windows.FILE_RENAME_IGNORE_READONLY_ATTRIBUTE, length: uint32(2 * (len(name) - 1))}
	copy(info.name[:], name)
	return windows.SetFileInformationByHandle(h, windows.FileRenameInfoEx, (*byte)(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info)))
}

// remove removes a file. One that is read-only cannot be removed while it is.
func remove(name string) error {
	err := os.Remove(name)
	if errors.Is(err, windows.ERROR_ACCESS_DENIED) {
		if changed := os.Chmod(name, 0o600); changed != nil {
			return err
		}
		return os.Remove(name)
	}
	return err
}

// syncFolder does nothing: this system has no way to wait for names in a folder.
func syncFolder(string) error { return nil }

// full reports whether an error says that the disk has no room left.
func full(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

// notPermitted reports whether an error says that something may not be written.
func notPermitted(err error) bool {
	return errors.Is(err, os.ErrPermission) || errors.Is(err, windows.ERROR_WRITE_PROTECT) || errors.Is(err, windows.ERROR_SHARING_VIOLATION)
}
