package api

import (
	"encoding/csv"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/desk"
	"missivum/core/kit"
	"missivum/core/wire"
	"missivum/service/desks"
)

// maxReport is how large a desk's report may be, in bytes.
const maxReport = 256 << 10

// ReleaseHeader says in the answer of which release a kit is, also where the desk has it already: a release in which nothing
// differs for a client costs nothing.
const ReleaseHeader = "Missivum-Release"

// asked reads whose kit for which client a desk asks for.
func asked(c *gin.Context) desks.Asked {
	return desks.Asked{Person: c.Query("person"), Client: c.Query("client")}
}

// deskHasIt answers GET /desk/kit with 304 where the desk names the entity tag of the kit that it gets (RFC 9110, 13.1.2).
func (a *API) deskHasIt(c *gin.Context) {
	has := c.GetHeader("If-None-Match")
	if has == "" {
		return
	}
	tag, release, err := a.Desks.Tag(c.Request.Context(), asked(c))
	if err == nil && has == `"`+tag+`"` {
		c.Header("ETag", has)
		c.Header(ReleaseHeader, release)
		c.AbortWithStatus(http.StatusNotModified)
	}
}

// getDeskKit answers GET /desk/kit: the list of the kit that a person's client gets, with its signature.
func (a *API) getDeskKit(c *gin.Context) {
	k, tag, err := a.Desks.Kit(c.Request.Context(), asked(c))
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("ETag", `"`+tag+`"`)
	c.Header(ReleaseHeader, k.Release)
	reply(c, http.StatusOK, k)
}

// getDeskFile answers GET /desk/files/{file}: one of the files of that kit.
func (a *API) getDeskFile(c *gin.Context) {
	data, digest, err := a.Desks.File(c.Request.Context(), asked(c), strings.TrimPrefix(c.Param("file"), "/"))
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("ETag", `"`+digest+`"`)
	if c.GetHeader("If-None-Match") == `"`+digest+`"` {
		c.Status(http.StatusNotModified)
		return
	}
	c.Data(http.StatusOK, "application/octet-stream", data)
}

// FilePieces are the pieces of a file.
type FilePieces struct {
	Pieces []kit.Piece `json:"pieces"` // none: the file is fetched whole
}

// getDeskPieces answers GET /desk/pieces/{file}: a file taken apart into text and pictures, of which the desk has most.
func (a *API) getDeskPieces(c *gin.Context) {
	pieces, err := a.Desks.Pieces(c.Request.Context(), asked(c), strings.TrimPrefix(c.Param("file"), "/"))
	answer(a, c, FilePieces{pieces}, err)
}

// getDeskPicture answers GET /desk/pictures/{digest}: a picture that is written into a file.
func (a *API) getDeskPicture(c *gin.Context) {
	data, err := a.Desks.Picture(c.Request.Context(), asked(c), c.Param("digest"))
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/octet-stream", data)
}

// getDeskTrust answers GET /desk/trust: the public key with which kits are signed, in PEM (RFC 8410).
func (a *API) getDeskTrust(c *gin.Context) {
	c.Data(http.StatusOK, "application/x-pem-file", a.Desks.Trusted().PEM())
}

// postDeskReport answers POST /desk/report.
func (a *API) postDeskReport(c *gin.Context) {
	in, ok := body[desk.Report](a, c)
	if !ok {
		return
	}
	if err := a.Desks.Report(c.Request.Context(), in); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// matrixFilter reads which rows of the desks are asked for.
func matrixFilter(c *gin.Context, standard int) (desks.Filter, error) {
	f := desks.Filter{Search: c.Query("search"), Standing: desks.Standing(c.Query("standing")), Client: c.Query("client"),
		Audience: c.Query("audience")}
	var err error
	if f.Wave, err = number(c, "wave", 0); err != nil {
		return f, err
	}
	f.Offset, f.Limit, err = part(c, standard)
	return f, err
}

// listDesks answers GET /desks: people down, clients across; as a table with Accept: text/csv.
func (a *API) listDesks(c *gin.Context) {
	f, err := matrixFilter(c, 50)
	if err != nil {
		a.fail(c, err)
		return
	}
	table := strings.Contains(c.GetHeader("Accept"), "text/csv")
	if table {
		f.Offset, f.Limit = 0, 0
	}
	m, err := a.Desks.Matrix(c.Request.Context(), f)
	if err != nil || !table {
		answer(a, c, m, err)
		return
	}
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", `attachment; filename="desks.csv"`)
	w := csv.NewWriter(c.Writer)
	w.Write(
		[]string{"mail", "name", "release", "wave", "client", "way", "standing", "has release", "desk", "reported", "since", "detail", "next"},
	)
	for _, r := range m.Rows {
		cells := r.Cells
		if len(cells) == 0 {
			cells = []desks.Cell{{Standing: r.Standing}}
		}
		for _, cell := range cells {
			w.Write([]string{wire.Cell(r.Mail), wire.Cell(r.Name), r.Release, waveName(r.Wave), cell.Client, string(cell.Way),
				string(cell.Standing), cell.Release, wire.Cell(cell.Host), timeText(cell.Reported), timeText(cell.Since), wire.Cell(cell.Detail),
				r.Next})
		}
	}
	w.Flush() // the answer has begun: what goes wrong now cannot be said in it any more
}

// timeText is a time as tables have it (RFC 3339); blank for none.
func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.RFC3339)
}

// waveName is a wave's number; blank for none.
func waveName(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// removeDesk answers DELETE /desks/{id}: forget a desk that is no longer there.
func (a *API) removeDesk(c *gin.Context) {
	if err := a.Desks.RemoveDesk(c.Request.Context(), c.Param("id")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
