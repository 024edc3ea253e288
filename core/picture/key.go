package picture

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
)

// Digest is the SHA-256 of a file's content in hexadecimal digits (FIPS 180-4).
func Digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// keyLetters are those of base 32 in small letters (RFC 4648, 6), so that a server that takes large and small ones
// for the same serves the right file.
var keyLetters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

// KeyOf is the name under which a file is hosted for good: the first 120 bits of its SHA-256, and the ending of its
// format. Another content has another name.
func KeyOf(data []byte) string {
	sum := sha256.Sum256(data)
	return keyLetters.EncodeToString(sum[:15]) + Ending(sniff(data))
}
