package compose

import (
	"bytes"
	"mime/quotedprintable"
	"net/mail"
	"strings"
	"testing"

	"missivum/core/person"
	"missivum/core/template"
)

// hostileText are values that would be something else than text if they were not escaped.
var hostileText = []string{
	`{\rtf1 x}`, `\par\cell\row`, `}}}`, `{{{`, `\'41\u65?`, `"}}{\fldrslt x`, "a\r\nBcc: b@c.example", "--=_alternative--",
	"--=_related", ".\r\n.", "=3D=0A",
	"<script>x</script>", `"><img src=x onerror=y>`, "\x00\x01\ufeff\u202e", "javascript:alert(1)", `C:\new\table`, strings.Repeat("x", 3000),
}

func richTemplate(t testing.TB) *template.Template {
	t.Helper()
	tmpl, err := template.New("x", template.Parts{
		Source: `<table><tr><td width="100" bgcolor="#eeeeee"><a href="https://a.example/{{ cn }}">{{ cn }}</a></td><td>
			<table><tr data-needs="title"><td>{{ title | upper }}</td></tr><tr><td data-join=", "><b>{{ cn }}</b><i ` +
			`data-each="labeledURI"><a href="{{ entry.address }}">{{ entry.label }}</a></i></td></tr></table></td></tr></table>
			<p style="font-family: {{ cn }}">{{ title }}<br>{{ cn }}</p><ul><li>{{ cn }}</ul>`,
		Settings: "country: GB",
	})
	if err != nil {
		t.Fatal(err)
	}
	return tmpl
}

func hostilePerson(value string) *person.Person {
	return &person.Person{Values: []string{"m@brackwater.example", value, value, "https://b.example/ " + value}}
}

var hostileSchema = person.NewSchema("mail", "cn", "title", "labeledURI")

func TestHostileValuesStayTextInEveryForm(t *testing.T) {
	s := compile(t, richTemplate(t), hostileSchema, "new")
	harmless := skeleton(string(s.Fill("new", RTF, hostilePerson("harmless"))))
	for _, value := range hostileText {
		p := hostilePerson(value)
		rtf := string(s.Fill("new", RTF, p))
		balanced(t, rtf)
		if got := skeleton(rtf); got != harmless && !person.IsBlank(value) && !strings.Contains(value, "\n") { // a line end begins another entry
			t.Errorf("%q changes the rich text's structure:\n%s\n%s", value, got, harmless)
		}
		m, err := mail.ReadMessage(bytes.NewReader(s.Fill("new", Message, p)))
		if err != nil {
			t.Fatalf("%q: %v", value, err)
		}
		if m.Header.Get("Bcc") != "" || len(parts(t, m.Header.Get("Content-Type"), m.Body)) != 2 {
			t.Errorf("%q changes the draft", value)
		}
		part, err := mail.ReadMessage(bytes.NewReader(s.Fill("new", MIME, p)))
		if err != nil || len(part.Header) != 3 {
			t.Errorf("%q changes the part's header: %v, %v", value, part.Header, err)
		}
		text := string(s.Fill("new", Text, p))
		if strings.Count(text, SeparatorLine+"\n") != 1 || strings.ContainsAny(text, "\x00\x01\r\u202e") {
			t.Errorf("%q in the text form: %q", value, text)
		}
	}
}

// skeleton is a rich text's groups and control words of structure, without its text.
func skeleton(rtf string) string {
	var b strings.Builder
	for i := 0; i < len(rtf); i++ {
		switch rtf[i] {
		case '{', '}':
			b.WriteByte(rtf[i])
		case '\\':
			if i+1 < len(rtf) && strings.IndexByte(`\{}'`, rtf[i+1]) >= 0 {
				i++
				continue
			}
			word := i + 1
			for word < len(rtf) && rtf[word] >= 'a' && rtf[word] <= 'z' {
				word++
			}
			switch name := rtf[i+1 : word]; name {
			case "cell", "row", "trowd", "field", "fldinst", "fldrslt", "cellx":
				b.WriteString(name + " ")
			}
			i = word - 1
		}
	}
	return b.String()
}

func FuzzRichText(f *testing.F) {
	for _, value := range hostileText[:len(hostileText)-1] {
		f.Add(value)
	}
	f.Fuzz(func(t *testing.T, value string) {
		if len(value) > 2000 {
			return
		}
		s := compile(t, richTemplate(t), hostileSchema, "new")
		balanced(t, string(s.Fill("new", RTF, hostilePerson(value))))
	})
}

func FuzzReplaceBody(f *testing.F) {
	f.Add("Content-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: quoted-printable\n\nx", "<p>ü</p>")
	f.Add("A: b\r\n c\r\nContent-Type: text/html\r\n\r\n", "=\r\n.")
	f.Fuzz(func(t *testing.T, existing, page string) {
		out, err := ReplaceBody([]byte(existing), []byte(page))
		if err != nil {
			return
		}
		end, _ := headerEnd([]byte(existing))
		if !bytes.HasPrefix(out, []byte(existing[:end])) {
			t.Fatalf("the header of %q is not kept: %q", existing, out)
		}
	})
}

func TestQuotedPrintableIsReadBack(t *testing.T) {
	for _, text := range []string{"", "a=b", "trailing \n", strings.Repeat("ü", 100), "a\tb \r\nc", ".\n"} {
		encoded := appendQuotedPrintable(nil, []byte(text))
		var back bytes.Buffer
		if _, err := back.ReadFrom(quotedprintable.NewReader(bytes.NewReader(encoded))); err != nil {
			t.Fatal(err)
		}
		if got, want := strings.ReplaceAll(back.String(), "\r\n", "\n"), strings.ReplaceAll(text, "\r\n", "\n"); got != want {
			t.Errorf("%q comes back as %q", text, got)
		}
	}
}
