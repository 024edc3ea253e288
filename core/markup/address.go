package markup

import "strings"

// The kinds of addresses without a scheme (RFC 3986, 4.2), as SchemeOf names them.
const (
	RelativeAddress = "relative"
	NetworkAddress  = "network"  // begins with //
	FragmentAddress = "fragment" // begins with #
	WordAddress     = "word"     // letters, dots, underscores and hyphens only, such as www.brackwater.example
	EmptyAddress    = "empty"
)

// SchemeOf gives the scheme of an address in lower case, or which kind of address without one it is.
func SchemeOf(address string) string {
	address = strings.TrimSpace(address)
	switch {
	case address == "":
		return EmptyAddress
	case strings.HasPrefix(address, "//"):
		return NetworkAddress
	case address[0] == '#':
		return FragmentAddress
	case strings.Trim(strings.ToLower(address), "abcdefghijklmnopqrstuvwxyz._-") == "":
		return WordAddress
	}
	scheme, _, ok := strings.Cut(address, ":")
	if !ok || strings.ContainsAny(scheme, "/?#{ ") {
		return RelativeAddress
	}
	return strings.ToLower(scheme)
}

// AddressAttribute reports whether an attribute holds an address.
func AddressAttribute(name string) bool {
	switch name {
	case "href", "src", "background", "cite", "action", "formaction", "longdesc", "poster", "data", "srcset", "usemap",
		"profile", "xlink:href", "lowsrc",
		"dynsrc", "manifest", "codebase", "classid", "code", "archive", "from", "to", "values":
		return true
	}
	return false
}
