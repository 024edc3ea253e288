// Package compose turns a template into the forms that go out: a whole HTML page, the fragment to paste, text, rich
// text, a MIME part, a message draft and a page to copy from. A template is prepared once (pictures resolved, styles
// inlined), compiled once for a directory's schema and the forms that are needed, and then filled for each person by
// appending. Start with Compile and Signature; Prepare is for those who look at the document itself.
package compose

import (
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"math"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"missivum/core/compact"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/passive"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/richtext"
	"missivum/core/style"
	"missivum/core/template"
)

// Addresser gives the address under which a picture is reached.
type Addresser func(p *template.Picture) string

// Hosted gives addresses below the template's hosting address; without one, relative paths.
func Hosted(t *template.Template) Addresser {
	address, naming := t.Hosting()
	if address == "" {
		return Beside
	}
	return func(p *template.Picture) string { return address + url.PathEscape(p.HostedName(naming)) }
}

// Data gives addresses that hold the whole picture (RFC 2397).
func Data(p *template.Picture) string {
	return "data:" + picture.Media(p.Format) + ";base64," + base64.StdEncoding.EncodeToString(p.Data)
}

// Reached gives full addresses as readers would meet them, for simulations: those at the hosting address, or where
// there is none, some that lead nowhere.
func Reached(t *template.Template) Addresser {
	if address, _ := t.Hosting(); address != "" {
		return Hosted(t)
	}
	return Below("https://pictures.invalid/")
}

// Delivered gives the addresses of a form's pictures in the way that the template says; beside is where files
// beside the page lie.
func Delivered(t *template.Template, form Form, beside Addresser) Addresser {
	switch t.Delivery(string(form)) {
	case template.Beside:
		return beside
	case template.Carried:
		return carried(t)
	case template.Data:
		return Data
	}
	return Hosted(t)
}

// Beside gives relative addresses into the picture folder.
func Beside(p *template.Picture) string { return template.PictureFolder + "/" + url.PathEscape(p.File) }

// Below gives addresses below a path: a preview's, or that of another folder.
func Below(base string) Addresser {
	return func(p *template.Picture) string { return base + url.PathEscape(p.File) }
}

// Prepared is a template whose document no longer depends on anything but the person and the
// variant: slots decided, pictures resolved, styles inlined.
type Prepared struct {
	Template *template.Template
	Schema   *person.Schema
	Doc      *markup.Document
	Source   *markup.Document // as written, for checks that look at the source
	Styles   style.Report
	// Compacting is how many steps of compact are taken, where the template does not ask for all.
	Compacting int
}

// Prepare reads the template's source and does all that depends on neither person nor variant. day
// decides which dated slots are in force. The error is of type field.Errors when the template has
// mistakes, all of them; the document is then prepared as far as it goes, to be looked at by
// checks. Styles are resolved on the template as written, with every variant's elements in it.
func Prepare(t *template.Template, schema *person.Schema, day time.Time, address Addresser) (*Prepared, error) {
	doc, err := style.Parse(t.Source)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", template.SourceFile, err)
	}
	known := schema.Declaring(t.Settings.Fields...).WithConstants(t.Settings.Organisation, t.Settings.Texts, t.Settings.Languages()...)
	p := &Prepared{Template: t, Schema: known, Doc: doc, Source: doc.Clone()}
	errs := p.FieldSource().Validate()
	errs = append(errs, p.resolveSlots(day)...)
	errs = append(errs, p.resolvePictures(address)...)
	for _, file := range slices.Sorted(maps.Keys(t.Texts)) {
		var wrong field.Errors
		if _, err := p.compileHandText(p.NewTable(), file, t.Texts[file]); errors.As(err, &wrong) {
			errs = append(errs, wrong...)
		}
	}
	p.Styles = style.Inline(doc)
	if p.Styles.Beyond {
		return nil, problem.New(problem.Refused, "The style sheets bring more than %d declarations to elements; a signature has some hundred.",
			style.MaxReached)
	}
	p.sizePictures()
	if len(errs) > 0 {
		return p, errs
	}
	return p, nil
}

// FieldSource is the prepared document as the template language sees it.
func (p *Prepared) FieldSource() *field.Source { return p.sourceOf(p.Doc) }

// sourceOf is a document with what is needed to read its fields.
func (p *Prepared) sourceOf(doc *markup.Document) *field.Source {
	return &field.Source{Doc: doc, Schema: p.Schema, Variants: p.Template.Variants()}
}

// Outgoing is the document as it goes into clients: a copy of the prepared one, made shorter where the template's
// settings ask for it.
func (p *Prepared) Outgoing() *markup.Document {
	doc := p.Doc.Clone()
	steps := p.Compacting
	if p.Template.Settings.Compact {
		steps = compact.All()
	}
	compact.Apply(doc, steps)
	return doc
}

// FragmentProgram compiles the fragment of a document made from the prepared one, such as a client's;
// that document is changed in place. It is what is pasted: white space around it is not part of it, and nothing in it
// is active.
func (p *Prepared) FragmentProgram(doc *markup.Document, table *field.Table, variant string) (*field.Program, error) {
	passive.Make(doc)
	doc.Fragment()
	program, err := field.CompileHTML(p.sourceOf(doc), table, variant)
	if err != nil {
		return nil, err
	}
	program.Trim()
	return program, nil
}

// NewTable makes a table for the values of the template's programs.
func (p *Prepared) NewTable() *field.Table {
	return field.NewTable(p.Schema, p.Template.Settings.Country)
}

// resolveSlots decides which dated pieces are there on a day.
func (p *Prepared) resolveSlots(day time.Time) field.Errors {
	var errs field.Errors
	for _, n := range p.Doc.Root.Elements() {
		a := n.Attribute(field.AttrSlot)
		if a == nil {
			continue
		}
		slot, ok := p.Template.Settings.Slots[a.Value]
		if !ok {
			var names []string
			for name := range p.Template.Settings.Slots {
				names = append(names, name)
			}
			errs = append(errs, field.Error{
				Place: p.Doc.Place(a.Inner.Start), End: a.Inner.End,
				Message: fmt.Sprintf("There is no slot %q in %s.", a.Value, template.SettingsFile),
				Nearest: person.Nearest(a.Value, names),
			})
			continue
		}
		switch {
		case slot.InForce(day):
		case n.Is("td", "th"):
			field.MakeAbsent(n)
		default:
			n.Remove()
		}
	}
	return errs
}

// resolvePictures gives every <img data-picture> its address, its size and its alternative text,
// and every picture that the template holds the address of the chosen form.
func (p *Prepared) resolvePictures(address Addresser) field.Errors {
	var errs field.Errors
	for _, n := range p.Doc.Root.Elements("img") {
		a := n.Attribute(field.AttrPicture)
		if a == nil {
			p.moveHosted(n, address)
			continue
		}
		picture := p.Template.Picture(a.Value)
		if picture == nil {
			errs = append(errs, field.Error{
				Place: p.Doc.Place(a.Inner.Start), End: a.Inner.End,
				Message: fmt.Sprintf("There is no picture %q in %s.", a.Value, template.SettingsFile),
				Nearest: person.Nearest(a.Value, p.Template.PictureNames()),
			})
			continue
		}
		n.SetAttr("src", address(picture))
		if _, ok := n.Attr("alt"); !ok && picture.Alt != "" { // a missing text is no decoration
			n.SetAttr("alt", picture.Alt)
		}
	}
	return errs
}

// sizePictures gives the template's pictures the size attributes that they lack.
func (p *Prepared) sizePictures() {
	for _, n := range p.Doc.Root.Elements("img") {
		if name, ok := n.Attr(field.AttrPicture); ok {
			if picture := p.Template.Picture(name); picture != nil {
				setSize(n, picture)
			}
		}
	}
}

// moveHosted gives a picture that is written with its hosting address the address of the chosen form.
func (p *Prepared) moveHosted(n *markup.Node, address Addresser) {
	src, _ := n.Attr("src")
	if host, _ := p.Template.Hosting(); host == "" || !strings.HasPrefix(src, host) {
		return
	}
	if picture := p.Template.AtAddress(src); picture != nil && address(picture) != src {
		n.SetAttr("src", address(picture))
	}
}

// setSize writes the missing one of width and height, or both: what styles say, in the picture's proportions, and else its
// true size.
func setSize(n *markup.Node, p *template.Picture) {
	width, height := n.Pixels("width"), n.Pixels("height")
	if width > 0 && height > 0 {
		return
	}
	if width == 0 {
		width = declaredPixels(n, "width")
	}
	if height == 0 {
		height = declaredPixels(n, "height")
	}
	if width == 0 || height == 0 {
		width, height = p.Proportioned(width, height)
		if most := declaredPixels(n, "max-width"); most > 0 && width > most {
			width, height = p.Proportioned(most, 0)
		}
	}
	n.SetAttr("width", strconv.Itoa(width))
	n.SetAttr("height", strconv.Itoa(height))
}

// declaredPixels is a length that styles give an element, in px; 0 for none and for shares of what is around it.
func declaredPixels(n *markup.Node, property string) int {
	value, ok := n.Declared(property)
	if !ok || strings.Contains(value, "%") {
		return 0
	}
	length, _ := style.Length(value, 16)
	return int(math.Round(length))
}

// PictureOf returns the template's picture that an <img> of the prepared document shows, or nil.
func (p *Prepared) PictureOf(img *markup.Node) *template.Picture {
	if name, ok := img.Attr(field.AttrPicture); ok {
		return p.Template.Picture(name)
	}
	src, _ := img.Attr("src")
	return p.Template.AtAddress(src)
}

// Signature is a template compiled for one schema: the programs of some variants and forms, over one table of values.
type Signature struct {
	table    *field.Table
	forms    map[formKey]appender
	pictures []*template.Picture
}

// Pictures are the pictures that the signature shows to anybody, each once.
func (s *Signature) Pictures() []*template.Picture { return s.pictures }

// formKey is under what a compiled form is found.
type formKey struct {
	variant string
	form    Form
}

// Source says what is compiled.
type Source struct {
	Template *template.Template
	Schema   *person.Schema
	Day      time.Time // decides which dated pieces are in force
	Variants []string  // none: all of the template's
	Beside   Addresser // where pictures beside the page lie; nil for the template's picture folder
}

// Compile makes the programs of the forms that are asked for, of all forms when none is. What no form needs is not
// done. The error is field.Errors for mistakes in the template.
func Compile(s Source, forms ...Form) (*Signature, error) {
	if len(s.Variants) == 0 {
		s.Variants = s.Template.Variants()
	}
	for _, variant := range s.Variants {
		if err := CheckVariant(s.Template, variant); err != nil {
			return nil, err
		}
	}
	if len(forms) == 0 {
		forms = Forms()
	}
	if s.Beside == nil {
		s.Beside = Beside
	}
	c := &compiler{Source: s, out: &Signature{forms: map[formKey]appender{}}, prepared: map[template.Delivery]*Prepared{},
		pages: map[Form]*Prepared{}}
	first, err := c.deliver(Fragment)
	if err != nil {
		return nil, err
	}
	c.out.table, c.out.pictures = first.NewTable(), first.picturesUsed()
	for _, variant := range s.Variants {
		for _, form := range forms {
			if _, err := c.form(variant, form); err != nil {
				return nil, err
			}
		}
	}
	return c.out, nil
}

// compiler makes a signature. What several forms need is made once.
type compiler struct {
	Source
	out      *Signature
	prepared map[template.Delivery]*Prepared
	pages    map[Form]*Prepared
}

// deliver gives the prepared template with its pictures as a form delivers them, and nothing active in it. It must not
// be changed.
func (c *compiler) deliver(form Form) (*Prepared, error) {
	way := c.Template.Delivery(string(form))
	if p := c.prepared[way]; p != nil {
		return p, nil
	}
	p, err := Prepare(c.Template, c.Schema, c.Day, Delivered(c.Template, form, c.Beside))
	if err != nil {
		return nil, err
	}
	passive.Make(p.Doc)
	c.prepared[way] = p
	return p, nil
}

// page gives the whole page of a form.
func (c *compiler) page(form Form) (*Prepared, error) {
	if p := c.pages[form]; p != nil {
		return p, nil
	}
	delivered, err := c.deliver(form)
	if err != nil {
		return nil, err
	}
	page := *delivered
	page.Doc = delivered.Doc.Clone()
	page.page()
	c.pages[form] = &page
	return &page, nil
}

// form gives the program of a form, made when it is not there yet.
func (c *compiler) form(variant string, form Form) (appender, error) {
	key := formKey{variant, form}
	if program := c.out.forms[key]; program != nil {
		return program, nil
	}
	program, err := c.compile(variant, form)
	if err != nil {
		return nil, err
	}
	c.out.forms[key] = program
	return program, nil
}

// compile makes the program of one form in one variant.
func (c *compiler) compile(variant string, form Form) (appender, error) {
	switch form {
	case HTML:
		return c.compilePage(variant, HTML)
	case hostedPage:
		return c.compilePage(variant, MIME)
	case MIME:
		page, err := c.form(variant, hostedPage)
		return mimeForm{page}, err
	case Fragment:
		p, err := c.deliver(Fragment)
		if err != nil {
			return nil, err
		}
		return c.fragment(p, variant)
	case CopyPage:
		fragment, err := c.form(variant, Fragment)
		return newCopyPage(c.Template.Title(), c.Template.Settings.Language, fragment), err
	case Text:
		p, err := c.deliver(Fragment)
		if err != nil {
			return nil, err
		}
		return p.TextProgram(c.out.table, variant)
	case RTF:
		p, err := c.page(HTML)
		if err != nil {
			return nil, err
		}
		return p.RichText(c.out.table, variant)
	case Message:
		return c.compileMessage(variant)
	case StampHosted, StampCarried:
		return c.compileStamp(variant, form)
	}
	return nil, problem.New(problem.Invalid, "There is no form %q.", form).In("form")
}

// fragment makes the program of what is pasted or stamped, of a prepared template.
func (c *compiler) fragment(p *Prepared, variant string) (appender, error) {
	program, err := p.FragmentProgram(p.Outgoing(), c.out.table, variant)
	if err != nil {
		return nil, err
	}
	return program, c.passive(program)
}

// compilePage makes the program of a form that is markup.
func (c *compiler) compilePage(variant string, form Form) (appender, error) {
	p, err := c.page(form)
	if err != nil {
		return nil, err
	}
	program, err := field.CompileHTML(p.FieldSource(), c.out.table, variant)
	if err != nil {
		return nil, err
	}
	return program, c.passive(program)
}

// passive refuses a program whose markup a browser reads otherwise than the tree says, so that something active is
// left in it.
func (c *compiler) passive(program *field.Program) error {
	filler := field.NewFiller(c.out.table)
	filler.Set(FieldNames(c.Schema))
	if found := passive.Active(string(program.Append(nil, filler))); found != "" {
		return problem.New(problem.Refused, "A browser finds %s in the template where it stands as something else; take it out.", found)
	}
	return nil
}

// compileMessage makes the program of a draft: text, page and pictures.
func (c *compiler) compileMessage(variant string) (appender, error) {
	p, err := c.deliver(Fragment)
	if err != nil {
		return nil, err
	}
	message, err := newMessageForm(c.Template, c.out.pictures, c.out.table, p, c.Day)
	if err != nil {
		return nil, err
	}
	if message.text, err = c.form(variant, Text); err != nil {
		return nil, err
	}
	message.page, err = c.compilePage(variant, Message)
	return message, err
}

// RichText compiles the rich text form of a variant.
func (p *Prepared) RichText(table *field.Table, variant string) (*richtext.Program, error) {
	return richtext.Compile(richtext.Source{Fields: p.FieldSource(), Table: table, Variant: variant, PictureOf: p.PictureOf})
}

// CheckVariant says whether the template has the variant, and which it has.
func CheckVariant(t *template.Template, variant string) (err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	for _, v := range t.Variants() {
		if v == variant {
			return nil
		}
	}
	return fmt.Errorf("there is no variant %q; the template has %s", variant, strings.Join(t.Variants(), ", "))
}

// Same reports whether two variants are the same for everybody, as page and as text. Both forms must have been compiled.
func (s *Signature) Same(a, b string) bool {
	for _, form := range []Form{HTML, Text} {
		one, other := s.forms[formKey{a, form}], s.forms[formKey{b, form}]
		if !sameProgram(one, other) {
			return false
		}
	}
	return true
}

// sameProgram compares what two programs do.
func sameProgram(a, b appender) bool {
	x, y := programOf(a), programOf(b)
	return x != nil && y != nil && slices.Equal(x.Steps, y.Steps) && reflect.DeepEqual(x.Grids, y.Grids)
}

// programOf is the program of a page or a text; nil for other forms.
func programOf(a appender) *field.Program {
	switch p := a.(type) {
	case *field.Program:
		return p
	case TextProgram:
		return p.program
	}
	return nil
}

// NewFiller makes a filler for all of the signature's programs.
func (s *Signature) NewFiller() *field.Filler { return field.NewFiller(s.table) }

// Append appends a form of a variant for the person set in the filler. Both must be among those that the signature was
// compiled for; it panics otherwise, since that is a mistake of the caller.
func (s *Signature) Append(dst []byte, variant string, form Form, f *field.Filler) []byte {
	program := s.forms[formKey{variant, form}]
	if program == nil {
		panic(fmt.Sprintf("compose: the form %s of the variant %s was not compiled", form, variant))
	}
	return program.Append(dst, f)
}

// Fill gives one form of a variant for one person.
func (s *Signature) Fill(variant string, form Form, p *person.Person) []byte {
	f := s.NewFiller()
	f.Set(p)
	return s.Append(nil, variant, form, f)
}

// HostedPage gives the page with hosted pictures, as it stands in a MIME part, for one person. The signature must have
// been compiled for the form mime.
func (s *Signature) HostedPage(variant string, p *person.Person) []byte {
	return s.Fill(variant, hostedPage, p)
}

// page makes a whole page of the prepared document: doctype, language, character set, title.
func (p *Prepared) page() {
	root := p.Doc.Root
	html := first(root.Elements("html"))
	if html == nil {
		html = markup.NewElement("html", markup.Span{})
		body := markup.NewElement("body", markup.Span{})
		if len(root.Elements("head", "body")) > 0 {
			body = html
		}
		for _, c := range root.Children {
			if c.Kind == markup.Doctype {
				continue
			}
			body.Append(c)
		}
		if body != html {
			html.Append(body)
		}
		root.Children = nil
		root.Append(html)
	}
	if language := p.Template.Settings.Language; language != "" {
		if _, ok := html.Attr("lang"); !ok {
			html.SetAttr("lang", language)
		}
	}
	head := first(html.Elements("head"))
	if head == nil {
		head = markup.NewElement("head", markup.Span{})
		head.Parent = html
		html.Children = append([]*markup.Node{head}, html.Children...)
	}
	declareUTF8(p.Doc, head)
	if len(head.Elements("title")) == 0 {
		title := markup.NewElement("title", markup.Span{})
		title.Append(markup.NewText(p.Template.Title(), markup.Span{}))
		head.Append(title)
	}
	if root.Children[0].Kind != markup.Doctype {
		doctype := markup.NewDoctype()
		doctype.Parent = root
		root.Children = append([]*markup.Node{doctype}, root.Children...)
	}
}

// declareUTF8 makes the page declare what it is: it goes out as UTF-8, whatever its source declared. The declaration
// stands first in the head, among the first 1,024 bytes (HTML Living Standard, 4.2.5.4).
func declareUTF8(doc *markup.Document, head *markup.Node) {
	if only := declarations(doc); len(only) == 1 && strings.EqualFold(only[0].charset, "utf-8") && only[0].node.Parent == head &&
		only[0].node.Open.Start < 500 {
		return
	}
	for _, d := range declarations(doc) {
		d.node.Remove()
	}
	meta := markup.NewElement("meta", markup.Span{})
	meta.SetAttr("charset", "utf-8")
	meta.Parent = head
	head.Children = append([]*markup.Node{meta}, head.Children...)
}

// declared is a meta element that declares a character set.
type declared struct {
	node    *markup.Node
	charset string
}

// declarations are the meta elements that declare a character set.
func declarations(doc *markup.Document) []declared {
	var list []declared
	for _, n := range doc.Root.Elements("meta") {
		if c, ok := n.Attr("charset"); ok {
			list = append(list, declared{n, strings.TrimSpace(c)})
		} else if e, _ := n.Attr("http-equiv"); strings.EqualFold(strings.TrimSpace(e), "content-type") {
			content, _ := n.Attr("content")
			if _, c, ok := strings.Cut(strings.ToLower(content), "charset="); ok {
				list = append(list, declared{n, strings.TrimSpace(c)})
			}
		}
	}
	return list
}

// first is the first node, or nil.
func first(list []*markup.Node) *markup.Node {
	if len(list) == 0 {
		return nil
	}
	return list[0]
}

// Charset returns the character set that the document declares in a meta element.
func Charset(doc *markup.Document) (string, bool) {
	if list := declarations(doc); len(list) > 0 {
		return list[0].charset, true
	}
	return "", false
}

// FieldNames is a person whose values are the names of the fields, to look at a template with.
func FieldNames(schema *person.Schema) *person.Person {
	return &person.Person{Values: schema.Names(), Names: true}
}
