package site

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image/jpeg"
	"image/png"
	"io"
	"strings"

	"ullage/core/value"
)

// MaxPlan is the largest plan picture, in bytes, and maxSide its longest side in
// pixels: what a browser on a small machine draws without effort.
const (
	MaxPlan = 2 << 20
	maxSide = 8000
	maxTags = 50_000
)

// The media types of plan pictures.
const (
	SVG  = "image/svg+xml"
	PNG  = "image/png"
	JPEG = "image/jpeg"
)

// CheckPlan checks a plan picture and returns its media type, which its content
// tells and not its name. A drawing (SVG) may not run anything nor fetch
// anything.
func CheckPlan(b []byte) (string, error) {
	if len(b) > MaxPlan {
		return "", fmt.Errorf("the picture has %d bytes; a plan may have %d", len(b), MaxPlan)
	}
	side := func(width, height int) error {
		if width > maxSide || height > maxSide || width < 1 || height < 1 {
			return fmt.Errorf("the picture is %d × %d pixels; a plan may have %d a side", width, height, maxSide)
		}
		return nil
	}
	switch {
	case bytes.HasPrefix(b, []byte("\x89PNG\r\n\x1a\n")):
		c, err := png.DecodeConfig(bytes.NewReader(b))
		if err != nil {
			return "", errors.New("the picture begins as PNG and is none")
		}
		return PNG, side(c.Width, c.Height)
	case bytes.HasPrefix(b, []byte("\xff\xd8\xff")):
		c, err := jpeg.DecodeConfig(bytes.NewReader(b))
		if err != nil {
			return "", errors.New("the picture begins as JPEG and is none")
		}
		return JPEG, side(c.Width, c.Height)
	}
	return SVG, checkDrawing(b)
}

// drawn are the elements of SVG 2 that only draw.
var drawn = map[string]bool{"svg": true, "g": true, "defs": true, "symbol": true, "use": true, "title": true,
	"desc": true, "metadata": true, "path": true, "rect": true, "circle": true, "ellipse": true, "line": true, "polyline": true, "polygon": true, "text": true, "tspan": true,
	"textPath": true, "linearGradient": true, "radialGradient": true, "stop": true, "pattern": true, "clipPath": true, "mask": true, "marker": true,
	"style": true}

// checkDrawing lets through an SVG that draws, and nothing else.
func checkDrawing(b []byte) error {
	no := errors.New("this is no picture that can be shown; a plan is an SVG, PNG or JPEG")
	d := xml.NewDecoder(bytes.NewReader(b))
	d.Strict = true
	d.CharsetReader = func(string, io.Reader) (io.Reader, error) { return nil, errors.New("another encoding") }
	depth, tags, inStyle := 0, 0, false
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			if tags == 0 {
				return no
			}
			return nil
		}
		if err != nil {
			if tags == 0 {
				return no
			}
			return fmt.Errorf("the drawing is not well-formed XML: %w", err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			name := t.Name.Local
			if tags == 0 && name != "svg" {
				return no
			}
			depth++
			if tags++; tags > maxTags || depth > 200 {
				return fmt.Errorf("the drawing has more than %d elements, or is nested too deep", maxTags)
			}
			if editors(t.Name.Space) { // notes that drawing programs leave
				if err := d.Skip(); err != nil {
					return fmt.Errorf("the drawing is not well-formed XML: %w", err)
				}
				depth--
				continue
			}
			if !drawn[name] {
				return fmt.Errorf("the drawing has an element %s, which does more than draw; export it as plain SVG",
					value.Clip(name, 60))
			}
			inStyle = name == "style"
			for _, a := range t.Attr {
				if err := checkAttribute(a); err != nil {
					return err
				}
			}
		case xml.EndElement:
			depth--
			inStyle = false
		case xml.CharData:
			if inStyle {
				if err := checkStyle(string(t)); err != nil {
					return err
				}
			}
		case xml.Directive:
			if s := strings.ToUpper(string(t)); strings.Contains(s, "ENTITY") || strings.Contains(s, "[") {
				return errors.New("the drawing declares entities, which a plan has no use for")
			}
		case xml.ProcInst:
			if t.Target != "xml" {
				return fmt.Errorf("the drawing asks for %s, which is not done", value.Clip(t.Target, 60))
			}
		}
	}
}

// editors reports whether a namespace is neither SVG's nor missing: what
// drawing programs note for themselves, which browsers do not draw. That of HTML
// would be.
func editors(space string) bool {
	return space != "" && space != "http://www.w3.org/2000/svg" && !strings.Contains(space, "xhtml") &&
		!strings.Contains(space, "MathML")
}

func checkAttribute(a xml.Attr) error {
	name, v := strings.ToLower(a.Name.Local), strings.TrimSpace(a.Value)
	switch {
	case strings.HasPrefix(name, "on"):
		return fmt.Errorf("the drawing runs something at %s; a plan only draws", value.Clip(name, 60))
	case name == "href" || name == "src":
		if !strings.HasPrefix(v, "#") {
			return fmt.Errorf("the drawing fetches %q; a plan has everything inside", value.Clip(v, 60))
		}
	case a.Name.Space != "xmlns" && name != "xmlns":
		return checkStyle(v)
	}
	return nil
}

// checkStyle lets through styles that refer to the drawing itself only.
func checkStyle(s string) error {
	low := strings.ToLower(s)
	if strings.Contains(low, "@import") || strings.Contains(low, "expression(") ||
		strings.Contains(low, "javascript:") || strings.Contains(s, "\\") {
		return fmt.Errorf("the drawing has the style %q; a plan fetches and runs nothing", value.Clip(s, 60))
	}
	for rest := low; ; {
		_, after, found := strings.Cut(rest, "url(")
		if !found {
			return nil
		}
		if !strings.HasPrefix(strings.TrimLeft(after, " \t\r\n'\""), "#") {
			return fmt.Errorf("the drawing fetches something by its style %q; a plan has everything inside",
				value.Clip(s, 60))
		}
		rest = after
	}
}
