package store

import (
	"bytes"
	"context"
	"errors"
	"testing"
)

func TestPictureVersions(t *testing.T) {
	s, ctx := open(t), context.Background()
	save := func(name, content string) int {
		t.Helper()
		n, err := s.SavePicture(ctx, PictureVersion{Picture: name, Facts: "{}", File: name + ".png", Note: content, Author: "Imogen", Created: now}, []byte(content))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	for i, c := range []struct {
		name, content string
		want          int
	}{{"logo", "one", 1}, {"logo", "two", 2}, {"logo", "two", 2}, {"logo", "one", 3}, {"banner", "two", 1}} {
		if n := save(c.name, c.content); n != c.want {
			t.Errorf("%d: %s is version %d, want %d", i, c.content, n, c.want)
		}
	}
	versions, err := s.PictureVersions(ctx, "logo")
	if err != nil || len(versions) != 3 || versions[0].Number != 3 || versions[0].SHA256 != versions[2].SHA256 || versions[1].Author != "Imogen" || !versions[0].Created.Equal(now) {
		t.Errorf("%+v, %v", versions, err)
	}
	if data, err := s.PictureContent(ctx, versions[1].SHA256); err != nil || string(data) != "two" {
		t.Errorf("%q, %v", data, err)
	}
	if all, err := s.PictureVersions(ctx, ""); err != nil || len(all) != 4 || all[0].Picture != "banner" {
		t.Errorf("%+v, %v", all, err)
	}
	if _, err := s.PictureVersions(ctx, "none"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a picture that is not there: %v", err)
	}
	if _, err := s.PictureContent(ctx, "none"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a content that is not there: %v", err)
	}
}

func TestWhatIsKnownOfAPicture(t *testing.T) {
	s, ctx := open(t), context.Background()
	for what, err := range map[string]error{"alts": s.PutPictureAlts(ctx, "logo", nil), "slices": s.PutPictureSlices(ctx, "logo", "{}")} {
		if !errors.Is(err, ErrNotFound) {
			t.Errorf("%s of a picture that is not there: %v", what, err)
		}
	}
	if _, err := s.SavePicture(ctx, PictureVersion{Picture: "logo", Facts: "{}", Created: now}, []byte("one")); err != nil {
		t.Fatal(err)
	}
	for _, alts := range []map[string]string{{"en": "Ferry", "sv": "Färja"}, {"de": "Fähre"}} { // the second takes the place of the first
		if err := s.PutPictureAlts(ctx, "logo", alts); err != nil {
			t.Fatal(err)
		}
		if got, err := s.PictureAlts(ctx, "logo"); err != nil || len(got) != len(alts) || got["de"] != alts["de"] || got["sv"] != alts["sv"] {
			t.Errorf("%v, %v", got, err)
		}
	}
	if text, err := s.PictureSlices(ctx, "logo"); err != nil || text != "" {
		t.Errorf("%q, %v", text, err)
	}
	if err := s.PutPictureSlices(ctx, "logo", `{"width":10}`); err != nil {
		t.Fatal(err)
	}
	if text, err := s.PictureSlices(ctx, "logo"); err != nil || text != `{"width":10}` {
		t.Errorf("%q, %v", text, err)
	}
	for range 2 { // the same again is one
		if err := s.SaveRendition(ctx, Rendition{Picture: "logo", Number: 1, Recipe: `{"width":5}`, Facts: "{}", Difference: 0.25, Created: now}, []byte("small")); err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.Renditions(ctx, "logo")
	if err != nil || len(list) != 1 || list[0].Recipe != `{"width":5}` || list[0].Difference != 0.25 || !list[0].Created.Equal(now) {
		t.Errorf("%+v, %v", list, err)
	}
	if err := s.SaveRendition(ctx, Rendition{Picture: "logo", Number: 9, Recipe: "{}", Facts: "{}"}, []byte("small")); err == nil {
		t.Error("a rendition of a version that is not there is stored")
	}
}

func TestHostedPicturesStay(t *testing.T) {
	s, ctx := open(t), context.Background()
	if err := s.HostPictures(ctx, map[string][]byte{"a.png": []byte("one"), "b.png": []byte("two")}, now); err != nil {
		t.Fatal(err)
	}
	if err := s.HostPictures(ctx, map[string][]byte{"a.png": []byte("one")}, now.AddDate(1, 0, 0)); err != nil {
		t.Fatal(err)
	}
	data, since, err := s.HostedPicture(ctx, "a.png")
	if err != nil || !bytes.Equal(data, []byte("one")) || !since.Equal(now) {
		t.Errorf("%q since %v, %v", data, since, err)
	}
	if data, _, err := s.HostedPicture(ctx, "b.png"); err != nil || string(data) != "two" {
		t.Errorf("%q, %v", data, err)
	}
	if _, _, err := s.HostedPicture(ctx, "c.png"); !errors.Is(err, ErrNotFound) {
		t.Errorf("what is not hosted: %v", err)
	}
}

func TestSettingsAndAddressChecks(t *testing.T) {
	s, ctx := open(t), context.Background()
	if v, err := s.Setting(ctx, "pictures"); err != nil || v != "" {
		t.Errorf("%q, %v", v, err)
	}
	for _, value := range []string{"one", "two"} {
		if err := s.PutSetting(ctx, "pictures", value); err != nil {
			t.Fatal(err)
		}
		if v, err := s.Setting(ctx, "pictures"); err != nil || v != value {
			t.Errorf("%q, %v", v, err)
		}
	}
	for i, c := range []AddressCheck{{"https://a.example/", "crew", "1", now}, {"https://b.example/", "", "2", now.AddDate(0, 0, 1)}, {"https://a.example/", "crew", "3", now.AddDate(0, 0, 2)}} {
		if err := s.PutAddressCheck(ctx, c); err != nil {
			t.Fatal(i, err)
		}
	}
	if list, err := s.AddressChecks(ctx); err != nil || len(list) != 2 || list[0].Report != "3" || list[0].Template != "crew" || list[1].Report != "2" {
		t.Errorf("%+v, %v", list, err)
	}
}
