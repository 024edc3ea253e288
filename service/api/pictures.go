package api

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/check"
	"missivum/core/delivery"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/service/hosting"
	"missivum/service/pictures"
	"missivum/service/templates"
)

// PictureSummary is a picture in a list.
type PictureSummary struct {
	Name     string        `json:"name"`
	Number   int           `json:"number"` // of the latest version
	Facts    picture.Facts `json:"facts"`
	Saved    time.Time     `json:"saved"`
	Alt      string        `json:"alt"`      // in English, or the only one
	Uses     []string      `json:"uses"`     // templates
	Outdated []string      `json:"outdated"` // templates that use an older version
}

// probeRequest asks what will go wrong with a picture.
type probeRequest struct {
	Width  int `json:"width"`  // px at which it is shown; 0 with height 0: its true pixels
	Height int `json:"height"` // px
}

// probeAnswer is what a picture is and what will go wrong with it.
type probeAnswer struct {
	Facts     picture.Facts     `json:"facts"`
	Findings  []check.Finding   `json:"findings"`
	Multiples []delivery.Advice `json:"multiples"`
	Sights    []picture.Sight   `json:"sights"` // empty for a picture that is opaque
	Vanishes  []string          `json:"vanishes"`
	Focus     picture.Point     `json:"focus"` // what it seems to be about
	Notes     []string          `json:"notes"` // what reading it changes
}

// fitRequest asks for a rendition.
type fitRequest struct {
	Number int            `json:"number"` // version; 0 for the latest
	Recipe picture.Recipe `json:"recipe"`
	Keep   bool           `json:"keep"` // store it and host it
}

// compressRequest asks for a lighter file of the same size.
type compressRequest struct {
	Number int            `json:"number"`
	Weight picture.Weight `json:"weight"`
	Keep   bool           `json:"keep"`
}

// madePicture is a rendition with what it looks like.
type madePicture struct {
	Key        string          `json:"key"` // where it is hosted, if it is kept
	Facts      picture.Facts   `json:"facts"`
	Width      int             `json:"width"`  // px at which it is shown
	Height     int             `json:"height"` // px
	Before     int             `json:"before"` // bytes of what it was made of
	Difference float64         `json:"difference"`
	Trials     []picture.Trial `json:"trials"`
	Notes      []string        `json:"notes"`
	Sights     []picture.Sight `json:"sights"`
	Image      string          `json:"image"`    // data address
	Exact      string          `json:"exact"`    // data address of the pixels before they were written
	Differs    string          `json:"differs"`  // data address of the difference, eight times as strong
	Warnings   []string        `json:"warnings"` // what did not work beside keeping it; nothing is lost
}

// sliceRequest asks for a picture cut into pieces.
type sliceRequest struct {
	Map  picture.SliceMap `json:"map"`
	Keep bool             `json:"keep"` // store the map
}

// slicedPicture is a picture cut into pieces.
type slicedPicture struct {
	Width  int           `json:"width"`  // px
	Height int           `json:"height"` // px
	Pieces []slicedPiece `json:"pieces"`
	Table  string        `json:"table"` // HTML with data-picture
	Look   string        `json:"look"`  // HTML with the pieces in it
	Notes  []string      `json:"notes"`
}

// slicedPiece is a piece with what it looks like.
type slicedPiece struct {
	picture.Piece
	Image string `json:"image"` // data address; empty for one of plain colour
}

// codeRequest asks for a code picture of a text, or of a person's vCard.
type codeRequest struct {
	Text         string             `json:"text"`
	Person       string             `json:"person"`       // mail address
	Organisation string             `json:"organisation"` // name on the card
	Recipe       picture.CodeRecipe `json:"recipe"`
}

// codeAnswer is a code picture.
type codeAnswer struct {
	Modules int    `json:"modules"` // each way, with the margin
	Module  int    `json:"module"`  // pixels of a module
	Width   int    `json:"width"`   // px at which it is shown
	Next    int    `json:"next"`    // px of the next larger one
	Bytes   int    `json:"bytes"`
	Text    string `json:"text"`  // what it says
	Image   string `json:"image"` // data address
}

// deliveryChoice sets the way of a form's pictures.
type deliveryChoice struct {
	Form string            `json:"form"`
	Way  template.Delivery `json:"way"`
}

// addressRequest asks for addresses to be asked.
type addressRequest struct {
	Addresses []string `json:"addresses"`
}

// maxAddresses is how many addresses one request may have asked.
const maxAddresses = 50

// pictureRoutes are those of pictures.
func (a *API) pictureRoutes(v1 *gin.RouterGroup) {
	v1.GET("/pictures", a.listPictures)
	v1.GET("/pictures/:name", a.getPictureRecord)
	v1.PUT("/pictures/:name", a.limit(picture.MaxBytes), a.spooled, a.putPictureVersion)
	v1.GET("/pictures/:name/view", a.inLine, a.viewPicture)
	v1.PUT("/pictures/:name/alts", a.limit(MaxJSON), a.putAlts)
	v1.POST("/pictures/:name/probe", a.limit(MaxJSON), a.heavy, a.probePicture)
	v1.POST("/pictures/:name/fit", a.limit(MaxJSON), a.heavy, a.fitPicture)
	v1.POST("/pictures/:name/compress", a.limit(MaxJSON), a.heavy, a.compressPicture)
	v1.POST("/pictures/:name/slice", a.limit(MaxJSON), a.heavy, a.slicePicture)
	v1.GET("/pictures/:name/sliced", a.inLine, a.getSliced)
	v1.POST("/pictures/:name/use", a.limit(MaxJSON), a.heavy, a.usePicture)
	v1.POST("/pictures/:name/take", a.limit(MaxJSON), a.heavy, a.takePicture)
	v1.POST("/code", a.limit(MaxJSON), a.heavy, a.drawCode)
	v1.GET("/settings/pictures", a.getPictureSettings)
	v1.PUT("/settings/pictures", a.limit(MaxJSON), a.putPictureSettings)
	v1.GET("/templates/:name/delivery", a.weighDelivery)
	v1.PUT("/templates/:name/delivery", a.limit(MaxJSON), a.chooseDelivery)
	v1.GET("/templates/:name/tree", a.getTree)
	v1.POST("/templates/:name/addresses", a.checkTemplateAddresses)
	v1.GET("/addresses", a.listAddresses)
	v1.POST("/addresses", a.limit(MaxJSON), a.checkAddresses)
	v1.GET("/photos", a.getPhotos)
	v1.POST("/photos", a.limit(maxPhotos), a.startPhotos)
	v1.DELETE("/photos", a.stopPhotos)
	v1.GET("/pictures/:name/changes", a.getPictureChanges)
}

// maxPhotos is the largest archive of photos, in bytes.
const maxPhotos = 1 << 30

// answer sends a value, or the problem.
func answer[T any](a *API, c *gin.Context, value T, err error) {
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, value)
}

// body reads a request's JSON, or answers with the problem.
func body[T any](a *API, c *gin.Context) (in T, ok bool) {
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return in, false
	}
	return in, true
}

// listPictures answers GET /pictures: all pictures, by name.
func (a *API) listPictures(c *gin.Context) {
	records, err := a.Pictures.List(c.Request.Context())
	list := []PictureSummary{}
	for _, r := range records {
		s := PictureSummary{Name: r.Name, Number: r.Latest().Number, Facts: r.Latest().Facts, Saved: r.Latest().Saved,
			Alt: r.Alts["en"], Uses: []string{}, Outdated: []string{}}
		for _, alt := range r.Alts {
			if s.Alt == "" {
				s.Alt = alt
			}
		}
		for _, u := range r.Uses {
			s.Uses = append(s.Uses, u.Template)
			if u.Version != s.Number {
				s.Outdated = append(s.Outdated, u.Template)
			}
		}
		list = append(list, s)
	}
	answer(a, c, list, err)
}

// getPictureRecord answers GET /pictures/{name}: a picture with its versions, uses and renditions.
func (a *API) getPictureRecord(c *gin.Context) {
	r, err := a.Pictures.Get(c.Request.Context(), c.Param("name"))
	answer(a, c, r, err)
}

// putPictureVersion answers PUT /pictures/{name}: store a new version. The file is read whole first; a broken or
// hostile one is refused.
func (a *API) putPictureVersion(c *gin.Context) {
	data, err := io.ReadAll(c.Request.Body)
	if err != nil {
		a.fail(c, err)
		return
	}
	r, err := a.Pictures.Put(c.Request.Context(), c.Param("name"), data, c.Query("file"), c.Query("note"))
	answer(a, c, r, err)
}

// viewSide is the longest side of a picture that is sent to be looked at, in pixels.
const viewSide = 1600

// viewPicture sends a version to be looked at: upright, in sRGB, as PNG, not larger than a screen.
func (a *API) viewPicture(c *gin.Context) {
	number, err := strconv.Atoi(c.DefaultQuery("number", "0"))
	if err != nil {
		a.fail(c, problem.New(problem.Invalid, "The version %q is no number.", c.Query("number")))
		return
	}
	read, _, err := a.readPicture(c, number)
	if err != nil {
		a.fail(c, err)
		return
	}
	img := read.Image()
	if side := max(read.Width, read.Height); side > viewSide {
		img = picture.Resized(img, max(read.Width*viewSide/side, 1), max(read.Height*viewSide/side, 1))
	}
	data, err := pngOf(img)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "private, max-age=60")
	c.Data(http.StatusOK, "image/png", data)
}

// readPicture reads a version for work on it; number 0 is the latest.
func (a *API) readPicture(c *gin.Context, number int) (*picture.Picture, pictures.Version, error) {
	data, version, err := a.Pictures.Content(c.Request.Context(), c.Param("name"), number)
	if err != nil {
		return nil, version, err
	}
	read, err := picture.Read(data)
	return read, version, err
}

// putAlts answers PUT /pictures/{name}/alts: replace the alternative texts, by language (BCP 47).
func (a *API) putAlts(c *gin.Context) {
	alts := map[string]string{}
	if err := readJSON(c, &alts); err != nil {
		a.fail(c, err)
		return
	}
	if err := a.Pictures.PutAlts(c.Request.Context(), c.Param("name"), alts); err != nil {
		a.fail(c, err)
		return
	}
	a.getPictureRecord(c)
}

// probePicture answers POST /pictures/{name}/probe: what the latest version is and what will go wrong with it.
func (a *API) probePicture(c *gin.Context) {
	in, ok := body[probeRequest](a, c)
	if !ok {
		return
	}
	data, version, err := a.Pictures.Content(c.Request.Context(), c.Param("name"), 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	read, err := picture.Read(data)
	if err != nil {
		a.fail(c, err)
		return
	}
	profiles, err := a.profiles(c.Request.Context(), nil)
	if err != nil {
		a.fail(c, err)
		return
	}
	out := probeAnswer{Facts: version.Facts, Multiples: delivery.Multiples(profiles, "attributes"),
		Focus: picture.Detect(read.Image()), Notes: append([]string{}, read.Notes...), Sights: []picture.Sight{}, Vanishes: []string{}}
	if read.Transparent {
		out.Sights = picture.Sights(read.Image())
		out.Vanishes = append(out.Vanishes, picture.Vanishes(out.Sights)...)
	}
	out.Findings, err = check.Picture(c.Request.Context(), c.Param("name")+picture.Ending(version.Facts.Format), data,
		in.Width, in.Height, profiles, a.Now())
	answer(a, c, out, err)
}

// pngOf is an image as PNG, to be looked at.
func pngOf(img image.Image) ([]byte, error) {
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, img)
	return b.Bytes(), err
}

// dataAddress is a file as a data address (RFC 2397).
func dataAddress(format string, data []byte) string {
	return "data:" + picture.Media(format) + ";base64," + base64.StdEncoding.EncodeToString(data)
}

// made keeps a rendition if that is asked for, and answers with it.
func (a *API) made(c *gin.Context, version pictures.Version, recipe picture.Recipe, keep bool, r *picture.Rendition, err error) {
	if err != nil {
		a.fail(c, problem.As(problem.Invalid, err))
		return
	}
	m := madePicture{
		Key: picture.KeyOf(r.Data), Facts: r.Facts, Before: version.Facts.Bytes, Difference: r.Difference, Trials: r.Trials,
		Notes: append([]string{}, r.Notes...),
		Image: dataAddress(r.Facts.Format, r.Data), Sights: []picture.Sight{},
	}
	m.Width, m.Height = recipe.Display(version.Facts)
	exact, err := pngOf(r.Exact)
	if err != nil {
		a.fail(c, err)
		return
	}
	differs, err := pngOf(picture.DifferenceImage(r.Exact, r.Shown))
	if err != nil {
		a.fail(c, err)
		return
	}
	m.Exact, m.Differs = dataAddress(picture.PNG, exact), dataAddress(picture.PNG, differs)
	if !r.Shown.Opaque() {
		m.Sights = picture.Sights(r.Shown)
	}
	if keep {
		m.Warnings, err = a.Pictures.Keep(c.Request.Context(), c.Param("name"), version.Number, recipe, r)
	}
	m.Warnings = orEmpty(m.Warnings)
	answer(a, c, m, err)
}

// fitPicture answers POST /pictures/{name}/fit: make the exact rendition for a display size.
func (a *API) fitPicture(c *gin.Context) {
	in, ok := body[fitRequest](a, c)
	if !ok {
		return
	}
	if err := in.Recipe.Check(); err != nil {
		a.fail(c, problem.As(problem.Invalid, err))
		return
	}
	read, version, err := a.readPicture(c, in.Number)
	if err != nil {
		a.fail(c, err)
		return
	}
	r, err := read.Fit(in.Recipe)
	a.made(c, version, in.Recipe, in.Keep, r, err)
}

// compressPicture answers POST /pictures/{name}/compress: make a lighter file of the same size.
func (a *API) compressPicture(c *gin.Context) {
	in, ok := body[compressRequest](a, c)
	if !ok {
		return
	}
	data, version, err := a.Pictures.Content(c.Request.Context(), c.Param("name"), in.Number)
	if err != nil {
		a.fail(c, err)
		return
	}
	r, err := picture.Compress(data, in.Weight)
	asItIs := picture.Recipe{Width: version.Facts.Width, Height: version.Facts.Height, Multiple: 1, Weight: in.Weight}
	a.made(c, version, asItIs, in.Keep, r, err)
}

// slice cuts a picture by a map.
func (a *API) slice(c *gin.Context, m picture.SliceMap) (*picture.Sliced, error) {
	data, _, err := a.Pictures.Content(c.Request.Context(), c.Param("name"), 0)
	if err != nil {
		return nil, err
	}
	cut, err := picture.Slice(data, m, c.Param("name"))
	if err != nil {
		return nil, problem.As(problem.Invalid, err)
	}
	return cut, nil
}

// slicePicture answers POST /pictures/{name}/slice: cut a picture into pieces that join in a table.
func (a *API) slicePicture(c *gin.Context) {
	in, ok := body[sliceRequest](a, c)
	if !ok {
		return
	}
	cut, err := a.slice(c, in.Map)
	if err != nil {
		a.fail(c, err)
		return
	}
	out := slicedPicture{Width: cut.Width, Height: cut.Height, Pieces: []slicedPiece{}, Table: cut.Table, Notes: cut.Notes}
	addresses := map[string]string{}
	for _, p := range cut.Pieces {
		piece := slicedPiece{Piece: p}
		if p.Rendition != nil {
			piece.Image = dataAddress(p.Rendition.Facts.Format, p.Rendition.Data)
			addresses[p.Name] = piece.Image
		}
		out.Pieces = append(out.Pieces, piece)
	}
	out.Look = picture.TableWith(cut.Table, addresses)
	if in.Keep {
		err = a.Pictures.PutSlices(c.Request.Context(), c.Param("name"), in.Map)
	}
	answer(a, c, out, err)
}

// getSliced sends the template that a picture's stored map makes.
func (a *API) getSliced(c *gin.Context) {
	r, err := a.Pictures.Get(c.Request.Context(), c.Param("name"))
	if err == nil && r.Slices == nil {
		err = problem.New(problem.Invalid, "It is not decided how %s is cut.", r.Name)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	cut, err := a.slice(c, *r.Slices)
	if err != nil {
		a.fail(c, err)
		return
	}
	files, err := pictures.SlicedFiles(cut, *r.Slices, r.Name)
	a.sendZip(c, r.Name+"-pieces.zip", files, err)
}

// sendZip sends files as an archive.
func (a *API) sendZip(c *gin.Context, name string, files map[string][]byte, err error) {
	var b bytes.Buffer
	if err == nil {
		err = templates.WriteFiles(&b, files)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
	c.Data(http.StatusOK, "application/zip", b.Bytes())
}

// usePicture answers POST /pictures/{name}/use: fit the latest version and put it into a template.
func (a *API) usePicture(c *gin.Context) { a.intoTemplate(c, a.Pictures.Use) }

// takePicture answers POST /pictures/{name}/take: put the latest version into a template that uses an older one.
func (a *API) takePicture(c *gin.Context) { a.intoTemplate(c, a.Pictures.Take) }

// intoTemplate puts a picture into a template and answers with the version that this made.
func (a *API) intoTemplate(c *gin.Context, put func(ctx context.Context, name string, in pictures.UseRequest) (templates.Stored, error)) {
	in, ok := body[pictures.UseRequest](a, c)
	if !ok {
		return
	}
	s, err := put(c.Request.Context(), c.Param("name"), in)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, detail(s))
}

// drawCode answers POST /code: draw a text or a person's vCard (RFC 6350) as a QR code.
func (a *API) drawCode(c *gin.Context) {
	in, ok := body[codeRequest](a, c)
	if !ok {
		return
	}
	if in.Person != "" {
		d, _, err := a.People.Directory(c.Request.Context())
		if err != nil {
			a.fail(c, err)
			return
		}
		who := d.Find(in.Person)
		if who == nil {
			a.fail(c, problem.New(problem.Invalid, "There is nobody with the mail address %q.", in.Person))
			return
		}
		if in.Text, err = person.VCard(d.Schema, who, in.Organisation); err != nil {
			a.fail(c, problem.As(problem.Invalid, err))
			return
		}
	}
	made, err := picture.Code(in.Text, in.Recipe)
	if err != nil {
		a.fail(c, problem.As(problem.Invalid, err))
		return
	}
	reply(c, http.StatusOK, codeAnswer{Modules: made.Modules, Module: made.Module, Width: made.Width, Next: made.Next,
		Bytes: len(made.Data), Text: in.Text, Image: dataAddress(picture.PNG, made.Data)})
}

// getPictureSettings answers GET /settings/pictures: what the administrator says about pictures.
func (a *API) getPictureSettings(c *gin.Context) {
	s, err := a.Hosting.Settings(c.Request.Context())
	answer(a, c, s, err)
}

// putPictureSettings answers PUT /settings/pictures: say it.
func (a *API) putPictureSettings(c *gin.Context) {
	in, ok := body[hosting.Settings](a, c)
	if !ok {
		return
	}
	answer(a, c, in, a.Hosting.PutSettings(c.Request.Context(), in))
}

// weighDelivery answers GET /templates/{name}/delivery: what follows from each way in which the pictures of each form
// can be delivered.
func (a *API) weighDelivery(c *gin.Context) {
	ctx := c.Request.Context()
	t, err := a.Templates.Get(ctx, c.Param("name"), 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	d, _, err := a.People.Directory(ctx)
	if err != nil {
		a.fail(c, err)
		return
	}
	s, err := a.Hosting.Settings(ctx)
	if err != nil {
		a.fail(c, err)
		return
	}
	profiles, err := a.profiles(ctx, nil)
	if err != nil {
		a.fail(c, err)
		return
	}
	list, err := delivery.Weigh(delivery.Input{Template: t.Template, People: d, Profiles: profiles, Day: a.Now(), Volume: s.Volume})
	answer(a, c, list, err)
}

// chooseDelivery answers PUT /templates/{name}/delivery: choose the way of a form.
func (a *API) chooseDelivery(c *gin.Context) {
	in, ok := body[deliveryChoice](a, c)
	if !ok {
		return
	}
	if _, err := a.Pictures.Choose(c.Request.Context(), c.Param("name"), in.Form, in.Way); err != nil {
		a.fail(c, err)
		return
	}
	a.weighDelivery(c)
}

// getTree sends a template's pictures as they must lie on a web server.
func (a *API) getTree(c *gin.Context) {
	t, err := a.Templates.Get(c.Request.Context(), c.Param("name"), 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	_, files, err := pictures.Tree(t.Template)
	if err != nil {
		err = problem.As(problem.Invalid, err)
	}
	a.sendZip(c, t.Name+"-pictures.zip", files, err)
}

// checkTemplateAddresses answers POST /templates/{name}/addresses: ask all picture addresses of a template.
func (a *API) checkTemplateAddresses(c *gin.Context) {
	list, err := a.Pictures.CheckTemplate(c.Request.Context(), c.Param("name"), 0)
	answer(a, c, list, err)
}

// listAddresses answers GET /addresses: what asking addresses brought last, newest first.
func (a *API) listAddresses(c *gin.Context) {
	list, err := a.Pictures.Checks(c.Request.Context())
	answer(a, c, list, err)
}

// checkAddresses answers POST /addresses: ask addresses, at most 50.
func (a *API) checkAddresses(c *gin.Context) {
	var in addressRequest
	err := readJSON(c, &in)
	if err == nil && (len(in.Addresses) == 0 || len(in.Addresses) > maxAddresses) {
		err = problem.New(problem.Invalid, "From 1 to %d addresses are asked at once.", maxAddresses)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	list, err := a.Pictures.CheckAddresses(c.Request.Context(), in.Addresses)
	answer(a, c, list, err)
}

// startPhotos begins to fit the photos of an archive; the recipe stands in the address, each member by its name.
func (a *API) startPhotos(c *gin.Context) {
	recipe, err := photoRecipe(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	record, err := a.Pictures.StartPhotos(c.Request.Context(), c.Request.Body, recipe)
	if err != nil {
		a.fail(c, err)
		return
	}
	state, err := pictures.StateOf(record)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusAccepted, state)
}

// photoRecipe reads the recipe for photos from the address of a request: width, height, radius and ring in px, shape,
// colour of the ring, background, and detect for the focus.
func photoRecipe(c *gin.Context) (picture.Recipe, error) {
	r := picture.Recipe{
		Shape: picture.Shape(c.Query("shape")), Colour: c.Query("colour"), Background: c.Query("background"),
		Detect: c.DefaultQuery("detect", "true") == "true",
	}
	var err error
	if r.Width, err = number(c, "width", 0); err != nil {
		return r, err
	}
	if r.Height, err = number(c, "height", 0); err != nil {
		return r, err
	}
	for name, into := range map[string]*float64{"radius": &r.Radius, "ring": &r.Ring} {
		if text := c.Query(name); text != "" {
			if *into, err = strconv.ParseFloat(text, 64); err != nil {
				return r, problem.New(problem.Invalid, "%s=%s is not a number.", name, text).In(name)
			}
		}
	}
	return r, nil
}

func (a *API) getPhotos(c *gin.Context) {
	state, err := a.Pictures.Photos(c.Request.Context())
	answer(a, c, state, err)
}

// stopPhotos answers DELETE /photos: stop the fitting.
func (a *API) stopPhotos(c *gin.Context) {
	if err := a.Pictures.StopPhotos(c.Request.Context()); err != nil {
		a.fail(c, err)
		return
	}
	a.getPhotos(c)
}

// PictureChanges says what a picture's latest version would change in a template.
type PictureChanges struct {
	Changes []string `json:"changes"` // empty when it is used already
}

// getPictureChanges answers GET /pictures/{name}/changes: what a picture's latest version would change in a template
// that uses an older one.
func (a *API) getPictureChanges(c *gin.Context) {
	list, err := a.Pictures.Changes(c.Request.Context(), c.Param("name"), c.Query("template"), c.Query("as"))
	answer(a, c, PictureChanges{orEmpty(list)}, err)
}
