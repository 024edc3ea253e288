package pictures

import (
	"bytes"
	"errors"
	"net/http"
	"strings"

	"missivum/service/store"
)

// ServeHTTP hosts pictures: each at its key and nowhere else, for good (RFC 8246), with conditional and range
// requests (RFC 9110, 13 and 14), without cookies and without a list. It is what the public may reach.
func (p *Pictures) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", "default-src 'none'; sandbox")
	h.Set("Cross-Origin-Resource-Policy", "cross-origin")
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		h.Set("Allow", "GET, HEAD")
		http.Error(w, "Only GET and HEAD are answered.", http.StatusMethodNotAllowed)
		return
	}
	key := strings.TrimPrefix(r.URL.Path, "/")
	data, since, err := p.Hosted(r.Context(), key)
	if errors.Is(err, store.ErrNotFound) {
		http.Error(w, "There is no picture here.", http.StatusNotFound)
		return
	}
	if err != nil {
		p.Log.Error("hosting a picture", "key", key, "error", err)
		http.Error(w, "The picture cannot be read.", http.StatusInternalServerError)
		return
	}
	h.Set("Content-Type", ContentType(key))
	h.Set("Cache-Control", "public, max-age=31536000, immutable")
	h.Set("ETag", `"`+key+`"`)
	http.ServeContent(w, r, "", since, bytes.NewReader(data))
}
