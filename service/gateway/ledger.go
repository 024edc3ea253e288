package gateway

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"missivum/core/message"
)

// kept is how long the ledger remembers what the next server took.
const kept = 24 * time.Hour

// Ledger remembers which messages the next server has taken and the client has not heard of yet: one that was interrupted in
// between tries again, and must not send the message twice. An entry is forgotten as soon as the client goes on.
type Ledger struct {
	mutex sync.Mutex
	taken map[string]time.Time
	doubt map[string]time.Time // whose final dot was sent, and the answer not heard
	file  *os.File             // nil for memory alone
}

// OpenLedger opens a ledger in a file, so that it outlives the program; blank for memory alone.
func OpenLedger(file string, now time.Time) (*Ledger, error) {
	l := &Ledger{taken: map[string]time.Time{}, doubt: map[string]time.Time{}}
	if file == "" {
		return l, nil
	}
	if err := l.read(file, now); err != nil {
		return nil, fmt.Errorf("the ledger %s cannot be read: %w", file, err)
	}
	fresh := file + ".new" // without what was forgotten
	f, err := os.OpenFile(fresh, os.O_CREATE|os.O_TRUNC|os.O_APPEND|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, fmt.Errorf("the ledger cannot be written: %w", err)
	}
	l.file = f
	for key, t := range l.taken {
		l.write("+", key, t)
	}
	for key, t := range l.doubt {
		l.write("?", key, t)
	}
	if err := os.Rename(fresh, file); err != nil {
		return nil, fmt.Errorf("the ledger cannot be written: %w", err)
	}
	return l, nil
}

// read reads the entries of a file; a line that was torn is passed over.
func (l *Ledger) read(file string, now time.Time) error {
	f, err := os.Open(file)
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) != 3 || len(words[1]) != 64 {
			continue
		}
		seconds, err := strconv.ParseInt(words[2], 10, 64)
		t := time.Unix(seconds, 0)
		delete(l.doubt, words[1])
		delete(l.taken, words[1])
		switch {
		case err != nil || now.Sub(t) > kept:
		case words[0] == "+":
			l.taken[words[1]] = t
		case words[0] == "?":
			l.doubt[words[1]] = t
		}
	}
	return lines.Err()
}

func (l *Ledger) write(sign, key string, t time.Time) {
	if l.file != nil {
		fmt.Fprintf(l.file, "%s %s %d\n", sign, key, t.Unix()) // one write; what the kernel has outlives the program
	}
}

// Taken reports whether the next server took what a key stands for.
func (l *Ledger) Taken(key string) bool {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	_, ok := l.taken[key]
	return ok
}

// InDoubt reports whether the program ended before it heard whether the next server took it. It is then sent again: twice is better
// than never. SMTP itself leaves this doubt (RFC 1047).
func (l *Ledger) InDoubt(key string) bool {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	_, ok := l.doubt[key]
	return ok
}

// Doubt notes that the final dot is being sent.
func (l *Ledger) Doubt(key string, now time.Time) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.doubt[key] = now
	l.write("?", key, now)
}

// Take notes that the next server took it.
func (l *Ledger) Take(key string, now time.Time) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	delete(l.doubt, key)
	l.taken[key] = now
	l.write("+", key, now)
	if len(l.taken) > 10_000 {
		for k, t := range l.taken {
			if now.Sub(t) > kept {
				delete(l.taken, k)
			}
		}
	}
}

// Forget notes that the client heard of it.
func (l *Ledger) Forget(keys []string, now time.Time) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	for _, key := range keys {
		delete(l.taken, key)
		delete(l.doubt, key)
		l.write("-", key, now)
	}
}

// Close closes the file.
func (l *Ledger) Close() error {
	if l.file == nil {
		return nil
	}
	return l.file.Close()
}

// keyOf stands for a message to some recipients: a client that tries again gives the same, though the servers before it put other
// trace fields above it.
func keyOf(m *message.Message, sender string, recipients []recipient) string {
	var names []string
	for _, r := range recipients {
		names = append(names, r.address)
	}
	slices.Sort(names)
	h := sha256.New()
	fmt.Fprintf(h, "%s\x00%s\x00%s\x00", m.Root.Header.Value("Message-ID"), sender, strings.Join(names, "\x00"))
	h.Write(m.Raw[m.Root.Body:])
	return hex.EncodeToString(h.Sum(nil))
}
