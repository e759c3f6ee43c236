package value

import "strings"

// Nearest returns the word of a list that is closest to word, or "" where none
// is close: at most a third of its letters may differ (Levenshtein, with
// neighbours swapped counting once).
func Nearest(word string, list []string) string {
	if len(word) > 80 {
		return ""
	}
	best, distance := "", max(1, len(word)/3)+1
	for _, w := range list {
		if d := editDistance(strings.ToLower(word), strings.ToLower(w)); d < distance && d < len(w) {
			best, distance = w, d
		}
	}
	return best
}

func editDistance(a, b string) int {
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
