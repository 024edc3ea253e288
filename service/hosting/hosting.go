// Package hosting makes pictures reachable by address for as long as a message may show them: in the store, and where
// the administrator named a folder, in a tree for a static web server. What is hosted is public. Start with Hosting.
package hosting

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/service/files"
	"missivum/service/store"
)

// Hosting hosts pictures.
type Hosting struct {
	Store *store.Store
	Log   *slog.Logger
	Tree  string // folder for a static web server; empty for none
}

// Start tests whether the tree can be written and puts there what is missing.
func (h *Hosting) Start(ctx context.Context) error {
	if h.Tree == "" {
		return nil
	}
	if err := os.MkdirAll(h.Tree, 0o755); err != nil {
		return fmt.Errorf("the folder for hosted pictures: %w", err)
	}
	probe := filepath.Join(h.Tree, files.Half+"probe")
	if err := os.WriteFile(probe, nil, 0o600); err != nil {
		return fmt.Errorf("the folder for hosted pictures cannot be written: %w", err)
	}
	if err := errors.Join(os.Remove(probe), files.Sweep(h.Tree, files.Half+"*")); err != nil {
		return fmt.Errorf("the folder for hosted pictures: %w", err)
	}
	return h.complete(ctx)
}

// complete writes what is hosted and missing in the tree.
func (h *Hosting) complete(ctx context.Context) error {
	var keys []string
	err := h.Store.Read(ctx, func(tx *store.Tx) (err error) {
		keys, err = tx.HostedKeys()
		return err
	})
	if err != nil {
		return err
	}
	for _, key := range keys {
		if _, err := os.Stat(filepath.Join(h.Tree, key)); err == nil {
			continue
		}
		if _, err := h.Restore(ctx, key); err != nil {
			return err
		}
	}
	return nil
}

// Put hosts contents as a part of a unit of work. The tree follows when that is stored: what cannot be written there
// is added to the warnings, since the pictures are hosted all the same, and is written at the next start.
func (h *Hosting) Put(tx *store.Tx, warnings *[]string, contents ...[]byte) error {
	for _, data := range contents {
		if err := tx.HostPicture(picture.KeyOf(data), data); err != nil {
			return err
		}
	}
	tx.After(func() {
		if warning := h.plant(contents); warning != "" {
			*warnings = append(*warnings, warning)
		}
	})
	return nil
}

// PutTemplate hosts all pictures of a template that clients can show.
func (h *Hosting) PutTemplate(tx *store.Tx, warnings *[]string, t *template.Template) error {
	var contents [][]byte
	for i := range t.Pictures {
		if slices.Contains(picture.Mailable, t.Pictures[i].Format) {
			contents = append(contents, t.Pictures[i].Data)
		}
	}
	return h.Put(tx, warnings, contents...)
}

// plant writes contents into the tree and gives a warning when that fails.
func (h *Hosting) plant(contents [][]byte) string {
	if h.Tree == "" {
		return ""
	}
	for _, data := range contents {
		name := filepath.Join(h.Tree, picture.KeyOf(data))
		if _, err := os.Stat(name); err == nil {
			continue
		}
		if err := errors.Join(os.MkdirAll(h.Tree, 0o755), files.WriteBytes(name, data)); err != nil {
			h.Log.Warn("a hosted picture is missing in the tree", "file", name, "error", err)
			return fmt.Sprintf("Everything is saved, but a picture cannot be written for the web server: %v. It is "+
				"tried again when the service starts.", err)
		}
	}
	return ""
}

// Restore writes a hosted content into the tree again; false when it is not hosted or there is no tree.
func (h *Hosting) Restore(ctx context.Context, key string) (bool, error) {
	if h.Tree == "" {
		return false, nil
	}
	data, _, err := h.Get(ctx, key)
	if problem.Is(err, problem.NotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if err := os.MkdirAll(h.Tree, 0o755); err != nil {
		return false, err
	}
	return true, files.WriteBytes(filepath.Join(h.Tree, key), data)
}

// Withdraw makes contents unreachable as a part of a unit of work, in the tree too.
func (h *Hosting) Withdraw(tx *store.Tx, key string) error {
	if err := tx.WithdrawPicture(key); err != nil {
		return err
	}
	tx.After(func() {
		if h.Tree == "" {
			return
		}
		if err := os.Remove(filepath.Join(h.Tree, key)); err != nil && !errors.Is(err, os.ErrNotExist) {
			h.Log.Error("a withdrawn picture is still in the tree", "key", key, "error", err)
		}
	})
	return nil
}

// Get returns a hosted file and since when it is hosted.
func (h *Hosting) Get(ctx context.Context, key string) (data []byte, since time.Time, err error) {
	if contentType(key) == "" {
		return nil, since, problem.Missing("hosted picture", key)
	}
	err = h.Store.Read(ctx, func(tx *store.Tx) error {
		data, since, err = tx.HostedPicture(key)
		return err
	})
	return data, since, err
}

// ServeHTTP hosts pictures: each at its key and nowhere else, for good (RFC 8246), with conditional and range
// requests (RFC 9110, 13 and 14), without cookies and without a list. It is what the public may reach.
func (h *Hosting) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	header := w.Header()
	header.Set("X-Content-Type-Options", "nosniff")
	header.Set("Content-Security-Policy", "default-src 'none'; sandbox")
	header.Set("Cross-Origin-Resource-Policy", "cross-origin")
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		header.Set("Allow", "GET, HEAD")
		http.Error(w, "Only GET and HEAD are answered.", http.StatusMethodNotAllowed)
		return
	}
	key := strings.TrimPrefix(r.URL.Path, "/")
	data, since, err := h.Get(r.Context(), key)
	if problem.Is(err, problem.NotFound) {
		http.Error(w, "There is no picture here.", http.StatusNotFound)
		return
	}
	if err != nil {
		h.Log.Error("hosting a picture", "key", key, "error", err)
		http.Error(w, "The picture cannot be read.", http.StatusInternalServerError)
		return
	}
	header.Set("Content-Type", contentType(key))
	header.Set("Cache-Control", "public, max-age=31536000, immutable")
	header.Set("ETag", `"`+key+`"`)
	http.ServeContent(w, r, "", since, bytes.NewReader(data))
}

// contentType is the media type of a hosted file by its name; empty for a name that none has.
func contentType(key string) string {
	for _, format := range picture.Mailable {
		if strings.HasSuffix(key, picture.Ending(format)) {
			return picture.Media(format)
		}
	}
	return ""
}
