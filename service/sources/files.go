package sources

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/people"
)

// Folder says which file of a folder is read: the newest whose name fits.
type Folder struct {
	Path    string `json:"path" yaml:"path"`
	Pattern string `json:"pattern" yaml:"pattern,omitempty"` // such as export-*.csv; * when blank
}

// settled is how long a file was not written to before it is read: until then it may be half there.
const settled = 5 * time.Second

// check refuses what is no folder of its own.
func (f Folder) check() error {
	if !filepath.IsAbs(f.Path) {
		return problem.New(problem.Invalid, "The path %q must be a full one.", f.Path).In("path")
	}
	if _, err := filepath.Match(f.pattern(), "x"); err != nil || f.Pattern != filepath.Base(f.pattern()) && f.Pattern != "" {
		return problem.New(problem.Invalid, "The pattern %q must be the name of files, with * and ?.", f.Pattern).In("pattern")
	}
	return nil
}

// pattern is which files are looked at.
func (f Folder) pattern() string {
	if f.Pattern == "" {
		return "*"
	}
	return f.Pattern
}

// newest finds the newest file.
func (f Folder) newest() (string, fs.FileInfo, error) {
	entries, err := os.ReadDir(f.Path)
	if err != nil {
		return "", nil, problem.New(problem.Unavailable, "The folder cannot be read: %w", err)
	}
	var best fs.FileInfo
	for _, e := range entries {
		if ok, err := filepath.Match(f.pattern(), e.Name()); err != nil || !ok {
			continue
		}
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if best == nil || info.ModTime().After(best.ModTime()) {
			best = info
		}
	}
	if best == nil {
		return "", nil, problem.New(problem.Unavailable, "The folder %s has no file %s.", f.Path, f.pattern())
	}
	return filepath.Join(f.Path, best.Name()), best, nil
}

// read opens the newest file.
func (f Folder) read(asked reading, partly bool) (in people.Incoming, remember func(*memory), err error) {
	name, info, err := f.newest()
	if err != nil {
		return in, nil, err
	}
	if time.Since(info.ModTime()) < settled {
		return in, nil, problem.New(problem.Unavailable,
			"%s was written to just now; it is read when it has been left alone for %v.", name, settled)
	}
	tag := fmt.Sprintf("%s %d %s", info.Name(), info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano))
	if tag == asked.memory.Tag {
		return in, nil, errSame
	}
	file, err := os.Open(name)
	if err != nil {
		return in, nil, problem.New(problem.Unavailable, "The file cannot be read: %w", err)
	}
	in, err = fromFile(file, asked, partly)
	return in, func(m *memory) { m.Tag = tag }, err
}

// fromFile reads people from an opened file, which is closed at the end.
func fromFile(file *os.File, asked reading, partly bool) (in people.Incoming, err error) {
	in.Close = func() { file.Close() }
	reader, err := source.Open(file, asked.how)
	if err != nil {
		return in, problem.As(problem.Refused, err)
	}
	in.Reader, in.Whole, in.Partly = reader, !partly, partly && reader.Table()
	if note := reader.Note(); note != "" {
		in.Notes = append(in.Notes, note)
	}
	return in, nil
}

// Web says where a file is fetched from.
type Web struct {
	Address   string `json:"address" yaml:"address"`               // https
	Authority string `json:"authority" yaml:"authority,omitempty"` // certificates of an own authority, PEM; blank for the system's
	User      string `json:"user" yaml:"user,omitempty"`           // with a password (RFC 7617); blank for a bearer token (RFC 6750)
	Secret    string `json:"secret" yaml:"secret,omitempty"`       // file in the folder secrets that holds the password or the token
}

// Limits of a file that is fetched.
const (
	maxFetched   = 1 << 30 // bytes
	fetchTimeout = 10 * time.Minute
)

// check refuses what cannot be fetched.
func (w Web) check() error {
	u, err := url.Parse(w.Address)
	if err != nil || u.Scheme != "https" || u.Host == "" || u.User != nil {
		return problem.New(problem.Invalid, "The address %q must be https and without a password.", w.Address).In("address")
	}
	if w.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(w.Authority)) {
		return problem.New(problem.Invalid, "The authority holds no certificate; it must be PEM.").In("authority")
	}
	if w.User != "" && w.Secret == "" {
		return problem.New(problem.Invalid, "A user needs a secret.").In("secret")
	}
	return checkSecret(w.Secret)
}

// read fetches the file into a temporary one.
func (w Web) read(ctx context.Context, asked reading, partly bool) (in people.Incoming, remember func(*memory), err error) {
	settings := &tls.Config{MinVersion: tls.VersionTLS12}
	if w.Authority != "" {
		settings.RootCAs = x509.NewCertPool()
		settings.RootCAs.AppendCertsFromPEM([]byte(w.Authority))
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = settings
	client := &http.Client{Transport: transport, Timeout: fetchTimeout, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if r.URL.Scheme != "https" || r.URL.Host != via[0].URL.Host || len(via) > 5 { // the secret goes nowhere else
			return http.ErrUseLastResponse
		}
		return nil
	}}
	defer client.CloseIdleConnections()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, w.Address, nil)
	if err != nil {
		return in, nil, err
	}
	switch {
	case w.User != "":
		request.SetBasicAuth(w.User, asked.secret)
	case w.Secret != "":
		request.Header.Set("Authorization", "Bearer "+asked.secret)
	}
	if asked.memory.Tag != "" {
		request.Header.Set("If-None-Match", asked.memory.Tag)
	}
	answer, err := client.Do(request)
	if err != nil {
		var certificate *tls.CertificateVerificationError
		if errors.As(err, &certificate) {
			return in, nil, problem.New(problem.Unavailable, "%s is not trusted: %v", w.Address, certificate.Err)
		}
		return in, nil, problem.New(problem.Unavailable, "The address cannot be asked: %w", err)
	}
	defer answer.Body.Close()
	switch {
	case answer.StatusCode == http.StatusNotModified:
		return in, nil, errSame
	case answer.StatusCode != http.StatusOK:
		return in, nil, problem.New(problem.Unavailable, "%s answers %s.", w.Address, answer.Status)
	}
	file, digest, err := fetched(answer.Body)
	if err != nil {
		return in, nil, err
	}
	tag := answer.Header.Get("ETag")
	if tag == "" {
		tag = digest
	}
	if tag == asked.memory.Tag {
		return in, nil, errors.Join(errSame, file.Close())
	}
	in, err = fromFile(file, asked, partly)
	return in, func(m *memory) { m.Tag = tag }, err
}

// fetched keeps what is fetched in a temporary file, which goes with the process however that ends.
func fetched(body io.Reader) (*os.File, string, error) {
	file, err := os.CreateTemp("", "missivum-fetched-")
	if err != nil {
		return nil, "", err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(file, sum), io.LimitReader(body, maxFetched+1))
	if err == nil && n > maxFetched {
		err = problem.New(problem.TooLarge, "The file is larger than %d MB.", maxFetched>>20)
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err = errors.Join(err, os.Remove(file.Name())); err != nil {
		return nil, "", errors.Join(problem.As(problem.Unavailable, err), file.Close())
	}
	return file, hex.EncodeToString(sum.Sum(nil)[:16]), nil
}
