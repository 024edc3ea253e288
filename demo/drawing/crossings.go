package drawing

import (
	"image"
	"image/color"
	"image/draw"
	"math"

	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
)

// Ferry is the company's mark as a drawing of lines on see-through background.
const Ferry = `<svg xmlns="http://www.w3.org/2000/svg" width="176" height="176" viewBox="0 0 100 100">
  <circle cx="50" cy="50" r="49" fill="#0b3c49"/>
  <path d="M16 56h68l-6 14H24z" fill="#f2f6f5"/>
  <path d="M28 43h42l4 10H28z" fill="#f2f6f5"/>
  <path d="M40 28h12v13H40z" fill="#c8553d"/>
  <path d="M33 46h5v4h-5zM42 46h5v4h-5zM51 46h5v4h-5zM60 46h5v4h-5z" fill="#0b3c49"/>
  <path d="M12 72q6-4 12 0t12 0 12 0 12 0 12 0 12 0" fill="none" stroke="#2a7f8e" stroke-width="4"/>
  <path d="M20 80q6-4 12 0t12 0 12 0 12 0 12 0" fill="none" stroke="#f2f6f5" stroke-width="2"/>
</svg>
`

// drawCrossings draws a design as it comes from a designer, in one piece: a picture of the sea with a line of text,
// three buttons and a plain band.
func drawCrossings() (image.Image, error) {
	const width, height = 960, 400
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range 280 { // dusk over the sea
		for x := range width {
			t := float64(y) / 280
			c := [3]float64{0.93 - 0.55*t, 0.62 - 0.22*t, 0.44 + 0.05*t}
			if y > 170 {
				wave := 0.05 * math.Sin(float64(x)/17+float64(y)/5) * math.Sin(float64(y)/3+float64(x)/41)
				c = [3]float64{0.10 + wave, 0.38 + wave - 0.2*(t-0.6), 0.46 + wave - 0.2*(t-0.6)}
			}
			img.SetRGBA(x, y, color.RGBA{level(c[0]), level(c[1]), level(c[2]), 255})
		}
	}
	drawFerry(img, 240, 0.15, 0.08)
	for i, label := range []string{"Timetable", "Tickets", "Ports"} {
		background := []color.RGBA{deep, buoy, sea}[i]
		draw.Draw(img, image.Rect(i*320, 280, (i+1)*320, 360), image.NewUniform(background), image.Point{}, draw.Src)
		fill(img, white, 80, shape{{float32(i)*4 + 0.3, 3.85}, {float32(i)*4 + 0.5, 4.0}, {float32(i)*4 + 0.3, 4.15}})
		if err := text(img, gobold.TTF, 32, i*320+60, 331, label); err != nil {
			return nil, err
		}
	}
	draw.Draw(img, image.Rect(0, 360, width, height), image.NewUniform(foam), image.Point{}, draw.Src)
	if err := text(img, gobold.TTF, 44, 420, 90, "Across in an hour"); err != nil {
		return nil, err
	}
	return img, text(img, goregular.TTF, 28, 420, 140, "Every day from all five ports")
}
