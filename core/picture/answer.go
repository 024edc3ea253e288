package picture

import (
	"bytes"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Answer is what came back when a picture's address was asked. It is filled by whoever asks.
type Answer struct {
	Address string            // as it was asked
	Steps   []Step            // the answers on the way, the last one included; empty when none came
	Failure Failure           // why none came; empty otherwise
	Detail  string            // in the words of whoever failed
	Header  map[string]string // of the last answer, names in lower case
	Body    []byte            // of the last answer
	Cut     bool              // there was more than is read
	Until   time.Time         // end of the certificate; zero without one
	Took    time.Duration     // until the last byte
}

// Step is one answer on the way to a picture.
type Step struct {
	Address string
	Status  int // RFC 9110, 15
}

// Failure is why no answer came.
type Failure string

// The failures.
const (
	Certificate Failure = "certificate" // it is not valid for the address
	Unreachable Failure = "unreachable" // nobody answers, or the name is not known
	Private     Failure = "private"     // the address lies inside the private network and was not asked
	TooSlow     Failure = "too-slow"    // no answer in the time allowed
	Circular    Failure = "circular"    // one address leads to another without end
)

// Fault is one thing that is wrong with a picture's address.
type Fault struct {
	ID      string `json:"id"`
	Breaks  bool   `json:"breaks"` // the picture is not shown; otherwise it is, but not as it should
	Message string `json:"message"`
	Remedy  string `json:"remedy"`
}

// Display is the size in px at which a picture is shown; zero when it is not known.
type Display struct {
	Width, Height int
}

// What an address is held against: our own figures.
const (
	slowAnswer   = 2 * time.Second
	heavyPicture = 200 << 10           // bytes
	certificates = 21 * 24 * time.Hour // a certificate that ends sooner is reported
	shortCache   = time.Hour
)

// Judge says what is wrong with an address, worst first; now is when it was asked. The facts are the picture's,
// when there was one.
func Judge(a Answer, d Display, now time.Time) (Facts, []Fault) {
	j := judge{Answer: a, now: now, faults: []Fault{}}
	j.scheme()
	j.expiresInAddress()
	if a.Failure != "" {
		j.failure()
		return Facts{}, j.sorted()
	}
	j.way()
	j.certificate()
	facts, ok := j.content()
	if ok {
		j.size(facts, d)
		j.headers()
	}
	return facts, j.sorted()
}

// judge collects what is wrong with an answer.
type judge struct {
	Answer
	now    time.Time
	faults []Fault
}

// add notes a fault, each kind once.
func (j *judge) add(id string, breaks bool, remedy, format string, args ...any) {
	if slices.ContainsFunc(j.faults, func(f Fault) bool { return f.ID == id && f.Breaks == breaks }) {
		return
	}
	j.faults = append(j.faults, Fault{id, breaks, fmt.Sprintf(format, args...), remedy})
}

// sorted are the faults, those that break first.
func (j *judge) sorted() []Fault {
	slices.SortStableFunc(j.faults, func(a, b Fault) int {
		switch {
		case a.Breaks == b.Breaks:
			return 0
		case a.Breaks:
			return -1
		}
		return 1
	})
	return j.faults
}

// scheme looks at how the address is asked: a client may refuse what is not https.
func (j *judge) scheme() {
	u, err := url.Parse(j.Address)
	switch {
	case err != nil || u.Host == "":
		j.add("scheme", true, "Write the full address with https://.", "This is no full address.")
	case u.Scheme == "http":
		j.add("scheme", false, "Serve the picture by https and write the address so.",
			"The address is http: some clients do not load it, and anybody on the way can change it.")
	case u.Scheme != "https":
		j.add("scheme", true, "Write the full address with https://.", "The scheme %s: is none that a client loads pictures by.", u.Scheme)
	}
}

// endings are the names of a query's members that say when an address ends, and those that sign it.
var (
	endings = []string{"expires", "expiry", "exp", "expiration", "x-expires", "valid-until", "validuntil", "se", "until"}
	signing = []string{"signature", "sig", "token", "hmac", "x-signature", "access_token", "auth"}
)

// expiresInAddress looks for an end date in the address itself.
func (j *judge) expiresInAddress() {
	u, err := url.Parse(j.Address)
	if err != nil {
		return
	}
	query := u.Query()
	named := func(list []string) (string, bool) {
		for _, name := range slices.Sorted(maps.Keys(query)) {
			low := strings.ToLower(name)
			if slices.ContainsFunc(list, func(s string) bool { return low == s || strings.HasSuffix(low, "-"+s) }) {
				return name, true
			}
		}
		return "", false
	}
	if name, ok := named(endings); ok {
		value, when := query.Get(name), "ends at a time"
		if until, ok := moment(value); ok {
			when = "ends on " + until.Format("2006-01-02")
			if until.Before(j.now) {
				when = "ended on " + until.Format("2006-01-02")
			}
		}
		j.add("expires", true,
			"Use the picture's lasting address; one that is shared for a time ends in every message sent.",
			"The address %s (%s=%.40s).", when, name, value)
	} else if name, ok := named(signing); ok {
		j.add("expires", false, "Use the picture's lasting address, without a key in it.",
			"The address carries a key (%s): such addresses are usually good for a time only, and everybody who gets a message has the key.", name)
	}
}

// moment reads a time as addresses have it: seconds since 1970, or RFC 3339.
func moment(s string) (time.Time, bool) {
	if n, err := strconv.ParseInt(s, 10, 64); err == nil && n > 1e9 && n < 1e11 {
		return time.Unix(n, 0).UTC(), true
	}
	for _, form := range []string{time.RFC3339, "20060102T150405Z", time.DateOnly} {
		if t, err := time.Parse(form, s); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// failure says why nothing came.
func (j *judge) failure() {
	switch j.Failure {
	case Certificate:
		j.add("certificate", true, "Renew the host's certificate, or host the picture elsewhere.", "The certificate is not valid: %s.", j.Detail)
	case Private:
		j.add("private", true, "Host the picture where readers outside can reach it.",
			"The address lies inside a private network (%s): readers outside cannot reach it, and it was not asked.", j.Detail)
	case TooSlow:
		j.add("time", true, "Host the picture on a server that answers in well under a second.", "No whole answer came in time: %s.", j.Detail)
	case Circular:
		j.add("redirects", true, "Write the address at which the picture really is.", "The address leads on without end: %s.", j.Detail)
	default:
		j.add("unreachable", true, "Correct the address, or host the picture anew.", "Nobody answers: %s.", j.Detail)
	}
}

// last is the answer behind all redirects.
func (j *judge) last() Step { return j.Steps[len(j.Steps)-1] }

// way looks at redirects and the last status.
func (j *judge) way() {
	if n := len(j.Steps) - 1; n > 0 {
		to := j.last().Address
		from, _ := url.Parse(j.Address)
		end, err := url.Parse(to)
		switch {
		case signIn(to):
			j.add("sign-in", true, "Host the picture where nobody has to sign in.", "The address leads to a sign-in page (%.100s).", to)
		case err == nil && from != nil && from.Scheme == "https" && end.Scheme == "http":
			j.add("redirects", true, "Write the https address at which the picture really is.", "The address leads on to http (%.100s).", to)
		default:
			j.add("redirects", false, "Write the address at which the picture really is.",
				"The address leads on %s, to %.100s; each costs time, and some clients do not follow.", times(n), to)
		}
	}
	switch status := j.last().Status; {
	case status == 401 || status == 403 || status == 407:
		j.add("sign-in", true, "Host the picture where nobody has to sign in.", "The host asks for a sign-in (status %d).", status)
	case status == 404 || status == 410:
		j.add("missing", true, "Restore the picture at its address; messages already sent show it again then.",
			"There is nothing at the address any more (status %d).", status)
	case status >= 500:
		j.add("status", true, "Fix the host, or host the picture elsewhere.", "The host fails (status %d).", status)
	case status != 200:
		j.add("status", true, "Let the address answer with the picture itself.",
			"The host answers with status %d in place of the picture.", status)
	}
}

// times is a number of times in words.
func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// signIn recognises addresses of sign-in pages.
func signIn(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	path := strings.ToLower(u.Host + u.Path)
	return slices.ContainsFunc([]string{"login", "signin", "sign-in", "logon", "sso", "oauth", "/auth"},
		func(s string) bool { return strings.Contains(path, s) })
}

// certificate looks at how long the certificate is valid.
func (j *judge) certificate() {
	if left := j.Until.Sub(j.now); !j.Until.IsZero() && left < certificates {
		j.add("certificate", false, "Renew the host's certificate in time.", "The certificate ends on %s, in %d days.",
			j.Until.Format("2006-01-02"), int(left.Hours()/24))
	}
}

// content says what the answer holds, whatever it is called.
func (j *judge) content() (Facts, bool) {
	if j.last().Status != 200 {
		return Facts{}, false
	}
	if j.Cut {
		j.add("weight", true, "Make the picture lighter: some 10 kB do.", "The answer is larger than %d MB.", len(j.Body)>>20)
		return Facts{}, false
	}
	facts, err := Probe(j.Body)
	if err != nil {
		if page := bytes.ToLower(j.Body[:min(len(j.Body), 64<<10)]); bytes.Contains(page, []byte("<html")) ||
			bytes.Contains(page, []byte("<!doctype html")) {
			if bytes.Contains(page, []byte(`type="password"`)) || bytes.Contains(page, []byte("type=password")) {
				j.add("sign-in", true, "Host the picture where nobody has to sign in.", "The address shows a sign-in page in place of the picture.")
			} else {
				j.add("page", true, "Use the address of the file itself, not that of the page that shows it.",
					"The address shows a web page in place of the picture.")
			}
			return facts, false
		}
		j.add("content", true, "Put a PNG, JPEG or GIF file there.", "What the address answers is %s.", err)
		return facts, false
	}
	if !slices.Contains(Mailable, facts.Format) {
		j.add("format", true, "Fit the picture: it becomes PNG or JPEG.",
			"The picture is %s, which several clients do not draw.", strings.ToUpper(facts.Format))
	}
	media, _, _ := strings.Cut(strings.ToLower(j.Header["content-type"]), ";")
	if media = strings.TrimSpace(media); media != Media(facts.Format) {
		breaks := !strings.HasPrefix(media, "image/")
		if media == "" {
			media = "nothing"
		}
		j.add("type", breaks, "Let the host send Content-Type: "+Media(facts.Format)+".",
			"The host calls it %s, but it is %s.", media, strings.ToUpper(facts.Format))
	}
	return facts, true
}

// size compares true pixels with the display size.
func (j *judge) size(f Facts, d Display) {
	if d.Width > 0 && d.Height > 0 && !Fits(f.Width, f.Height, d.Width, d.Height) {
		j.add("size", false, fmt.Sprintf("Fit the picture to %d x %d px.", d.Width, d.Height),
			"The picture has %d x %d px but is shown at %d x %d px.", f.Width, f.Height, d.Width, d.Height)
	}
	if f.Bytes > heavyPicture {
		j.add("weight", false, "Make the picture lighter: some 10 kB do.",
			"The picture weighs %d kB; above %d kB readers on the way wait for it.", f.Bytes>>10, heavyPicture>>10)
	}
	if j.Took > slowAnswer {
		j.add("time", false, "Host the picture on a server that answers in well under a second.", "The answer took %.1f s.", j.Took.Seconds())
	}
}

// Fits reports whether true pixels are one, two or three times the display size, to a pixel's rounding.
func Fits(width, height, displayWidth, displayHeight int) bool {
	away := func(a, b int) int { return max(a-b, b-a) }
	for k := 1; k <= maxMultiple; k++ {
		if away(width, k*displayWidth) < k && away(height, k*displayHeight) <= k {
			return true
		}
	}
	return false
}

// headers looks at what the host says of how long the picture stays.
func (j *judge) headers() {
	control := strings.ToLower(j.Header["cache-control"])
	switch age, ok := maxAge(control); {
	case strings.Contains(control, "no-store"), strings.Contains(control, "private"):
		j.add("cache", false, "Let the host send Cache-Control: public, max-age=31536000, immutable.",
			"The host forbids keeping the picture (Cache-Control: %s): it is loaded anew with every message.", control)
	case ok && age < shortCache:
		j.add("cache", false, "Let the host send Cache-Control: public, max-age=31536000, immutable.",
			"The picture may be kept for %d s only and is loaded anew again and again.", int(age.Seconds()))
	}
	if until, err := http1Date(j.Header["expires"]); err == nil && control == "" && until.Before(j.now.Add(shortCache)) {
		j.add("cache", false, "Let the host send Cache-Control: public, max-age=31536000, immutable.",
			"The host says that the picture ends on %s (Expires): it is loaded anew again and again.", until.Format("2006-01-02 15:04"))
	}
	if _, ok := j.Header["set-cookie"]; ok {
		j.add("cookie", false, "Serve pictures from a host that sets no cookies.",
			"The host sets a cookie: filters take the picture for a tracker.")
	}
}

// http1Date reads the date of a header (RFC 9110, 5.6.7).
func http1Date(s string) (time.Time, error) { return time.Parse("Mon, 02 Jan 2006 15:04:05 GMT", s) }

// maxAge reads how long an answer may be kept (RFC 9111, 5.2.2.1).
func maxAge(control string) (time.Duration, bool) {
	for part := range strings.SplitSeq(control, ",") {
		if value, ok := strings.CutPrefix(strings.TrimSpace(part), "max-age="); ok {
			n, err := strconv.Atoi(value)
			return time.Duration(n) * time.Second, err == nil
		}
	}
	return 0, false
}
