package desk

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"missivum/core/desk"
	"missivum/core/kit"
	"missivum/core/problem"
)

// Service is the service that a desk asks.
type Service struct {
	Address string // without a slash at its end
	Key     string // of the scope desk
	Client  *http.Client
}

// ask sends a request. What the service refuses is a problem with its own words.
func (s Service) ask(ctx context.Context, method, path string, query url.Values, tag string, body []byte) (*http.Response, error) {
	address := s.Address + path
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+s.Key)
	request.Header.Set("Accept-Encoding", "gzip") // said here, what comes is counted as it comes
	if tag != "" {
		request.Header.Set("If-None-Match", `"`+tag+`"`)
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	answer, err := s.Client.Do(request)
	if err != nil {
		return nil, problem.New(problem.Busy, "The service does not answer: %v.", err)
	}
	if answer.StatusCode < 300 || answer.StatusCode == http.StatusNotModified {
		return answer, nil
	}
	var said struct {
		Detail string `json:"detail"`
	}
	text, _, err := s.read(answer, 1<<16)
	if err == nil {
		err = json.Unmarshal(text, &said)
	}
	if err != nil || said.Detail == "" {
		said.Detail = "The service answers " + answer.Status + "."
	}
	kind := problem.Refused
	switch {
	case answer.StatusCode == http.StatusNotFound:
		kind = problem.NotFound
	case answer.StatusCode == http.StatusGone:
		kind = problem.Gone
	case answer.StatusCode >= 500:
		kind = problem.Busy
	}
	return nil, problem.New(kind, "%s", said.Detail)
}

// read reads an answer whole, up to a number of bytes, and counts what came over the wire.
func (s Service) read(answer *http.Response, most int64) (data []byte, came int64, err error) {
	defer answer.Body.Close()
	counted := &counting{in: answer.Body}
	var in io.Reader = counted
	if answer.Header.Get("Content-Encoding") == "gzip" {
		if in, err = gzip.NewReader(counted); err != nil {
			return nil, counted.n, problem.New(problem.Refused, "The service's answer cannot be read: %v.", err)
		}
	}
	data, err = io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && int64(len(data)) > most {
		err = problem.New(problem.Refused, "The service's answer has more than %d kB.", most>>10)
	}
	return data, counted.n, err
}

// counting counts what is read.
type counting struct {
	in io.Reader
	n  int64
}

// Read reads on.
func (c *counting) Read(b []byte) (int, error) {
	n, err := c.in.Read(b)
	c.n += int64(n)
	return n, err
}

// TrustService trusts the key of a service that a desk meets for the first time. A desk that trusts a key already keeps it.
func (d *Desk) TrustService(ctx context.Context, s Service) (kit.Trusted, error) {
	t, err := d.Trust(nil)
	if !problem.Is(err, problem.Invalid) {
		return t, err
	}
	answer, err := s.ask(ctx, http.MethodGet, "/api/v1/desk/trust", nil, "", nil)
	if err != nil {
		return t, err
	}
	text, _, err := s.read(answer, 1<<12)
	if err != nil {
		return t, err
	}
	return d.Trust(text)
}

// Fetched is what a desk learned from the service.
type Fetched struct {
	Kits    []Kit    // that are new
	Gone    []string // keys of places of which the release was withdrawn
	Renamed int      // places whose kit is now of another release, in which nothing differs for them
	Same    int      // places that have what they should
	Bytes   int64    // that were fetched
	Fetched int      // files that were fetched
	Notes   []string // why a place gets nothing

	seen map[string][]byte // contents that were fetched, by digest: several clients share pictures
}

// Fetch asks for every client that is found what is new. Files that the desk has already are not fetched.
func (d *Desk) Fetch(ctx context.Context, s Service, person string, trusted kit.Trusted) (f Fetched, err error) {
	state, found, unlock, err := d.begin(ctx)
	if err != nil {
		return f, err
	}
	defer unlock()
	seen := map[string]bool{}
	for _, place := range found {
		mail, tag := person, ""
		if p := state.Places[place.Key()]; p != nil {
			tag = p.Kit
			if mail == "" {
				mail = p.Person
			}
		}
		if mail == "" {
			return f, problem.New(problem.Invalid, "It is not known whose desk this is; say it with --person.")
		}
		if seen[place.Place.Client+" "+tag] {
			continue
		}
		seen[place.Place.Client+" "+tag] = true
		k, release, err := d.fetchOne(ctx, s, url.Values{"person": {mail}, "client": {place.Place.Client}}, tag, trusted, &f)
		switch {
		case problem.Is(err, problem.Gone):
			if p := state.Places[place.Key()]; p != nil && p.Release != "" {
				f.Gone = append(f.Gone, place.Key())
			}
		case problem.Is(err, problem.NotFound):
			f.Notes = append(f.Notes, place.Place.ID+": "+err.Error())
		case err != nil:
			return f, fmt.Errorf("%s: %w", place.Place.ID, err)
		case k == nil:
			f.Same++
			if err := d.rename(state, place.Place.Client, tag, release, &f); err != nil {
				return f, err
			}
		default:
			f.Kits = append(f.Kits, *k)
		}
	}
	return f, nil
}

// fetchOne fetches a kit; nil where the desk has it.
func (d *Desk) fetchOne(ctx context.Context, s Service, query url.Values, tag string, trusted kit.Trusted,
	f *Fetched) (_ *Kit, release string, err error) {
	answer, err := s.ask(ctx, http.MethodGet, "/api/v1/desk/kit", query, tag, nil)
	if err != nil {
		return nil, "", err
	}
	release = answer.Header.Get("Missivum-Release")
	if answer.StatusCode == http.StatusNotModified {
		return nil, release, answer.Body.Close()
	}
	text, came, err := s.read(answer, 2*kit.MaxList)
	f.Bytes += came
	if err != nil {
		return nil, "", err
	}
	var got struct {
		List      string `json:"list"`
		Signature string `json:"signature"`
	}
	if err := json.Unmarshal(text, &got); err != nil {
		return nil, "", problem.New(problem.Refused, "The service's answer cannot be read: %v.", err)
	}
	files := fetcher{d, s, query, f, map[string][]byte{}}
	k, err := Trusted([]byte(got.List), []byte(got.Signature), trusted, func(l kit.Listed) ([]byte, error) { return files.file(ctx, l) })
	k.Release, k.Parts = release, files.pictures
	return &k, release, err
}

// fetcher fetches the files of a kit.
type fetcher struct {
	d        *Desk
	service  Service
	query    url.Values
	fetched  *Fetched
	pictures map[string][]byte // that are written into files, by digest
}

// file gives one file: what the desk has, or what is fetched, of which pictures that are written into it are fetched once.
func (f *fetcher) file(ctx context.Context, l kit.Listed) ([]byte, error) {
	if data := f.has(l.SHA256); data != nil {
		return data, nil
	}
	path := (&url.URL{Path: l.File}).EscapedPath()
	if l.Form == "html" || l.Form == "rtf" {
		text, err := f.get(ctx, "/api/v1/desk/pieces/"+path, 2*kit.MaxFile)
		if err != nil {
			return nil, err
		}
		var apart struct {
			Pieces []kit.Piece `json:"pieces"`
		}
		if err := json.Unmarshal(text, &apart); err != nil {
			return nil, problem.New(problem.Refused, "The service's answer cannot be read: %v.", err)
		}
		if len(apart.Pieces) > 0 {
			return kit.Together(apart.Pieces, func(digest string) ([]byte, error) { return f.picture(ctx, digest) })
		}
	}
	return f.get(ctx, "/api/v1/desk/files/"+path, int64(l.Bytes))
}

// picture gives a picture that is written into files.
func (f *fetcher) picture(ctx context.Context, digest string) ([]byte, error) {
	data := f.has(digest)
	if data == nil {
		var err error
		if data, err = f.get(ctx, "/api/v1/desk/pictures/"+url.PathEscape(digest), kit.MaxFile); err != nil {
			return nil, err
		}
		if kit.Digest(data) != digest {
			return nil, problem.New(problem.Refused, "A picture is not what its digest says.")
		}
	}
	f.pictures[digest] = data
	return data, nil
}

// get fetches something and counts it.
func (f *fetcher) get(ctx context.Context, path string, most int64) ([]byte, error) {
	answer, err := f.service.ask(ctx, http.MethodGet, path, f.query, "", nil)
	if err != nil {
		return nil, err
	}
	data, came, err := f.service.read(answer, most)
	f.fetched.Bytes += came
	f.fetched.Fetched++
	if f.fetched.seen == nil {
		f.fetched.seen = map[string][]byte{}
	}
	f.fetched.seen[kit.Digest(data)] = data
	return data, err
}

// has gives a content that is on the desk, or was fetched in this round; nil for another.
func (f *fetcher) has(digest string) []byte {
	if data := f.fetched.seen[digest]; data != nil {
		return data
	}
	return f.d.content(digest)
}

// rename notes that the kit of a client's places is now of another release.
func (d *Desk) rename(state *State, client, tag, release string, f *Fetched) error {
	changed := false
	for _, p := range state.Places {
		if p.Client == client && p.Kit == tag && release != "" && p.Release != release {
			p.Release, changed = release, true
			f.Renamed++
		}
	}
	if !changed {
		return nil
	}
	text, err := json.Marshal(state)
	if err != nil {
		return err
	}
	return writeWhole(filepath.Join(d.State, stateFile), text, 0o600)
}

// Reporting makes the report of how things stand now.
func (d *Desk) Reporting(ctx context.Context, version string) (desk.Report, error) {
	list, id, err := d.Verify(ctx)
	r := desk.Report{Desk: id, System: d.System, Version: version, Places: []desk.Reported{}}
	if err != nil {
		return r, err
	}
	if r.Host, err = os.Hostname(); err != nil {
		return r, err
	}
	for _, v := range list {
		one := desk.Reported{Place: v.Place, Folder: v.Folder, Client: v.Client, Person: v.Person, Release: v.Release, Kit: v.Kit,
			Proof: v.Proof, At: v.At}
		for _, f := range v.Files {
			if f.Proof == v.Proof && f.Proof != desk.Current {
				one.Detail = filepath.Base(filepath.FromSlash(f.Path)) + ": " + f.Says
				break
			}
		}
		r.Places = append(r.Places, one)
	}
	return r, nil
}

// Send sends a report.
func (s Service) Send(ctx context.Context, r desk.Report) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	answer, err := s.ask(ctx, http.MethodPost, "/api/v1/desk/report", nil, "", text)
	if err != nil {
		return err
	}
	return answer.Body.Close()
}

// Round is one round with the service: what is new is fetched and placed, what was withdrawn is taken back, and what then is
// on the desk is reported.
type Round struct {
	Fetched
	Outcomes []Outcome
	Undone   []Undone
	Report   desk.Report
}

// Round asks the service once.
func (d *Desk) Round(ctx context.Context, s Service, person, version string, o Options) (r Round, err error) {
	trusted, err := d.TrustService(ctx, s)
	if err != nil {
		return r, err
	}
	if r.Fetched, err = d.Fetch(ctx, s, person, trusted); err != nil {
		return r, err
	}
	var errs []error
	if len(r.Kits) > 0 {
		if r.Outcomes, err = d.Place(ctx, r.Kits, o); err != nil {
			errs = append(errs, err)
		}
		for _, out := range r.Outcomes {
			errs = append(errs, out.Err)
		}
	}
	for _, key := range r.Gone {
		u, err := d.undoKey(ctx, key)
		r.Undone = append(r.Undone, u)
		errs = append(errs, err, u.Err)
	}
	if err := d.putRight(ctx, &r, s, person, trusted, o); err != nil {
		errs = append(errs, err)
	}
	if r.Report, err = d.Reporting(ctx, version); err == nil {
		err = s.Send(ctx, r.Report)
	}
	return r, errors.Join(append(errs, err)...)
}

// putRight places again what was altered or is missing although the kit is the newest.
func (d *Desk) putRight(ctx context.Context, r *Round, s Service, person string, trusted kit.Trusted, o Options) error {
	list, _, err := d.Verify(ctx)
	if err != nil {
		return err
	}
	for _, v := range list {
		if v.Release == "" || v.Proof != desk.Altered && v.Proof != desk.Missing {
			continue
		}
		k, _, err := d.fetchOne(ctx, s, url.Values{"person": {v.Person}, "client": {v.Client}}, "", trusted, &r.Fetched)
		if err != nil {
			return err
		}
		o.Place = v.Place
		outcomes, err := d.Place(ctx, []Kit{*k}, o)
		r.Outcomes = append(r.Outcomes, outcomes...)
		for _, out := range outcomes {
			err = errors.Join(err, out.Err)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// undoKey takes everything back in a place whose release was withdrawn.
func (d *Desk) undoKey(ctx context.Context, key string) (Undone, error) {
	s, unlock, err := d.open(ctx)
	if err != nil {
		return Undone{}, err
	}
	defer unlock()
	p := s.Places[key]
	if p == nil {
		return Undone{}, nil
	}
	u := Undone{Place: p.Place, Folder: p.Folder, Lines: []string{}}
	for s.Places[key] != nil && s.Places[key].Release != "" && u.Err == nil {
		var lines []string
		lines, u.Err = d.undoOne(ctx, s, key, false)
		u.Lines = append(u.Lines, lines...)
	}
	return u, nil
}

// Pause is how long to wait until the next round: the time between two, up to a tenth more or less, so that not all desks ask
// at once.
func Pause(every time.Duration) time.Duration {
	return every - every/10 + time.Duration(rand.Int64N(int64(every/5)+1))
}
