package desk

// Limits are the limits of what is on a desk in words, for the reference.
func Limits() map[string]int {
	return map[string]int{"bytes of a settings file": maxSettings, "elements in elements of a settings file": maxDepth}
}
