package person

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"ullage/core/value"
)

// Shown is a page of the console as a screen shows it: its path and its parameters,
// as they are stored, and nothing that the screen says.
type Shown struct {
	Path   string
	Query  url.Values
	Device string // that it is about; empty for a page about many
	// Board is the board that it is: its name, or what it is made of, as in site/Kilnside.
	Board string
	// Turns are the boards that it shows one after the other; none for another page.
	Turns []*Shown
}

// maxTurns is how many boards a screen shows one after the other at most.
const maxTurns = 50

var (
	deviceID   = regexp.MustCompile(`^/devices/([a-z0-9][a-z0-9-]{0,62})$`)
	boardPath  = regexp.MustCompile(`^/boards/(?:([a-z][a-z0-9-]{0,62})|made/((?:device|model|site)/[^/]{1,100}|fleet))$`)
	screenPath = map[string]string{ // what is shown, in words, with the parameters that say what
		"/": "devices", "/alarms": "alarms", "/query": "a metric",
	}
)

// ParseShown reads the page of a screen. There are the fleet, the alarms, a device, a
// board and a query; others are not made for being looked at from afar.
func ParseShown(page string) (*Shown, error) {
	if err := (&Start{Page: page}).check(); err != nil {
		return nil, err
	}
	u, err := url.Parse(page)
	if err != nil {
		return nil, err
	}
	q, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return nil, fmt.Errorf("what stands behind the ? of %q cannot be read", value.Clip(page, 60))
	}
	for k, v := range q {
		if len(v) != 1 {
			return nil, fmt.Errorf("the page has %s twice; give it once", k)
		}
	}
	out := &Shown{Path: u.Path, Query: q}
	if m := deviceID.FindStringSubmatch(u.Path); m != nil {
		out.Device = m[1]
		return out, nil
	}
	if u.Path == "/boards/made/in-turn" {
		return out, out.readTurns()
	}
	if m := boardPath.FindStringSubmatch(u.Path); m != nil {
		if out.Board = m[1]; m[2] != "" {
			kind, of, _ := strings.Cut(m[2], "/")
			out.Board = kind + "/" + of
		}
		return out, nil
	}
	switch {
	case screenPath[u.Path] == "":
		return nil, fmt.Errorf("%q is no page for a screen; there are / (the fleet), /alarms, /devices/ID, /boards/NAME, /boards/made/in-turn and /query, each with its parameters",
			value.Clip(u.Path, 60))
	case u.Path == "/query" && q.Get("metric") == "":
		return nil, errors.New("the query names no metric; write it like /query?metric=co2&span=24h")
	}
	return out, nil
}

// readTurns reads which boards are shown in turn, such as safe-air:20,made/site/Kilnside:30. What
// else stands in the address, such as the span, is that of each.
func (s *Shown) readTurns() error {
	rest := url.Values{}
	for k, v := range s.Query {
		if k != "show" {
			rest[k] = v
		}
	}
	for part := range strings.SplitSeq(s.Query.Get("show"), ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		board := part
		if i := strings.LastIndexByte(part, ':'); i >= 0 && i < len(part)-1 && strings.Trim(part[i+1:], "0123456789") == "" {
			board = part[:i]
		}
		t, err := ParseShown("/boards/" + board + "?" + rest.Encode())
		if err != nil || t.Board == "" {
			return fmt.Errorf("%q is no board that is shown in turn; write show=safe-air:20,made/fleet:30, each with its seconds", value.Clip(part, 60))
		}
		if len(s.Turns) == maxTurns {
			return fmt.Errorf("a screen shows %d boards in turn at most", maxTurns)
		}
		s.Turns = append(s.Turns, t)
	}
	if len(s.Turns) == 0 {
		return errors.New("the address says which boards are shown in turn: /boards/made/in-turn?show=safe-air:20,made/fleet:30")
	}
	return nil
}

// Where is the condition for the devices that the page is about; empty for all that
// the screen reaches.
func (s *Shown) Where() string {
	if s.Device != "" {
		return fmt.Sprintf("device.id == %q", s.Device)
	}
	return s.Query.Get("where")
}

// Param returns a parameter of the page, or what it is where the page does not say.
func (s *Shown) Param(name, usual string) string {
	if v := s.Query.Get(name); v != "" {
		return v
	}
	return usual
}

// Words tells what is shown, beside the devices that it is of.
func (s *Shown) Words() string {
	switch {
	case s.Device != "":
		return "the readings, settings and alarms of " + s.Device
	case len(s.Turns) > 0:
		names := make([]string, len(s.Turns))
		for i, t := range s.Turns {
			names[i] = strings.TrimSuffix(t.Board, "/")
		}
		return "the boards " + strings.Join(names, ", ") + " in turn"
	case s.Board != "":
		return "the board " + strings.TrimSuffix(s.Board, "/")
	case s.Path == "/query":
		return fmt.Sprintf("%s over %s", s.Query.Get("metric"), s.Param("span", "24h"))
	case s.Path == "/alarms":
		return "alarms"
	}
	return "health and latest readings"
}

// codeSigns are those of Crockford's base 32: none that is taken for another.
const codeSigns = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"

// ScreenCode writes random bytes as a code that people type: eight signs, in two
// groups.
func ScreenCode(random [8]byte) string {
	var b strings.Builder
	for i, x := range random {
		if i == 4 {
			b.WriteByte('-')
		}
		b.WriteByte(codeSigns[x%32])
	}
	return b.String()
}

// ReadCode returns a code as ScreenCode writes it, from how people type it: in small
// letters, with spaces, with O for 0 and I or L for 1.
func ReadCode(typed string) string {
	s := strings.ToUpper(strings.Map(func(r rune) rune {
		if r == ' ' || r == '-' || r == '\t' {
			return -1
		}
		return r
	}, typed))
	s = strings.NewReplacer("O", "0", "I", "1", "L", "1").Replace(s)
	if len(s) != 8 {
		return s
	}
	return s[:4] + "-" + s[4:]
}
