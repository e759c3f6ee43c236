package api

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"ullage/core/board"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/access"
)

// A screen that shows a board asks for what its instruments ask for, and for nothing else:
// the board is the stored one, and so is what is chosen at its top.

// boardOn returns the board of a screen's page; nil for another page.
func (s *server) boardOn(c access.Caller, p *person.Shown) *board.Board {
	if p.Board == "" {
		return nil
	}
	if kind, of, made := strings.Cut(p.Board, "/"); made {
		b, err := s.Fleet.MadeBoard(c, kind, of)
		if err != nil {
			return nil
		}
		return b
	}
	b, err := s.Fleet.Board(c, p.Board)
	if err != nil {
		return nil
	}
	return &b
}

// both joins two selectors as the console does.
func both(a, b string) string {
	switch {
	case a == "":
		return b
	case b == "":
		return a
	}
	return "(" + a + ") and (" + b + ")"
}

// whereShown is the condition for the devices that a screen's page is about.
func (s *server) whereShown(c access.Caller, p *person.Shown) string {
	if len(p.Turns) > 0 {
		var any []string
		for _, t := range p.Turns {
			w := s.whereShown(c, t)
			if w == "" {
				return ""
			}
			if w = "(" + w + ")"; !slices.Contains(any, w) {
				any = append(any, w)
			}
		}
		return strings.Join(any, " or ")
	}
	if p.Board == "" {
		return p.Where()
	}
	b := s.boardOn(c, p)
	if b == nil {
		return "false"
	}
	chosen, _ := url.ParseQuery(p.Query.Get("at"))
	var parts []string
	for _, name := range b.Parameters {
		v := chosen.Get(name)
		if v == "" {
			continue
		}
		switch name {
		case "device", "model":
			parts = append(parts, fmt.Sprintf("device.%s == %q", map[string]string{"device": "id", "model": "model"}[name], v))
		default:
			parts = append(parts, fmt.Sprintf("label.%s == %q", name, v))
		}
	}
	return both(b.Devices, strings.Join(parts, " and "))
}

// earlier is a fixed span, so much earlier; empty for another one.
func earlier(span string, by time.Duration) string {
	from, to, _ := strings.Cut(span, "..")
	a, errA := time.Parse(time.RFC3339, from)
	b, errB := time.Parse(time.RFC3339, to)
	if errA != nil || errB != nil {
		return ""
	}
	const form = "2006-01-02T15:04:05.000Z" // as the console writes it
	return a.UTC().Add(-by).Format(form) + ".." + b.UTC().Add(-by).Format(form)
}

// turnsAsk reports whether one of the boards that a screen shows in turn asks for an operation. One
// stream of conditions may have some of two boards, while the one follows the other.
func (s *server) turnsAsk(p *person.Shown, c access.Caller, op string, path func(string) string, q url.Values, now time.Time) bool {
	asks := func(q url.Values) bool {
		return slices.ContainsFunc(p.Turns, func(t *person.Shown) bool { return s.boardAsks(t, c, op, path, q, now) })
	}
	if op != "live" || q.Get("only") != "matching" {
		return asks(q)
	}
	for _, each := range q["each"] {
		one := maps.Clone(q)
		if one["each"] = []string{each}; !asks(one) {
			return false
		}
	}
	return len(q["each"]) > 0
}

// waysAsk reports whether a map asks for the ways of devices that move: for the metrics
// with which they say where they are.
func (s *server) waysAsk(c access.Caller, where string, q url.Values) bool {
	if where == "" {
		where = "true"
	}
	if q.Get("where") != where || q.Has("group_by") || len(q["metric"]) == 0 {
		return false
	}
	names := map[string]bool{}
	for _, m := range s.Fleet.Models(c) {
		for _, x := range m.Positions() {
			names[x] = true
		}
	}
	for _, name := range q["metric"] {
		if !names[name] {
			return false
		}
	}
	return true
}

// reaches reports whether a span of a board goes back to a time.
func reaches(span string, to, now time.Time) bool {
	const some = 2 * time.Minute
	if begin, _, fixed := strings.Cut(span, ".."); fixed {
		from, err := time.Parse(time.RFC3339, begin)
		return err == nil && !to.Before(from.Add(-some))
	}
	long := spanOf(span)
	if _, err := value.ParseDuration(span); err != nil { // of a day, a week or a month that may be over
		long *= 2
	}
	return !to.Before(now.Add(-long - some))
}

// boardAsks reports whether a board on a screen asks for an operation.
func (s *server) boardAsks(p *person.Shown, c access.Caller, op string, path func(string) string, q url.Values, now time.Time) bool {
	kind, of, made := strings.Cut(p.Board, "/")
	switch op { // also of one that is not there any more, which is said so then
	case "board", "board-lacks":
		return !made && path("name") == p.Board && len(q) == 0
	case "made-board":
		return made && q.Get("kind") == kind && q.Get("of") == of
	}
	b := s.boardOn(c, p)
	if b == nil {
		return op == "me" && len(q) == 0
	}
	where := s.whereShown(c, p)
	switch op {
	case "models", "me":
		return len(q) == 0
	case "model": // for the units of what its instruments show
		_, err := s.Fleet.Model(c, path("name"))
		return err == nil && len(q) == 0
	case "live":
		if q.Get("only") != "matching" {
			return q.Get("only") == "" && len(q["where"]) == 0
		}
		for _, each := range q["each"] {
			if !slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool {
				mine := both(where, x.Devices)
				return each == mine || x.Count != "" && each == both(mine, x.Count)
			}) {
				return false
			}
		}
		return len(q["each"]) > 0 && len(q["where"]) == 0
	case "query":
		from, to, _ := strings.Cut(q.Get("span"), "..")
		if slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool { return x.Kind == "map" && s.waysAsk(c, both(where, x.Devices), q) }) {
			return inWindow(from, to, spanOf(p.Param("span", b.Span)), now, time.Time{})
		}
		return slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool {
			span := x.Span
			if span == "" {
				span = p.Param("span", b.Span)
			}
			mine := both(where, x.Devices)
			if mine == "" {
				mine = "true"
			}
			shown := x.Metrics
			if x.Kind == "roster" { // the course of each of its metrics stands beside the value
				shown = x.MetricColumns()
			}
			metrics := slices.Equal(q["metric"], shown) || q.Get("metric") == strings.Join(shown, ",")
			fixed := strings.Contains(span, "..") && q.Get("span") == span
			if len(shown) == 0 || !metrics || q.Get("where") != mine || q.Get("group_by") != x.GroupBy {
				return false
			}
			if before, err := value.ParseDuration(x.Compare); err == nil && (inWindow(from, to, spanOf(span), now.Add(-before.Std()), time.Time{}) ||
				q.Get("span") == earlier(span, before.Std())) {
				return true
			}
			return fixed || inWindow(from, to, spanOf(span), now, time.Time{})
		})
	case "forecast":
		return len(q) == 3 && len(q["device"]) == 1 && s.shows(p, c, q.Get("device")) && slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool {
			return x.Forecast != "" && q.Get("ahead") == x.Forecast && slices.Equal(q["metric"], x.Metrics)
		})
	case "activity": // a strip of links
		return slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool {
			from, err := value.ParseDuration(q.Get("span"))
			return err == nil && x.States == board.OfLink && len(q) == 3 && q.Get("where") == cmp.Or(both(where, x.Devices), "true") && q.Get("off") == "200" &&
				reaches(cmp.Or(x.Span, p.Param("span", b.Span)), now.Add(-from.Std()), now)
		})
	case "alarms": // a strip of them
		if slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool {
			return x.States == board.OfAlarm && len(q) == 3 && q.Get("where") == cmp.Or(both(where, x.Devices), "true") && q.Get("all") == "true" && q.Get("limit") == "500"
		}) {
			return true
		} // those of a trace of one device
		return len(q) == 3 && s.shows(p, c, q.Get("device")) && q.Get("all") == "true" && q.Get("limit") == "500" &&
			slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool { return x.Kind == "trace" })
	case opPlaces: // a map shows where they are, and a plan where devices stand
		return slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool { return x.Kind == "map" || x.Kind == "plan" }) && len(q) == 0
	case "site-plan":
		chosen, _ := url.ParseQuery(p.Query.Get("at"))
		return slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool {
			return x.Kind == "plan" && (path("name") == x.Site || x.Site == "" && (path("name") == chosen.Get("site") || made && kind == "site" && path("name") == of))
		})
	case "settings":
		return slices.ContainsFunc(b.Instruments, func(x board.Instrument) bool { return x.Setting != "" }) && s.shows(p, c, path("id")) && len(q) == 0
	}
	return false
}
