package store

import (
	"strings"
	"testing"
	"time"

	"missivum/core/problem"
)

func TestPictureVersions(t *testing.T) {
	s := open(t)
	for i, c := range []struct {
		name, content string
		want          int
	}{{"logo", "one", 1}, {"logo", "two", 2}, {"logo", "two", 2}, {"logo", "one", 3}, {"banner", "two", 1}} {
		s.write(func(tx *Tx) error {
			n, err := tx.SavePicture(PictureVersion{Picture: c.name, Facts: "{}", File: c.name + ".png", Note: c.content}, []byte(c.content))
			if n != c.want {
				t.Errorf("%d: %s is version %d, want %d", i, c.content, n, c.want)
			}
			return err
		})
	}
	s.read(func(tx *Tx) error {
		versions, err := tx.PictureVersions("logo")
		if err != nil || len(versions) != 3 || versions[0].Number != 3 || versions[0].SHA256 != versions[2].SHA256 ||
			versions[1].Author != "owner" || !versions[0].Created.Equal(now) {
			t.Errorf("%+v, %v", versions, err)
		}
		if data, err := tx.PictureContent(versions[1].SHA256); err != nil || string(data) != "two" {
			t.Errorf("%q, %v", data, err)
		}
		if all, err := tx.PictureVersions(""); err != nil || len(all) != 4 || all[0].Picture != "banner" {
			t.Errorf("%+v, %v", all, err)
		}
		if _, err := tx.PictureVersions("none"); !problem.Is(err, problem.NotFound) {
			t.Errorf("a picture that is not there: %v", err)
		}
		if _, err := tx.PictureContent("none"); !problem.Is(err, problem.NotFound) {
			t.Errorf("a content that is not there: %v", err)
		}
		return nil
	})
}

func TestWhatIsKnownOfAPicture(t *testing.T) {
	s := open(t)
	for what, change := range map[string]func(*Tx) error{
		"alts":   func(tx *Tx) error { return tx.PutPictureAlts("logo", nil) },
		"slices": func(tx *Tx) error { return tx.PutPictureSlices("logo", "{}") },
	} {
		if err := s.Write(acting, change); !problem.Is(err, problem.NotFound) {
			t.Errorf("%s of a picture that is not there: %v", what, err)
		}
	}
	s.write(func(tx *Tx) error {
		_, err := tx.SavePicture(PictureVersion{Picture: "logo", Facts: "{}"}, []byte("one"))
		return err
	})
	for _, alts := range []map[string]string{{"en": "Ferry", "sv": "Färja"}, {"de": "Fähre"}} { // the second takes the place of the first
		s.write(func(tx *Tx) error { return tx.PutPictureAlts("logo", alts) })
		s.read(func(tx *Tx) error {
			if got, err := tx.PictureAlts("logo"); err != nil || len(got) != len(alts) || got["de"] != alts["de"] || got["sv"] != alts["sv"] {
				t.Errorf("%v, %v", got, err)
			}
			return nil
		})
	}
	s.write(func(tx *Tx) error {
		if text, err := tx.PictureSlices("logo"); err != nil || text != "" {
			t.Errorf("%q, %v", text, err)
		}
		if err := tx.PutPictureSlices("logo", `{"width":10}`); err != nil {
			return err
		}
		for range 2 { // the same again is one
			if err := tx.SaveRendition(Rendition{Picture: "logo", Number: 1, Key: "k.png", Recipe: `{"width":5}`,
				Facts: "{}", Difference: 0.25}, []byte("small")); err != nil {
				return err
			}
		}
		return nil
	})
	s.read(func(tx *Tx) error {
		if text, err := tx.PictureSlices("logo"); err != nil || text != `{"width":10}` {
			t.Errorf("%q, %v", text, err)
		}
		list, err := tx.Renditions("logo")
		if err != nil || len(list) != 1 || list[0].Recipe != `{"width":5}` || list[0].Key != "k.png" ||
			list[0].Difference != 0.25 || !list[0].Created.Equal(now) {
			t.Errorf("%+v, %v", list, err)
		}
		return nil
	})
	err := s.Write(acting, func(tx *Tx) error {
		return tx.SaveRendition(Rendition{Picture: "logo", Number: 9, Recipe: "{}", Facts: "{}"}, []byte("small"))
	})
	if err == nil {
		t.Error("a rendition of a version that is not there is stored")
	}
}

func TestHostedPicturesStayUntilTheyAreWithdrawn(t *testing.T) {
	s := open(t)
	s.write(func(tx *Tx) error {
		if err := tx.HostPicture("a.png", []byte("one")); err != nil {
			return err
		}
		return tx.HostPicture("b.png", []byte("two"))
	})
	s.clock(now.AddDate(1, 0, 0))
	s.write(func(tx *Tx) error { return tx.HostPicture("a.png", []byte("one")) })
	s.read(func(tx *Tx) error {
		data, since, err := tx.HostedPicture("a.png")
		if err != nil || string(data) != "one" || !since.Equal(now) {
			t.Errorf("%q since %v, %v", data, since, err)
		}
		if data, _, err := tx.HostedPicture("b.png"); err != nil || string(data) != "two" {
			t.Errorf("%q, %v", data, err)
		}
		if _, _, err := tx.HostedPicture("c.png"); !problem.Is(err, problem.NotFound) {
			t.Errorf("what is not hosted: %v", err)
		}
		if keys, err := tx.HostedKeys(); err != nil || strings.Join(keys, " ") != "a.png b.png" {
			t.Errorf("%v, %v", keys, err)
		}
		return nil
	})
	s.write(func(tx *Tx) error { return tx.WithdrawPicture("a.png") })
	if err := s.Write(acting, func(tx *Tx) error { return tx.WithdrawPicture("a.png") }); !problem.Is(err, problem.NotFound) {
		t.Errorf("withdrawn twice: %v", err)
	}
}

func TestSettingsAndAddressChecks(t *testing.T) {
	s := open(t)
	type settings struct{ Address string }
	s.read(func(tx *Tx) error {
		v := settings{"as it was"}
		if err := tx.Setting("pictures", &v); err != nil || v.Address != "as it was" {
			t.Errorf("%+v, %v", v, err)
		}
		return nil
	})
	for _, value := range []string{"one", "two"} {
		s.write(func(tx *Tx) error {
			if err := tx.PutSetting("pictures", settings{value}); err != nil {
				return err
			}
			var v settings
			if err := tx.Setting("pictures", &v); err != nil || v.Address != value {
				t.Errorf("%+v, %v", v, err)
			}
			return nil
		})
	}
	for _, c := range []AddressCheck{{"https://a.example/", "crew", "1", now},
		{"https://b.example/", "", "2", now.AddDate(0, 0, 1)}, {"https://a.example/", "crew", "3", now.AddDate(0, 0, 2)}} {
		s.write(func(tx *Tx) error { return tx.PutAddressCheck(c) })
	}
	s.read(func(tx *Tx) error {
		if list, err := tx.AddressChecks(); err != nil || len(list) != 2 || list[0].Report != "3" ||
			list[0].Template != "crew" || list[1].Report != "2" {
			t.Errorf("%+v, %v", list, err)
		}
		return nil
	})
}

// TestNewestFirstWithinASecond: times that differ by less than a second sort as they were, and those that do not
// differ at all as they were written.
func TestNewestFirstWithinASecond(t *testing.T) {
	s := open(t)
	second := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	steps := []time.Time{second, second.Add(5 * time.Microsecond), second.Add(500 * time.Millisecond),
		second.Add(500 * time.Millisecond), second.Add(time.Second)}
	for i, at := range steps {
		s.clock(at)
		s.write(func(tx *Tx) error {
			_, err := tx.AddJob(Job{ID: string(rune('a' + i)), Kind: "package", Input: "{}"})
			return err
		})
	}
	s.read(func(tx *Tx) error {
		list, err := tx.Jobs("", 10)
		got := ""
		for _, j := range list {
			got += j.ID
		}
		if err != nil || got != "edcba" {
			t.Errorf("%s, %v", got, err)
		}
		return nil
	})
	for text, want := range map[string]string{"2026-01-01T00:00:00.000000000Z": "2026-01-01T00:00:00.000000000Z", "": ""} {
		if got := stamp(parseStamp(text)); got != want {
			t.Errorf("%s comes back as %s", text, got)
		}
	}
}
