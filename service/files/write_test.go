package files

import (
	"io"
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

func write(t *testing.T, name, text string) {
	t.Helper()
	if err := WriteBytes(name, []byte(text)); err != nil {
		t.Fatal(err)
	}
}

func read(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// Links stay links, and what they lead to is replaced, there or not.
func TestWriteFollowsLinks(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	write(t, at("file"), "old")
	if err := os.Mkdir(at("sub"), 0o755); err != nil {
		t.Fatal(err)
	}
	for link, to := range map[string]string{"link": "file", "again": "link", "dangling": "sub/new",
		"absolute": at("sub/other"), "round": "round"} {
		if err := os.Symlink(to, at(link)); err != nil {
			t.Fatal(err)
		}
	}
	for link, file := range map[string]string{"link": "file", "again": "file", "dangling": "sub/new", "absolute": "sub/other"} {
		write(t, at(link), link)
		info, err := os.Lstat(at(link))
		if err != nil || info.Mode()&os.ModeSymlink == 0 || read(t, at(file)) != link {
			t.Errorf("%s: %v, %v", link, info.Mode(), err)
		}
	}
	if err := WriteBytes(at("round"), nil); err == nil {
		t.Error("a link to itself was written")
	}
}

// What is there keeps its permissions; what is new has those that the process gives.
func TestWriteKeepsPermissions(t *testing.T) {
	folder := t.TempDir()
	for _, mode := range []os.FileMode{0o444, 0o600, 0o640, 0o755} {
		name := filepath.Join(folder, mode.String())
		if err := os.WriteFile(name, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(name, mode); err != nil {
			t.Fatal(err)
		}
		write(t, name, "new")
		if info, err := os.Stat(name); err != nil || info.Mode().Perm() != mode || read(t, name) != "new" {
			t.Errorf("%v became %v, %v", mode, info.Mode(), err)
		}
	}
	before := syscall.Umask(0o077)
	defer syscall.Umask(before)
	name := filepath.Join(folder, "private")
	write(t, name, "x")
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("a new file is %v, %v", info.Mode(), err)
	}
}

// Pipes and devices are written through to, and stay what they are.
func TestWriteThrough(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	got := make(chan string)
	go func() {
		f, err := os.Open(pipe)
		if err != nil {
			got <- err.Error()
			return
		}
		defer f.Close()
		data, _ := io.ReadAll(f)
		got <- string(data)
	}()
	write(t, pipe, "through")
	if text := <-got; text != "through" {
		t.Error(text)
	}
	if info, err := os.Lstat(pipe); err != nil || info.Mode()&os.ModeNamedPipe == 0 {
		t.Errorf("the pipe became %v", info.Mode())
	}
	write(t, "/dev/null", "x")
	if info, err := os.Stat("/dev/null"); err != nil || info.Mode()&os.ModeDevice == 0 {
		t.Errorf("/dev/null became %v", info.Mode())
	}
}
