package api

import (
	"cmp"
	"context"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"ullage/client"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/present"
	"ullage/fleet/traffic"
)

const (
	// accessChanged tells that somebody, perhaps whoever listens, may something else.
	accessChanged = "access changed"
	// together is how long changes are gathered before they are told.
	together = 100 * time.Millisecond
	// soon is that where few devices change: an alarm is on the page at once.
	soon       = 30 * time.Millisecond
	few        = 1000
	pulseEvery = 2 * time.Second
	// anew is the cursor of a stream that tells some of the devices: what it was told of is
	// not known to a later stream, which begins with the whole. No run of the service
	// counts so low.
	anew = 1
	// part is how many devices are told at once of a whole fleet: neither side holds
	// more of it as text, and one writes while the other reads.
	part = 250
)

// filter says what a stream tells.
type filter struct {
	Where  string   `query:"where" maxLength:"65536" doc:"Only devices for which this condition is true"`
	Only   string   `query:"only" enum:"fleet,traffic,matching" default:"fleet" doc:"What to tell: changes of devices, messages as they pass, or only for which devices the condition is true"`
	Device string   `query:"device" doc:"Only the traffic of this device"`
	After  uint64   `query:"after" doc:"Go on behind this cursor, the id of an event that was heard; as the header Last-Event-ID"`
	LastID uint64   `header:"Last-Event-ID" doc:"What a browser sends when it connects again"`
	Each   []string `query:"each,explode" maxItems:"64" doc:"With only matching: more conditions, each told by its place in this list"`
}

// conditions are those of a stream that tells only for which devices they are true.
func (f *filter) conditions() []string {
	if len(f.Each) == 0 {
		return []string{f.Where}
	}
	if f.Where == "" {
		return f.Each
	}
	var out []string
	for _, each := range f.Each {
		if strings.TrimSpace(each) == "" {
			each = "true"
		}
		out = append(out, "("+f.Where+") and ("+each+")")
	}
	return out
}

func (s *server) liveRoutes() {
	sse.Register(s.api, huma.Operation{OperationID: "live", Method: http.MethodGet, Path: "/api/v1/live",
		Tags: []string{"Service"}, Summary: "Changes as they happen, as server-sent events",
		Middlewares: huma.Middlewares{s.stream}, Errors: []int{http.StatusUnprocessableEntity, http.StatusTooManyRequests},
		Description: "First comes what is so now (event whole, in parts: more is true for all but the last), then what changes (event changes): of each device that was told before only the members that are other than they were, " +
			"as a JSON merge patch (RFC 7396). The id of an event is a cursor; whoever connects again with it is told only what has changed since. A stream of some of the devices, by a condition or by what the caller sees, begins with the whole each time."},
		map[string]any{"whole": client.Whole{}, "changes": client.Changes{}, "pulse": client.Pulse{},
			"traffic": client.TrafficPassed{}, "happened": client.Happened{}, "matching": client.Matched{}},
		func(ctx context.Context, f *filter, send sse.Sender) {
			ctx, end := context.WithCancel(ctx)
			defer end()
			defer s.People.OnEnd(by(ctx), end)()
			if x := by(ctx); x.Screen() {
				page, err := s.People.PageOf(x)
				if err != nil {
					return
				}
				f.Where = s.whereShown(caller(ctx), page)
			}
			if f.Only == "traffic" {
				s.tellTraffic(ctx, f.Where, f.Device, send)
				return
			}
			l := &listener{s: s, caller: caller(ctx), own: s.ownUnits(ctx), where: f.Where, send: send, known: map[string]*present.Device{}}
			if f.Only == "matching" {
				l.match(ctx, f.conditions())
				return
			}
			l.run(ctx, cmp.Or(f.LastID, f.After))
		})
}

// maxStreams is how many streams one person may have open: some for each page in
// some windows on some machines.
const maxStreams = 64

// streams counts the open streams of each person.
type streams struct {
	mu   sync.Mutex
	open map[string]int
}

// stream lets a person open one more stream, unless there are too many.
func (s *server) stream(ctx huma.Context, next func(huma.Context)) {
	person := by(ctx.Context()).Person
	s.streams.mu.Lock()
	n := s.streams.open[person]
	if n < maxStreams {
		s.streams.open[person]++
	}
	s.streams.mu.Unlock()
	if n >= maxStreams {
		s.deny(ctx, fault.New(fault.TooMany, "%s has %d live streams open, which are the most", person, n).
			Then("close some pages"))
		return
	}
	defer func() {
		s.streams.mu.Lock()
		defer s.streams.mu.Unlock()
		if s.streams.open[person]--; s.streams.open[person] == 0 {
			delete(s.streams.open, person)
		}
	}()
	// Said before it begins: a stream that only ends says nothing, and is asked for again. Of
	// several conditions each is answered for by itself, and a screen does not choose any.
	if where := ctx.Query("where"); where != "" && ctx.Query("only") != "matching" && !by(ctx.Context()).Screen() {
		if _, _, err := s.Fleet.Among(caller(ctx.Context()), where); err != nil {
			s.deny(ctx, err)
			return
		}
	}
	next(ctx)
}

func (s *server) tellTraffic(ctx context.Context, where, device string, send sse.Sender) {
	c := caller(ctx)
	among, _, err := s.Fleet.Among(c, where)
	if err != nil { // the lists have said what is wrong with it
		return
	}
	if send.Data(client.Pulse{Service: s.service(c)}) != nil {
		return
	}
	var passed uint64
	if recent, _ := s.Fleet.Traffic(c, "", traffic.Filter{Device: device, Limit: 1}); len(recent) > 0 {
		passed = recent[0].Seq
	}
	pulse := time.NewTicker(pulseEvery)
	defer pulse.Stop()
	for {
		changed := s.Fleet.Passed()
		select {
		case <-ctx.Done():
			return
		case <-pulse.C:
			// Which devices a condition is true for changes with their values.
			if now, _, e := s.Fleet.Among(c, where); e == nil {
				among = now
			}
			if c.Role() == "" || send.Data(client.Pulse{Service: s.service(c)}) != nil {
				return
			}
		case <-changed:
			if !pause(ctx, together) {
				return
			}
			es, _ := s.Fleet.Traffic(c, where, traffic.Filter{Among: among, Device: device, After: passed, Limit: 200})
			if len(es) == 0 {
				continue
			}
			passed = es[0].Seq
			if send.Data(client.TrafficPassed{Entries: es}) != nil {
				return
			}
		}
	}
}

func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// listener is one stream of the fleet.
type listener struct {
	told   int // devices that had changed, the last time
	s      *server
	caller access.Caller
	own    *ownUnits
	where  string
	send   sse.Sender
	whole  bool // the caller saw all devices when it began
	// known is what the other side has, by device. Of a stream that goes on after a
	// break that is not known, and what changes is sent whole.
	known map[string]*present.Device
	seq   uint64

	among  map[string]bool // nil for all
	looked time.Time       // when among was worked out
	took   time.Duration
	wrong  error // why it could not be
}

// look works out which devices the condition is true for, if it is time: not so
// often that it takes more than a tenth of a core.
func (l *listener) look(force bool) bool {
	if !l.limited() || !force && l.throttled() {
		return false
	}
	begun := time.Now()
	among, _, err := l.s.Fleet.Among(l.caller, l.where)
	l.looked, l.took, l.wrong = time.Now(), time.Since(begun), err
	if err != nil {
		return false
	}
	l.among = among
	return true
}

// throttled reports whether it is too soon to look again.
func (l *listener) throttled() bool { return l.limited() && time.Since(l.looked) < 10*l.took }

// limited reports whether there is something to look: not all devices are told of.
func (l *listener) limited() bool { return !l.whole || strings.TrimSpace(l.where) != "" }

func (l *listener) run(ctx context.Context, cursor uint64) {
	granted := l.s.Fleet.Changed()
	l.whole = l.caller.MayAll(person.Viewer)
	if l.limited() && !l.look(true) {
		return // the lists have said what is wrong with it
	}
	news := l.s.Fleet.News()
	if !l.begin(cursor) {
		return
	}
	if l.send.Data(client.Pulse{Service: l.s.service(l.caller)}) != nil {
		return
	}
	pulse := time.NewTicker(pulseEvery)
	defer pulse.Stop()
	count := l.s.Fleet.HappenedSoFar()
	facts := l.s.Fleet.Happening()
	// Both are gathered for a while, and neither waits for the other: what an alarm is in
	// the journal must not hold up that it is on the page.
	var newsDue, factsDue <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-facts:
			facts, factsDue = nil, time.After(together)
		case <-factsDue:
			facts = l.s.Fleet.Happening()
			var fs []fact.Fact
			if fs, count = l.s.Fleet.Happened(l.caller, count); len(fs) > 0 && l.send.Data(happened(fs)) != nil {
				return
			}
		case <-granted:
			granted = l.s.Fleet.Changed()
			// Whoever sees all of them now, or not any more, begins anew.
			if !l.another() && l.look(true) && !l.tell(l.renamed()...) {
				return
			}
			if l.send.Data(client.Happened{Facts: []client.Happening{{Kind: accessChanged}}}) != nil || l.another() {
				return
			}
		case <-pulse.C:
			if l.send.Data(client.Pulse{Service: l.s.service(l.caller)}) != nil {
				return
			}
			if l.look(true) && !l.tell() { // time alone may change what it is true for
				return
			}
		case <-news:
			news, newsDue = nil, time.After(l.wait())
		case <-newsDue:
			news, newsDue = l.s.Fleet.News(), nil
			if l.throttled() { // those that come in or go by what has changed are told then
				newsDue = time.After(max(time.Until(l.looked.Add(10*l.took)), soon))
			}
			l.look(false)
			if !l.tell() {
				return
			}
		}
	}
}

// another reports whether the caller may see all devices who saw some when the stream
// began, or not any more.
func (l *listener) another() bool {
	return l.whole != l.caller.MayAll(person.Viewer) || l.caller.Role() == ""
}

// cursor is the id of what is told now.
func (l *listener) cursor() int {
	if l.limited() {
		return anew
	}
	return int(l.seq)
}

// begin tells what is so now, or, behind a cursor of this run of the service,
// what has changed since. Of some devices it is all told anew: which they were then
// is not known.
func (l *listener) begin(cursor uint64) bool {
	if cursor > 0 && !l.limited() && l.s.Fleet.Remembers(cursor) {
		changed, next := l.s.Fleet.Since(l.caller, cursor)
		l.seq = next
		out := client.Changes{Devices: []client.Device{}, Patches: []map[string]any{}, Gone: []string{}}
		for _, d := range changed {
			l.known[d.ID] = d
			out.Devices = append(out.Devices, l.own.device(d))
		}
		return l.send(sse.Message{ID: l.cursor(), Data: out}) == nil
	}
	l.seq = l.s.Fleet.Seq()
	var ids []string
	if l.limited() {
		ids = append([]string{}, slices.Sorted(maps.Keys(l.among))...)
	}
	all := l.s.Fleet.Chosen(l.caller, ids)
	for _, d := range all {
		l.known[d.ID] = d
	}
	for len(all) > part {
		if l.send.Data(client.Whole{Devices: l.own.devices(all[:part]), More: true}) != nil {
			return false
		}
		all = all[part:]
	}
	return l.send(sse.Message{ID: l.cursor(), Data: client.Whole{Devices: l.own.devices(all)}}) == nil
}

// wait is how long changes are gathered: longer while many devices change.
func (l *listener) wait() time.Duration {
	if l.told > few {
		return together
	}
	return soon
}

// renamed returns the devices whose hub the caller sees now, or not any more, although
// they did not change.
func (l *listener) renamed() []*present.Device {
	all := l.s.Fleet.Some(l.caller, slices.Collect(maps.Keys(l.known)))
	return slices.DeleteFunc(all, func(d *present.Device) bool { return d.Hub == l.known[d.ID].Hub })
}

// tell sends what is other than the other side has it: of what has changed, and of also.
func (l *listener) tell(also ...*present.Device) bool {
	if l.another() {
		return true // soon it begins anew
	}
	changed, next := l.s.Fleet.Since(l.caller, l.seq)
	changed = slices.Concat(also, changed)
	l.seq, l.told = next, len(changed)
	out := client.Changes{Devices: []client.Device{}, Patches: []map[string]any{}, Gone: []string{}}
	seen := make(map[string]bool, len(changed))
	for _, d := range changed {
		seen[d.ID] = true
		if l.among != nil && !l.among[d.ID] {
			continue
		}
		if was := l.known[d.ID]; was == nil {
			out.Devices = append(out.Devices, l.own.device(d))
		} else if patch := difference(was, d, l.own); patch != nil {
			out.Patches = append(out.Patches, patch)
		}
		l.known[d.ID] = d
	}
	if l.among != nil {
		for id := range l.known {
			if !l.among[id] {
				delete(l.known, id)
				out.Gone = append(out.Gone, id)
			}
		}
		for id := range l.among { // the condition is true for it now, although it did not change
			if l.known[id] == nil && !seen[id] {
				if d, err := l.s.Fleet.Device(l.caller, id); err == nil {
					l.known[id] = d
					out.Devices = append(out.Devices, l.own.device(d))
				}
			}
		}
		slices.Sort(out.Gone)
	}
	if len(out.Devices)+len(out.Patches)+len(out.Gone) == 0 {
		return true
	}
	return l.send(sse.Message{ID: l.cursor(), Data: out}) == nil
}

// happened tells each thing once, however many facts there are of it.
func happened(fs []fact.Fact) client.Happened {
	out := client.Happened{Facts: []client.Happening{}}
	seen := map[client.Happening]bool{}
	for _, f := range fs {
		h := client.Happening{Kind: string(f.Kind), Device: f.Device, Alarm: f.Alarm, Rule: f.Rule}
		if !seen[h] {
			seen[h] = true
			out.Facts = append(out.Facts, h)
		}
	}
	return out
}

// matching is one condition of a stream that tells for which devices conditions are true.
type matching struct {
	listener
	of   int // which of the conditions
	told map[string]bool
}

// tell tells what has changed since the last time.
func (m *matching) tell() bool {
	out := client.Matched{Of: m.of, Devices: []string{}, Gone: []string{}}
	for id := range m.among {
		if !m.told[id] {
			out.Devices = append(out.Devices, id)
		}
	}
	for id := range m.told {
		if !m.among[id] {
			out.Gone = append(out.Gone, id)
		}
	}
	m.told = m.among
	return len(out.Devices)+len(out.Gone) == 0 || m.send.Data(out) == nil
}

// match tells for which devices conditions are true, as that changes.
func (l *listener) match(ctx context.Context, conditions []string) {
	l.whole = l.caller.MayAll(person.Viewer)
	var each []*matching
	for i, where := range conditions {
		m := &matching{listener: *l, of: i}
		if m.where = where; strings.TrimSpace(where) == "" {
			continue
		}
		if !m.look(true) {
			if l.send.Data(client.Matched{Of: i, Devices: []string{}, Gone: []string{}, Wrong: fault.From(m.wrong).Sentence}) != nil {
				return
			}
			continue
		}
		if l.send.Data(client.Matched{Of: i, Devices: slices.AppendSeq([]string{}, maps.Keys(m.among)), Gone: []string{}}) != nil {
			return
		}
		m.told = m.among
		each = append(each, m)
	}
	// All of them together take no more than a tenth of a core.
	var took time.Duration
	var looked time.Time
	look := func() {
		took = 0
		for _, m := range each {
			m.look(true)
			took += m.took
		}
		looked = time.Now()
	}
	pulse := time.NewTicker(pulseEvery)
	defer pulse.Stop()
	for {
		news, granted := l.s.Fleet.News(), l.s.Fleet.Changed()
		wait := news
		if time.Since(looked) < 10*took {
			wait = nil
		}
		select {
		case <-ctx.Done():
			return
		case <-pulse.C: // time alone may change what they are true for
			if l.send.Data(client.Pulse{Service: l.s.service(l.caller)}) != nil {
				return
			}
			if time.Since(looked) >= 10*took {
				look()
			}
		case <-granted:
			if l.caller.Role() == "" {
				return
			}
			look()
		case <-time.After(max(10*took, together)):
			if wait != nil {
				continue
			}
			look()
		case <-wait:
			if !pause(ctx, together) {
				return
			}
			look()
		}
		for _, m := range each {
			if !m.tell() {
				return
			}
		}
	}
}
