package e2e

import (
	"archive/zip"
	"bytes"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"missivum/core/picture"
	"missivum/demo/drawing"
)

// freeAddress is a loopback address that nobody listens on.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// TestThePictureStoreByCommand takes a picture from a designer's file to the readers: stored, put into a template,
// hosted for the public, replaced, taken, checked.
func TestThePictureStoreByCommand(t *testing.T) {
	public := freeAddress(t)
	folder := t.TempDir()
	tree := filepath.Join(folder, "tree")
	s := start(t, "demo", "--listen", "127.0.0.1:0", "--log", "json", "--pictures-listen", public, "--pictures-tree", tree,
		"--pictures-allow", "127.0.0.0/8")
	server := "--server=" + s.Address
	next := filepath.Join(folder, "next.jpg")
	data, err := drawing.PortraitJPEG(3, 400, 400)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(next, data, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args string
		code int
		want string
	}{
		{"picture store list", 0, "ferry"},
		{"picture store push demo/pictures/portrait.jpg --name maren --note first", 0, "maren: version 1, JPEG, 720 x 960 px"},
		{"picture store push demo/people.csv --name maren", 1, ""},
		{"picture store alt maren en=Maren sv=Maren", 0, "2 alternative texts"},
		{"picture store alt maren Maren", 2, ""},
		{"picture store use maren --template harbour --as-name face --width 40 --height 40", 0, "harbour: saved as version 2"},
		{"picture store use maren --width 40", 2, ""},
		{"picture store push " + next + " --name maren", 0, "harbour uses version 1; taking this one changes:\n    version 2 in place of 1"},
		{"picture store list", 0, "(older version: harbour)"},
		{"picture store show maren", 0, "Used in harbour as face, version 1."},
		{"picture store take maren --template harbour", 0, "harbour: saved as version 3"},
		{"picture store take maren --template voyage", 1, ""},
		{"picture store show none", 1, ""},
		{"picture store settings --address http://" + public + "/ --volume 1200", 0, "messages a day   1200"},
		{"picture store settings --address pictures", 1, ""},
	} {
		code, out, errs := command(t, append(strings.Fields(c.args), server)...)
		if code != c.code || !strings.Contains(out, c.want) || c.code != 0 && errs == "" {
			t.Errorf("%s: exit %d, want %d\n%s%s", c.args, code, c.code, out, errs)
		}
	}
	code, out, errs := command(t, "picture", "store", "show", "maren", server)
	if code != 0 || strings.Count(out, "Rendition ") != 2 {
		t.Fatalf("%s%s", out, errs)
	}
	for _, line := range strings.Split(out, "\n") { // both are hosted, and lie in the tree
		rest, ok := strings.CutPrefix(line, "Rendition ")
		if !ok {
			continue
		}
		key := strings.Fields(rest)[0]
		served := get(t, "http://"+public+"/"+key)
		if facts, err := picture.Probe(served); err != nil || facts.Width != 80 || picture.KeyOf(served) != key {
			t.Errorf("%s: %+v, %v", key, facts, err)
		}
		if kept, err := os.ReadFile(filepath.Join(tree, key)); err != nil || !bytes.Equal(kept, served) {
			t.Errorf("%s is not in the tree: %v", key, err)
		}
	}
	for _, path := range []string{"/", "/templates", "/api/v1/templates", "/healthz", "/index.html"} { // nothing else is public
		answer, err := http.Get("http://" + public + path)
		if err != nil || answer.StatusCode != 404 {
			t.Errorf("%s is public: %v, %v", path, answer.Status, err)
		}
		answer.Body.Close()
	}
	for path, least := range map[string]int{"/api/v1/templates/harbour/tree": 2, "/api/v1/pictures/crossings/sliced": 8} {
		z := get(t, s.Address+path)
		archive, err := zip.NewReader(bytes.NewReader(z), int64(len(z)))
		if err != nil || len(archive.File) < least {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func get(t *testing.T, address string) []byte {
	t.Helper()
	answer, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != 200 {
		t.Fatalf("%s: %s, %v", address, answer.Status, err)
	}
	return data
}
