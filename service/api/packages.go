package api

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/service/store"
)

// PackageInfo is a package and how far it is.
type PackageInfo struct {
	ID       string     `json:"id"`
	Template string     `json:"template"`
	Number   int        `json:"number"` // of the template's version
	Version  string     `json:"version"`
	State    string     `json:"state"` // waiting, running, ready, stopped, failed
	Total    int        `json:"total"` // people
	Done     int        `json:"done"`  // people
	Files    int        `json:"files"`
	Bytes    int64      `json:"bytes"`
	SHA256   string     `json:"sha256"`
	Message  string     `json:"message"`
	Notes    []string   `json:"notes"` // to know before it is given out; in the answer to the request that makes it
	Created  time.Time  `json:"created"`
	Finished *time.Time `json:"finished"`
}

// PackageRequest asks for a package of a template's latest version.
type PackageRequest struct {
	Template string   `json:"template"`
	Variants []string `json:"variants"` // empty: all
}

// packageInfo is a package with how far its job is.
func packageInfo(p store.Package) PackageInfo {
	info := PackageInfo{
		ID: p.ID, Template: p.Template, Number: p.Version, Version: p.Content, State: string(p.Job.State), Total: p.Job.Total, Done: p.Job.Done,
		Files: p.Files, Bytes: p.Bytes, SHA256: p.SHA256, Message: p.Job.Message, Notes: []string{}, Created: p.Job.Created,
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
	record, notes, err := a.Packages.Create(c.Request.Context(), in.Template, in.Variants)
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
