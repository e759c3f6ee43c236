package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/people"
	"ullage/fleet/present"
	"ullage/transport/conns"
)

// screenRoutes let screens in, which show one page and ask for nothing else.
func (s *server) screenRoutes() {
	nobody := func(o *huma.Operation) {
		o.Security = []map[string][]string{}
		o.Errors = append(o.Errors, http.StatusForbidden, http.StatusNotFound, http.StatusTooManyRequests)
	}
	type from struct{ overRemote }
	huma.Post(s.api, "/api/v1/screen", func(_ context.Context, in *from) (*body[client.ScreenAsks], error) {
		a, err := s.People.AskScreen(conns.HostOf(in.address))
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.ScreenAsks]{client.ScreenAsks{Code: a.Code, Secret: a.Secret, ExpiresAt: a.Expires.UTC()}}, nil
	}, describe("ask-screen", "Get a code to show on a screen until somebody lets it in", "Access",
		"The code lets nobody in by itself: it says which screen is meant. The secret is what the screen enters with then."), nobody)
	type entered struct {
		SetCookie []http.Cookie `header:"Set-Cookie"`
		Body      client.ScreenEntered
	}
	huma.Post(s.api, "/api/v1/screen/enter", func(ctx context.Context, in *remote[client.ScreenCode]) (*entered, error) {
		secret, x, err := s.People.EnterScreen(ctx, in.Body.Code, conns.HostOf(in.address))
		if err != nil {
			return nil, s.failed(err)
		}
		page, err := s.People.PageOf(x)
		if err != nil {
			return nil, s.failed(err)
		}
		return &entered{SetCookie: []http.Cookie{sessionCookie(secret, x.ExpiresAt, in.secure)},
			Body: client.ScreenEntered{Page: pageOfShown(page)}}, nil
	}, describe("enter-screen", "Be let in as a screen, with a code or with the secret of a screen that was let in", "Access",
		"The answer sets a cookie that is good for one page; 403 with about waiting while nobody has let the screen in."), nobody)
	type of struct {
		ThingNamed
		Body client.ScreenCode
	}
	huma.Post(s.api, "/api/v1/keys/{name}/code", func(_ context.Context, in *ThingNamed) (*body[client.ScreenCodeMade], error) {
		code, expires, err := s.People.ScreenCode(in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.ScreenCodeMade]{client.ScreenCodeMade{Code: code, Path: "/screen#" + code, ExpiresAt: expires.UTC()}}, nil
	}, describe("make-code", "Make a code that lets one screen in, once", "People",
		"It holds for 15 minutes, and not behind a restart."), notFound)
	huma.Post(s.api, "/api/v1/keys/{name}/screens", func(_ context.Context, in *of) (*body[client.ScreenLetIn], error) {
		from, err := s.People.LetIn(in.Name, in.Body.Code)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.ScreenLetIn]{client.ScreenLetIn{From: from}}, nil
	}, describe("let-screen-in", "Let in the screen that shows a code", "People",
		"The screen goes on by itself within some seconds."), notFound)
	type change struct {
		ThingNamed
		Body client.ScreenPage
	}
	huma.Put(s.api, "/api/v1/keys/{name}/page", func(ctx context.Context, in *change) (*body[client.ScreenChange], error) {
		k, err := s.People.Key(in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		out, err := s.screenChange(caller(ctx), k, in.Body.Page)
		if err == nil && !in.Body.Preview {
			err = s.People.SetPage(ctx, in.Name, in.Body.Page, caller(ctx).Name)
			s.Settle()
		}
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.ScreenChange]{out}, nil
	}, describe("put-key-page", "Have the screens of a key show another page; the answer tells what they show more", "People",
		"With preview nothing is changed."), notFound)
}

// overRemote is where a request without a body came from.
type overRemote struct{ address string }

// Resolve implements huma.Resolver.
func (r *overRemote) Resolve(ctx huma.Context) []error {
	r.address = ctx.RemoteAddr()
	return nil
}

func pageOfShown(p *person.Shown) string {
	if len(p.Query) == 0 {
		return p.Path
	}
	return p.Path + "?" + p.Query.Encode()
}

// screenChange tells what screens would show with another page that they do not show
// now.
func (s *server) screenChange(c access.Caller, k person.Key, page string) (client.ScreenChange, error) {
	out := client.ScreenChange{Page: page, Screens: k.Screens, More: []string{}}
	next, err := person.ParseShown(page)
	if err != nil {
		return out, fault.New(fault.Invalid, "%s", err).On("page")
	}
	shown, err := s.shownOn(k, next)
	if err != nil {
		return out, err
	}
	before := map[string]bool{}
	was, err := person.ParseShown(k.Page)
	if err == nil {
		before, _ = s.shownOn(k, was)
	}
	for id := range shown {
		if !before[id] {
			out.More = append(out.More, id)
		}
	}
	slices.Sort(out.More)
	out.MoreCount, out.Devices = len(out.More), len(shown)
	out.More = out.More[:min(len(out.More), maxReached)]
	says := []string{}
	if was != nil && was.Words() != next.Words() {
		says = append(says, fmt.Sprintf("%s in place of %s", next.Words(), was.Words()))
	}
	switch n := out.MoreCount; {
	case n == 1:
		says = append(says, "one device more: "+out.More[0])
	case n > 1:
		says = append(says, fmt.Sprintf("%d devices more, such as %s", n, out.More[0]))
	}
	who := fmt.Sprintf("The %d screens of this key", k.Screens)
	switch k.Screens {
	case 0:
		who = "No screen is let in now; those to come"
	case 1:
		who = "The screen of this key"
	}
	if len(says) == 0 {
		out.Says = who + " would show nothing more than now."
		return out, nil
	}
	out.Says = who + " would show " + strings.Join(says, ", and ") + "."
	return out, nil
}

// shownOn returns the devices of which the screens of a key show something.
func (s *server) shownOn(k person.Key, page *person.Shown) (map[string]bool, error) {
	c := s.People.Caller(people.Session{Person: people.CallerOfKey(k.Name)}, "")
	among, _, err := s.Fleet.Among(c, s.whereShown(c, page))
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, d := range s.Fleet.Devices(c) {
		if among == nil || among[d.ID] {
			out[d.ID] = true
		}
	}
	return out, nil
}

// onlyPage refuses whatever a screen asks that is not what its page asks. The page is
// the stored one: what the screen says of itself counts for nothing.
func (s *server) onlyPage(ctx huma.Context, x people.Session) error {
	page, err := s.People.PageOf(x)
	if err != nil {
		return fault.New(fault.NotAllowed, "the page of this screen is not known any more").Then("have it let in again")
	}
	u := ctx.URL()
	q := u.Query()
	q.Del("units")
	c := s.People.Caller(x, "")
	if ctx.Method() == http.MethodGet && s.asksFor(page, c, ctx.Operation().OperationID, ctx.Param, q) {
		return nil
	}
	return fault.New(fault.NotAllowed, "a screen shows its page, and asks for nothing else").On("screen")
}

// asksFor reports whether a page asks for an operation with some parameters.
func (s *server) asksFor(p *person.Shown, c access.Caller, op string, path func(string) string, q url.Values) bool {
	now := s.Now()
	is := func(want map[string]string, free ...string) bool {
		for k, v := range q {
			if slices.Contains(free, k) {
				continue
			}
			if w, ok := want[k]; !ok || len(v) != 1 || v[0] != w {
				return false
			}
		}
		for k, w := range want {
			if w != "" && q.Get(k) != w {
				return false
			}
		}
		return true
	}
	if len(p.Turns) > 0 {
		return s.turnsAsk(p, c, op, path, q, now)
	}
	if p.Board != "" {
		return s.boardAsks(p, c, op, path, q, now)
	}
	fleet, device := p.Path == "/", p.Device
	switch op {
	case "me":
		return len(q) == 0
	case "live": // what it is about is put in by the service
		return is(map[string]string{"only": ""}, "after") && q.Get("only") == "" ||
			fleet && is(map[string]string{"only": "matching", "each": p.Where()}) && p.Where() != ""
	case "models":
		return fleet && len(q) == 0
	case "model":
		d, err := s.Fleet.Device(c, device)
		return device != "" && err == nil && path("name") == d.Model+"@"+d.ModelVersion && len(q) == 0
	case "settings":
		return device != "" && path("id") == device && len(q) == 0
	case "history":
		d, err := s.Fleet.Device(c, path("id"))
		switch {
		case err != nil:
			return false
		case fleet: // beside who is nearest to a limit, what has that limit
			return is(map[string]string{"steps": "72"}, "metric", "from", "to") && limited(d, q.Get("metric")) && s.shows(p, c, d.ID) &&
				inWindow(q.Get("from"), q.Get("to"), 12*time.Hour, now, time.Time{})
		case d.ID != device:
			return false
		}
		return is(map[string]string{"steps": "360"}, "metric", "from", "to") &&
			inWindow(q.Get("from"), q.Get("to"), spanOf(p.Param("span", "24h")), now, d.LastAt)
	case "alarms":
		if device != "" {
			return is(map[string]string{"device": device})
		}
		return p.Path == "/alarms" && is(map[string]string{"all": strconv.FormatBool(p.Param("view", "open") == "all"),
			"where": p.Query.Get("where"), "rule": p.Query.Get("rule"), "limit": "500"})
	case "journal":
		return fleet && is(map[string]string{"kind": "alarm raised", "limit": "1000"})
	case "query":
		by := p.Query.Get("group_by")
		want := map[string]string{"metric": p.Query.Get("metric"), "where": p.Query.Get("where"), "steps": "400",
			"aggregate": p.Param("aggregate", "mean"), "group_by": by, "then": ""}
		if by != "" {
			want["then"] = p.Param("then", "mean")
		}
		from, to, _ := strings.Cut(q.Get("span"), "..")
		if fleet {
			return p.Query.Get("view") == "map" && s.waysAsk(c, p.Where(), q) && inWindow(from, to, 24*time.Hour, now, time.Time{})
		}
		if fixed := p.Query.Get("span"); strings.Contains(fixed, "..") {
			return p.Path == "/query" && is(want, "span") && q.Get("span") == fixed
		}
		return p.Path == "/query" && is(want, "span") && inWindow(from, to, spanOf(p.Param("span", "24h")), now, time.Time{})
	}
	return false
}

// limited reports whether it is known how far a metric of a device is from a limit, or
// is of none of them.
func limited(d *present.Device, metric string) bool {
	known := false
	for _, m := range d.Margins {
		if m.Known && m.Metric == metric {
			return true
		}
		known = known || m.Known
	}
	return !known
}

// shows reports whether a page is about a device.
func (s *server) shows(p *person.Shown, c access.Caller, id string) bool {
	if !c.Sees(id) {
		return false
	}
	where := s.whereShown(c, p)
	if where == "" {
		return true
	}
	among, _, err := s.Fleet.Among(c, where)
	return err == nil && (among == nil || among[id])
}

// spanOf is how long a span of a page is at most.
func spanOf(span string) time.Duration {
	switch span {
	case "today", "yesterday":
		return 25 * time.Hour // a day on which clocks are put back
	case "week", "last-week":
		return 7*24*time.Hour + time.Hour
	case "month", "last-month":
		return 31*24*time.Hour + time.Hour
	}
	d, err := value.ParseDuration(span)
	if err != nil || d.Std() <= 0 || d.Std() > 400*24*time.Hour {
		return 24 * time.Hour
	}
	return d.Std()
}

// inWindow reports whether a span of time is no longer than that of a page, and ends
// now: or, of a device that has fallen silent, where its readings end. A day that is
// told by name may end with it, or be the last.
func inWindow(from, to string, long time.Duration, now, last time.Time) bool {
	a, err := time.Parse(time.RFC3339, from)
	if err != nil {
		return false
	}
	b, err := time.Parse(time.RFC3339, to)
	const some = 2 * time.Minute
	if err != nil || b.Sub(a) > long+some || b.Sub(a) < 0 {
		return false
	}
	if !last.IsZero() && last.Before(a.Add(long)) && b.Sub(last).Abs() < some {
		return true
	}
	if long == 25*time.Hour || long == 7*24*time.Hour+time.Hour || long == 31*24*time.Hour+time.Hour {
		return a.After(now.Add(-2*long)) && b.Before(now.Add(long))
	}
	return b.Sub(now).Abs() < some
}
