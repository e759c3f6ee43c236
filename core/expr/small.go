package expr

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Week is a set of hours of the week, such as "Mon-Fri 06:00-22:00".
type Week struct{ spans schedule }

// ParseWeek reads hours as during takes them.
func ParseWeek(text string) (Week, error) {
	spans, err := parseSchedule(text)
	return Week{spans}, err
}

// Holds reports whether a time is within the hours, by the clock of its location.
func (w Week) Holds(t time.Time) bool { return w.spans.contains(t) }

// schedule is a set of spans of the week, each in minutes since Monday 00:00;
// one that ends before it begins runs over the end of the week.
type schedule []struct{ from, to int }

const weekMinutes = 7 * 24 * 60

var days = map[string]int{"mon": 0, "tue": 1, "wed": 2, "thu": 3, "fri": 4, "sat": 5, "sun": 6}

// parseSchedule reads "Mon-Fri 06:00-22:00, Sat 08:00-12:00"; days may be left
// out, be a list as in "Mon, Wed 06:00-07:00", or "daily", which means all of them.
func parseSchedule(s string) (schedule, error) {
	bad := func(part, why string) error {
		return fmt.Errorf(`%s is no time of the week%s; write days and hours, such as "Mon-Fri 06:00-22:00", "Mon, Wed 06:00-07:00" or "daily 22:00-06:00"`,
			quote(clip(strings.TrimSpace(part))), why)
	}
	var out schedule
	var listed []string // days whose hours are yet to come
	for _, part := range strings.Split(s, ",") {
		fields := strings.Fields(part)
		if len(fields) == 0 || len(fields) > 2 || len(out)+len(listed) > 100 {
			return nil, bad(part, "")
		}
		if len(fields) == 1 {
			if _, _, ok := weekdays(fields[0]); ok {
				listed = append(listed, fields[0])
				continue
			}
			if len(listed) > 0 { // hours after a comma: "Mon, 06:00-07:00"
				return nil, bad(part, ", its hours stand behind the last day without a comma")
			}
		}
		words := []string{"daily"}
		if len(fields) == 2 {
			words = append(listed, fields[0])
		}
		listed = nil
		from, to, ok := strings.Cut(fields[len(fields)-1], "-")
		f, ok1 := clock(from)
		t, ok2 := clock(to)
		if !ok || !ok1 || !ok2 || f == t {
			return nil, bad(part, "")
		}
		if t < f {
			t += 24 * 60
		}
		for _, word := range words {
			first, last, ok := weekdays(word)
			if !ok {
				return nil, bad(part, "")
			}
			for d := first; ; d = (d + 1) % 7 {
				out = append(out, struct{ from, to int }{d*24*60 + f, d*24*60 + t})
				if d == last {
					break
				}
			}
		}
	}
	if len(listed) > 0 {
		return nil, bad(strings.Join(listed, ", "), ", since it has no hours")
	}
	return out, nil
}

// weekdays reads a day, two with - between, or daily.
func weekdays(word string) (first, last int, ok bool) {
	word = strings.ToLower(word)
	if word == "daily" {
		return 0, 6, true
	}
	a, b, isRange := strings.Cut(word, "-")
	if !isRange {
		b = a
	}
	first, ok1 := days[a]
	last, ok2 := days[b]
	return first, last, ok1 && ok2
}

func clock(s string) (int, bool) {
	h, m, ok := strings.Cut(s, ":")
	if !ok || len(h) < 1 || len(h) > 2 || len(m) != 2 || !digits(h) || !digits(m) {
		return 0, false
	}
	hours, err1 := strconv.Atoi(h)
	minutes, err2 := strconv.Atoi(m)
	if err1 != nil || err2 != nil || hours > 24 || minutes > 59 || hours == 24 && minutes > 0 {
		return 0, false
	}
	return hours*60 + minutes, true
}

func (w schedule) contains(t time.Time) bool {
	minute := (int(t.Weekday())+6)%7*24*60 + t.Hour()*60 + t.Minute()
	for _, s := range w {
		if minute >= s.from && minute < s.to || minute+weekMinutes < s.to {
			return true
		}
	}
	return false
}

// glob reports whether s matches a pattern in which * stands for any number of
// characters and ? for one. It takes time in proportion to the product of the
// two lengths at worst.
func glob(pattern, s string) bool {
	p, t := []rune(pattern), []rune(s)
	i, j, star, mark := 0, 0, -1, 0
	for j < len(t) {
		switch {
		case i < len(p) && p[i] == '*':
			star, mark = i, j
			i++
		case i < len(p) && (p[i] == '?' || p[i] == t[j]):
			i++
			j++
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	for i < len(p) && p[i] == '*' {
		i++
	}
	return i == len(p)
}
