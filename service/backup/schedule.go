package backup

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"missivum/service/jobs"
)

// How the names of backups in a folder are made, so that they sort by time.
const (
	namePrefix = "missivum-"
	nameTime   = "20060102-150405"
	nameSuffix = ".zip"
)

// Name is the name of a backup that is made at a time.
func Name(at time.Time) string { return namePrefix + at.UTC().Format(nameTime) + nameSuffix }

// Kept is a backup in a folder.
type Kept struct {
	File string
	At   time.Time
	Size int64
}

// In lists the backups of a folder, the newest first. Other files are none of ours.
func In(folder string) ([]Kept, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	var list []Kept
	for _, e := range entries {
		text, ok := strings.CutPrefix(e.Name(), namePrefix)
		at, err := time.Parse(nameTime, strings.TrimSuffix(text, nameSuffix))
		if !ok || err != nil || !strings.HasSuffix(e.Name(), nameSuffix) {
			continue
		}
		info, err := e.Info()
		if err != nil {
			continue // removed meanwhile
		}
		list = append(list, Kept{filepath.Join(folder, e.Name()), at, info.Size()})
	}
	sort.Slice(list, func(i, j int) bool { return list[i].At.After(list[j].At) })
	return list, nil
}

// Thinned says which of some backups are too many, the newest first: all of the last two days are kept, then the last of each
// day for two weeks, of each week for two months, and of each month for two years. The newest is always kept.
func Thinned(list []Kept, now time.Time) (surplus []Kept) {
	seen := map[string]bool{}
	for i, k := range list {
		age := now.Sub(k.At)
		year, week := k.At.ISOWeek()
		slot := ""
		switch day := 24 * time.Hour; {
		case i == 0 || age <= 2*day:
			continue
		case age <= 14*day:
			slot = k.At.Format(time.DateOnly)
		case age <= 62*day:
			slot = fmt.Sprintf("%d week %d", year, week)
		case age <= 731*day:
			slot = k.At.Format("2006-01")
		default:
			surplus = append(surplus, k)
			continue
		}
		if seen[slot] {
			surplus = append(surplus, k)
		}
		seen[slot] = true
	}
	return surplus
}

// Rule is the rule of Thinned in words.
const Rule = "all of the last two days, then the last of each day for two weeks, of each week for two months, and " +
	"of each month for two years"

// Schedule makes backups of a data folder again and again.
type Schedule struct {
	Data    string
	Folder  string // that they are kept in; blank for no schedule
	Every   time.Duration
	Program string
	Now     func() time.Time
	Log     *slog.Logger
}

// Watch makes a backup whenever the last is older than Every, and thins out old ones, until the context ends. What goes wrong is
// logged and tried again after a quarter of an hour.
func (s *Schedule) Watch(ctx context.Context) {
	if s.Folder == "" {
		return
	}
	wait := min(s.Every, 15*time.Minute)
	if err := s.Due(ctx); err != nil {
		s.Log.Error("making a backup", "error", err)
	}
	jobs.Every(ctx, wait, s.Log, "backup", s.Due)
}

// Due makes a backup if it is time, and thins out old ones.
func (s *Schedule) Due(ctx context.Context) error {
	if err := os.MkdirAll(s.Folder, 0o750); err != nil {
		return err
	}
	list, err := In(s.Folder)
	if err != nil {
		return err
	}
	now := s.Now()
	if len(list) > 0 && now.Sub(list[0].At) < s.Every {
		return nil
	}
	file := filepath.Join(s.Folder, Name(now))
	made, err := Make(ctx, s.Data, file, s.Program, now, nil)
	if err != nil {
		return err
	}
	s.Log.Info("a backup was made", "file", file, "files", len(made.Files), "bytes", made.Bytes())
	if list, err = In(s.Folder); err != nil {
		return err
	}
	for _, k := range Thinned(list, now) {
		if err := os.Remove(k.File); err != nil {
			return err
		}
		s.Log.Info("an old backup was removed", "file", k.File)
	}
	return nil
}
