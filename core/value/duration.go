package value

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Duration is a time.Duration written as people write it: "90s", "10min",
// "2h", "7d", or several of them joined, "1h30min".
type Duration time.Duration

var durationUnits = []struct {
	name string
	size time.Duration
}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"min", time.Minute}, {"s", time.Second}}

// ParseDuration reads the form that String writes. Fractions, signs and other
// units are refused, and so is more than 100 years.
func ParseDuration(s string) (Duration, error) {
	bad := func() (Duration, error) {
		return 0, fmt.Errorf("%q is not a duration; write it like 90s, 10min, 2h, 7d or 1h30min", s)
	}
	rest := s
	var total time.Duration
	if rest == "" {
		return bad()
	}
	for rest != "" {
		digits := strings.IndexFunc(rest, func(r rune) bool { return r < '0' || r > '9' })
		if digits <= 0 {
			return bad()
		}
		n, err := strconv.ParseInt(rest[:digits], 10, 64)
		if err != nil {
			return bad()
		}
		rest = rest[digits:]
		letters := strings.IndexFunc(rest, func(r rune) bool { return r >= '0' && r <= '9' })
		if letters < 0 {
			letters = len(rest)
		}
		size := time.Duration(0)
		for _, u := range durationUnits {
			if u.name == rest[:letters] {
				size = u.size
			}
		}
		const limit = 100 * 365 * 24 * time.Hour
		if size == 0 {
			return bad()
		}
		rest = rest[letters:]
		if n > int64(limit/size) || total+time.Duration(n)*size > limit {
			return 0, fmt.Errorf("%q is longer than a hundred years, which is the most; write it like 90s, 10min, 2h, 7d or 1h30min", s)
		}
		total += time.Duration(n) * size
	}
	return Duration(total), nil
}

// String writes d in the largest units that fit, "0s" for zero. Parts below a
// second are dropped.
func (d Duration) String() string {
	left := time.Duration(d).Truncate(time.Second)
	if left == 0 {
		return "0s"
	}
	var b strings.Builder
	if left < 0 {
		b.WriteByte('-')
		left = -left
	}
	for _, u := range durationUnits {
		if n := left / u.size; n > 0 {
			fmt.Fprintf(&b, "%d%s", n, u.name)
			left -= n * u.size
		}
	}
	return b.String()
}

// Std returns d as a time.Duration.
func (d Duration) Std() time.Duration { return time.Duration(d) }

// MarshalText writes the form of String.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads the form of ParseDuration.
func (d *Duration) UnmarshalText(b []byte) error {
	got, err := ParseDuration(string(b))
	if err == nil {
		*d = got
	}
	return err
}
