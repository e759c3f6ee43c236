package join

import (
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"image/color"
	"io"
	"strings"

	"github.com/boombuler/barcode/qr"
)

// Label is what is glued onto one device, or into its box.
type Label struct {
	Serial string `json:"serial" doc:"Serial of the device"`
	Device string `json:"device" doc:"Id that it gets"`
	Secret string `json:"secret" doc:"What it joins with; its own"`
}

// Sheet is a page of labels that is printed.
type Sheet struct {
	Key     string
	Model   string
	Expires string // as people read it
	Labels  []Label
}

//go:embed sheet.html
var sheetHTML embed.FS

var sheetPage = template.Must(template.New("sheet.html").Funcs(template.FuncMap{"code": code}).ParseFS(sheetHTML, "sheet.html"))

// Write writes the sheet as one HTML document, which prints on A4 and fetches nothing.
func (s Sheet) Write(w io.Writer) error { return sheetPage.Execute(w, s) }

// code draws what a device needs as a QR code (ISO/IEC 18004), correcting up to 15 % of
// damage: the serial and its secret, as a JSON object.
func code(l Label) (template.HTML, error) {
	b, err := json.Marshal(struct {
		Serial string `json:"serial"`
		Secret string `json:"secret"`
	}{l.Serial, l.Secret})
	if err != nil {
		return "", err
	}
	c, err := qr.Encode(string(b), qr.M, qr.Auto)
	if err != nil {
		return "", err
	}
	side := c.Bounds().Dx()
	var path strings.Builder
	for y := range side {
		for x := 0; x < side; x++ {
			run := x
			for run < side && dark(c, run, y) {
				run++
			}
			if run > x {
				fmt.Fprintf(&path, "M%d %dh%dv1h-%dz", x, y, run-x, run-x)
				x = run
			}
		}
	}
	// A quiet zone of four modules belongs to the code.
	return template.HTML(fmt.Sprintf(`<svg viewBox="-4 -4 %d %d" role="img" aria-label="QR code of %s" shape-rendering="crispEdges"><path d="%s"/></svg>`,
		side+8, side+8, template.HTMLEscapeString(l.Serial), path.String())), nil
}

func dark(c interface{ At(x, y int) color.Color }, x, y int) bool {
	r, _, _, _ := c.At(x, y).RGBA()
	return r == 0
}
