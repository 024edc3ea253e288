package kit

import (
	"fmt"
	"html"
	"net/url"
	"regexp"
	"strings"
	"time"

	htmlparse "golang.org/x/net/html"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/filename"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
)

// Shot is what a signature as one picture is drawn from.
type Shot struct {
	Page string // whole, with its pictures in it
	Alt  string // full alternative text
	Link string // where the picture leads; blank where the signature has no link
}

// linksInText are the addresses behind labels in a text form.
var linksInText = regexp.MustCompile(`\s*<(?:https?|tel|mailto):[^>]*>`)

// ShotOf readies a person's signature to be drawn as one picture.
func ShotOf(in Input, c Choice, p *person.Person) (Shot, error) {
	t := in.Templates[c.Template]
	if t == nil {
		return Shot{}, problem.Missing("template", c.Template)
	}
	data := *t
	data.Settings.Pictures.Delivery = map[string]template.Delivery{string(compose.HTML): template.Data}
	s, err := compose.Compile(compose.Source{Template: &data, Schema: in.Schema, Day: in.Day, Variants: []string{c.Variant}},
		compose.HTML, compose.Text)
	if err != nil {
		return Shot{}, err
	}
	shot := Shot{Page: string(s.Fill(c.Variant, compose.HTML, p))}
	text := strings.TrimPrefix(string(s.Fill(c.Variant, compose.Text, p)), "-- \n")
	var lines []string
	for _, line := range strings.Split(linksInText.ReplaceAllString(text, ""), "\n") {
		if line = strings.TrimSpace(line); line != "" {
			lines = append(lines, line)
		}
	}
	shot.Alt = strings.Join(lines, ", ")
	z := htmlparse.NewTokenizer(strings.NewReader(shot.Page))
	for kind := z.Next(); kind != htmlparse.ErrorToken && shot.Link == ""; kind = z.Next() {
		for _, a := range z.Token().Attr {
			if u, err := url.Parse(a.Val); a.Key == "href" && err == nil && u.Scheme == "https" {
				shot.Link = a.Val
				break
			}
		}
	}
	return shot, nil
}

// OfPicture makes the kit of a drawn picture: the picture, the markup that shows it, and address, link and alternative text
// for boxes that ask for them one by one. width and height are those in which it is shown, in px.
func OfPicture(in Input, c Choice, p *person.Person, shot Shot, data []byte, width, height int) (Kit, error) {
	t := in.Templates[c.Template]
	host, _ := t.Hosting()
	if host == "" {
		return Kit{}, problem.New(problem.Refused,
			"The picture must be hosted, and %s has no address at which its pictures are; say pictures.address in %s.",
			t.Name, template.SettingsFile)
	}
	base := in.Base
	if base == "" {
		base = t.Name
	}
	mail, _, _ := in.Schema.Column("mail")
	name := filename.Safe(base) + "-" + picture.KeyOf(data)
	address := host + url.PathEscape(name)
	markup := fmt.Sprintf(`<img src="%s" width="%d" height="%d" border="0" alt="%s">`, html.EscapeString(address), width,
		height, html.EscapeString(shot.Alt))
	fields := fmt.Sprintf("Address of the picture: %s\nWidth: %d px\nHeight: %d px\nAlternative text: %s\n", address, width, height, shot.Alt)
	if shot.Link != "" {
		markup = fmt.Sprintf(`<a href="%s">%s</a>`, html.EscapeString(shot.Link), markup)
		fields = "Link: " + shot.Link + "\n" + fields
	}
	k := Kit{List: List{Format: format, Person: p.At(mail), Way: client.PictureLink, Client: in.Client, Release: in.Release,
		Day: in.Day.Format(time.DateOnly),
		Use: map[string]string{"new": base}, Files: []Listed{}}}
	k.Contents = []File{file(name, pictureForm, data), file(base+".html", string(compose.HTML), []byte(markup+"\n")),
		file(base+".txt", string(compose.Text), []byte(fields))}
	for _, f := range k.Contents {
		k.Files = append(k.Files, f.Listed)
	}
	k.Notes = append(k.Notes, "The picture must be at its address before anybody uses it: upload it below "+host+".")
	return k, nil
}

// Without is the kit of somebody who gets no signature.
func Without(in Input, p *person.Person) Kit {
	mail, _, _ := in.Schema.Column("mail")
	return Kit{List: List{Format: format, Person: p.At(mail), Way: in.Way, Client: in.Client, Release: in.Release,
		Day: in.Day.Format(time.DateOnly), Use: map[string]string{"new": ""}, Files: []Listed{}}}
}
