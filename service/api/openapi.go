package api

import (
	"encoding/json"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"sync"

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
	encoded, err := json.MarshalIndent(parsed, "", "  ")
	if err != nil {
		panic("openapi.yaml: " + err.Error())
	}
	return encoded
})

func openAPI(c *gin.Context) {
	c.Data(http.StatusOK, "application/json", Description())
}

// console serves the built console; its pages are all one file, which finds its way by the address.
func (a *API) console(c *gin.Context) {
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	read := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if !read || strings.HasPrefix(name, "api/") || a.Console == nil {
		problem(c, http.StatusNotFound, "There is nothing at "+c.Request.URL.Path+".", nil)
		return
	}
	if info, err := fs.Stat(a.Console, name); err != nil || info.IsDir() {
		if path.Ext(name) != "" && strings.HasPrefix(name, "assets/") {
			problem(c, http.StatusNotFound, "There is nothing at "+c.Request.URL.Path+".", nil)
			return
		}
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable") // the names carry a hash
	}
	data, err := fs.ReadFile(a.Console, name)
	if err != nil {
		problem(c, http.StatusNotFound, "The console is not part of this build; make build includes it.", nil)
		return
	}
	c.Data(http.StatusOK, contentType(name), data)
}

func contentType(name string) string {
	switch path.Ext(name) {
	case ".html":
		return "text/html; charset=utf-8"
	case ".js":
		return "text/javascript; charset=utf-8"
	case ".css":
		return "text/css; charset=utf-8"
	case ".svg":
		return "image/svg+xml"
	case ".woff2":
		return "font/woff2"
	case ".png":
		return "image/png"
	}
	return "application/octet-stream"
}
