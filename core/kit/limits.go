package kit

// Limits are the limits of a kit in words, for the reference.
func Limits() map[string]int {
	return map[string]int{"files": maxListed, "bytes of its list": MaxList, "bytes of a file": MaxFile, "bytes of the base name": longestBase}
}
