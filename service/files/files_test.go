package files

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
)

func TestAFileIsWholeOrAsItWas(t *testing.T) {
	folder := t.TempDir()
	name := filepath.Join(folder, "x.png")
	holds := func(want string) {
		t.Helper()
		if data, err := os.ReadFile(name); err != nil || string(data) != want {
			t.Errorf("%q, want %q, %v", data, want, err)
		}
		if list, err := os.ReadDir(folder); err != nil || len(list) != 1 {
			t.Errorf("beside it: %v, %v", list, err)
		}
	}
	for _, text := range []string{"one", "two, which is longer", ""} {
		if err := WriteBytes(name, []byte(text)); err != nil {
			t.Fatal(err)
		}
		holds(text)
	}
	if err := WriteBytes(name, []byte("before")); err != nil {
		t.Fatal(err)
	}
	broken := errors.New("broken on the way")
	err := Write(name, func(w io.Writer) error {
		if _, err := w.Write(make([]byte, 1<<20)); err != nil {
			return err
		}
		return broken
	})
	if !errors.Is(err, broken) {
		t.Errorf("%v", err)
	}
	holds("before")
	if err := WriteBytes(filepath.Join(folder, "none", "x"), nil); err == nil {
		t.Error("a file is written into a folder that is not there")
	}
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o644 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
}

func TestSweep(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{Half + "1", Half + "2", "a.part", "kept.png"} {
		if err := WriteBytes(filepath.Join(folder, name), []byte("x")); err != nil {
			t.Fatal(err)
		}
	}
	if err := Sweep(folder, Half+"*", "*.part"); err != nil {
		t.Fatal(err)
	}
	if list, err := os.ReadDir(folder); err != nil || len(list) != 1 || list[0].Name() != "kept.png" {
		t.Errorf("%v, %v", list, err)
	}
	if err := Sweep(filepath.Join(folder, "none"), "*"); err != nil {
		t.Errorf("a folder that is not there: %v", err)
	}
}
