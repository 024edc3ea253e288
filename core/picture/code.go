package picture

import (
	"fmt"
	"image"
	"image/color"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode/decoder"
	"github.com/makiuchi-d/gozxing/qrcode/encoder"

	"missivum/core/problem"
)

// quiet is the clear margin around a code, in modules (ISO/IEC 18004, 9.1).
const quiet = 4

// levels are the shares of a code that may be spoilt and still be read (ISO/IEC 18004, table 8).
var levels = map[string]decoder.ErrorCorrectionLevel{
	"7": decoder.ErrorCorrectionLevel_L, "15": decoder.ErrorCorrectionLevel_M, "25": decoder.ErrorCorrectionLevel_Q,
	"30": decoder.ErrorCorrectionLevel_H,
}

// encoding says of letters beyond ASCII that they are UTF-8 (ISO/IEC 18004, 7.4.3): readers that have to guess
// guess wrongly.
func encoding(text string) map[gozxing.EncodeHintType]any {
	for _, r := range text {
		if r >= 0x80 {
			return map[gozxing.EncodeHintType]any{gozxing.EncodeHintType_CHARACTER_SET: "UTF-8"}
		}
	}
	return nil
}

// CodeRecipe says how a code picture is drawn.
type CodeRecipe struct {
	Width    int    `json:"width"`              // px that it may take at most, with its margin
	Multiple int    `json:"multiple,omitempty"` // pixels for each px, 1 to 3; 0 for 2
	Recovers string `json:"recovers,omitempty"` // percent that may be spoilt: 7, 15, 25 or 30; empty for 15
	Dark     string `json:"dark,omitempty"`     // colour of the modules; empty for black
}

// CodePicture is a code picture with its measures.
type CodePicture struct {
	Rendition
	Modules int `json:"modules"` // each way, with the margin
	Module  int `json:"module"`  // pixels of a module
	Width   int `json:"width"`   // px at which it is shown
	Next    int `json:"next"`    // px of the next larger one
}

// Code draws a text, such as a link or a vCard, as a QR code (ISO/IEC 18004) in which every module is a whole
// number of pixels, so that it is as sharp as can be.
func Code(text string, r CodeRecipe) (_ *CodePicture, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	if r.Multiple == 0 {
		r.Multiple = 2
	}
	if r.Recovers == "" {
		r.Recovers = "15"
	}
	dark := color.NRGBA{A: 255}
	if r.Dark != "" {
		var err error
		if dark, err = parseColour(r.Dark); err != nil {
			return nil, err
		}
	}
	level, ok := levels[r.Recovers]
	switch {
	case !ok:
		return nil, fmt.Errorf("%q is no share that may be spoilt; it is 7, 15, 25 or 30 percent", r.Recovers)
	case r.Width < 1 || r.Width > MaxDisplay || r.Multiple < 1 || r.Multiple > maxMultiple:
		return nil, fmt.Errorf("the width is from 1 to %d px and the multiple from 1 to %d", MaxDisplay, maxMultiple)
	case text == "":
		return nil, fmt.Errorf("there is nothing to put into the code")
	case lightnessOf(dark) > 45:
		return nil, fmt.Errorf("%s is too light: readers need dark modules on white", r.Dark)
	}
	code, unfit := encoder.Encoder_encode(text, level, encoding(text))
	if unfit != nil {
		return nil, fmt.Errorf("%d bytes do not go into a code that recovers %s %%: %w", len(text), r.Recovers, unfit)
	}
	bitmap := code.GetMatrix().GetArray()
	modules := len(bitmap) + 2*quiet
	module := r.Width / modules * r.Multiple
	if module < 1 {
		return nil, fmt.Errorf("the code has %d modules with its margin and needs at least %d px; %d are given", modules, modules, r.Width)
	}
	c := &CodePicture{Modules: modules, Module: module, Width: modules * module / r.Multiple,
		Next: modules * (module + r.Multiple) / r.Multiple}
	img := image.NewNRGBA(image.Rect(0, 0, modules*module, modules*module))
	for y := range modules * module {
		for x := range modules * module {
			at := color.NRGBA{255, 255, 255, 255}
			if my, mx := y/module-quiet, x/module-quiet; my >= 0 && mx >= 0 && my < len(bitmap) && mx < len(bitmap) && bitmap[my][mx] == 1 {
				at = dark
			}
			img.SetNRGBA(x, y, at)
		}
	}
	written, err := Write(img, Weight{Format: PNG}, 96*r.Multiple)
	if err != nil {
		return nil, err
	}
	c.Rendition = *written
	return c, nil
}
