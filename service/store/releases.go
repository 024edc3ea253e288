package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"missivum/core/problem"
	"missivum/core/release"
)

// Release is the record of a release.
type Release struct {
	ID          int
	Title       string
	Note        string
	State       release.State
	Frozen      release.Frozen
	Digest      string
	Before      int // the release that was out when this one was made; 0 for none
	Examined    []release.Examined
	Differences []release.Difference
	Paused      bool
	MadeBy      string
	Made        time.Time
	ApprovedBy  string
	Approved    time.Time
	Approval    string
	Out         time.Time
	WithdrawnBy string
	Withdrawn   time.Time
	Waves       []release.Wave
}

const releaseColumns = `id, title, note, state, frozen, digest, before, examined, differences, paused, made_by, ` +
	`made_at, approved_by, approved_at,
	approval, out_at, withdrawn_by, withdrawn_at`

// scanRelease reads a row of releases.
func scanRelease(row scanner) (Release, error) {
	var r Release
	var frozen, examined, differences, made, approved, out, withdrawn string
	err := row.Scan(&r.ID, &r.Title, &r.Note, &r.State, &frozen, &r.Digest, &r.Before, &examined, &differences, &r.Paused, &r.MadeBy, &made,
		&r.ApprovedBy, &approved, &r.Approval, &out, &r.WithdrawnBy, &withdrawn)
	if err != nil {
		return r, err
	}
	r.Made, r.Approved, r.Out, r.Withdrawn = parseStamp(made), parseStamp(approved), parseStamp(out), parseStamp(withdrawn)
	return r, errors.Join(json.Unmarshal([]byte(frozen), &r.Frozen), json.Unmarshal([]byte(examined), &r.Examined),
		json.Unmarshal([]byte(differences), &r.Differences))
}

// AddRelease stores a release with its number; people are those that are frozen, nil where they stay live.
func (tx *Tx) AddRelease(r Release, people []byte) (Release, error) {
	frozen, err := json.Marshal(r.Frozen)
	if err != nil {
		return r, err
	}
	r.Digest, r.MadeBy, r.Made, r.State = r.Frozen.Digest(), tx.by.Name, tx.at, release.Draft
	id, err := tx.insert(`INSERT INTO releases (title, note, state, frozen, digest, people, before, examined, differences, made_by, made_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, '[]', '[]', ?, ?)`, r.Title, r.Note, r.State, string(frozen), r.Digest, people,
		r.Before, r.MadeBy, stamp(tx.at))
	if err != nil {
		return r, err
	}
	r.ID = int(id)
	return r, tx.releaseChanged("made", r.ID, r.Digest)
}

// releaseChanged records a change of a release, and that what desks get may be another.
func (tx *Tx) releaseChanged(action string, id int, detail string) error {
	if err := tx.count("releases"); err != nil {
		return err
	}
	tx.After(func() { tx.store.releases.Add(1) })
	return tx.changed(action, "release", strconv.Itoa(id), detail)
}

// count raises a counter.
func (tx *Tx) count(name string) error {
	_, err := tx.exec(`INSERT INTO counters (name, n) VALUES (?, 1) ON CONFLICT (name) DO UPDATE SET n = n + 1`, name)
	return err
}

// ReleaseRevision is raised by every change of a release or a wave.
func (tx *Tx) ReleaseRevision() (n int, err error) {
	err = tx.row(`SELECT COALESCE((SELECT n FROM counters WHERE name = 'releases'), 0)`).Scan(&n)
	return n, err
}

// Release reads one release with its waves.
func (tx *Tx) Release(id int) (Release, error) {
	r, err := scanRelease(tx.row(`SELECT `+releaseColumns+` FROM releases WHERE id = ?`, id))
	if err != nil {
		return r, missing("release", strconv.Itoa(id), err)
	}
	r.Waves, err = tx.waves(id)
	return r, err
}

// Releases lists all releases, newest first.
func (tx *Tx) Releases() ([]Release, error) {
	all, err := list(tx, scanRelease, `SELECT `+releaseColumns+` FROM releases ORDER BY id DESC`)
	for i := range all {
		if err == nil {
			all[i].Waves, err = tx.waves(all[i].ID)
		}
	}
	return all, err
}

// FrozenPeople reads the people that a release froze, as they were stored; nil where they stay live.
func (tx *Tx) FrozenPeople(id int) (people []byte, err error) {
	err = tx.row(`SELECT people FROM releases WHERE id = ?`, id).Scan(&people)
	return people, missing("release", strconv.Itoa(id), err)
}

// waves reads a release's waves in their order.
func (tx *Tx) waves(id int) ([]release.Wave, error) {
	return list(tx, func(row scanner) (w release.Wave, err error) {
		var start, opened string
		err = row.Scan(&w.Audience, &start, &w.Share, &opened)
		w.Start, w.Opened = parseStamp(start), parseStamp(opened)
		return w, err
	}, `SELECT audience, start, share, opened_at FROM waves WHERE release_id = ? ORDER BY number`, id)
}

// step brings a release into another state, which must be one that it can come into.
func (tx *Tx) step(id int, to release.State) error {
	r, err := tx.Release(id)
	if err != nil {
		return err
	}
	if err := r.State.Step(to); err != nil {
		return err
	}
	return tx.execOne("release", strconv.Itoa(id), `UPDATE releases SET state = ? WHERE id = ?`, to, id)
}

// CheckedRelease stores what the checks found in a release, and what is not as before.
func (tx *Tx) CheckedRelease(id int, examined []release.Examined, differences []release.Difference) error {
	if err := tx.step(id, release.Checked); err != nil {
		return err
	}
	e, err := json.Marshal(examined)
	if err != nil {
		return err
	}
	d, err := json.Marshal(differences)
	if err != nil {
		return err
	}
	if _, err := tx.exec(`UPDATE releases SET examined = ?, differences = ? WHERE id = ?`, string(e), string(d), id); err != nil {
		return err
	}
	return tx.releaseChanged("checked", id, "")
}

// ApproveRelease stores who approves a release, and what they say.
func (tx *Tx) ApproveRelease(id int, says string) error {
	if err := tx.step(id, release.Approved); err != nil {
		return err
	}
	if _, err := tx.exec(`UPDATE releases SET approved_by = ?, approved_at = ?, approval = ? WHERE id = ?`, tx.by.Name,
		stamp(tx.at), says, id); err != nil {
		return err
	}
	return tx.releaseChanged("approved", id, says)
}

// SendRelease stores that a release is out, with its waves.
func (tx *Tx) SendRelease(id int, waves []release.Wave) error {
	if err := tx.step(id, release.Out); err != nil {
		return err
	}
	if _, err := tx.exec(`UPDATE releases SET out_at = ? WHERE id = ?`, stamp(tx.at), id); err != nil {
		return err
	}
	for i, w := range waves {
		if _, err := tx.exec(`INSERT INTO waves (release_id, number, audience, start, share) VALUES (?, ?, ?, ?, ?)`, id, i+
			1, w.Audience, stamp(w.Start), w.Share); err != nil {
			return err
		}
	}
	return tx.releaseChanged("sent out", id, fmt.Sprintf("%d waves", len(waves)))
}

// OpenWave stores that a wave has begun; number counts from 1.
func (tx *Tx) OpenWave(id, number int) error {
	err := tx.execOne("wave", strconv.Itoa(number),
		`UPDATE waves SET opened_at = ? WHERE release_id = ? AND number = ? AND opened_at = ''`, stamp(tx.at), id, number)
	if err != nil {
		return err
	}
	return tx.releaseChanged("wave begun", id, strconv.Itoa(number))
}

// PauseRelease stores whether the waves of a release wait.
func (tx *Tx) PauseRelease(id int, paused bool) error {
	action := "resumed"
	if paused {
		action = "paused"
	}
	result, err := tx.exec(`UPDATE releases SET paused = ? WHERE id = ? AND state = ?`, paused, id, release.Out)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, problem.New(problem.Conflict, "The release %d is not out.", id))
	}
	return tx.releaseChanged(action, id, "")
}

// WithdrawRelease stores that a release is withdrawn.
func (tx *Tx) WithdrawRelease(id int) error {
	if err := tx.step(id, release.Withdrawn); err != nil {
		return err
	}
	if _, err := tx.exec(`UPDATE releases SET withdrawn_by = ?, withdrawn_at = ? WHERE id = ?`, tx.by.Name, stamp(tx.at), id); err != nil {
		return err
	}
	return tx.releaseChanged("withdrawn", id, "")
}

// RemoveRelease deletes a release that was never out.
func (tx *Tx) RemoveRelease(id int) error {
	r, err := tx.Release(id)
	if err != nil {
		return err
	}
	if r.State.Kept() {
		return problem.New(problem.Conflict, "The release %d is %s, and is kept.", id, r.State)
	}
	if err := tx.execOne("release", strconv.Itoa(id), `DELETE FROM releases WHERE id = ?`, id); err != nil {
		return err
	}
	return tx.releaseChanged("deleted", id, r.Digest)
}

// Sample is how a wave stood at a moment.
type Sample struct {
	At     time.Time
	Good   int
	Wrong  int
	Silent int
}

// mostSamples is how many samples of a wave are kept; of older ones every other goes.
const mostSamples = 400

// AddSample stores how a wave stands, unless it stands as it did.
func (tx *Tx) AddSample(id, wave int, s Sample) error {
	var last Sample
	err := tx.row(`SELECT good, wrong, silent FROM wave_samples WHERE release_id = ? AND wave = ? ORDER BY at DESC LIMIT 1`, id, wave).
		Scan(&last.Good, &last.Wrong, &last.Silent)
	if err == nil && last == (Sample{Good: s.Good, Wrong: s.Wrong, Silent: s.Silent}) {
		return nil
	}
	if _, err := tx.exec(`INSERT OR REPLACE INTO wave_samples (release_id, wave, at, good, wrong, silent) VALUES (?, ?, ?, ?, ?, ?)`,
		id, wave, stamp(tx.at), s.Good, s.Wrong, s.Silent); err != nil {
		return err
	}
	_, err = tx.exec(`DELETE FROM wave_samples WHERE release_id = ?1 AND wave = ?2 AND at IN (
		SELECT at FROM (SELECT at, row_number() OVER (ORDER BY at) AS n, count(*) OVER () AS all_of FROM wave_samples WHERE `+
		`release_id = ?1 AND wave = ?2)
		WHERE all_of > ?3 AND n % 2 = 0 AND n < all_of)`, id, wave, mostSamples)
	return err
}

// Samples lists how a wave stood, in the order of time.
func (tx *Tx) Samples(id, wave int) ([]Sample, error) {
	return list(tx, func(row scanner) (s Sample, err error) {
		var at string
		err = row.Scan(&at, &s.Good, &s.Wrong, &s.Silent)
		s.At = parseStamp(at)
		return s, err
	}, `SELECT at, good, wrong, silent FROM wave_samples WHERE release_id = ? AND wave = ? ORDER BY at`, id, wave)
}
