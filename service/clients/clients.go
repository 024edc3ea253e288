// Package clients keeps the organisation's own client profiles: those that it relabels, weights, switches off or
// overrides, and those that it adds. Start with Clients.Book.
package clients

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"

	"missivum/core/client"
	"missivum/core/problem"
	"missivum/service/store"
)

// MaxDocument is the largest profile, in bytes.
const MaxDocument = 1 << 20

// Clients are the organisation's client profiles.
type Clients struct {
	Store *store.Store
	Log   *slog.Logger

	mu      sync.Mutex
	book    client.Book
	version string
}

// Book is the profiles as they are now: those that come with the program with the organisation's own over them. The
// version distinguishes one book from another. A stored profile that cannot be read any more is left out and logged; the
// others stand.
func (c *Clients) Book(ctx context.Context) (book client.Book, version string, err error) {
	var documents map[string][]byte
	err = c.Store.Read(ctx, func(tx *store.Tx) error {
		documents, err = tx.ClientProfiles()
		return err
	})
	if err != nil {
		return nil, "", err
	}
	version = versionOf(documents)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.book != nil && c.version == version {
		return c.book, version, nil
	}
	book, unreadable := client.Book(client.Shipped()).WithReadable(documents)
	for id, err := range unreadable {
		c.Log.Error("a stored client profile cannot be read and is left out", "profile", id, "error", err)
	}
	c.book, c.version = book, version
	return book, version, nil
}

// versionOf is a digest of the stored documents: what was worked out for a book is kept under it.
func versionOf(documents map[string][]byte) string {
	h := sha256.New()
	for _, id := range slices.Sorted(maps.Keys(documents)) {
		fmt.Fprintf(h, "%s %d\n%s", id, len(documents[id]), documents[id])
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}

// Document is a profile as it can be edited: the organisation's own, or the first lines of one that overrides the
// shipped profile. own says which.
func (c *Clients) Document(ctx context.Context, id string) (document string, own bool, err error) {
	err = c.Store.Read(ctx, func(tx *store.Tx) error {
		documents, err := tx.ClientProfiles()
		document, own = string(documents[id]), documents[id] != nil
		return err
	})
	if err != nil || own {
		return document, own, err
	}
	p := client.Find(id)
	if p == nil {
		return "", false, problem.Missing("client profile", id)
	}
	return fmt.Sprintf("id: %s\nbased-on: %s\ntitle: %s\nshare: 0 # percent of your readers\noff: false\n", p.ID, p.ID, p.Title), false, nil
}

// Put stores a profile's document. One that cannot be read is refused with its lines. Reading what others are there,
// judging and storing are one unit of work, so two writers cannot leave profiles that do not fit together.
func (c *Clients) Put(ctx context.Context, id, document string) (p *client.Profile, err error) {
	err = c.Store.Write(ctx, func(tx *store.Tx) error {
		documents, err := tx.ClientProfiles()
		if err != nil {
			return err
		}
		documents[id] = []byte(document)
		book, err := client.Book(client.Shipped()).With(documents)
		if err != nil {
			return problem.New(problem.Refused, "The profile is refused: %s", strings.ReplaceAll(err.Error(), id+": ", ""))
		}
		if alone, err := book.Parse([]byte(document)); err != nil || alone.ID != id {
			return problem.New(problem.Refused, "The profile is refused: its id must be %q.", id)
		}
		p = book.Find(id)
		return tx.PutClientProfile(id, document)
	})
	return p, err
}

// Remove takes the organisation's own profile away; a shipped one is then as it came. It is refused while another
// profile is based on it.
func (c *Clients) Remove(ctx context.Context, id string) error {
	return c.Store.Write(ctx, func(tx *store.Tx) error {
		documents, err := tx.ClientProfiles()
		if err != nil {
			return err
		}
		delete(documents, id)
		if _, err := client.Book(client.Shipped()).With(documents); err != nil {
			return problem.New(problem.Refused, "The profile %s is needed by another: %w", id, err)
		}
		return tx.RemoveClientProfile(id)
	})
}
