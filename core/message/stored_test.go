package message

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"
)

// readStored gives the names and texts of the messages in a file.
func readStored(t *testing.T, data []byte) (names, texts []string) {
	t.Helper()
	if err := Stored("mail", bytes.NewReader(data), int64(len(data)), func(name string, raw []byte) error {
		names, texts = append(names, name), append(texts, string(raw))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return names, texts
}

func TestStored(t *testing.T) {
	box := "From x Mon Nov 23 09:00:00 2026\nSubject: a\n\n>From here\n\nFrom x Mon Nov 23 09:00:00 2026\nSubject: b\n\nb\n"
	var archive bytes.Buffer
	z := zip.NewWriter(&archive)
	for name, content := range map[string]string{"week/box": box, "week/.hidden": "x", "one.eml": "Subject: c\n\nc\n"} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		w.Write([]byte(content))
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	for want, data := range map[string][]byte{"mail": []byte("Subject: c\n\nc\n"), "mail#1 mail#2": []byte(box)} {
		if names, _ := readStored(t, data); strings.Join(names, " ") != want {
			t.Errorf("%v, wanted %s", names, want)
		}
	}
	names, texts := readStored(t, archive.Bytes())
	if len(names) != 3 || !strings.Contains(strings.Join(names, " "), "week/box#2") || strings.Contains(strings.Join(texts, ""), "x\n") {
		t.Errorf("%v %q", names, texts)
	}
	broken := append([]byte("PK\x03\x04"), "no archive"...)
	if err := Stored("mail", bytes.NewReader(broken), int64(len(broken)), func(string, []byte) error { return nil }); err == nil {
		t.Error("a broken archive was read")
	}
}

// TestLook: pictures that are carried are shown, and a text is shown as one.
func TestLook(t *testing.T) {
	page := Read([]byte("Content-Type: multipart/related; boundary=r\r\n\r\n--r\r\nContent-Type: " +
		"text/html\r\n\r\n<img src=\"cid:a@b\"><img src=\"cid:c@d\">\r\n" +
		"--r\r\nContent-Type: image/png\r\nContent-ID: <a@b>\r\nContent-Transfer-Encoding: base64\r\n\r\nAAEC\r\n--r--\r\n")).Look()
	if page != `<img src="data:image/png;base64,AAEC"><img src="cid:c@d">` {
		t.Errorf("a page: %s", page)
	}
	if text := Read([]byte("Subject: x\r\n\r\na <b> & c\r\n")).Look(); !strings.Contains(text, "a &lt;b&gt; &amp; c") {
		t.Errorf("a text: %s", text)
	}
	if none := Read([]byte("Content-Type: image/png\r\n\r\nx")).Look(); none != "" {
		t.Errorf("nothing: %s", none)
	}
}

// FuzzStored reads any file.
func FuzzStored(f *testing.F) {
	f.Add([]byte("From a\n\nFrom b\n"))
	f.Add([]byte("PK\x03\x04"))
	f.Add([]byte("Subject: x\n\n"))
	f.Fuzz(func(_ *testing.T, data []byte) {
		Stored("mail", bytes.NewReader(data), int64(len(data)), func(_ string, raw []byte) error {
			Read(raw).Look()
			return nil
		})
	})
}
