package picture_test

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"log"

	"missivum/core/picture"
)

// A picture is made for exactly the size in which it is shown, at two pixels for each.
func ExampleFit() {
	var original bytes.Buffer
	if err := png.Encode(&original, image.NewNRGBA(image.Rect(0, 0, 400, 300))); err != nil {
		log.Fatal(err)
	}
	made, err := picture.Fit(original.Bytes(), picture.Recipe{Width: 48, Height: 48})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(made.Facts.Format, made.Facts.Width, made.Facts.Height, "px,", made.Facts.Resolution, "to the inch")
	// Output:
	// png 96 96 px, 192 to the inch
}
