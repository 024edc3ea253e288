package desk

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"missivum/core/desk"
	"missivum/core/problem"
)

// largest is how large a file may be that is read, in bytes: signatures and settings are far smaller.
const largest = 32 << 20

// disk is the disk of this machine. Paths have slashes.
type disk struct{}

func (disk) Lstat(name string) (fs.FileInfo, error) { return os.Lstat(filepath.FromSlash(name)) }

func (disk) ReadDir(name string) ([]fs.FileInfo, error) {
	entries, err := os.ReadDir(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	var list []fs.FileInfo
	for _, e := range entries {
		if info, err := e.Info(); err == nil { // one that went away meanwhile is not there
			list = append(list, info)
		}
	}
	return list, nil
}

func (disk) ReadFile(name string) ([]byte, error) {
	f, err := os.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, largest+1))
	if err == nil && len(data) > largest {
		err = problem.New(problem.TooLarge, "it has more than %d MB", largest>>20)
	}
	return data, err
}

func (disk) Match(pattern string) ([]string, error) {
	names, err := filepath.Glob(filepath.FromSlash(pattern))
	for i := range names {
		names[i] = filepath.ToSlash(names[i])
	}
	return names, err
}

// System is the system of this machine, as places call it.
func System() string {
	if runtime.GOOS == "darwin" {
		return desk.MacOS
	}
	return runtime.GOOS
}

// Variables gives the variables of places: those of the environment, and three that are known on every system.
func Variables(name string) (string, bool) {
	var value string
	var err error
	switch name {
	case "HOME":
		value, err = os.UserHomeDir()
	case "CONFIG":
		value, err = os.UserConfigDir()
	case "DATA":
		value, err = dataFolder()
	default:
		return os.LookupEnv(name)
	}
	return filepath.ToSlash(value), err == nil
}

// dataFolder is where programs keep their data for the user.
func dataFolder() (string, error) {
	if runtime.GOOS != "linux" {
		return os.UserConfigDir()
	}
	if folder := os.Getenv("XDG_DATA_HOME"); folder != "" {
		return folder, nil
	}
	home, err := os.UserHomeDir()
	return filepath.Join(home, ".local", "share"), err
}

// StateFolder is where the program remembers what it placed and what was there before.
func StateFolder() (string, error) {
	if folder := os.Getenv("XDG_STATE_HOME"); runtime.GOOS == "linux" && folder != "" {
		return filepath.Join(folder, "missivum", "desk"), nil
	}
	if runtime.GOOS == "linux" {
		home, err := os.UserHomeDir()
		return filepath.Join(home, ".local", "state", "missivum", "desk"), err
	}
	folder, err := os.UserConfigDir()
	return filepath.Join(folder, "Missivum", "desk"), err
}
