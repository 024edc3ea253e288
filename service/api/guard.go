package api

import (
	"crypto/rand"
	"encoding/hex"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"runtime/debug"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/service/access"
)

const requestKey = "request"

// requestID gives every request an id, in the log and in the answer's X-Request-Id.
func (a *API) requestID(c *gin.Context) {
	var b [8]byte
	rand.Read(b[:]) // never fails (crypto/rand)
	id := hex.EncodeToString(b[:])
	c.Set(requestKey, id)
	c.Header("X-Request-Id", id)
}

// logged writes each request into the log: method, path, status, duration; never a body, which holds people.
func (a *API) logged(c *gin.Context) {
	began := time.Now()
	c.Next()
	took := time.Since(began)
	a.counted.seen(c, took)
	level := slog.LevelInfo
	if c.Writer.Status() == http.StatusNotModified && strings.HasPrefix(c.Request.URL.Path, "/api/v1/desk/") {
		level = slog.LevelDebug // thousands of desks ask again and again, and nothing happens
	}
	a.Log.Log(c.Request.Context(), level, "request", "request", c.GetString(requestKey), "method", c.Request.Method, "path",
		c.Request.URL.Path,
		"status", c.Writer.Status(), "bytes", c.Writer.Size(), "ms", took.Milliseconds())
}

// recovered answers a fault of the program with 500 and keeps the service up.
func (a *API) recovered(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			a.Log.Error("panic", "request", c.GetString(requestKey), "path", c.Request.URL.Path, "panic", r, "stack", string(debug.Stack()))
			refuse(c, http.StatusInternalServerError, "The service could not do this; its log says why under the request's id.")
		}
	}()
	c.Next()
}

// hostOf is the host without its port, in small letters.
func hostOf(hostport string) string {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	return strings.ToLower(strings.Trim(host, "[]"))
}

// loopbackHost reports whether a host of a Host or Origin header is this machine's own.
func loopbackHost(hostport string) bool {
	host := hostOf(hostport)
	if strings.EqualFold(host, "localhost") {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// crossOrigin refuses what other sites' pages send, but for plain reads.
var crossOrigin = http.NewCrossOriginProtection()

// noCrossSiteWrites refuses writes that a page of another origin sends through somebody's browser.
func noCrossSiteWrites(c *gin.Context) {
	if err := crossOrigin.Check(c.Request); err != nil {
		refuse(c, http.StatusForbidden, "Pages of other sites cannot change anything here.")
	}
}

// ActingAs is the header in which somebody who reaches the service by loopback says who they are, while there are no accounts:
// what one person made another can then approve.
const ActingAs = "Missivum-Acting-As"

// asOwner lets whoever reached the service by loopback act as its owner, or as who they say they are.
func asOwner(c *gin.Context) {
	for _, header := range []string{"Forwarded", "X-Forwarded-For", "X-Real-Ip"} {
		if c.GetHeader(header) != "" {
			refuse(c, http.StatusMisdirectedRequest, "This request came through a proxy, and there are no accounts: whoever reaches "+
				"the proxy could change everything. Name the proxy's address in the setting proxies; the service then asks for accounts.")
			return
		}
	}
	p := access.Loopback()
	if name := c.GetHeader(ActingAs); name != "" {
		decoded, err := url.QueryUnescape(name)
		if err != nil || !access.ValidName(decoded) {
			refuse(c, http.StatusUnprocessableEntity, "The name in "+ActingAs+" must be 1 to 100 letters that can be written.")
			return
		}
		p.Name = decoded
	}
	c.Set(whoKey, who{rights: access.Rights{All: true}})
	c.Request = c.Request.WithContext(access.With(c.Request.Context(), p))
}

// contentPolicy is the console's content security policy. Previews are frames without any rights:
// they inherit it and their sandbox takes scripts, forms and navigation away.
const contentPolicy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' " +
	"data: blob:; font-src 'self'; " +
	"connect-src 'self'; frame-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// headers sets what keeps pages from framing the console or guessing types.
func (a *API) headers(c *gin.Context) {
	h := c.Writer.Header()
	if a.Secure {
		h.Set("Strict-Transport-Security", "max-age=63072000") // two years (RFC 6797)
	}
	h.Set("Content-Security-Policy", contentPolicy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Resource-Policy", "same-site")
	h.Set("Cache-Control", "no-store")
}

// limit refuses request bodies above a size in bytes.
func (a *API) limit(size int64) gin.HandlerFunc {
	pause := a.BodyPause
	if pause == 0 {
		pause = bodyPause
	}
	return func(c *gin.Context) {
		body := steady{c.Request.Body, http.NewResponseController(c.Writer), pause}
		c.Request.Body = http.MaxBytesReader(c.Writer, body, size)
	}
}
