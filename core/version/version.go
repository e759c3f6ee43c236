// Package version orders versions by Semantic Versioning 2.0.0, section 11: of
// models, firmware and whatever else people number.
package version

import "strings"

// Is reports whether s is a version: numbers joined by points, with an optional v
// before and a pre-release or build behind. Unlike the standard it lets any
// number of numbers pass, as firmware has.
func Is(s string) bool {
	_, ok := parse(s)
	return ok
}

// Compare returns -1, 0 or 1, and false if one of them is no version. Missing
// numbers are 0, and builds do not count. It does not allocate.
func Compare(a, b string) (int, bool) {
	a, ok1 := parse(a)
	b, ok2 := parse(b)
	if !ok1 || !ok2 {
		return 0, false
	}
	aCore, aPre, aHas := strings.Cut(a, "-")
	bCore, bPre, bHas := strings.Cut(b, "-")
	if c := compareParts(aCore, bCore, true); c != 0 {
		return c, true
	}
	switch {
	case !aHas && !bHas:
		return 0, true
	case !aHas:
		return 1, true // a release comes after its pre-releases
	case !bHas:
		return -1, true
	}
	return compareParts(aPre, bPre, false), true
}

// parse returns what counts of a version.
func parse(s string) (string, bool) {
	s = strings.TrimPrefix(s, "v")
	if i := strings.IndexByte(s, '+'); i >= 0 {
		s = s[:i]
	}
	digit := false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c >= '0' && c <= '9':
			digit = true
		case c == '.' && digit:
			digit = false
		case c == '-' && digit && i+1 < len(s):
			return s, true
		default:
			return "", false
		}
	}
	return s, digit
}

// compareParts compares dotted parts; numbers by size and before words. Missing
// parts of a core are 0; a longer pre-release comes later.
func compareParts(a, b string, core bool) int {
	for a != "" || b != "" {
		var x, y string
		x, a, _ = strings.Cut(a, ".")
		y, b, _ = strings.Cut(b, ".")
		if x == y {
			continue
		}
		xn, yn := digits(x) || core && x == "", digits(y) || core && y == ""
		switch {
		case !core && x == "":
			return -1
		case !core && y == "":
			return 1
		case xn && yn:
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if len(x) != len(y) {
				if len(x) < len(y) {
					return -1
				}
				return 1
			}
			if c := strings.Compare(x, y); c != 0 {
				return c
			}
		case xn:
			return -1
		case yn:
			return 1
		default:
			return strings.Compare(x, y)
		}
	}
	return 0
}

func digits(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }
