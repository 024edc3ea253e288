// Command mails gathers the test messages that come with the sources of other programs, for TestMessagesOfOtherPrograms: it asks
// Debian's mirror for source packages and the Go module proxy for modules, looks through what came for messages and mailbox files,
// and writes each different message to a file of its own. What cannot be had is left out and counted.
package main

import (
	"archive/tar"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"missivum/core/message"
)

// sources are Debian's source packages that have messages among their tests: parsers, filters, readers, archives.
var sources = strings.Fields(`alot amavisd-new balsa bogofilter clamav claws-mail crm114 cyrus-imapd dovecot evolution
	evolution-data-server exim4 geary git gmime akonadi-mime kmail kdepim-runtime kf5-messagelib kmime libetpan libmail-box-perl
	libmail-deliverystatus-bounceparser-perl libmail-dkim-perl libmail-imapclient-perl libmail-mbox-messageparser-perl libmime-tools-perl
	libpst libsieve libvmime maildir-utils mailman3 mailutils mairix mblaze mpack mutt neomutt nmh notmuch opendkim opendmarc parsemail
	perdition procmail public-inbox python3.11 redmine request-tracker4 request-tracker5 ripmime roundcube rspamd ruby-mail spamassassin
	spambayes sylpheed sympa tracker-miners thunderbird`)

// modules are Go modules of the same kinds.
var modules = strings.Fields(`github.com/jhillyerd/enmime github.com/jhillyerd/enmime/v2 github.com/emersion/go-message
	github.com/emersion/go-msgauth github.com/mjl-/mox github.com/DusanKasan/parsemail github.com/mnako/letters
	github.com/inbucket/inbucket/v3 github.com/foxcpp/maddy github.com/emersion/go-mbox github.com/emersion/go-imap/v2
	github.com/phires/go-guerrilla github.com/veqryn/go-email github.com/zostay/go-email/v2 github.com/wneessen/go-mail
	github.com/axllent/mailpit github.com/sg3des/eml git.sr.ht/~rjarry/aerc`)

func main() {
	log.SetFlags(0)
	out := flag.String("o", "", "folder for the messages")
	cache := flag.String("cache", filepath.Join(os.TempDir(), "mail-sources"), "folder in which what was fetched is kept")
	skip := flag.Bool("no-fetch", false, "look only through what is in the cache")
	flag.Parse()
	if *out == "" {
		log.Fatal("-o names the folder for the messages")
	}
	g := gatherer{out: *out, seen: map[[sha256.Size]byte]bool{}, of: map[string]int{}}
	err := errors.Join(os.MkdirAll(*out, 0o755), os.MkdirAll(*cache, 0o755))
	if err == nil && !*skip {
		err = fetch(*cache)
	}
	if err == nil {
		err = g.archives(*cache)
	}
	if err != nil {
		log.Fatal(err)
	}
	for _, m := range modules {
		if folder := module(m); folder != "" {
			if err := g.folder(m, folder); err != nil {
				log.Fatal(err)
			}
		}
	}
	names := make([]string, 0, len(g.of))
	for name := range g.of {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { return g.of[b] - g.of[a] })
	for _, name := range names {
		fmt.Printf("%5d  %s\n", g.of[name], name)
	}
	fmt.Printf("%d different messages from %d sources in %s\n", len(g.seen), len(g.of), *out)
}

// fetch gets source packages; those that the mirror does not have are named.
func fetch(cache string) error {
	lists := filepath.Join(cache, "lists")
	list := filepath.Join(cache, "sources.list")
	if err := errors.Join(os.MkdirAll(filepath.Join(lists, "partial"), 0o755), os.WriteFile(list,
		[]byte("deb-src http://deb.debian.org/debian bookworm main\n"), 0o644)); err != nil {
		return err
	}
	apt := func(args ...string) error {
		c := exec.Command("apt-get", append([]string{"-qq", "-o", "Acquire::http::Timeout=20", "-o", "Dir::Etc::sourcelist=" + list,
			"-o", "Dir::Etc::sourceparts=/nonexistent", "-o", "Dir::State::lists=" + lists}, args...)...)
		c.Dir = cache
		return c.Run()
	}
	if err := apt("update"); err != nil {
		return fmt.Errorf("the mirror's lists: %w", err)
	}
	for _, s := range sources {
		if err := apt("source", "--download-only", s); err != nil {
			log.Printf("%s cannot be had", s)
		}
	}
	return nil
}

// module fetches a Go module and gives its folder; blank where it cannot be had.
func module(path string) string {
	var m struct{ Dir string }
	text, err := exec.Command("go", "mod", "download", "-json", path+"@latest").Output()
	if err != nil || json.Unmarshal(text, &m) != nil {
		log.Printf("%s cannot be had", path)
	}
	return m.Dir
}

// gatherer writes each different message to a file.
type gatherer struct {
	out  string
	seen map[[sha256.Size]byte]bool
	of   map[string]int // by source
}

// archives looks through the sources in a folder.
func (g *gatherer) archives(folder string) error {
	list, err := filepath.Glob(filepath.Join(folder, "*.tar.*"))
	if err != nil {
		return err
	}
	for _, name := range list {
		source, _, _ := strings.Cut(filepath.Base(name), "_")
		if strings.HasSuffix(name, ".asc") || strings.HasSuffix(name, ".sig") {
			continue
		}
		if err := g.archive(source, name); err != nil {
			log.Printf("%s: %v", filepath.Base(name), err)
		}
	}
	return nil
}

func (g *gatherer) archive(source, name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	var r io.Reader
	switch filepath.Ext(name) {
	case ".gz":
		if r, err = gzip.NewReader(f); err != nil {
			return err
		}
	case ".bz2":
		r = bzip2.NewReader(f)
	case ".xz":
		c := exec.Command("xz", "-dc")
		c.Stdin = f
		if r, err = c.StdoutPipe(); err != nil {
			return err
		}
		if err := c.Start(); err != nil {
			return err
		}
		defer c.Wait()
	default:
		return nil
	}
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg || h.Size > maxFile || isCode(h.Name) {
			continue
		}
		data, err := io.ReadAll(t)
		if err != nil {
			return err
		}
		if err := g.file(source, h.Name, data); err != nil {
			return err
		}
	}
}

// folder looks through a folder.
func (g *gatherer) folder(source, folder string) error {
	return filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || isCode(path) {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil || len(data) > maxFile {
			return err
		}
		return g.file(source, path, data)
	})
}

const maxFile = 60 << 20

// isCode reports whether a file is a program's text or a picture, which may begin like a message.
func isCode(name string) bool {
	return slices.Contains(strings.Fields(".c .h .cc .cpp .hpp .pm .pl .py .sh .el .go .html .htm .xml .po .pot "+
		".svg .png .jpg .gif .js .css .am "+
		".ac .m4 .md .rst .vala .ui .sieve .cf .rb .java .ts .php .in .json .yml .yaml .conf .desktop .spec .man"),
		strings.ToLower(filepath.Ext(name)))
}

var (
	fields = regexp.MustCompile(`^(?:[A-Za-z][A-Za-z0-9-]{0,50}:[^\n]*\n(?:[ \t][^\n]*\n)*){2,}`)
	known  = regexp.MustCompile(`(?mi)^(From|To|Cc|Subject|Received|Return-Path|Delivered-To|Date|Message-ID|Content-Type|MIME-Version|` +
		`Content-Transfer-Encoding)[ \t]*:`)
)

// file writes the messages of a file, if it has any.
func (g *gatherer) file(source, name string, data []byte) error {
	if len(data) < 40 {
		return nil
	}
	if bytes.HasPrefix(data, []byte("\x1f\x8b")) { // messages are kept compressed now and then
		if z, err := gzip.NewReader(bytes.NewReader(data)); err == nil {
			if inner, err := io.ReadAll(io.LimitReader(z, maxFile)); err == nil && !bytes.HasPrefix(inner, []byte("\x1f\x8b")) {
				return g.file(source, strings.TrimSuffix(name, ".gz"), inner)
			}
		}
		return nil
	}
	if !bytes.HasPrefix(data, []byte("From ")) && !isMessage(data) && !isMail(name) {
		return nil
	}
	err := message.Stored("mail", bytes.NewReader(data), int64(len(data)), func(_ string, raw []byte) error { return g.one(source, raw) })
	if err != nil && isMessage(data) { // no mailbox file after all
		return g.one(source, data)
	}
	return nil
}

// isMail reports whether a file is named as a message is.
func isMail(name string) bool {
	return slices.Contains(strings.Fields(".eml .msg .mbox .mail .email .mime .mbx .raw"), strings.ToLower(filepath.Ext(name)))
}

// isMessage reports whether a text begins like a message.
func isMessage(data []byte) bool {
	head := fields.Find(data[:min(len(data), 4_000)])
	names := map[string]bool{}
	for _, m := range known.FindAllSubmatch(head, -1) {
		names[strings.ToLower(string(m[1]))] = true
	}
	return len(names) >= 2
}

func (g *gatherer) one(source string, raw []byte) error {
	sum := sha256.Sum256(raw)
	if g.seen[sum] || len(raw) < 40 {
		return nil
	}
	g.seen[sum] = true
	g.of[source]++
	return os.WriteFile(filepath.Join(g.out, fmt.Sprintf("%05d.eml", len(g.seen))), raw, 0o644)
}
