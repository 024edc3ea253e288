package api

import (
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/client"
	"missivum/service/packages"
	"missivum/service/store"
)

// PackageInfo is a package and how far it is.
type PackageInfo struct {
	ID       string     `json:"id"`
	Template string     `json:"template"`
	Number   int        `json:"number"` // of the template's version
	Version  string     `json:"version"`
	Release  int        `json:"release"`  // of which the kits are; 0 for none
	Way      string     `json:"way"`      // of kits; blank for all forms
	Client   string     `json:"client"`   // for which the kits are
	Audience string     `json:"audience"` // blank for everybody
	Person   string     `json:"person"`   // blank for more than one
	State    string     `json:"state"`    // waiting, running, ready, stopped, failed
	Total    int        `json:"total"`    // people
	Done     int        `json:"done"`     // people
	Files    int        `json:"files"`
	Bytes    int64      `json:"bytes"`
	SHA256   string     `json:"sha256"`
	Message  string     `json:"message"`
	Notes    []string   `json:"notes"` // to know before it is given out; in the answer to the request that makes it
	Created  time.Time  `json:"created"`
	Finished *time.Time `json:"finished"`
}

// PackageRequest asks for a package: all forms of a template's latest version, or kits of it or of a release.
type PackageRequest = packages.Order

// packageInfo is a package with how far its job is.
func packageInfo(p store.Package) PackageInfo {
	info := PackageInfo{
		ID: p.ID, Template: p.Template, Number: p.Version, Version: p.Content, State: string(p.Job.State), Total: p.Job.Total, Done: p.Job.Done,
		Files: p.Files, Bytes: p.Bytes, SHA256: p.SHA256, Message: p.Job.Message, Notes: []string{},
		Release: p.Release, Way: p.Way, Client: p.Client, Audience: p.Audience, Person: p.Person, Created: p.Job.Created,
	}
	if !p.Job.Finished.IsZero() {
		info.Finished = &p.Job.Finished
	}
	return info
}

// listPackages answers GET /packages: the packages, newest first.
func (a *API) listPackages(c *gin.Context) {
	records, err := a.Packages.List(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	list := []PackageInfo{}
	for _, p := range records {
		list = append(list, packageInfo(p))
	}
	reply(c, http.StatusOK, list)
}

// createPackage answers POST /packages: begin a package of a template for everybody.
func (a *API) createPackage(c *gin.Context) {
	var in PackageRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	record, notes, err := a.Packages.Make(c.Request.Context(), in)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Location", "/api/v1/packages/"+record.ID)
	info := packageInfo(record)
	info.Notes = notes
	reply(c, http.StatusAccepted, info)
}

// getPackage answers GET /packages/{id}: one package and how far it is.
func (a *API) getPackage(c *gin.Context) {
	record, err := a.Packages.Get(c.Request.Context(), c.Param("id"))
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, packageInfo(record))
}

// removePackage answers DELETE /packages/{id}: stop a package that is being made, or delete one that has ended.
func (a *API) removePackage(c *gin.Context) {
	if err := a.Packages.Remove(c.Request.Context(), c.Param("id")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// getPackageFile answers GET /packages/{id}/file: the zip of a package that is ready.
func (a *API) getPackageFile(c *gin.Context) {
	f, record, err := a.Packages.Open(c.Request.Context(), c.Param("id"))
	if err != nil {
		a.fail(c, err)
		return
	}
	defer f.Close()
	c.Header("Content-Type", "application/zip")
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", record.Template+"-"+record.Content+".zip"))
	http.ServeContent(c.Writer, c.Request, "", record.Job.Finished, f)
}

// Way is a way of installing a signature.
type Way struct {
	ID        string   `json:"id"`
	Title     string   `json:"title"`
	About     string   `json:"about"`
	Drawbacks []string `json:"drawbacks"`
	Places    bool     `json:"places"` // files go to a desk
	Packed    bool     `json:"packed"` // a package of kits for everybody can be made
}

// listWays answers GET /ways.
func (a *API) listWays(c *gin.Context) {
	list := []Way{}
	for _, w := range client.Ways() {
		packed := slices.ContainsFunc(packages.Ways(), func(other client.Way) bool { return other.ID == w.ID })
		list = append(list, Way{ID: w.ID, Title: w.Title, About: w.About, Drawbacks: w.Drawbacks, Places: w.Places, Packed: packed})
	}
	reply(c, http.StatusOK, list)
}
