package compose

import (
	"bytes"
	"strings"
	"testing"

	"missivum/core/template"
)

// TestPicturesGoTheWayThatIsChosen: for each form and way, what stands in the page, and whether a message holds
// the pictures.
func TestPicturesGoTheWayThatIsChosen(t *testing.T) {
	begins := map[template.Delivery]string{
		template.Hosted: `src="https://pictures.brackwater.example/harbour/logo.png"`, template.Carried: `src="cid:`,
		template.Beside: `src="pictures/logo.png"`, template.Data: `src="data:image/png;base64,iVBOR`,
	}
	for _, form := range []Form{HTML, Fragment, MIME, Message} {
		for _, way := range template.Deliveries(string(form)) {
			tmpl, d := demoParts(t, "harbour")
			tmpl.Settings.Pictures.Delivery = map[string]template.Delivery{string(form): way}
			s, err := Compile(Source{Template: tmpl, Schema: d.Schema, Day: day, Variants: []string{"new"}})
			if err != nil {
				t.Fatal(err)
			}
			who := d.Find("maren.lind@brackwater.example")
			made := s.Fill("new", form, who)
			if form == Message {
				held := bytes.Count(made, []byte("Content-ID: <"))
				if want := map[template.Delivery]int{template.Carried: 2}[way]; held != want {
					t.Errorf("a message with pictures %s holds %d, want %d", way, held, want)
				}
			}
			if form == Message || form == MIME { // written in quoted-printable
				made = []byte(strings.NewReplacer("=\r\n", "", "=3D", "=").Replace(string(made)))
			}
			if !strings.Contains(string(made), begins[way]) {
				t.Errorf("%s, %s: %.600s", form, way, made)
			}
			if rich := s.Fill("new", RTF, who); bytes.Count(rich, []byte(`\pict`)) != 2 {
				t.Errorf("%s, %s: rich text lost its pictures", form, way)
			}
		}
	}
}
