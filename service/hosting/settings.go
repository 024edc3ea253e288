package hosting

import (
	"context"
	"net/url"
	"strings"

	"missivum/core/problem"
	"missivum/service/store"
)

// Settings are what the administrator says about pictures.
type Settings struct {
	Address string `json:"address"` // public address below which the service's pictures are reached; empty for none
	Volume  int    `json:"volume"`  // messages that go out in a day; 0 when it is not known
	Hours   int    `json:"hours"`   // between two checks of all picture addresses; 0 for none
}

const settingName = "pictures"

// SettingsIn reads the settings in a unit of work.
func SettingsIn(tx *store.Tx) (Settings, error) {
	var s Settings
	return s, tx.Setting(settingName, &s)
}

// Settings returns what the administrator said.
func (h *Hosting) Settings(ctx context.Context) (s Settings, err error) {
	err = h.Store.Read(ctx, func(tx *store.Tx) error {
		s, err = SettingsIn(tx)
		return err
	})
	return s, err
}

// PutSettings stores what the administrator says.
func (h *Hosting) PutSettings(ctx context.Context, s Settings) error {
	return h.Store.Write(ctx, func(tx *store.Tx) error { return PutSettingsIn(tx, s) })
}

// PutSettingsIn is PutSettings in a unit of work.
func PutSettingsIn(tx *store.Tx, s Settings) error {
	if err := s.check(); err != nil {
		return err
	}
	return tx.PutSetting(settingName, s)
}

// check refuses settings that could not be served.
func (s Settings) check() error {
	if s.Address != "" {
		u, err := url.Parse(s.Address)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || !strings.HasSuffix(s.Address, "/") {
			return problem.New(problem.Invalid, "The address %q must be a full https address that ends with a slash.", s.Address).In("address")
		}
	}
	if s.Volume < 0 {
		return problem.New(problem.Invalid, "The volume must not be below 0.").In("volume")
	}
	if s.Hours < 0 || s.Hours > 24*365 {
		return problem.New(problem.Invalid, "The hours must be from 0 to %d.", 24*365).In("hours")
	}
	return nil
}
