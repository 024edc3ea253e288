package desks

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"missivum/core/addon"
	"missivum/core/desk"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/proof"
	"missivum/core/release"
	"missivum/service/jobs"
	"missivum/service/store"
)

// Limits of a report.
const (
	mostPlaces = 100
	longest    = 2_000 // characters of a text
)

// Report stores what a desk says.
func (d *Desks) Report(ctx context.Context, r desk.Report) error {
	if r.Desk == "" || len(r.Desk) > 64 || len(r.Places) > mostPlaces {
		return problem.New(problem.Invalid, "A report names its desk, and at most %d places.", mostPlaces)
	}
	var places []store.DeskPlace
	for _, p := range r.Places {
		if !slices.Contains(desk.Proofs, p.Proof) {
			return problem.New(problem.Invalid, "There is no proof %q.", p.Proof).In("proof")
		}
		places = append(places, store.DeskPlace{Desk: r.Desk, Place: short(p.Place), Folder: short(p.Folder),
			Client: short(p.Client), Person: fold(short(p.Person)),
			Release: short(p.Release), Kit: short(p.Kit), Proof: string(p.Proof), Detail: short(p.Detail), Placed: p.At})
	}
	return d.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.PutDesk(store.Desk{ID: r.Desk, Host: short(r.Host), System: short(r.System), Version: short(r.Version)}, places)
	})
}

// short cuts a text that comes from a desk.
func short(text string) string {
	if len(text) <= longest {
		return strings.ToValidUTF8(text, "")
	}
	return strings.ToValidUTF8(text[:longest], "")
}

// Standing is how things stand with a person's signature in a client.
type Standing string

// The standings, worst last.
const (
	Good    Standing = "current" // it has what it should
	Stale   Standing = "stale"   // of this release, but the person's values changed since
	Older   Standing = "older"   // of a release before
	Quiet   Standing = "silent"  // not heard from for long
	None    Standing = "none"    // no desk reported it
	Altered Standing = "altered"
	Missing Standing = "missing"
	Unknown Standing = "unknown" // the desk cannot tell
)

var standings = []Standing{Good, Stale, Older, Quiet, Unknown, None, Altered, Missing}

// longSilence is after how long a desk counts as not heard from.
const longSilence = 14 * 24 * time.Hour

// Way is by which a proof is known.
type Way string

// The ways.
const (
	ByDesk  Way = "desk"   // the program on the desk looked
	ByPage  Way = "page"   // the person pasted it into the page of their own signature
	ByAddOn Way = "add-on" // the add-on put it into a message
)

// Cell is a person's signature in a client.
type Cell struct {
	Client   string    `json:"client"`
	Way      Way       `json:"way"`
	Standing Standing  `json:"standing"`
	Release  string    `json:"release"`
	Host     string    `json:"host"`
	Desk     string    `json:"desk"`
	Detail   string    `json:"detail"`
	Reported time.Time `json:"reported,omitzero"`
	Since    time.Time `json:"since,omitzero"` // since when it has been so
	Desks    int       `json:"desks"`          // that reported it; the worst of them is shown
}

// Row is a person with all clients.
type Row struct {
	Mail     string   `json:"mail"`
	Name     string   `json:"name"`
	Release  string   `json:"release"`  // that they should have; blank for none
	Wave     int      `json:"wave"`     // of that release; 0 for none
	Standing Standing `json:"standing"` // the worst of the clients
	Next     string   `json:"next"`     // what to do; blank for nothing
	Cells    []Cell   `json:"cells"`
}

// Filter says which rows are asked for; blank members are for all.
type Filter struct {
	Search   string
	Standing Standing
	Client   string
	Audience string
	Wave     int // of the newest release that is out
	Offset   int
	Limit    int // 0: all
}

// Matrix is people down and clients across.
type Matrix struct {
	Clients []string       `json:"clients"`
	Rows    []Row          `json:"rows"`
	Total   int            `json:"total"`   // rows that the filter leaves
	Counts  map[string]int `json:"counts"`  // people by standing, before the filter of the standing
	Desks   int            `json:"desks"`   // that have ever reported
	Release int            `json:"release"` // the newest that is out; 0 for none
	Waves   []WaveCount    `json:"waves"`
}

// WaveCount is how a wave stands.
type WaveCount struct {
	Number   int       `json:"number"`
	Audience string    `json:"audience"`
	Start    time.Time `json:"start,omitzero"`
	Share    int       `json:"share"`
	Opened   time.Time `json:"opened,omitzero"`
	People   int       `json:"people"`
	Good     int       `json:"good"`
	Wrong    int       `json:"wrong"`
	Silent   int       `json:"silent"`
}

// known is everything that is known of a person's signature.
type known struct {
	places []store.DeskPlace // by desks
	proofs []store.Proof     // by the page and the add-on
}

// board is everything that is known, by folded mail address.
func (d *Desks) board(ctx context.Context) (by map[string]known, desks int, err error) {
	by = map[string]known{}
	err = d.Store.Read(ctx, func(tx *store.Tx) error {
		all, err := tx.DeskPlaces()
		if err != nil {
			return err
		}
		for _, p := range all {
			k := by[p.Person]
			k.places = append(k.places, p)
			by[p.Person] = k
		}
		proofs, err := tx.Proofs()
		if err != nil {
			return err
		}
		for _, p := range proofs {
			k := by[p.Person]
			k.proofs = append(k.proofs, p)
			by[p.Person] = k
		}
		desks, err = tx.DeskCount()
		return err
	})
	return by, desks, err
}

// cells are what is known of a person's signature in each client, the worst of those of one client and way.
func (d *Desks) cells(v *view, wanted, mail string, k known) []Cell {
	cells := []Cell{}
	add := func(c Cell) {
		i := slices.IndexFunc(cells, func(other Cell) bool { return other.Client == c.Client && other.Way == c.Way })
		if i < 0 {
			cells = append(cells, c)
			return
		}
		c.Desks = cells[i].Desks + c.Desks
		if worse(c.Standing) > worse(cells[i].Standing) {
			cells[i] = c
		}
		cells[i].Desks = c.Desks
	}
	for _, place := range k.places {
		add(d.cell(v, wanted, mail, place))
	}
	for _, p := range k.proofs {
		add(d.proofCell(v, wanted, p))
	}
	return cells
}

// proofCell judges what the page or the add-on knows.
func (d *Desks) proofCell(v *view, wanted string, p store.Proof) Cell {
	c := Cell{Client: p.Client, Way: Way(p.Way), Standing: Unknown, Release: p.Release, Reported: p.At, Since: p.Since,
		Detail: strings.Join(p.Kinds, ", ")}
	switch proof.State(p.State) {
	case proof.Right:
		c.Standing = Good
		if wanted != "" && !d.holdsStill(v, wanted, p) {
			c.Standing = Older
			if p.Release == wanted {
				c.Standing = Stale
			}
		}
	case proof.Older:
		c.Standing = Older
	case proof.Altered, proof.Incomplete, proof.Another:
		c.Standing = Altered
		if c.Detail == "" {
			c.Detail = p.State
		}
	case proof.None:
		c.Standing = Missing
	}
	return c
}

// holdsStill reports whether a signature that was right is still what the person should have.
func (d *Desks) holdsStill(v *view, wanted string, p store.Proof) bool {
	if p.Kit != "" {
		if tag, err := d.tagOf(v, Asked{p.Person, p.Client}); err == nil {
			return tag.digest == p.Kit
		}
	}
	return p.Release == wanted
}

// ProofNow is the state of a proof as it stands now: what was right may be of a release before.
func (d *Desks) ProofNow(ctx context.Context, p store.Proof) (string, error) {
	v, err := d.look(ctx)
	if err != nil || p.State != string(proof.Right) {
		return p.State, err
	}
	if o, _ := v.reaching(p.Person); o != nil && !d.holdsStill(v, o.name, p) {
		return string(proof.Older), nil
	}
	return p.State, nil
}

// Proved says for whom everything that is known is right, by folded mail address.
func (d *Desks) Proved(ctx context.Context) (map[string]bool, error) {
	v, err := d.look(ctx)
	if err != nil {
		return nil, err
	}
	by, _, err := d.board(ctx)
	if err != nil {
		return nil, err
	}
	proved := map[string]bool{}
	for mail, k := range by {
		o, _ := v.reaching(mail)
		if o == nil {
			continue
		}
		cells := d.cells(v, o.name, mail, k)
		proved[mail] = len(cells) > 0 && !slices.ContainsFunc(cells, func(c Cell) bool { return c.Standing != Good })
	}
	return proved, nil
}

// Matrix gives the people with what their desks reported.
func (d *Desks) Matrix(ctx context.Context, f Filter) (Matrix, error) {
	m := Matrix{Clients: []string{}, Rows: []Row{}, Counts: map[string]int{}, Waves: []WaveCount{}}
	v, err := d.look(ctx)
	if err != nil {
		return m, err
	}
	by, desks, err := d.board(ctx)
	if err != nil {
		return m, err
	}
	m.Desks = desks
	directory, _, err := d.People.Directory(ctx)
	if err != nil {
		return m, err
	}
	seen := map[string]bool{}
	for _, k := range by {
		for _, p := range k.places {
			seen[p.Client] = true
		}
		for _, p := range k.proofs {
			seen[p.Client] = true
		}
	}
	for _, p := range v.book {
		if seen[p.ID] {
			m.Clients = append(m.Clients, p.ID)
		}
	}
	if len(v.out) > 0 {
		m.Release = v.out[0].ID
		if m.Waves, err = d.waves(ctx, v, v.out[0], by); err != nil {
			return m, err
		}
	}
	inAudience, err := d.inAudience(ctx, f.Audience)
	if err != nil {
		return m, err
	}
	search := strings.ToLower(strings.TrimSpace(f.Search))
	for i := range directory.People {
		p := &directory.People[i]
		if inAudience != nil && !inAudience(p) {
			continue
		}
		row := d.row(v, directory, p, by)
		if search != "" && !strings.Contains(strings.ToLower(row.Mail+"\n"+row.Name), search) || f.Wave > 0 && row.Wave != f.Wave ||
			f.Client != "" && !slices.ContainsFunc(row.Cells, func(c Cell) bool { return c.Client == f.Client }) {
			continue
		}
		m.Counts[string(row.Standing)]++
		if f.Standing != "" && row.Standing != f.Standing {
			continue
		}
		if m.Total++; m.Total > f.Offset && (f.Limit == 0 || len(m.Rows) < f.Limit) {
			m.Rows = append(m.Rows, row)
		}
	}
	return m, nil
}

// inAudience reports who is in one of the organisation's audiences; nil for everybody.
func (d *Desks) inAudience(ctx context.Context, name string) (func(*person.Person) bool, error) {
	if name == "" {
		return nil, nil
	}
	w, err := d.People.Who(ctx)
	if err != nil {
		return nil, err
	}
	if !w.Set.Has(name) {
		return nil, problem.Missing("audience", name)
	}
	return func(p *person.Person) bool { return w.Set.In(name, p) }, nil
}

// row is one person.
func (d *Desks) row(v *view, directory *person.Directory, p *person.Person, by map[string]known) Row {
	r := Row{Mail: directory.Get(p, "mail"), Name: directory.Get(p, "cn"), Cells: []Cell{}, Standing: None}
	o, at := v.reaching(r.Mail)
	if o != nil {
		r.Release = fmt.Sprint(o.ID)
		for i, w := range o.Waves {
			if !w.Opened.IsZero() && o.Live.Set.In(w.Audience, &o.Directory.People[at]) {
				r.Wave = i + 1
				break
			}
		}
	}
	r.Cells = d.cells(v, r.Release, r.Mail, by[fold(r.Mail)])
	for i, c := range r.Cells {
		if i == 0 || worse(c.Standing) > worse(r.Standing) {
			r.Standing = c.Standing
		}
	}
	r.Next = next(r)
	return r
}

// worse orders standings.
func worse(s Standing) int { return slices.Index(standings, s) }

// cell judges what a desk reported of a place.
func (d *Desks) cell(v *view, wanted, mail string, p store.DeskPlace) Cell {
	c := Cell{Client: p.Client, Way: ByDesk, Since: p.Placed, Standing: Good, Release: p.Release, Host: p.Host, Desk: p.Desk, Detail: p.Detail,
		Reported: p.Reported, Desks: 1}
	switch {
	case p.Proof == string(desk.Altered):
		c.Standing = Altered
	case p.Proof == string(desk.Missing):
		c.Standing = Missing
	case p.Proof == string(desk.Unknown):
		c.Standing = Unknown
	case d.Now().Sub(p.Reported) > longSilence:
		c.Standing = Quiet
	case wanted == "":
	case p.Release != wanted:
		c.Standing = Older
	default:
		if tag, err := d.tagOf(v, Asked{mail, p.Client}); err == nil && p.Kit != tag.digest && p.Kit != tag.packed {
			c.Standing = Stale
			c.Detail = "the person's values, or a dated piece, changed since it was placed"
		}
	}
	return c
}

// afterAddOn says what to do about what the add-on reports.
var afterAddOn = map[addon.Outcome]string{
	addon.OwnBox:  "ask the person to delete the signature in the settings of the webmail",
	addon.Another: "ask the person to switch off the other add-on that puts a signature in",
	addon.Unknown: "record the compose field of the webmail again: the add-on does not recognise it",
	addon.Changed: "look at the compose field of the webmail: the page takes the signature out again",
}

// next says what to do about a person's row.
func next(r Row) string {
	worst := func(way Way) int {
		return slices.IndexFunc(r.Cells, func(c Cell) bool { return c.Standing == r.Standing && c.Way == way })
	}
	if at := worst(ByAddOn); at >= 0 && worst(ByPage) < 0 && worst(ByDesk) < 0 && r.Standing != Good {
		if what := afterAddOn[addon.Outcome(r.Cells[at].Detail)]; what != "" {
			return what
		}
		return "it is renewed by the add-on with the next message"
	}
	byHand := worst(ByPage) >= 0
	switch r.Standing {
	case Altered, Missing, Stale, Older:
		switch {
		case byHand:
			return "send a reminder: the person pastes it again"
		case r.Standing == Altered || r.Standing == Missing:
			return "it is put right at the desk's next round"
		}
		return "it is placed at the desk's next round, once the mail client is closed"
	case Quiet:
		return "ask whether the desk is still in use"
	case Unknown:
		if byHand {
			return "ask the person to check it once more"
		}
		return "look at the desk: what is there cannot be read"
	case None:
		if r.Release != "" {
			return "invite the person, start missivum desk watch on the desk, or send the kit"
		}
	}
	return ""
}

// waves counts how the waves of a release stand.
func (d *Desks) waves(_ context.Context, v *view, o *one, by map[string]known) ([]WaveCount, error) {
	list := make([]WaveCount, len(o.Waves))
	for i, w := range o.Waves {
		list[i] = WaveCount{Number: i + 1, Audience: w.Audience, Start: w.Start, Share: w.Share, Opened: w.Opened}
	}
	column, _, _ := o.Directory.Schema.Column("mail")
	for i := range o.Directory.People {
		p := &o.Directory.People[i]
		for n := range o.Waves {
			if !o.Live.Set.In(o.Waves[n].Audience, p) {
				continue
			}
			list[n].People++
			good, wrong := 0, 0
			mail := p.At(column)
			for _, c := range d.cells(v, fmt.Sprint(o.ID), mail, by[fold(mail)]) {
				switch c.Standing {
				case Good:
					good++
				case Altered, Missing, Unknown:
					wrong++
				}
			}
			switch {
			case wrong > 0:
				list[n].Wrong++
			case good > 0:
				list[n].Good++
			default:
				list[n].Silent++
			}
			break // the first wave that somebody is in is theirs
		}
	}
	return list, nil
}

// Waves counts how the waves of a release that is out stand.
func (d *Desks) Waves(ctx context.Context, id int) ([]WaveCount, error) {
	v, err := d.look(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range v.out {
		if o.ID == id {
			by, _, err := d.board(ctx)
			if err != nil {
				return nil, err
			}
			return d.waves(ctx, v, o, by)
		}
	}
	return []WaveCount{}, nil
}

// Samples is how a wave stood over time.
func (d *Desks) Samples(ctx context.Context, id, wave int) (list []store.Sample, err error) {
	err = d.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.Samples(id, wave)
		return err
	})
	return list, err
}

// RemoveDesk forgets a desk.
func (d *Desks) RemoveDesk(ctx context.Context, id string) error {
	return d.Store.Write(ctx, func(tx *store.Tx) error { return tx.RemoveDesk(id) })
}

// Watch begins waves whose time has come and notes how waves stand, until the context ends.
func (d *Desks) Watch(ctx context.Context, every time.Duration) {
	jobs.Every(ctx, every, d.Log, "waves", d.Step)
}

// Step begins the waves whose time has come, and notes how waves stand.
func (d *Desks) Step(ctx context.Context) error {
	v, err := d.look(ctx)
	if err != nil || len(v.out) == 0 {
		return err
	}
	by, _, err := d.board(ctx)
	if err != nil {
		return err
	}
	for _, o := range v.out {
		counts, err := d.waves(ctx, v, o, by)
		if err != nil {
			return err
		}
		if err := d.Store.Write(ctx, func(tx *store.Tx) error { return d.step(tx, o.ID, counts) }); err != nil {
			return err
		}
	}
	return nil
}

// step does it for one release.
func (d *Desks) step(tx *store.Tx, id int, counts []WaveCount) error {
	record, err := tx.Release(id) // as it is now
	if err != nil || record.State != release.Out || len(record.Waves) != len(counts) {
		return err
	}
	for i, w := range record.Waves {
		if !w.Opened.IsZero() {
			if err := tx.AddSample(id, i+1, store.Sample{Good: counts[i].Good, Wrong: counts[i].Wrong, Silent: counts[i].Silent}); err != nil {
				return err
			}
			continue
		}
		before := true
		if i > 0 {
			b := counts[i-1]
			before = !record.Waves[i-1].Opened.IsZero() && b.Good*100 >= record.Waves[i-1].Share*b.People
		}
		if record.Paused || !before || w.Start.After(tx.At()) {
			return nil
		}
		return tx.OpenWave(id, i+1) // the one behind it waits for another look
	}
	return nil
}
