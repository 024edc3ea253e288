package picture

// Limits are the limits of a picture in words, for the reference.
func Limits() map[string]int {
	return map[string]int{
		"bytes": MaxBytes, "pixels of one side": maxSide, "pixels of all frames": maxArea, "frames": maxFrames,
		"pixels of a rendition, all frames": MaxMade, "px of one side when shown": MaxDisplay,
	}
}
