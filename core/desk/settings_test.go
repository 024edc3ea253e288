package desk

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"missivum/core/problem"
)

func TestSettingsAreEditedAndAllElseStays(t *testing.T) {
	const prefs = "// head\nuser_pref(\"a.b\", \"x\");\nuser_pref( \"a.c\" , true );\n// user_pref(\"a.d\", 1);\n"
	const plist = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">\n<dict>\n\t<key>A &amp; " +
		"B</key>\n\t<string>x</string>\n" +
		"\t<key>In</key>\n\t<dict>\n\t\t<key>On</key>\n\t\t<true/>\n\t</dict>\n</dict>\n</plist>\n"
	const reg = "Windows Registry Editor Version " +
		"5.00\r\n\r\n[HKEY_CURRENT_USER\\Software\\Quay]\r\n\"New\"=\"a\\\\b\"\r\n\"On\"=dword:00000001\r\n"
	for _, c := range []struct {
		name, format, text, key string
		before                  any // what get gives first; nil for nothing
		value                   any
		want                    string
	}{
		{"ini value", "ini", "; x\n[S]\nkey = old  \nb=1\n", "S/key", "old", "new", "; x\n[S]\nkey = new  \nb=1\n"},
		{"ini new key", "ini", "[S]\na=1\n\n[T]\nb=2\n", "S/key", nil, "v", "[S]\na=1\nkey=v\n\n[T]\nb=2\n"},
		{"ini new section", "ini", "[S]\r\na=1", "T/key", nil, "v", "[S]\r\na=1\r\n[T]\r\nkey=v\r\n"},
		{"ini without a section", "ini", "a=1\n[S]\na=2\n", "a", "1", true, "a=true\n[S]\na=2\n"},
		{"ini no line end at the end", "ini", "[S]\na=1", "S/b", nil, 2, "[S]\na=1\nb=2"},
		{"ini removed", "ini", "[S]\na=1\nb=2\n", "S/a", "1", nil, "[S]\nb=2\n"},
		{"ini comment is no key", "ini", "[S]\n#a=1\n", "S/a", nil, "2", "[S]\na=2\n#a=1\n"},
		{"json value", "json", "{\n  \"a\": {\"b.c\": \"x\"},\n  \"z\": [1, 2]\n}\n", "a/b.c", "x", "y",
			"{\n  \"a\": {\"b.c\": \"y\"},\n  \"z\": [1, 2]\n}\n"},
		{"json new", "json", `{"a":{"q":1}}`, "a/b", nil, true, `{"a":{"q":1,"b":true}}`},
		{"json new objects", "json", `{}`, "a/1", nil, "x", `{"a":{"1":"x"}}`},
		{"json number", "json", `{"n": 3}`, "n", 3, 4, `{"n": 4}`},
		{"json removed", "json", `{"a":1,"b":2}`, "a", 1, nil, `{"b":2}`},
		{"xml value", "xml", "<?xml version='1.0'?>\n<s><!-- x --><a>old</a></s>", "s/a", "old", "<&>",
			"<?xml version='1.0'?>\n<s><!-- x --><a>&lt;&amp;&gt;</a></s>"},
		{"xml empty element", "xml", `<s><a k="1" /></s>`, "s/a", "", "v", `<s><a k="1">v</a></s>`},
		{"xml new element", "xml", "<s>\r\n  <a>1</a>\r\n</s>", "s/b/c", nil, "v", "<s>\r\n  <a>1</a>\r\n  <b><c>v</c></b>\r\n</s>"},
		{"xml attribute", "xml", `<s a='1' b="2"/>`, "s/@a", "1", `"`, `<s a="&#34;" b="2"/>`},
		{"xml new attribute", "xml", `<s b="2" />`, "s/@a", nil, "1", `<s b="2" a="1" />`},
		{"plist value", "plist", plist, "A & B", "x", "y", strings.Replace(plist, "<string>x", "<string>y", 1)},
		{"plist inside", "plist", plist, "In/On", true, false, strings.Replace(plist, "<true/>", "<false/>", 1)},
		{"plist new", "plist", plist, "In/New", nil, "q",
			strings.Replace(plist, "<true/>", "<true/>\n\t\t<key>New</key>\n\t\t<string>q</string>", 1)},
		{"preference", "preferences", prefs, "a.b", "x", `C:\sig "n"`, strings.Replace(prefs, `"x"`, `"C:\\sig \"n\""`, 1)},
		{"preference true", "preferences", prefs, "a.c", true, false, strings.Replace(prefs, ", true )", ", false)", 1)},
		{"preference in a comment is none", "preferences", prefs, "a.d", nil, 1, prefs + "user_pref(\"a.d\", 1);\n"},
		{"preference removed", "preferences", prefs, "a.b", "x", nil, strings.Replace(prefs, "user_pref(\"a.b\", \"x\");\n", "", 1)},
		{"registry value", "reg", reg, `HKEY_CURRENT_USER\Software\quay/new`, `a\b`, `c:\x`, strings.Replace(reg, `a\\b`, `c:\\x`, 1)},
		{"registry number", "reg", reg, `HKEY_CURRENT_USER\Software\Quay/On`, 1, false, strings.Replace(reg, "00000001", "00000000", 1)},
		{"registry new key", "reg", reg, `HKEY_CURRENT_USER\Software\Pier/On`, nil, 11, reg +
			"\r\n[HKEY_CURRENT_USER\\Software\\Pier]\r\n\"On\"=dword:0000000b\r\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := formats[c.format]
			before, there, err := f.get(c.text, c.key)
			if err != nil || there != (c.before != nil) || there && fmt.Sprint(before) != fmt.Sprint(c.before) {
				t.Errorf("before: %v, %v, %v", before, there, err)
			}
			got, err := f.set(c.text, c.key, c.value)
			if err != nil || got != c.want {
				t.Errorf("got\n%q, %v, want\n%q", got, err, c.want)
			}
			after, there, err := f.get(got, c.key)
			if err != nil || there != (c.value != nil) {
				t.Errorf("after: %v, %v, %v", after, there, err)
			}
			keys, err := f.keys(c.want)
			if there && c.format != "reg" && (err != nil || !slices.Contains(keys, c.key)) {
				t.Errorf("keys %q, %v", keys, err)
			}
		})
	}
}

func TestSettingsThatAreRefused(t *testing.T) {
	for _, c := range []struct{ name, format, text, key string }{
		{"broken JSON", "json", `{"a":`, "a"}, {"a list", "json", `[1]`, "a"}, {"broken XML", "xml", "<a>", "a/b"},
		{"another root", "xml", "<a/>", "b/c"},
		{"holds elements", "xml", "<a><b/></a>", "a"}, {"no dictionary", "plist", "<plist><array/></plist>", "a"},
		{"no dictionary inside", "plist", "<plist><dict><key>a</key><string/></dict></plist>", "a/b"},
	} {
		if got, err := formats[c.format].set(c.text, c.key, "x"); !problem.Is(err, problem.Refused) {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
	for name, data := range map[string]string{"Latin-1": "[S]\na=\xe9\n", "half UTF-16": "\xff\xfea",
		"binary property list": "bplist00\x01", "zeros": "a\x00b"} {
		if _, err := openSettings("ini", []byte(data)); !problem.Is(err, problem.Refused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	s := newSettings("ini")
	if err := s.set("a", "x\ny=1"); !problem.Is(err, problem.Invalid) {
		t.Errorf("a value with a line end: %v", err)
	}
}

func TestEncodingsOfSettingsStay(t *testing.T) {
	for name, data := range map[string]string{"UTF-8": "a=ä\n", "with a mark": "\xef\xbb\xbfa=1\n", "UTF-16": "\xff\xfea\x00=\x001\x00",
		"UTF-16 the other way": "\xfe\xff\x00a\x00=\x001"} {
		s, err := openSettings("ini", []byte(data))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if got, err := s.data(); err != nil || string(got) != data {
			t.Errorf("%s comes back as %q, %v", name, got, err)
		}
		if err := s.set("a", "2"); err != nil {
			t.Error(err)
		}
		got, err := s.data()
		if err != nil || string(got[:2]) != data[:2] || !strings.Contains(strings.ReplaceAll(string(got), "\x00", ""), "a=2") {
			t.Errorf("%s changed: %q, %v", name, got, err)
		}
	}
}

func TestTheRightAccount(t *testing.T) {
	s, err := openSettings("preferences", []byte("user_pref(\"mail.identity.id1.useremail\", \"bo@x.example\");\n"+
		"user_pref(\"mail.identity.id2.useremail\", \"Maren@x.example\");\nuser_pref(\"mail.identity.id3.useremail\", \"two@x.example\");\n"+
		"user_pref(\"mail.identity.id4.useremail\", \"two@x.example\");\nuser_pref(\"mail.identity.a.b.useremail\", \"deep@x.example\");\n"))
	if err != nil {
		t.Fatal(err)
	}
	for mail, want := range map[string]string{"maren@x.example": "id2", "bo@x.example": "id1", "two@x.example": "",
		"no@x.example": "", "deep@x.example": ""} {
		got, err := s.account(Where{"mail.identity.*.useremail", mail})
		if got != want || (err == nil) != (want != "") {
			t.Errorf("%s: %q, %v", mail, got, err)
		}
	}
}

func FuzzSettings(f *testing.F) {
	f.Add("ini", "[S]\na=1\n", "S/b", "x")
	f.Add("json", `{"a":{"b":1}}`, "a/b", "x")
	f.Add("xml", "<a><b/></a>", "a/b", "x")
	f.Add("plist", "<plist><dict/></plist>", "a", "x")
	f.Add("preferences", `user_pref("a", 1);`, "a", "x")
	f.Add("reg", "[H]\r\n\"a\"=\"b\"\r\n", "H/a", "x")
	f.Fuzz(func(t *testing.T, kind, text, key, value string) {
		s, err := openSettings(kind, []byte(text))
		if err != nil || key == "" || !utf8.ValidString(key) || !utf8.ValidString(value) ||
			strings.ContainsAny(key+value, "\x00\r\n[]=;#\"\\") || strings.TrimSpace(key) != key || strings.TrimSpace(value) != value {
			return
		}
		for _, part := range strings.Split(key, "/") {
			if strings.TrimSpace(part) != part || part == "" || kind == "xml" &&
				strings.ContainsFunc(part, func(r rune) bool { return r < 'A' || r > 'z' }) {
				return
			}
		}
		if err := s.set(key, value); err != nil {
			return
		}
		data, err := s.data()
		if err != nil {
			return
		}
		again, err := openSettings(kind, data)
		if err != nil {
			t.Fatalf("%s: what was written cannot be read: %q, %v", kind, data, err)
		}
		if got, there, err := again.format.get(again.text, key); err != nil || !there || fmt.Sprint(got) != value &&
			kind != "xml" && kind != "plist" {
			t.Errorf("%s: %q of %q is %v, %v, %v; want %q in %q", kind, key, text, got, there, err, value, data)
		}
	})
}
