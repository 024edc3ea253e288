package api

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

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

// openAPI answers GET /openapi.json.
func openAPI(c *gin.Context) {
	c.Data(http.StatusOK, "application/json", Description())
}

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
	info, err := fs.Stat(a.Console, name)
	switch {
	case err == nil && !info.IsDir():
	case asset:
		refuse(c, http.StatusNotFound, "There is nothing at "+c.Request.URL.Path+".")
		return
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
