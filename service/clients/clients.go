// Package clients keeps the organisation's own client profiles: those that it relabels, weights, switches off or
// overrides, and those that it adds. Start with Clients.Book.
package clients

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"missivum/core/client"
	"missivum/service/store"
)

// ErrRefused marks a profile that cannot be taken as it is.
var ErrRefused = errors.New("the profile is refused")

// MaxDocument is the largest profile, in bytes.
const MaxDocument = 1 << 20

// Clients are the organisation's client profiles.
type Clients struct {
	Store *store.Store
	Now   func() time.Time

	mu      sync.Mutex
	book    client.Book
	version string
}

// Book is the profiles as they are now: those that come with the program with the organisation's own over them. The
// version tells one book from another.
func (c *Clients) Book(ctx context.Context) (client.Book, string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.book != nil {
		return c.book, c.version, nil
	}
	documents, err := c.Store.ClientProfiles(ctx)
	if err != nil {
		return nil, "", err
	}
	book, err := client.Book(client.Shipped()).With(documents)
	if err != nil {
		return nil, "", fmt.Errorf("the stored client profiles cannot be read: %w", err)
	}
	c.book, c.version = book, versionOf(documents)
	return c.book, c.version, nil
}

func versionOf(documents map[string][]byte) string {
	h := sha256.New()
	for _, id := range slices.Sorted(maps.Keys(documents)) {
		fmt.Fprintf(h, "%s %d\n%s", id, len(documents[id]), documents[id])
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}

// Document is a profile as it can be edited: the organisation's own, or the first lines of one that overrides the
// shipped profile. own tells which.
func (c *Clients) Document(ctx context.Context, id string) (document string, own bool, err error) {
	documents, err := c.Store.ClientProfiles(ctx)
	if err != nil {
		return "", false, err
	}
	if own, ok := documents[id]; ok {
		return string(own), true, nil
	}
	p := client.Find(id)
	if p == nil {
		return "", false, store.ErrNotFound
	}
	return fmt.Sprintf("id: %s\nbased-on: %s\ntitle: %s\nshare: 0 # percent of your readers\noff: false\n", p.ID, p.ID, p.Title), false, nil
}

// Put stores a profile's document. ErrRefused says what is wrong with it, with its lines.
func (c *Clients) Put(ctx context.Context, id, document string) (*client.Profile, error) {
	documents, err := c.Store.ClientProfiles(ctx)
	if err != nil {
		return nil, err
	}
	documents[id] = []byte(document)
	book, err := client.Book(client.Shipped()).With(documents)
	if err != nil {
		return nil, fmt.Errorf("%w: %s", ErrRefused, strings.ReplaceAll(err.Error(), id+": ", ""))
	}
	p := book.Find(id)
	if alone, err := book.Parse([]byte(document)); err != nil || alone.ID != id {
		return nil, fmt.Errorf("%w: its id must be %q", ErrRefused, id)
	}
	if err := c.Store.PutClientProfile(ctx, id, document, c.Now()); err != nil {
		return nil, err
	}
	c.forget()
	return p, nil
}

// Remove takes the organisation's own profile away; a shipped one is then as it came. It is refused while another
// profile is based on it.
func (c *Clients) Remove(ctx context.Context, id string) error {
	documents, err := c.Store.ClientProfiles(ctx)
	if err != nil {
		return err
	}
	delete(documents, id)
	if _, err := client.Book(client.Shipped()).With(documents); err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if err := c.Store.RemoveClientProfile(ctx, id); err != nil {
		return err
	}
	c.forget()
	return nil
}

func (c *Clients) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.book = nil
}
