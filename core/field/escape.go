package field

import "strings"

// Escape is how a value is made harmless for the place where it lands. It is decided from the
// place at compile time.
type Escape uint8

// The places.
const (
	escapeText         Escape = iota // between tags
	escapeAttr                       // in a quoted attribute
	escapeAddress                    // at the start of an address: its scheme must be http, https, mailto or tel
	EscapePart                       // behind the start of an address: percent-encoded (RFC 3986, 2.1)
	escapeStyle                      // in a style attribute's value
	EscapeNone                       // in a text form
	EscapePlainAddress               // as EscapeAddress, in a text form
	EscapePlainPart                  // as EscapePart, in a text form
)

// AppendEscaped appends the value to dst, escaped for its place.
func AppendEscaped(dst []byte, value string, escape Escape) []byte {
	switch escape {
	case escapeText, escapeAttr:
		return appendReferences(dst, value)
	case escapeAddress:
		if !SafeAddress(value) {
			return dst
		}
		return appendPercent(dst, value, addressSafe)
	case EscapePart:
		return appendPercent(dst, value, partSafe)
	case EscapePlainAddress:
		if !SafeAddress(value) {
			return dst
		}
		return append(dst, value...)
	case EscapePlainPart:
		return appendPercent(dst, value, partSafe)
	case escapeStyle:
		for i := 0; i < len(value); i++ {
			if styleSafe(value[i]) {
				dst = append(dst, value[i])
			}
		}
		return dst
	}
	return append(dst, value...)
}

// appendReferences writes what markup reads as its own as character references.
func appendReferences(dst []byte, s string) []byte {
	last := 0
	for i := 0; i < len(s); i++ {
		var ref string
		switch s[i] {
		case '&':
			ref = "&amp;"
		case '<':
			ref = "&lt;"
		case '>':
			ref = "&gt;"
		case '"':
			ref = "&quot;"
		case '\'':
			ref = "&#39;"
		default:
			continue
		}
		dst = append(append(dst, s[last:i]...), ref...)
		last = i + 1
	}
	return append(dst, s[last:]...)
}

const hexDigits = "0123456789ABCDEF"

// appendPercent writes bytes that an address cannot hold by percent (RFC 3986, 2.1).
func appendPercent(dst []byte, s string, safe func(byte) bool) []byte {
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '&' && safe(c):
			dst = append(dst, "&amp;"...)
		case safe(c):
			dst = append(dst, c)
		default:
			dst = append(dst, '%', hexDigits[c>>4], hexDigits[c&15])
		}
	}
	return dst
}

// alphanumeric reports ASCII letters and digits.
func alphanumeric(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// addressSafe keeps the reserved signs of RFC 3986, 2.2, but for the quote.
func addressSafe(c byte) bool {
	return alphanumeric(c) || strings.IndexByte("-._~:/?#[]@!$()*+,;=%&", c) >= 0
}

// partSafe keeps unreserved signs, and the two that stand in mail addresses and dialled numbers.
func partSafe(c byte) bool {
	return alphanumeric(c) || strings.IndexByte("-._~@+", c) >= 0
}

// styleSafe reports bytes that mean nothing in a style.
func styleSafe(c byte) bool {
	return alphanumeric(c) || strings.IndexByte(" #.,%-_", c) >= 0
}

// SafeAddress reports whether a value can be an address: it has one of the schemes http, https,
// mailto and tel, or none and no colon before its first slash.
func SafeAddress(value string) bool {
	colon := strings.IndexByte(value, ':')
	if colon < 0 {
		return true
	}
	if i := strings.IndexAny(value, "/?#"); i >= 0 && i < colon {
		return true
	}
	switch strings.ToLower(value[:colon]) {
	case "http", "https", "mailto", "tel":
		return true
	}
	return false
}
