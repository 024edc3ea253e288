// Package doctor looks at a service's data folder and its surroundings, and says what is wrong and what to do. It changes
// nothing, and can look while the service runs. Start with Look.
package doctor

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/disk"

	"missivum/service/backup"
	"missivum/service/store"
)

// Severity says how bad something is.
type Severity string

// The severities.
const (
	Fine  Severity = "fine"
	Watch Severity = "watch" // it works, and should be seen to
	Wrong Severity = "wrong" // something does not work, or data is in danger
)

// Result is what was found about one thing.
type Result struct {
	What     string
	Severity Severity
	Says     string
	Do       string // what to do; blank where nothing is to be done
}

// Subject is what is looked at.
type Subject struct {
	Data             string
	Certificate, Key string   // blank for none
	Names            []string // hosts that the certificate must be for
	Backups          string   // folder of backups; blank for none
	Every            time.Duration
	Now              time.Time
}

// Look looks at everything.
func Look(ctx context.Context, s Subject) []Result {
	list := []Result{s.folder(), s.space()}
	facts, found := s.database(ctx)
	list = append(list, found)
	if facts != nil {
		list = append(list, s.schema(*facts), s.record(*facts), s.clock(*facts))
	}
	return append(list, s.files(), s.secrets(), s.certificate(), s.backups())
}

// Worst is the worst severity of some results.
func Worst(list []Result) Severity {
	worst := Fine
	for _, r := range list {
		if r.Severity == Wrong || r.Severity == Watch && worst == Fine {
			worst = r.Severity
		}
	}
	return worst
}

func (s Subject) folder() Result {
	r := Result{What: "data folder", Severity: Fine}
	info, err := os.Stat(s.Data)
	switch {
	case err != nil:
		return Result{r.What, Wrong, fmt.Sprintf("%s cannot be read: %v", s.Data, err),
			"Give the folder of the service: --data, or the setting data."}
	case !info.IsDir():
		return Result{r.What, Wrong, s.Data + " is no folder", "Give the folder of the service: --data, or the setting data."}
	case info.Mode().Perm()&0o007 != 0:
		return Result{r.What, Watch, fmt.Sprintf("%s can be read by everybody on this machine (%v): it holds people, and digests of passwords",
			s.Data, info.Mode().Perm()), "chmod o-rwx " + s.Data}
	}
	r.Says = fmt.Sprintf("%s, %v", s.Data, info.Mode().Perm())
	return r
}

// Below which room on the disk something is to be done, in bytes.
const (
	littleSpace = 1 << 30
	noSpace     = 64 << 20
)

func (s Subject) space() Result {
	r := Result{What: "disk space", Severity: Fine}
	usage, err := disk.Usage(s.Data)
	if err != nil {
		return Result{r.What, Watch, "not known: " + err.Error(), ""}
	}
	needed := uint64(littleSpace)
	if info, err := os.Stat(filepath.Join(s.Data, backup.Database)); err == nil {
		needed = max(needed, 2*uint64(info.Size())) // a migration and a backup write the database once more
	}
	r.Says = fmt.Sprintf("%d MB free of %d MB", usage.Free>>20, usage.Total>>20)
	switch {
	case usage.Free < noSpace:
		r.Severity, r.Do = Wrong, "Make room: nothing can be saved below 16 MB."
	case usage.Free < needed:
		r.Severity, r.Do = Watch, fmt.Sprintf("Make room: %d MB should be free, since an upgrade may write the database once more.", needed>>20)
	}
	return r
}

func (s Subject) database(ctx context.Context) (*store.Facts, Result) {
	file := filepath.Join(s.Data, backup.Database)
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return nil, Result{"database", Wrong, file + " is not there", "Start the service once, or restore a backup: missivum restore."}
	}
	facts, err := store.Examine(ctx, file)
	if err != nil {
		return nil, Result{"database", Wrong, err.Error(), "Restore the last backup into another folder (missivum restore) and look at that one."}
	}
	if len(facts.Faults) > 0 {
		return &facts, Result{"database", Wrong, strings.Join(facts.Faults, "; "),
			"Stop the service, keep a copy of the folder, and restore the last backup: missivum restore FILE --data " + s.Data + " --replace"}
	}
	return &facts, Result{What: "database", Severity: Fine,
		Says: fmt.Sprintf("sound; %d people, %d templates, %d files of pictures", facts.People, facts.Templates, facts.Pictures)}
}

func (s Subject) schema(f store.Facts) Result {
	r := Result{What: "schema", Severity: Fine, Says: fmt.Sprintf("version %d", f.Schema)}
	switch {
	case f.Schema > f.Known:
		r.Severity, r.Do = Wrong,
			fmt.Sprintf("This program knows versions up to %d: the folder was used by a later one. Take that, or restore a backup.", f.Known)
	case f.Schema < f.Known:
		r.Severity, r.Do = Watch,
			fmt.Sprintf("The next start brings it to version %d, and there is no way back but a backup: make one first.", f.Known)
	}
	return r
}

func (s Subject) record(f store.Facts) Result {
	if f.Schema != f.Known {
		return Result{"record", Watch, "not checked: the schema is another", ""}
	}
	if f.Record.Broken > 0 {
		return Result{"record", Wrong, fmt.Sprintf("entry %d does not follow from what stands before it", f.Record.Broken),
			"Somebody wrote to the database past the service. Compare with a backup: missivum record verify says more."}
	}
	return Result{What: "record", Severity: Fine, Says: fmt.Sprintf("whole, %d entries, the last is %s", f.Record.Entries, f.Record.Head())}
}

// clockTolerance is how far the newest entry may lie in the future.
const clockTolerance = 2 * time.Minute

func (s Subject) clock(f store.Facts) Result {
	r := Result{What: "clock", Severity: Fine, Says: s.Now.Format("2006-01-02 15:04:05 MST")}
	if ahead := f.Newest.Sub(s.Now); ahead > clockTolerance {
		r.Severity = Wrong
		r.Says += fmt.Sprintf(", but the newest entry of the record was made %v later", ahead.Round(time.Second))
		r.Do = "Set the clock: ends of sessions, keys and links, second factors and dated banners depend on it."
	}
	return r
}

// files says whether all files can be read, and how many were left half written.
func (s Subject) files() Result {
	r := Result{What: "files", Severity: Fine}
	count, left := 0, 0
	err := filepath.WalkDir(s.Data, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Type().IsRegular() {
			count++
			if strings.HasPrefix(d.Name(), ".") {
				left++
			}
			f, err := os.Open(path)
			if err != nil {
				return err
			}
			return f.Close()
		}
		return nil
	})
	if err != nil {
		return Result{r.What, Wrong, err.Error(), "The service must be able to read all of its folder: chown -R missivum " + s.Data}
	}
	r.Says = fmt.Sprintf("%d, all can be read", count)
	if left > 0 {
		r.Says += fmt.Sprintf("; %d were being written, now or when the machine went down", left)
	}
	return r
}

func (s Subject) secrets() Result {
	r := Result{What: "secrets", Severity: Fine}
	open := []string{}
	count := 0
	err := filepath.WalkDir(filepath.Join(s.Data, "secrets"), func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if info, err := d.Info(); err == nil && d.Type().IsRegular() {
			count++
			if info.Mode().Perm()&0o077 != 0 {
				open = append(open, path)
			}
		}
		return nil
	})
	switch {
	case err != nil:
		return Result{r.What, Wrong, err.Error(), ""}
	case len(open) > 0:
		return Result{r.What, Wrong, "others on this machine can read " + strings.Join(open, ", "), "chmod 600 " + strings.Join(open, " ")}
	}
	r.Says = fmt.Sprintf("%d, readable by the service alone", count)
	return r
}

// soon is how long before its end a certificate is reported.
const soon = 21 * 24 * time.Hour

func (s Subject) certificate() Result {
	r := Result{What: "certificate", Severity: Fine}
	if s.Certificate == "" {
		r.Says = "none is set; the service is reached by loopback, through a proxy, or gets one by ACME"
		return r
	}
	pair, err := tls.LoadX509KeyPair(s.Certificate, s.Key)
	if err != nil {
		return Result{r.What, Wrong, err.Error(), "tls.certificate and tls.key must be PEM files that belong together."}
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return Result{r.What, Wrong, err.Error(), ""}
	}
	for _, name := range s.Names {
		if err := leaf.VerifyHostname(name); err != nil {
			return Result{r.What, Wrong, err.Error(), "Browsers will refuse it: get one for " + strings.Join(s.Names, " and ") + "."}
		}
	}
	r.Says = "for " + strings.Join(leaf.DNSNames, ", ") + ", until " + leaf.NotAfter.Format(time.DateOnly)
	switch {
	case s.Now.After(leaf.NotAfter):
		r.Severity, r.Do = Wrong, "It has ended. Put a new one in its place; the service reads it within seconds."
	case s.Now.Before(leaf.NotBefore):
		r.Severity, r.Do = Wrong, "It is not valid yet, since "+leaf.NotBefore.Format(time.DateTime)+": is the clock right?"
	case leaf.NotAfter.Sub(s.Now) < soon:
		r.Severity, r.Do = Watch, "It ends soon. Put a new one in its place; the service reads it within seconds."
	}
	return r
}

func (s Subject) backups() Result {
	r := Result{What: "backups", Severity: Fine}
	if s.Backups == "" {
		return Result{r.What, Watch, "none are made by the service",
			"Set backup.folder, on another disk than the data folder, or run missivum backup yourself."}
	}
	list, err := backup.In(s.Backups)
	if err != nil {
		return Result{r.What, Wrong, err.Error(), "The service must be able to write to backup.folder."}
	}
	if len(list) == 0 {
		return Result{r.What, Wrong, "there is none in " + s.Backups, "The log of the service says why."}
	}
	age := s.Now.Sub(list[0].At)
	r.Says = fmt.Sprintf("%d in %s, the last %v ago, %d MB", len(list), s.Backups, age.Round(time.Minute), list[0].Size>>20)
	if age > 2*s.Every+time.Hour {
		r.Severity, r.Do = Wrong, fmt.Sprintf("One should be made every %v. The log of the service says why none was.", s.Every)
	}
	return r
}
