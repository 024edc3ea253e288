package people

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/service/files"
)

// statesKept is how many states of the directory are kept, the newest.
const statesKept = 3

// State is the directory as it was before an import.
type State struct {
	Revision int       `json:"revision"`
	Until    time.Time `json:"until"` // when it was replaced
	Bytes    int64     `json:"bytes"`
}

// Start readies the folder.
func (p *People) Start() error {
	if p.Folder == "" {
		return nil
	}
	if err := os.MkdirAll(p.Folder, 0o750); err != nil {
		return fmt.Errorf("the folder for people: %w", err)
	}
	return files.Sweep(p.Folder, files.Half+"*")
}

// stateFile is where a state lies.
func (p *People) stateFile(revision int) string {
	return filepath.Join(p.Folder, "people-"+strconv.Itoa(revision)+".csv")
}

// keep writes the directory as it is before a plan changes it, and forgets the oldest of more than three states.
func (p *People) keep(plan *Plan) error {
	if p.Folder == "" || plan.before == nil || len(plan.before.People) == 0 || plan.Added+plan.Changed+plan.Removed == 0 {
		return nil
	}
	if err := files.Write(p.stateFile(plan.Revision), func(w io.Writer) error { return person.WriteCSV(w, plan.before) }); err != nil {
		return fmt.Errorf("keeping the people as they were: %w", err)
	}
	list, err := p.States()
	if err != nil {
		return err
	}
	for _, old := range list[min(statesKept, len(list)):] {
		if err := os.Remove(p.stateFile(old.Revision)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// States lists the states that are kept, the newest first.
func (p *People) States() ([]State, error) {
	list := []State{}
	if p.Folder == "" {
		return list, nil
	}
	entries, err := os.ReadDir(p.Folder)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		name, ok := strings.CutPrefix(e.Name(), "people-")
		revision, err := strconv.Atoi(strings.TrimSuffix(name, ".csv"))
		if !ok || err != nil {
			continue
		}
		info, err := e.Info()
		if err != nil {
			return nil, err
		}
		list = append(list, State{Revision: revision, Until: info.ModTime().UTC(), Bytes: info.Size()})
	}
	slices.SortFunc(list, func(a, b State) int { return b.Revision - a.Revision })
	return list, nil
}

// OpenState opens a state as CSV, to be looked at or imported again.
func (p *People) OpenState(revision int) (*os.File, error) {
	f, err := os.Open(p.stateFile(revision))
	if errors.Is(err, fs.ErrNotExist) || p.Folder == "" {
		return nil, problem.New(problem.NotFound, "The people of revision %d are not kept; the last %d states are.", revision, statesKept)
	}
	return f, err
}
