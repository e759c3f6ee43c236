package geo_test

import (
	"strings"
	"testing"

	"ullage/core/geo"
)

func TestParsePosition(t *testing.T) {
	for _, c := range []struct {
		text string
		want geo.Position
		says string
	}{
		{"47.5881,8.2622", geo.Position{Latitude: 47.5881, Longitude: 8.2622}, ""},
		{" -33.9 , 18.4 ", geo.Position{Latitude: -33.9, Longitude: 18.4}, ""},
		{"0,18", geo.Position{Longitude: 18}, ""},
		{"0,0", geo.Position{}, "without a fix"},
		{"91,0", geo.Position{}, "from -90 to 90"},
		{"12,180.01", geo.Position{}, "from -180 to 180"},
		{"NaN,8", geo.Position{}, "from -90 to 90"},
		{"47.5 8.2", geo.Position{}, "is no position"},
		{"47,5,8,2", geo.Position{}, "is no position"},
		{"", geo.Position{}, "is no position"},
	} {
		got, err := geo.ParsePosition(c.text)
		switch {
		case c.says != "":
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%q gives %v, want %q", c.text, err, c.says)
			}
		case err != nil || got != c.want:
			t.Errorf("%q is %v, %v", c.text, got, err)
		}
	}
}

func FuzzParsePosition(f *testing.F) {
	f.Add("47.5881,8.2622")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := geo.ParsePosition(text)
		if err != nil {
			return
		}
		if again, err := geo.ParsePosition(p.String()); err != nil || again != p {
			t.Fatalf("%q comes back as %v, %v", text, again, err)
		}
	})
}
