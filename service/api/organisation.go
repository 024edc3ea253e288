package api

import (
	"maps"

	"github.com/gin-gonic/gin"

	"missivum/core/person"
	"missivum/service/organisation"
)

// getOrganisation answers GET /organisation.
func (a *API) getOrganisation(c *gin.Context) {
	s, err := a.Organisation.Get(c.Request.Context())
	answer(a, c, organisationOf(s), err)
}

// putOrganisation answers PUT /organisation.
func (a *API) putOrganisation(c *gin.Context) {
	in, ok := body[organisationSettings](a, c)
	if !ok {
		return
	}
	s, err := a.Organisation.Get(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	if in.Address != nil {
		s.Address = *in.Address
	}
	s.Domains = in.Domains
	s.Constants, s.Texts, s.Language, s.Country = in.Constants, in.textsByName(), in.Language, in.Country
	err = a.Organisation.Put(c.Request.Context(), s)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.getOrganisation(c)
}

// organisationSettings are what the organisation says, with every member written.
type organisationSettings struct {
	Constants map[string]string            `json:"constants"`
	Texts     map[string]map[string]string `json:"texts"` // by name and language
	Language  string                       `json:"language"`
	Country   string                       `json:"country"`
	Domains   []string                     `json:"domains"`
	Address   *string                      `json:"address"` // public, of pictures; one that is not sent stays
}

func organisationOf(s organisation.Shown) organisationSettings {
	out := organisationSettings{Constants: map[string]string{}, Texts: map[string]map[string]string{}, Language: s.Language,
		Country: s.Country,
		Domains: s.Domains, Address: &s.Address}
	maps.Copy(out.Constants, s.Constants)
	for name, texts := range s.Texts {
		out.Texts[name] = texts
	}
	return out
}

func (s organisationSettings) textsByName() map[string]person.Texts {
	out := map[string]person.Texts{}
	for name, texts := range s.Texts {
		out[name] = texts
	}
	return out
}
