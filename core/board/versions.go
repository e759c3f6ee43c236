package board

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Differences says what differs between two versions of a board, in words: what is said of
// all of it, and which instruments came, went or stand elsewhere.
func Differences(was, is *Board) []string {
	out := []string{}
	text := func(s string) string {
		if s == "" {
			return "nothing"
		}
		return s
	}
	for _, f := range []struct{ what, was, is string }{{"title", was.Title, is.Title}, {"devices", was.Devices, is.Devices}, {"span", was.Span, is.Span},
		{"parameters", strings.Join(was.Parameters, ", "), strings.Join(is.Parameters, ", ")}} {
		if f.was != f.is {
			out = append(out, fmt.Sprintf("%s: %s → %s", f.what, text(f.was), text(f.is)))
		}
	}
	left := map[string][]Instrument{} // of the earlier version, by what they show
	for _, x := range was.Instruments {
		left[shows(x)] = append(left[shows(x)], x)
	}
	var added []string
	moved := 0
	for _, x := range is.Instruments {
		same := left[shows(x)]
		if len(same) == 0 {
			added = append(added, "added "+called(x))
			continue
		}
		i := max(0, slices.IndexFunc(same, func(o Instrument) bool { return slices.Equal(o.Place, x.Place) }))
		if !slices.Equal(same[i].Place, x.Place) {
			moved++
		}
		left[shows(x)] = slices.Delete(slices.Clone(same), i, i+1)
	}
	for _, x := range was.Instruments {
		if rest := left[shows(x)]; len(rest) > 0 {
			out = append(out, "took out "+called(x))
			left[shows(x)] = rest[1:]
		}
	}
	out = append(out, added...)
	switch moved {
	case 0:
	case 1:
		out = append(out, "moved 1 instrument")
	default:
		out = append(out, fmt.Sprintf("moved %d instruments", moved))
	}
	return out
}

// shows is all that an instrument is, but for where it stands.
func shows(x Instrument) string {
	x.Place = nil
	b, _ := json.Marshal(x) // of texts and numbers
	return string(b)
}

func called(x Instrument) string {
	what := x.Kind
	switch {
	case x.Title != "":
		what += " “" + x.Title + "”"
	case len(x.Metrics) > 0:
		what += " of " + strings.Join(x.Metrics, ", ")
	case x.Setting+x.Command != "":
		what += " of " + x.Setting + x.Command
	case x.Count != "":
		what += " of " + x.Count
	}
	return what
}
