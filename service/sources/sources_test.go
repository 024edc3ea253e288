package sources

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"

	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/access"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/people"
	"missivum/service/pictures"
	"missivum/service/store"
	"missivum/service/templates"
)

var acting = access.With(context.Background(), access.Loopback())

// open opens sources over an empty directory.
func open(t testing.TB) *Sources {
	t.Helper()
	return openAt(t, time.Now)
}

// openAt is open with a clock.
func openAt(t testing.TB, now func() time.Time) *Sources {
	t.Helper()
	folder := t.TempDir()
	st, err := store.Open(acting, filepath.Join(folder, "x.db"), now)
	if err != nil {
		t.Fatal(err)
	}
	quiet := slog.New(slog.DiscardHandler)
	queue := &jobs.Jobs{Store: st, Log: quiet, Now: time.Now}
	staff := &people.People{Store: st, Now: time.Now, Log: quiet}
	host := &hosting.Hosting{Store: st, Log: quiet}
	pics := &pictures.Pictures{Store: st, Jobs: queue, People: staff, Hosting: host, Folder: filepath.Join(folder, "photos"),
		Now: time.Now, Log: quiet,
		Templates: &templates.Templates{Store: st, People: staff, Hosting: host, Now: time.Now}}
	s := &Sources{Store: st, People: staff, Jobs: queue, Pictures: pics, Folder: filepath.Join(folder, "secrets"), Now: now, Log: quiet}
	if err := s.Start(); err != nil {
		t.Fatal(err)
	}
	if err := queue.Start(acting); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		queue.End()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}

// sync asks a source and waits for the end of the job.
func sync(t testing.TB, s *Sources, name string) (Result, store.Job) {
	t.Helper()
	job, err := s.Sync(acting, name)
	if err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(2 * time.Minute); !job.State.Ended(); time.Sleep(10 * time.Millisecond) {
		if job, err = s.Jobs.Get(acting, job.ID); err != nil || time.Now().After(end) {
			t.Fatalf("%+v, %v", job, err)
		}
	}
	var result Result
	if job.State == store.Ready {
		if err := json.Unmarshal([]byte(job.Result), &result); err != nil {
			t.Fatal(err)
		}
	}
	return result, job
}

// fails asks a source that must fail, and holds what is said and stored against it.
func fails(t *testing.T, s *Sources, name, says string) {
	t.Helper()
	before := count(t, s)
	_, job := sync(t, s, name)
	src, err := s.Get(acting, name)
	if err != nil {
		t.Fatal(err)
	}
	if job.State != store.Failed || !strings.Contains(job.Message, says) || src.State.Failure != job.Message || src.State.Failures == 0 ||
		!src.State.Next.After(time.Now()) {
		t.Errorf("%s %q, want %q; the source: %+v", job.State, job.Message, says, src.State)
	}
	if after := count(t, s); after != before {
		t.Errorf("a source that failed changed the directory: %d people, were %d", after, before)
	}
}

// count counts the people of the directory.
func count(t testing.TB, s *Sources) int {
	t.Helper()
	d, _, err := s.People.Directory(acting)
	if err != nil {
		t.Fatal(err)
	}
	return len(d.People)
}

// put stores a source.
func put(t testing.TB, s *Sources, name, kind string, settings Settings, mapping string) {
	t.Helper()
	if err := s.Put(acting, name, kind, 10, settings, mapping); err != nil {
		t.Fatal(err)
	}
}

// secret writes a secret.
func secret(t testing.TB, s *Sources, name, value string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(s.Folder, name), []byte(value+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
}

// cutting passes a connection on until a number of bytes came back, and then cuts it.
func cutting(t testing.TB, to string, after int64) (address string, passed *atomic.Int64) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	passed = &atomic.Int64{}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", strings.Replace(to, "localhost", "127.0.0.1", 1))
				if err != nil {
					return
				}
				defer out.Close()
				go io.Copy(out, in) //nolint:errcheck // it ends when either side closes
				n, _ := io.CopyN(in, out, after)
				passed.Add(n)
			}()
		}
	}()
	return "localhost:" + fmt.Sprint(l.Addr().(*net.TCPAddr).Port), passed
}

// TestADirectory goes the way of an administrator with a real slapd of 10,000 people.
func TestADirectory(t *testing.T) {
	slapd := startDirectory(t)
	s := open(t)
	secret(t, s, "reader", password)
	secret(t, s, "wrong", "not the password")
	err := s.Pictures.Hosting.PutSettings(acting, hosting.Settings{Address: "https://pictures.brackwater.example/", Volume: 1000, Hours: 24})
	if err != nil {
		t.Fatal(err)
	}
	base := LDAP{Address: slapd.secure, Authority: slapd.authority, Bind: reader, Secret: "reader", Base: suffix,
		Groups: "ou=groups," + suffix, Page: 700}
	settings := Settings{LDAP: &base, Every: "15m", Photos: &picture.Recipe{Width: 48}}
	put(t, s, "staff", LDAPKind, settings, "")
	const skipped = 20 // ten without a mail address, ten with that of another
	everybody := crewCount + shoreCount - skipped

	t.Run("the first time", func(t *testing.T) {
		result, job := sync(t, s, "staff")
		if job.State != store.Ready || result.State != store.Applied || result.Summary.New != everybody || result.Summary.Skipped != skipped {
			t.Fatalf("%s %s: %+v", job.State, job.Message, result.Summary)
		}
		if result.Photos != 20 || !strings.Contains(strings.Join(result.Summary.Notes, "\n"),
			"1 referrals were not followed: ldap://other.example") {
			t.Errorf("%d photos, %q", result.Photos, result.Summary.Notes)
		}
		d, _, err := s.People.Directory(acting)
		if err != nil {
			t.Fatal(err)
		}
		p := d.Find("p1@brackwater.example")
		if d.Get(p, "cn") != "Марина Линд 1" || d.Get(p, "carLicense") != "" || len(p.Groups) != 2 || source.GroupName(p.Groups[0]) != "all" {
			t.Errorf("%+v", p)
		}
		if three := d.Find("p3@brackwater.example"); len(three.Groups) != 1 ||
			!strings.HasPrefix(d.Get(three, "photoAddress"), "https://pictures.") {
			t.Errorf("%+v", three)
		}
	})
	t.Run("nothing changed", func(t *testing.T) {
		if result, job := sync(t, s, "staff"); job.State != store.Ready || result.Run != 0 || result.Summary.Read != 0 {
			t.Errorf("%s %s: %+v", job.State, job.Message, result)
		}
	})
	t.Run("100 changes by content synchronisation", func(t *testing.T) {
		slapd.change(100, 200, "title", "Captain")
		slapd.remove("uid=p300,ou=crew," + suffix)
		result, job := sync(t, s, "staff")
		if sum := result.Summary; job.State != store.Ready || sum.Changed != 100 || sum.Gone != 1 || sum.Read != 100 {
			t.Errorf("%s %s: %+v", job.State, job.Message, sum)
		}
	})
	t.Run("groups changed", func(t *testing.T) {
		request := ldap.NewModifyRequest("cn=bridge,ou=groups,"+suffix, nil)
		request.Add("member", []string{"uid=p5,ou=crew," + suffix})
		if err := slapd.conn.Modify(request); err != nil {
			t.Fatal(err)
		}
		if result, job := sync(t, s, "staff"); job.State != store.Ready || result.Summary.Changed != 1 || result.Summary.Gone != 0 {
			t.Errorf("%s %s: %+v", job.State, job.Message, result.Summary)
		}
	})
	t.Run("100 changes by comparing, over StartTLS", func(t *testing.T) {
		other := base
		other.Address, other.Compare = slapd.plain, true
		put(t, s, "staff", LDAPKind, Settings{LDAP: &other}, "")
		slapd.change(400, 500, "title", "Pilot")
		result, job := sync(t, s, "staff")
		if sum := result.Summary; job.State != store.Ready || sum.Changed != 100 || sum.Read != everybody-1 {
			t.Errorf("%s %s: %+v", job.State, job.Message, sum)
		}
	})
	for _, c := range []struct {
		name, says string
		change     func(*LDAP)
	}{
		{"a size limit", "size limit is exceeded", func(l *LDAP) { l.Bind, l.Compare = limited, true }},
		{"a size limit on content synchronisation", "size limit is exceeded", func(l *LDAP) { l.Bind = limited }},
		{"a wrong certificate", "is not trusted", func(l *LDAP) { l.Authority = "" }},
		{"a wrong password", "does not accept", func(l *LDAP) { l.Secret = "wrong" }},
		{"a secret that is not there", "cannot be read", func(l *LDAP) { l.Secret = "none" }},
		{"a base that is not there", "no entry at the base", func(l *LDAP) { l.Base = "ou=nowhere," + suffix }},
		{"cut in the middle of the pages", "", func(l *LDAP) {
			l.Compare = true
			address, _ := cutting(t, strings.TrimPrefix(slapd.secure, "ldaps://"), 900_000)
			l.Address = "ldaps://" + address
		}},
		{"cut in the middle of the content", "", func(l *LDAP) {
			address, _ := cutting(t, strings.TrimPrefix(slapd.secure, "ldaps://"), 900_000)
			l.Address = "ldaps://" + address
		}},
		{"nobody answers", "connection refused", func(l *LDAP) { l.Address = fmt.Sprintf("ldaps://localhost:%d", freePort(t)) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			other := base
			c.change(&other)
			put(t, s, "staff", LDAPKind, Settings{LDAP: &other}, "")
			fails(t, s, "staff", c.says)
		})
	}
	t.Run("a subtree that is removed is held", func(t *testing.T) {
		put(t, s, "staff", LDAPKind, settings, "")
		for i := crewCount; i < crewCount+shoreCount; i++ {
			slapd.remove(fmt.Sprintf("uid=p%d,ou=shore,%s", i, suffix))
		}
		before := count(t, s)
		result, job := sync(t, s, "staff")
		if job.State != store.Ready || result.State != store.Held || result.Summary.Gone < shoreCount-10 || count(t, s) != before {
			t.Fatalf("%s %s: %+v", job.State, job.Message, result)
		}
		again, _ := sync(t, s, "staff") // the plan is made again: nothing is remembered of what was not applied
		if again.State != store.Held || again.Summary.Gone != result.Summary.Gone || again.Run == result.Run {
			t.Errorf("%+v", again)
		}
		if src, err := s.Get(acting, "staff"); err != nil || !strings.Contains(src.State.Note, "is held") {
			t.Errorf("%+v, %v", src.State, err)
		}
		if _, err := s.People.Apply(acting, again.Run, true); err != nil || count(t, s) != before-again.Summary.Gone {
			t.Errorf("%d people, %v", count(t, s), err)
		}
		if last, job := sync(t, s, "staff"); job.State != store.Ready || last.Summary.Gone != 0 {
			t.Errorf("%s: %+v", job.Message, last.Summary)
		}
	})
	t.Run("undone and paused", func(t *testing.T) {
		slapd.change(600, 605, "title", "Mate")
		result, _ := sync(t, s, "staff")
		if _, err := s.People.Undo(acting, result.Run); err != nil {
			t.Fatal(err)
		}
		src, err := s.Get(acting, "staff")
		if err != nil || !src.State.Paused {
			t.Errorf("%+v, %v", src.State, err)
		}
		if err := s.Pause(acting, "staff", false); err != nil {
			t.Fatal(err)
		}
		if again, _ := sync(t, s, "staff"); again.Summary.Changed != 5 {
			t.Errorf("%+v", again.Summary)
		}
	})
	t.Run("only what is mapped, looked at first", func(t *testing.T) {
		preview, err := s.Preview(acting, "staff", "columns: {carLicense: licence, cn: cn, mail: mail}\nfields: {greeting: 'Dear {{ cn }}'}\n")
		if err != nil {
			t.Fatal(err)
		}
		if strings.Join(preview.Fields, " ") != "licence cn mail uid greeting" || len(preview.People) != 5 ||
			len(preview.People[0].Reasons) == 0 {
			t.Errorf("%v, %+v", preview.Fields, preview.People)
		}
		preview, err = s.Preview(acting, "staff", "columns: {carLicence: licence, mail: mail}\n")
		if err != nil || !strings.Contains(preview.Note, "has carLicence") {
			t.Errorf("an attribute that nobody has: %q, %v", preview.Note, err)
		}
	})
}

func TestSettingsThatCannotBeUsed(t *testing.T) {
	s := open(t)
	ldapOf := func(change func(*LDAP)) Settings {
		l := LDAP{Address: "ldaps://localhost", Base: "dc=x"}
		change(&l)
		return Settings{LDAP: &l}
	}
	for name, c := range map[string]struct {
		kind     string
		settings Settings
	}{
		"no such kind":         {"carrier-pigeon", Settings{}},
		"nothing to ask":       {LDAPKind, Settings{}},
		"two at once":          {FolderKind, Settings{Folder: &Folder{Path: "/x"}, Web: &Web{Address: "https://x.example"}}},
		"a file on a schedule": {FileKind, Settings{Every: "1h"}},
		"too often":            {FolderKind, Settings{Folder: &Folder{Path: "/x"}, Every: "1s"}},
		"no address":           {LDAPKind, ldapOf(func(l *LDAP) { l.Address = "http://x" })},
		"a password in it":     {LDAPKind, ldapOf(func(l *LDAP) { l.Address = "ldaps://a:b@x" })},
		"no base":              {LDAPKind, ldapOf(func(l *LDAP) { l.Base = "" })},
		"no DN":                {LDAPKind, ldapOf(func(l *LDAP) { l.Bind = "reader" })},
		"no scope":             {LDAPKind, ldapOf(func(l *LDAP) { l.Scope = "deep" })},
		"no filter":            {LDAPKind, ldapOf(func(l *LDAP) { l.Filter = "(cn=" })},
		"no certificate":       {LDAPKind, ldapOf(func(l *LDAP) { l.Authority = "x" })},
		"large pages":          {LDAPKind, ldapOf(func(l *LDAP) { l.Page = 100_000 })},
		"a secret elsewhere":   {LDAPKind, ldapOf(func(l *LDAP) { l.Bind, l.Secret = "cn=x", "../../etc/passwd" })},
		"a relative folder":    {FolderKind, Settings{Folder: &Folder{Path: "x"}}},
		"a pattern with paths": {FolderKind, Settings{Folder: &Folder{Path: "/x", Pattern: "../*"}}},
		"plain http":           {WebKind, Settings{Web: &Web{Address: "http://x.example"}}},
		"a user alone":         {WebKind, Settings{Web: &Web{Address: "https://x.example", User: "u"}}},
		"no width":             {FolderKind, Settings{Folder: &Folder{Path: "/x"}, Photos: &picture.Recipe{Width: -1}}},
	} {
		if err := s.Put(acting, "x", c.kind, 1, c.settings, ""); !problem.Is(err, problem.Invalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := s.Put(acting, store.Kept, FileKind, 1, Settings{}, ""); !problem.Is(err, problem.Conflict) {
		t.Errorf("%v", err)
	}
	if err := s.Put(acting, "x", FileKind, 1, Settings{}, "columns: {a: b c}"); !problem.Is(err, problem.Refused) {
		t.Errorf("%v", err)
	}
	put(t, s, "x", FileKind, Settings{}, "")
	if err := s.Put(acting, "x", SCIMKind, 1, Settings{}, ""); !problem.Is(err, problem.Conflict) {
		t.Errorf("a kind that changes: %v", err)
	}
	if _, err := s.Sync(acting, "x"); !problem.Is(err, problem.Conflict) {
		t.Errorf("%v", err)
	}
	for _, name := range []string{store.Kept, people.Imported} {
		if err := s.Remove(acting, name); !problem.Is(err, problem.Conflict) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := s.Remove(acting, "x"); err != nil {
		t.Error(err)
	}
}

func TestPausesGrow(t *testing.T) {
	for failures, want := range map[int]time.Duration{1: time.Minute, 2: 2 * time.Minute, 5: 16 * time.Minute, 50: 6 * time.Hour} {
		if got := pauseAfter(failures); got != want {
			t.Errorf("%d failures: %v, want %v", failures, got, want)
		}
	}
}
