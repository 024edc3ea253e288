package picture

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/srwiley/oksvg"
	"github.com/srwiley/rasterx"
)

// Limits of a drawing.
const (
	maxDrawing      = 2 << 20 // bytes
	maxDrawingParts = 50_000  // elements
)

// looksLikeSVG reports whether text begins like a drawing.
func looksLikeSVG(data []byte) bool {
	start := data[:min(len(data), 4096)]
	i := bytes.Index(start, []byte("<svg"))
	if i < 0 {
		return false
	}
	head := bytes.TrimLeft(start, " \t\r\n\ufeff")
	return bytes.HasPrefix(head, []byte("<svg")) || bytes.HasPrefix(head, []byte("<?xml")) ||
		bytes.HasPrefix(head, []byte("<!--")) || bytes.HasPrefix(head, []byte("<!DOCTYPE svg"))
}

// svg reads the drawing's size and refuses what a picture does not need and what would not be drawn: scripts,
// links to other files, letters (their font is not in the file), and what calls itself.
func (h *header) svg(data []byte) error {
	if len(data) > maxDrawing {
		return fmt.Errorf("the drawing has %d kB; at most %d kB are read", len(data)>>10, maxDrawing>>10)
	}
	h.Transparent = true
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict = true
	definitions, parts := 0, 0
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		switch t := token.(type) {
		case xml.Directive:
			if bytes.Contains(t, []byte("ENTITY")) {
				return errors.New("it declares entities; save it as plain SVG")
			}
		case xml.StartElement:
			if parts++; parts > maxDrawingParts {
				return fmt.Errorf("it has more than %d parts", maxDrawingParts)
			}
			if err := refusedInSVG(t, definitions > 0); err != nil {
				return err
			}
			if isDefinition(t.Name) {
				definitions++
			}
			if h.Width == 0 && t.Name.Local == "svg" {
				h.Width, h.Height = drawingSize(t)
			}
		case xml.EndElement:
			if isDefinition(t.Name) {
				definitions--
			}
		}
	}
	if h.Width == 0 {
		return errors.New("it says neither width and height nor viewBox")
	}
	return nil
}

// isDefinition reports elements whose content is drawn only where it is used.
func isDefinition(n xml.Name) bool { return n.Local == "defs" || n.Local == "symbol" }

// refusedInSVG refuses what could load, run or cost without end.
func refusedInSVG(t xml.StartElement, inDefinition bool) error {
	switch strings.ToLower(t.Name.Local) {
	case "script":
		return errors.New("it holds a script; a picture needs none")
	case "foreignobject", "iframe", "animate", "set", "animatetransform", "animatemotion":
		return fmt.Errorf("it holds <%s>, which is not drawn; save it as plain SVG", t.Name.Local)
	case "text", "tspan", "textpath":
		return errors.New("it holds letters whose font is not in the file; turn them into paths")
	case "image", "feimage":
		return errors.New("it holds another picture; save it as PNG")
	case "use":
		if inDefinition {
			return errors.New("its definitions use one another; save it with all of them written out")
		}
	}
	for _, a := range t.Attr {
		name, value := strings.ToLower(a.Name.Local), strings.TrimSpace(a.Value)
		switch {
		case strings.HasPrefix(name, "on"):
			return errors.New("it holds a script; a picture needs none")
		case name == "href" && !strings.HasPrefix(value, "#") && value != "":
			return fmt.Errorf("it leads to another file (%.60s); a picture must be whole by itself", value)
		}
	}
	return nil
}

// drawingSize is the drawing's width and height in px, from its attributes or its viewBox.
func drawingSize(t xml.StartElement) (int, int) {
	var width, height float64
	var box []float64
	for _, a := range t.Attr {
		switch a.Name.Local {
		case "width":
			width = svgLength(a.Value)
		case "height":
			height = svgLength(a.Value)
		case "viewBox":
			for _, f := range strings.FieldsFunc(a.Value, func(r rune) bool { return r == ' ' || r == ',' }) {
				n, _ := strconv.ParseFloat(f, 64)
				box = append(box, n)
			}
		}
	}
	if len(box) == 4 && box[2] > 0 && box[3] > 0 {
		switch {
		case width == 0 && height == 0:
			width, height = box[2], box[3]
		case width == 0:
			width = height * box[2] / box[3]
		case height == 0:
			height = width * box[3] / box[2]
		}
	}
	whole := func(v float64) int { return int(min(max(math.Round(v), 0), 1<<30)) }
	return whole(width), whole(height)
}

// units are the px of absolute units (CSS Values 3, 6.2).
var units = map[string]float64{"px": 1, "pt": 96.0 / 72, "pc": 16, "mm": 96 / 25.4, "cm": 96 / 2.54, "in": 96}

// svgLength reads a length; a share of the page and what cannot be read are 0.
func svgLength(s string) float64 {
	s = strings.TrimSpace(s)
	scale := 1.0
	for unit, px := range units {
		if rest, ok := strings.CutSuffix(s, unit); ok {
			s, scale = rest, px
		}
	}
	n, err := strconv.ParseFloat(s, 64)
	if err != nil || n < 0 || math.IsInf(n, 0) || math.IsNaN(n) {
		return 0
	}
	return n * scale
}

// drawSVG draws a drawing with a width and height in pixels.
func drawSVG(data []byte, width, height int) (img *image.NRGBA, err error) {
	defer func() {
		if r := recover(); r != nil { // the library gives up on some broken drawings in this way
			img, err = nil, fmt.Errorf("it cannot be drawn: %v", r)
		}
	}()
	icon, err := oksvg.ReadIconStream(bytes.NewReader(data), oksvg.IgnoreErrorMode)
	if err != nil {
		return nil, fmt.Errorf("it cannot be drawn: %w", err)
	}
	if icon.ViewBox.W <= 0 || icon.ViewBox.H <= 0 {
		return nil, errors.New("it cannot be drawn: its viewBox is empty")
	}
	icon.SetTarget(0, 0, float64(width), float64(height))
	flat := image.NewRGBA(image.Rect(0, 0, width, height))
	icon.Draw(rasterx.NewDasher(width, height, rasterx.NewScannerGV(width, height, flat, flat.Bounds())), 1)
	return toNRGBA(flat), nil
}
