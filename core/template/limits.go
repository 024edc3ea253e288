package template

// Limits are the limits of a template in words, for the reference.
func Limits() map[string]int {
	return map[string]int{
		"pictures": MaxPictures, "bytes of one picture": MaxPicture, "bytes of all pictures": maxPictures, "bytes of template.yaml": maxSettings,
		"bytes of a text form by hand": maxText, "bytes of a picture's file name": longestFile,
	}
}
