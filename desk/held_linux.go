package desk

import (
	"os"
	"path/filepath"
	"strings"
)

// heldOpen gives one of the files that another process of the same user has open, with the process's name; blank for none.
// A client that has its file open would write over what is placed.
func heldOpen(names []string) (name, by string) {
	wanted := map[string]bool{}
	for _, n := range names {
		if real, err := filepath.EvalSymlinks(filepath.FromSlash(n)); err == nil {
			wanted[real] = true
		}
	}
	if len(wanted) == 0 {
		return "", ""
	}
	handles, err := filepath.Glob("/proc/[0-9]*/fd/*")
	if err != nil {
		return "", ""
	}
	own := "/proc/self/"
	if self, err := os.Readlink("/proc/self"); err == nil {
		own = "/proc/" + self + "/"
	}
	for _, h := range handles {
		if strings.HasPrefix(h, own) {
			continue
		}
		if to, err := os.Readlink(h); err == nil && wanted[to] {
			command, _ := os.ReadFile(filepath.Dir(filepath.Dir(h)) + "/comm") // blank when it has ended meanwhile
			return to, strings.TrimSpace(string(command))
		}
	}
	return "", ""
}
