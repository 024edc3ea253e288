package api

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"strings"
	"sync"
	"time"

	"missivum/service/access"

	"github.com/gin-gonic/gin"
	"gopkg.in/yaml.v3"
)

// Description is the OpenAPI 3.1 document as JSON.
var Description = sync.OnceValue(func() []byte {
	data, err := description.ReadFile("openapi.yaml")
	if err != nil {
		panic(err) // the file is part of the program
	}
	var parsed any
	if err := yaml.Unmarshal(data, &parsed); err != nil {
		panic("openapi.yaml: " + err.Error())
	}
	addPermissions(parsed)
	encoded, err := json.MarshalIndent(parsed, "", "  ")
	if err != nil {
		panic("openapi.yaml: " + err.Error())
	}
	return encoded
})

// addPermissions writes into each operation of the document which permission it needs, and who has that.
func addPermissions(document any) {
	root, _ := document.(map[string]any)
	paths, _ := root["paths"].(map[string]any)
	for route, p := range needs {
		method, path, _ := strings.Cut(route, " ")
		item, _ := paths[described(path)].(map[string]any)
		operation, ok := item[strings.ToLower(method)].(map[string]any)
		if !ok || p == access.Open {
			continue // SCIM is described by its own standard
		}
		g := access.GrantOf(p)
		operation["x-permission"], operation["x-roles"], operation["x-scopes"] = p, g.Roles, g.Scopes
	}
}

// parameter is how a route writes a part of its path that varies.
var parameter = regexp.MustCompile(`[:*]([a-z]+)`)

// described writes a route's path as the document does.
func described(path string) string { return parameter.ReplaceAllString(path, "{$1}") }

// openAPI answers GET /openapi.json.
func openAPI(c *gin.Context) {
	c.Data(http.StatusOK, "application/json", Description())
}

// signInPage is the page on which people sign in; it is all of the console that others see.
const (
	signInPage   = "sign-in"
	personalPage = "your-signature"
)

// console serves the built console; its pages are all one file, which finds its way by the address.
func (a *API) console(c *gin.Context) {
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if strings.HasPrefix(name, "scim/") {
		scimRefuse(c, http.StatusNotFound, "", "There is nothing at "+c.Request.URL.Path+".")
		return
	}
	read := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if !read || name == "api" || strings.HasPrefix(name, "api/") || strings.HasPrefix(name, "p/") || a.Console == nil {
		refuse(c, http.StatusNotFound, "There is nothing at "+c.Request.URL.Path+".")
		return
	}
	asset := strings.HasPrefix(name, "assets/")
	open := asset || name == signInPage || name == personalPage || path.Ext(name) == ".svg"
	if !open && !signedIn(c) {
		c.Redirect(http.StatusSeeOther, "/"+signInPage+"?to="+url.QueryEscape(c.Request.URL.RequestURI()))
		return
	}
	info, err := fs.Stat(a.Console, name)
	switch {
	case err == nil && !info.IsDir():
	case asset:
		refuse(c, http.StatusNotFound, "There is nothing at "+c.Request.URL.Path+".")
		return
	case name == signInPage, name == personalPage:
		name += ".html"
	default:
		name = "index.html"
	}
	if asset {
		c.Header("Cache-Control", "public, max-age=31536000, immutable") // the names carry a hash
	}
	if path.Ext(name) == ".woff2" { // no type that net/http knows by itself
		c.Header("Content-Type", "font/woff2")
	}
	file, err := a.Console.Open(name)
	if err != nil {
		refuse(c, http.StatusNotFound, "The console is not part of this build; make build includes it.")
		return
	}
	defer file.Close()
	content, ok := file.(io.ReadSeeker)
	if !ok {
		a.fail(c, fmt.Errorf("%s of the console cannot be read", name))
		return
	}
	http.ServeContent(c.Writer, c.Request, name, time.Time{}, content)
}
