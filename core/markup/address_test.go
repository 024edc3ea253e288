package markup

import "testing"

func TestSchemeOf(t *testing.T) {
	for address, want := range map[string]string{
		"https://x.example/": "https", "MAILTO:a@x.example": "mailto", "//x.example/a": NetworkAddress, "#top": FragmentAddress, "": EmptyAddress,
		"www.x.example": WordAddress, "a/b.html": RelativeAddress, "?a=b:c": RelativeAddress, "cid:a": "cid",
		" tel:+44 ": "tel", "a b:c": RelativeAddress,
	} {
		if got := SchemeOf(address); got != want {
			t.Errorf("%q: %s, want %s", address, got, want)
		}
	}
}
