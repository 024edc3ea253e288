// Package organisation keeps what the organisation says for all templates and mail rules: constants, texts by language, the
// language and country that stand in for missing ones, and its own mail domains. Start with Organisation.
package organisation

import (
	"context"
	"strings"

	"missivum/core/problem"
	"missivum/core/template"
	"missivum/service/hosting"
	"missivum/service/store"
)

const settingName = "organisation"

// mostDomains is how many mail domains an organisation can have.
const mostDomains = 1000

// Settings are what the organisation says.
type Settings struct {
	template.Organisation `yaml:",inline"`
	Domains               []string `json:"domains" yaml:"domains"` // its own mail domains; none: those of its people's addresses
}

// Shown are the settings with the public address below which the service's pictures are reached, which is kept with what else
// is said about pictures.
type Shown struct {
	Settings
	Address string // blank for none
}

// Organisation keeps the settings.
type Organisation struct{ Store *store.Store }

// In reads the settings in a unit of work.
func In(tx *store.Tx) (s Settings, err error) { return s, tx.Setting(settingName, &s) }

// Get reads the settings.
func (o *Organisation) Get(ctx context.Context) (s Shown, err error) {
	err = o.Store.Read(ctx, func(tx *store.Tx) error {
		pictures, err := hosting.SettingsIn(tx)
		if err != nil {
			return err
		}
		s.Address = pictures.Address
		s.Settings, err = In(tx)
		return err
	})
	return s, err
}

// Put stores the settings.
func (o *Organisation) Put(ctx context.Context, s Shown) error {
	if err := s.Organisation.Check(); err != nil {
		return err
	}
	if len(s.Domains) > mostDomains {
		return problem.New(problem.Invalid, "There can be %d mail domains.", mostDomains).In("domains")
	}
	for i, d := range s.Domains {
		d = strings.ToLower(strings.TrimPrefix(strings.TrimSpace(d), "@"))
		if d == "" || strings.ContainsAny(d, " @/,;") || !strings.Contains(d, ".") || strings.HasPrefix(d, ".") || strings.HasSuffix(d, ".") {
			return problem.New(problem.Invalid, "%q is no mail domain; write it as brackwater.example.", s.Domains[i]).In("domains")
		}
		s.Domains[i] = d
	}
	return o.Store.Write(ctx, func(tx *store.Tx) error {
		pictures, err := hosting.SettingsIn(tx)
		if err != nil {
			return err
		}
		if pictures.Address != s.Address {
			pictures.Address = s.Address
			if err := hosting.PutSettingsIn(tx, pictures); err != nil {
				return err
			}
		}
		return tx.PutSetting(settingName, s.Settings)
	})
}
