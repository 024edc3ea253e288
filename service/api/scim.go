package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/core/scim"
	scims "missivum/service/scim"
	"missivum/service/store"
)

// SCIM 2.0 (RFC 7643, RFC 7644) under /scim/v2, for identity systems that push people in with a key of the scope directory.

// Limits of SCIM.
const (
	maxSCIM      = 4 << 20 // bytes of a request
	scimPage     = 100     // resources of a list, where a client does not say
	maxScimPage  = 500
	scimType     = "application/scim+json; charset=utf-8"
	listSchema   = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	errorSchema  = "urn:ietf:params:scim:api:messages:2.0:Error"
	patchSchema  = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	searchSchema = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"
)

// scimPath is under which address the service speaks SCIM.
const scimPath = "/scim/v2"

// scimRoutes adds the routes.
func (a *API) scimRoutes(r *gin.Engine) {
	g := r.Group(scimPath)
	g.GET("/ServiceProviderConfig", a.scimConfig)
	g.GET("/Schemas", a.scimSchemas)
	g.GET("/Schemas/:id", a.scimSchemas)
	g.GET("/ResourceTypes", a.scimTypes)
	g.GET("/ResourceTypes/:id", a.scimTypes)
	for path, kind := range map[string]scim.Kind{"/Users": scim.Users, "/Groups": scim.Groups} {
		h := scimHandler{a, kind, path}
		g.GET(path, h.list)
		g.POST(path, a.limit(maxSCIM), h.create)
		g.POST(path+"/.search", a.limit(maxSCIM), h.search)
		g.GET(path+"/:id", h.get)
		g.PUT(path+"/:id", a.limit(maxSCIM), h.replace)
		g.PATCH(path+"/:id", a.limit(maxSCIM), h.patch)
		g.DELETE(path+"/:id", h.remove)
	}
}

// sourceOfKey is the source that a request's key pushes to.
func sourceOfKey(c *gin.Context) string {
	return from(c).key.Source
}

// scimReply answers with a value.
func scimReply(c *gin.Context, status int, value any) {
	c.Header("Content-Type", scimType)
	c.JSON(status, value)
}

// scimRefuse answers with an error (RFC 7644, 3.12).
func scimRefuse(c *gin.Context, status int, kind, detail string) {
	out := gin.H{"schemas": []string{errorSchema}, "status": strconv.Itoa(status), "detail": detail}
	if kind != "" {
		out["scimType"] = kind
	}
	c.Header("Content-Type", scimType)
	c.AbortWithStatusJSON(status, out)
}

// scimFail answers with what an error is.
func (a *API) scimFail(c *gin.Context, err error) {
	var wrong scim.Error
	var large *http.MaxBytesError
	err = store.Known(err)
	switch {
	case errors.As(err, &wrong):
		scimRefuse(c, http.StatusBadRequest, wrong.Type, wrong.Detail)
	case errors.Is(err, scims.ErrVersion):
		scimRefuse(c, http.StatusPreconditionFailed, "", "The resource was changed since; read it again.")
	case errors.As(err, &large):
		scimRefuse(c, http.StatusRequestEntityTooLarge, "", "The request is too large.")
	case problem.Is(err, problem.NotFound):
		scimRefuse(c, http.StatusNotFound, "", err.Error())
	case problem.Is(err, problem.Conflict):
		scimRefuse(c, http.StatusConflict, "uniqueness", err.Error())
	default:
		if known, ok := problem.Of(err); ok {
			if known.Kind == problem.Unknown {
				c.Header("WWW-Authenticate", `Bearer realm="missivum"`)
			}
			scimRefuse(c, statuses[known.Kind], "", known.Message)
			return
		}
		a.Log.Error("request failed", "request", c.GetString(requestKey), "path", c.Request.URL.Path, "error", err)
		scimRefuse(c, http.StatusInternalServerError, "", "The service could not do this; its log says why.")
	}
}

// location is the full address of something under /scim/v2.
func (a *API) location(c *gin.Context, path string) string { return a.base(c) + scimPath + path }

// scimConfig answers GET /ServiceProviderConfig: what is there and what is not (RFC 7643, 5).
func (a *API) scimConfig(c *gin.Context) {
	no := gin.H{"supported": false}
	scimReply(c, http.StatusOK, gin.H{
		"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"},
		"patch":   gin.H{"supported": true}, "etag": gin.H{"supported": true},
		"bulk":   gin.H{"supported": false, "maxOperations": 0, "maxPayloadSize": 0},
		"filter": gin.H{"supported": true, "maxResults": maxScimPage}, "sort": no, "changePassword": no,
		"authenticationSchemes": []gin.H{{"type": "oauthbearertoken", "name": "Key",
			"description": "A key of the scope directory as a bearer token.",
			"specUri":     "https://www.rfc-editor.org/info/rfc6750", "primary": true}},
		"meta": gin.H{"resourceType": "ServiceProviderConfig", "location": a.location(c, "/ServiceProviderConfig")},
	})
}

// scimListed answers with a whole list, or with the one of an id.
func scimListed(c *gin.Context, list []gin.H) {
	id := c.Param("id")
	if id == "" {
		scimReply(c, http.StatusOK, gin.H{"schemas": []string{listSchema}, "totalResults": len(list), "itemsPerPage": len(list), "startIndex": 1,
			"Resources": list})
		return
	}
	for _, one := range list {
		if one["id"] == id {
			scimReply(c, http.StatusOK, one)
			return
		}
	}
	scimRefuse(c, http.StatusNotFound, "", "There is no "+id+".")
}

// scimSchemas answers GET /Schemas and GET /Schemas/{id}.
func (a *API) scimSchemas(c *gin.Context) {
	var list []gin.H
	for _, s := range scim.Schemas() {
		list = append(list, gin.H{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Schema"}, "id": s.ID, "name": s.Name,
			"description": s.Description, "attributes": s.Attributes,
			"meta": gin.H{"resourceType": "Schema", "location": a.location(c, "/Schemas/"+s.ID)}})
	}
	scimListed(c, list)
}

// scimTypes answers GET /ResourceTypes and GET /ResourceTypes/{id}.
func (a *API) scimTypes(c *gin.Context) {
	of := func(name, path, schema string, extensions []gin.H) gin.H {
		return gin.H{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ResourceType"}, "id": name, "name": name, "endpoint": path,
			"schema": schema, "schemaExtensions": extensions,
			"meta": gin.H{"resourceType": "ResourceType", "location": a.location(c, "/ResourceTypes/"+name)}}
	}
	scimListed(c, []gin.H{of("User", "/Users", scim.UserSchema, []gin.H{{"schema": scim.EnterpriseSchema, "required": false}}),
		of("Group", "/Groups", scim.GroupSchema, []gin.H{})})
}

// scimHandler answers for one kind of resource.
type scimHandler struct {
	*API
	kind scim.Kind
	path string
}

// shown is a resource as it is answered, without its null and empty values (RFC 7643, 2.5).
func (h scimHandler) shown(c *gin.Context, s scims.Stored) map[string]any {
	out := map[string]any{"schemas": []string{h.kind.Schema}}
	for name, value := range s.Resource {
		out[name] = value
		if slices.Contains(h.kind.Extensions, name) {
			out["schemas"] = []string{h.kind.Schema, name}
		}
	}
	if h.kind.Name == scim.Users.Name {
		var groups []gin.H
		for _, g := range s.Groups {
			groups = append(groups, gin.H{"value": g.ID, "display": g.Display, "$ref": h.location(c, "/Groups/"+g.ID)})
		}
		if groups != nil {
			out["groups"] = groups
		}
	}
	out["id"] = s.ID
	out["meta"] = gin.H{"resourceType": h.kind.Name, "created": s.Created.Format(time.RFC3339), "lastModified": s.Changed.Format(time.RFC3339),
		"location": h.location(c, h.path+"/"+s.ID), "version": s.ETag()}
	return out
}

// send answers with a resource: with those attributes that were asked for.
func (h scimHandler) send(c *gin.Context, status int, s scims.Stored) {
	c.Header("ETag", s.ETag())
	c.Header("Location", h.location(c, h.path+"/"+s.ID))
	scimReply(c, status, only(h.shown(c, s), c.Query("attributes"), c.Query("excludedAttributes")))
}

// only leaves out what was not asked for (RFC 7644, 3.9). id and schemas are always there.
func only(r map[string]any, wanted, unwanted string) map[string]any {
	names := func(list string) (top map[string]bool) {
		top = map[string]bool{}
		for name := range strings.SplitSeq(list, ",") {
			name = strings.ToLower(strings.TrimSpace(name))
			if i := strings.LastIndex(name, ":user:"); i >= 0 && !strings.Contains(name, "extension") {
				name = name[i+len(":user:"):]
			}
			if i := strings.LastIndex(name, ":group:"); i >= 0 {
				name = name[i+len(":group:"):]
			}
			if !strings.HasPrefix(name, "urn:") {
				name, _, _ = strings.Cut(name, ".")
			}
			if name != "" {
				top[name] = true
			}
		}
		return top
	}
	want, not := names(wanted), names(unwanted)
	out := map[string]any{}
	for name, value := range r {
		low := strings.ToLower(name)
		always := low == "id" || low == "schemas"
		asked := len(want) == 0 || want[low]
		for full := range want {
			asked = asked || strings.HasPrefix(full, low+":")
		}
		if always || asked && !not[low] {
			out[name] = value
		}
	}
	return out
}

// get answers GET /{kind}/{id}.
func (h scimHandler) get(c *gin.Context) {
	s, err := h.SCIM.Get(c.Request.Context(), sourceOfKey(c), h.kind, c.Param("id"))
	switch {
	case err != nil:
		h.scimFail(c, err)
	case c.GetHeader("If-None-Match") == s.ETag():
		c.Header("ETag", s.ETag())
		c.Status(http.StatusNotModified)
	default:
		h.send(c, http.StatusOK, s)
	}
}

// scimQuery is what a list is asked for (RFC 7644, 3.4.2, 3.4.3).
type scimQuery struct {
	Schemas            []string `json:"schemas"`
	Filter             string   `json:"filter"`
	StartIndex         *int     `json:"startIndex"`
	Count              *int     `json:"count"`
	Attributes         []string `json:"attributes"`
	ExcludedAttributes []string `json:"excludedAttributes"`
	SortBy             string   `json:"sortBy"`
	SortOrder          string   `json:"sortOrder"`
}

// list answers GET /{kind}.
func (h scimHandler) list(c *gin.Context) {
	q := scimQuery{Filter: c.Query("filter"), Attributes: []string{c.Query("attributes")},
		ExcludedAttributes: []string{c.Query("excludedAttributes")}}
	for name, into := range map[string]**int{"startIndex": &q.StartIndex, "count": &q.Count} {
		if text := c.Query(name); text != "" {
			n, err := strconv.Atoi(text)
			if err != nil {
				scimRefuse(c, http.StatusBadRequest, "invalidValue", name+" is no number.")
				return
			}
			*into = &n
		}
	}
	h.answer(c, q)
}

// search answers POST /{kind}/.search.
func (h scimHandler) search(c *gin.Context) {
	var q scimQuery
	if !h.body(c, &q) {
		return
	}
	if !slices.Contains(q.Schemas, searchSchema) {
		scimRefuse(c, http.StatusBadRequest, "invalidSyntax", "The schemas must name "+searchSchema+".")
		return
	}
	h.answer(c, q)
}

// answer answers with a list.
func (h scimHandler) answer(c *gin.Context, q scimQuery) {
	filter, err := h.kind.ParseFilter(q.Filter)
	if err != nil {
		h.scimFail(c, err)
		return
	}
	start, count := 1, scimPage
	if q.StartIndex != nil {
		start = max(1, *q.StartIndex)
	}
	if q.Count != nil {
		count = min(max(0, *q.Count), maxScimPage)
	}
	list, total, err := h.SCIM.List(c.Request.Context(), sourceOfKey(c), h.kind, filter, start, count)
	if err != nil {
		h.scimFail(c, err)
		return
	}
	resources := []map[string]any{}
	for _, s := range list {
		resources = append(resources, only(h.shown(c, s), strings.Join(q.Attributes, ","), strings.Join(q.ExcludedAttributes, ",")))
	}
	scimReply(c, http.StatusOK, gin.H{"schemas": []string{listSchema}, "totalResults": total, "startIndex": start,
		"itemsPerPage": len(resources),
		"Resources":    resources})
}

// body reads the request's JSON.
func (h scimHandler) body(c *gin.Context, into any) bool {
	if err := json.NewDecoder(c.Request.Body).Decode(into); err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			h.scimFail(c, err)
			return false
		}
		scimRefuse(c, http.StatusBadRequest, "invalidSyntax", "The request's JSON cannot be read: "+err.Error())
		return false
	}
	return true
}

// resource reads a resource, which must name its schema.
func (h scimHandler) resource(c *gin.Context) (map[string]any, bool) {
	var in map[string]any
	if !h.body(c, &in) {
		return nil, false
	}
	schemas, _ := in["schemas"].([]any)
	if !slices.ContainsFunc(schemas, func(s any) bool { text, _ := s.(string); return strings.EqualFold(text, h.kind.Schema) }) {
		scimRefuse(c, http.StatusBadRequest, "invalidSyntax", "The schemas must name "+h.kind.Schema+".")
		return nil, false
	}
	return in, true
}

// create answers POST /{kind}.
func (h scimHandler) create(c *gin.Context) {
	in, ok := h.resource(c)
	if !ok {
		return
	}
	s, err := h.SCIM.Create(c.Request.Context(), sourceOfKey(c), h.kind, in)
	if err != nil {
		h.scimFail(c, err)
		return
	}
	h.send(c, http.StatusCreated, s)
}

// replace answers PUT /{kind}/{id}.
func (h scimHandler) replace(c *gin.Context) {
	in, ok := h.resource(c)
	if !ok {
		return
	}
	h.changed(c, func(scim.Resource) (scim.Resource, error) { return h.kind.Clean(in) })
}

// changed changes a resource, and answers with it.
func (h scimHandler) changed(c *gin.Context, change func(scim.Resource) (scim.Resource, error)) {
	s, err := h.SCIM.Change(c.Request.Context(), sourceOfKey(c), h.kind, c.Param("id"), c.GetHeader("If-Match"), change)
	if err != nil {
		h.scimFail(c, err)
		return
	}
	h.send(c, http.StatusOK, s)
}

// patch answers PATCH /{kind}/{id}.
func (h scimHandler) patch(c *gin.Context) {
	var in struct {
		Schemas    []string         `json:"schemas"`
		Operations []scim.Operation `json:"Operations"`
	}
	if !h.body(c, &in) {
		return
	}
	if !slices.Contains(in.Schemas, patchSchema) {
		scimRefuse(c, http.StatusBadRequest, "invalidSyntax", "The schemas must name "+patchSchema+".")
		return
	}
	h.changed(c, func(r scim.Resource) (scim.Resource, error) { return h.kind.Patch(r, in.Operations) })
}

// remove answers DELETE /{kind}/{id}.
func (h scimHandler) remove(c *gin.Context) {
	if err := h.SCIM.Remove(c.Request.Context(), sourceOfKey(c), h.kind, c.Param("id"), c.GetHeader("If-Match")); err != nil {
		h.scimFail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
