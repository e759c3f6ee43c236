package api_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/api"
	"ullage/client"
	"ullage/core/board"
	"ullage/core/layering"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/core/site"
	"ullage/core/waves"
	"ullage/fleet/access"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/devices"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

// Everything foreign has this sign in it, in its id, name, labels, model, rule, site
// and texts, and nothing of one's own has.
const sign = "qqx"

const foreignModel = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",
	"title":"Qqx valve","version":{"model":"1.0.0"},"ullage:name":"qqx-valve","ullage:interval":"1min",
	"properties":{"qqx_flow":{"type":"number","unit":"L/s","readOnly":true,"ullage:role":"telemetry"},
		"qqx_limit":{"type":"number","default":3,"ullage:role":"setting"}},
	"actions":{"qqx_open":{"title":"Qqx open"}}}`

// foreign is a fleet of which somebody sees one device, tank-fennimore-07.
type foreign struct {
	*bench
	alarm, command, job string // ids
	doc                 document
}

type document struct {
	Paths      map[string]map[string]docOperation
	Components struct{ Schemas map[string]docSchema }
}

type docOperation struct {
	OperationID string
	Parameters  []struct {
		Name, In string
		Required bool
		Schema   docSchema
	}
	RequestBody *struct {
		Content map[string]struct{ Schema docSchema }
	}
}

type docSchema struct {
	Ref        string `json:"$ref"`
	Type       any
	Enum       []any
	Examples   []any
	Default    any
	Properties map[string]docSchema
	Items      *docSchema
}

func newForeign(t *testing.T) *foreign {
	f := &foreign{bench: newBench(t)}
	ctx := t.Context()
	src, err := api.Document("x")
	f.Must(err)
	f.Must(json.Unmarshal(src, &f.doc))
	_, _, err = f.Models.Publish(ctx, []byte(foreignModel), nil, "engineer")
	f.Must(err)
	for _, x := range []devices.New{
		{ID: "qqx-hub", Model: "qqx-valve", Labels: map[string]string{"crew": "Qqx crew", "site": "Qqx Orchard"}},
		{ID: tank, Model: "tank-probe", Labels: map[string]string{"crew": "a", "site": "Fennimore"}},
		{ID: "qqx-valve-1", Name: "Qqx valve", Model: "qqx-valve", Labels: map[string]string{"crew": "Qqx crew", "site": "Qqx Orchard", "qqxrow": "Qqx row"}},
		{ID: "qqx-tank-1", Model: "tank-probe", Labels: map[string]string{"crew": "Qqx crew", "site": "Fennimore"}},
	} {
		_, _, err := f.Devices.Create(ctx, x, "engineer")
		f.Must(err)
	}
	_, err = f.Devices.Behind(ctx, tank, "qqx-hub", "engineer")
	f.Must(err)
	for _, name := range []string{"Fennimore", "Qqx Orchard"} {
		_, err := f.Sites.Put(ctx, site.Site{Name: name, Note: strings.ReplaceAll(name, "Fennimore", ""),
			At: map[string][]float64{tank: {30, 40}, "qqx-tank-1": {50, 40}}}, noun.If{}, "engineer")
		f.Must(err)
	}
	for _, src := range []string{
		"rule: qqx_rule\nmodels: [qqx-valve]\nraise: qqx_flow > 3\npriority: high\nmessage: \"{device.id}: Qqx flow {qqx_flow}\"\n",
		"rule: too_warm\nmodels: [tank-probe, qqx-valve]\ndevices: label.crew != \"Qqx crew\" and label.site != \"Qqx Orchard\"\nraise: must_temp > 10\npriority: low\nmessage: \"{device.id} is too warm\"\n",
		"rule: all_warm\nmodels: [tank-probe]\neach: label.site\nraise: mean_of(must_temp) > 10\npriority: low\nmessage: \"mean {mean_of(must_temp)}, not at Qqx Orchard\"\n",
		"rule: qqx_group\nmodels: [qqx-valve]\neach: label.site\nraise: mean_of(qqx_flow) > 3\npriority: low\nmessage: \"Qqx mean {mean_of(qqx_flow)}\"\n",
	} {
		r, err := rule.Parse([]byte(src))
		f.Must(err)
		if r.Name == "too_warm" { // it speaks of tanks alone
			r.Models = []string{"tank-probe"}
		}
		_, err = f.Rig.Alarms.PutRule(ctx, *r, noun.If{}, "engineer")
		f.Must(err)
	}
	for _, src := range []string{
		"board: qqx-board\ntitle: Qqx board\ndevices: label.site == \"Qqx Orchard\"\ninstruments: [{instrument: alarms, place: [0, 0, 3, 3]}]\n",
		"board: hall\nparameters: [site, qqxrow]\ninstruments:\n" +
			"  - {instrument: trace, place: [0, 0, 3, 3], metrics: [must_temp]}\n" +
			"  - {instrument: trace, place: [3, 0, 3, 3], metrics: [qqx_flow]}\n" +
			"  - {instrument: bars, place: [6, 0, 3, 3], metrics: [must_temp], devices: device.id == \"qqx-tank-1\" or must_temp > 3}\n" +
			"  - {instrument: bars, place: [9, 0, 3, 3], metrics: [must_temp], devices: label.site == \"Qqx Orchard\" or label.crew == \"a\"}\n" +
			"  - {instrument: tally, place: [0, 3, 3, 3], count: qqx_flow > 3}\n" +
			"  - {instrument: tally, place: [3, 3, 3, 3], count: label.qqxrow}\n" +
			"  - {instrument: control, place: [6, 3, 3, 3], command: qqx_open}\n" +
			"  - {instrument: plan, place: [9, 3, 3, 3], site: Qqx Orchard}\n" +
			"  - {instrument: plan, place: [0, 6, 3, 3], site: Fennimore, at: {qqx-tank-1: [1, 1], " + tank + ": [2, 2]}}\n" +
			"  - {instrument: roster, place: [3, 6, 3, 3], columns: [health, must_temp, qqx_flow, label.qqxrow]}\n" +
			"  - {instrument: trace, place: [6, 6, 3, 3], metrics: [must_temp], group_by: qqxrow}\n"} {
		b, err := board.Parse([]byte(src))
		f.Must(err)
		_, err = f.Boards.Put(ctx, *b, noun.If{}, "engineer")
		f.Must(err)
	}
	for _, l := range []layering.Layer{
		{Name: "qqx-layer", Target: `label.crew == "Qqx crew"`, Set: map[string]any{"report_every": 20.0}},
		{Name: "both", Target: `label.crew == "Qqx crew" or label.crew == "a"`, Set: map[string]any{"max_temp": 30.5, "qqx_limit": 4.0}, Why: "qqx reasons",
			Author: "qqx-author", Access: `label.crew == "Qqx crew" or label.crew == "a"`},
	} {
		_, err := f.Layers.Put(ctx, l, noun.If{}, "engineer")
		f.Must(err)
	}
	for _, l := range []layering.Layer{
		{Name: "qqx-layer", Target: `label.crew == "Qqx crew"`, Set: map[string]any{"report_every": 21.0}},
		{Name: "both", Target: `label.crew == "Qqx crew" or label.crew == "a"`, Set: map[string]any{"max_temp": 30.6, "qqx_limit": 4.0}},
	} {
		ro, err := f.Fleet.StartRollout(ctx, access.Whole("engineer"), l, waves.Plan{Waves: []waves.Size{{Devices: []string{"qqx-tank-1"}}, {Where: `label.crew == "Qqx crew"`}}}, "")
		f.Must(err)
		_, err = f.Rollouts.Pause(ctx, ro.ID, "qqx", "engineer") // so that nothing moves between two requests
		f.Must(err)
	}
	f.Settle()
	f.Keep("qqx-valve-1", `{"qqx_flow": 7}`)
	f.Keep("qqx-tank-1", `{"must_temp": 31.25}`)
	f.Keep(tank, `{"must_temp": 24.5}`)
	f.Settle()
	f.Pass(time.Second)
	f.Settle()
	for _, a := range f.OpenAlarms() {
		if a.Rule == "qqx_rule" {
			f.alarm = a.ID
		}
	}
	if f.alarm == "" {
		t.Fatal("no foreign alarm was raised")
	}
	c, err := f.Commands.Give(ctx, "qqx-valve-1", "qqx_open", nil, commands.Expiry{}, "engineer")
	f.Must(err)
	f.command = c.ID
	j, err := f.Settings.SetMany(ctx, []string{"qqx-tank-1"}, map[string]any{"max_temp": 29.0}, nil, "engineer")
	f.Must(err)
	f.job = j.ID
	f.Must(f.client.SignOut(context.Background()))
	_, err = f.client.SignIn(ctx, "engineer", "long-enough-1")
	f.Must(err)
	f.Settle()
	return f
}

// let lets somebody in for the device with a role, and returns their token.
func (f *foreign) let(role person.Role) string {
	f.T.Helper()
	name := "a-" + string(role)
	_, err := f.People.Add(f.T.Context(), name, "long-enough-1", role, "engineer")
	f.Must(err)
	_, err = f.People.Put(f.T.Context(), person.Person{Name: name, Grants: person.Grants{{Role: role, Access: `label.crew == "a"`}}}, noun.If{}, "engineer")
	f.Must(err)
	return signIn(f.bench, name)
}

// asked is one request, with what stands in each of its parameters.
type asked struct {
	op           docOperation
	method, path string
	values       map[string]string // of the path and the query
	body         map[string]any
	raw          string
}

func (f *foreign) resolve(s docSchema) docSchema {
	if name, ok := strings.CutPrefix(s.Ref, "#/components/schemas/"); ok {
		return f.doc.Components.Schemas[name]
	}
	return s
}

// plain returns what stands in a parameter of a name where nothing foreign does.
func (f *foreign) plain(name string, s docSchema) any {
	s = f.resolve(s)
	switch name {
	case "id", "device":
		return tank
	case "devices":
		return []any{tank}
	case "where", "source", "condition":
		return "must_temp > 3"
	case "access":
		return `label.crew == "a"`
	case "metric":
		return "must_temp"
	case "model":
		return "tank-probe"
	case "preview", "dry_run":
		return true
	case "at":
		return "2026-03-01T10:00:00Z"
	case "set":
		return map[string]any{"max_temp": 28.0}
	case "password", "old", "new", "secret":
		return "no-such-secret"
	case "cursor":
		return 0
	case "group_by":
		return "site"
	case "role":
		return "viewer"
	case "limit", "after", "before", "from", "to", "since", "expires", "wait", "all":
		return nil
	}
	if len(s.Enum) > 0 {
		return s.Enum[0]
	}
	kind, _ := s.Type.(string)
	switch {
	case s.Default != nil:
		return s.Default
	case kind == "boolean":
		return false
	case kind == "string" && len(s.Examples) > 0:
		return s.Examples[0]
	case kind == "string":
		return "x"
	case kind == "integer" || kind == "number":
		return 1
	case kind == "array":
		return []any{}
	case kind == "object" && len(s.Properties) > 0:
		out := map[string]any{}
		for k, p := range s.Properties {
			if v := f.plain(k, p); v != nil {
				out[k] = v
			}
		}
		return out
	}
	return map[string]any{}
}

// words returns what can stand for something foreign in a parameter: what exists, and
// beside it what does not.
func (f *foreign) words() [][2]string {
	ids := [][2]string{{f.alarm, f.alarm[:25] + "Z"}, {f.command, f.command[:25] + "Z"}, {f.job, f.job[:25] + "Z"}}
	for _, w := range []string{"qqx-valve-1", `device.id == "qqx-valve-1"`, `device.hub == "qqx-hub"`, `label.site == "Qqx Orchard"`,
		`not (label.qqxrow == "Qqx row")`, `qqx_flow > 3`, `raised(qqx_rule)`, "qqx-valve", "qqx_rule", "Qqx Orchard", "site=Qqx Orchard",
		"qqx_flow", "qqxrow", "qqx-valve@1.0.0"} {
		ids = append(ids, [2]string{w, strings.NewReplacer("qqx", "qqy", "Qqx", "Qqy").Replace(w)})
	}
	return ids
}

var (
	passing = regexp.MustCompile(`\d{4}-\d\d-\d\dT[0-9:.]+(Z|[+-]\d\d:\d\d)|"(number|seq|after|next)":\d+|[0-9A-HJKMNP-TV-Z]{26}|"id":"[0-9a-f]{16}"|id: \d+`)
	streams = map[string]bool{"live": true, "device-events": true}
	// These end the sign-in, or look at passwords, of which only so many may be wrong;
	// they take nothing about devices.
	left = map[string]bool{"sign-out": true, "change-password": true, "begin-second-factor": true,
		"confirm-second-factor": true, "drop-second-factor": true}
)

// send makes a request and returns its status, headers and body without what passes.
func (f *foreign) send(a asked, token string) (status int, text string) {
	f.T.Helper()
	path, q := a.path, url.Values{}
	for _, p := range a.op.Parameters {
		v, ok := a.values[p.Name]
		switch {
		case !ok || p.In == "header":
		case p.In == "path":
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(v))
		default:
			q.Set(p.Name, v)
		}
	}
	var in io.Reader
	if a.body != nil {
		b, err := json.Marshal(a.body)
		f.Must(err)
		in = bytes.NewReader(b)
	} else if a.raw != "" {
		in = strings.NewReader(a.raw)
	}
	ctx, cancel := context.WithTimeout(f.T.Context(), time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, strings.ToUpper(a.method), f.server.URL+path+"?"+q.Encode(), in)
	f.Must(err)
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		f.T.Fatalf("%s: %v", a.op.OperationID, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusOK && a.op.OperationID == "device-events" {
		time.AfterFunc(60*time.Millisecond, cancel) // it says nothing as long as nothing happens
	}
	var b []byte
	for lines := bufio.NewReader(resp.Body); ; {
		line, err := lines.ReadBytes('\n')
		b = append(b, line...)
		// A stream that begins with the whole goes on without end from there.
		if err != nil || resp.StatusCode == http.StatusOK && a.op.OperationID == "live" && bytes.Contains(b, []byte("event: pulse")) && len(line) == 1 {
			break
		}
	}
	head := ""
	for _, k := range slices.Sorted(maps.Keys(resp.Header)) {
		if k != "Date" && k != "Content-Length" && k != "Etag" {
			head += k + ": " + strings.Join(resp.Header[k], " ") + "\n"
		}
	}
	return resp.StatusCode, passing.ReplaceAllString(head+string(b), "·")
}

// requests yields a request of every operation, and for each of its parameters those
// in which that one says something else.
func (f *foreign) requests(t *testing.T, do func(a asked, name string, with func(word string) asked)) {
	n := 0
	for _, path := range slices.Sorted(maps.Keys(f.doc.Paths)) {
		for _, method := range slices.Sorted(maps.Keys(f.doc.Paths[path])) {
			op := f.doc.Paths[path][method]
			if need, _ := api.Needs(op.OperationID); need == "" || left[op.OperationID] {
				continue
			}
			n++
			a := asked{op: op, method: method, path: path, values: map[string]string{}}
			for _, p := range op.Parameters {
				if v := f.plain(p.Name, p.Schema); (p.Required || p.In == "path" || p.Name == "dry_run") && v != nil {
					a.values[p.Name] = fmt.Sprint(v)
				}
			}
			if op.RequestBody != nil {
				if c, ok := op.RequestBody.Content["application/json"]; ok {
					if m, ok := f.plain("", c.Schema).(map[string]any); ok {
						a.body = m
					}
				} else {
					a.raw = "device,name,time,value,unit\n" + tank + ",must_temp,2026-02-28T10:00:00Z,21,Cel\n"
				}
			}
			do(a, "", nil)
			for _, p := range op.Parameters {
				if kind, _ := f.resolve(p.Schema).Type.(string); p.In == "header" || kind == "boolean" || kind == "integer" {
					continue
				}
				do(a, p.Name, func(word string) asked {
					b := a
					b.values = maps.Clone(a.values)
					b.values[p.Name] = word
					return b
				})
			}
			for k, v := range a.body {
				_, list := v.([]any)
				if _, text := v.(string); !text && !list || op.OperationID == "change-device" && k == "name" || op.OperationID == "send-as" && k == "body" {
					continue // what a device of one's own is called, and sends, is one's own to say
				}
				do(a, k, func(word string) asked {
					b := a
					b.body = maps.Clone(a.body)
					if b.body[k] = word; list {
						b.body[k] = []any{word}
					}
					return b
				})
			}
			if a.raw != "" {
				do(a, "file", func(word string) asked {
					b := a
					b.raw = "device,name,time,value,unit\n" + strings.ReplaceAll(word, `"`, "") + ",must_temp,2026-02-28T10:00:00Z,21,Cel\n"
					return b
				})
			}
		}
	}
	if n < 60 {
		t.Fatalf("only %d operations were tried; the document was not read", n)
	}
}

// TestNothingForeignComesBack calls every operation of the API's document as somebody
// who sees one device: with nothing foreign in it, nothing foreign comes back, and with
// something foreign in any parameter the answer is that to something which does not
// exist. What is new in the document is tried by itself.
func TestNothingForeignComesBack(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it asks every question of the API, one after the other: the race detector finds nothing new in it")
	}
	f := newForeign(t)
	// What is shared between goroutines is the same for both.
	for _, role := range []person.Role{person.Engineer, person.Viewer}[:rig.Times(2, 1)] {
		token := f.let(role)
		tried, plain := 0, 0
		f.requests(t, func(a asked, name string, with func(string) asked) {
			if with == nil {
				status, text := f.send(a, token)
				if status == http.StatusUnauthorized && !strings.Contains(text, "password is wrong") {
					t.Fatalf("%s: nobody is signed in", a.op.OperationID)
				}
				if strings.Contains(strings.ToLower(text), sign) {
					t.Errorf("%s as %s tells of what is foreign: %s", a.op.OperationID, role, around(text, sign))
				}
				if plain++; status >= 500 {
					t.Errorf("%s as %s: %d %s", a.op.OperationID, role, status, text)
				}
				return
			}
			for _, w := range f.words() {
				if streams[a.op.OperationID] && !strings.HasPrefix(w[0], "qqx-valve-1") && !strings.HasPrefix(w[0], "label") {
					continue // each costs a moment
				}
				status, text := f.send(with(w[0]), token)
				other, none := f.send(with(w[1]), token)
				tried++
				none = strings.NewReplacer("qqy", "qqx", "Qqy", "Qqx", w[1][2:], w[0][2:]).Replace(none)
				if status != other || text != none {
					t.Errorf("%s as %s with %s = %q: %d %s\nand with what does not exist: %d %s", a.op.OperationID, role, name, w[0],
						status, text, other, none)
				}
			}
		})
		// What can stand at a cursor: names, labels and their values, rules.
		for _, src := range []string{"", "label.", "label.q", `label.site == `, `label.site == "`, `label.crew in ("a", `, "q", "raised(", "device.model == ", "attr.", "set.", `label.qqxro`, `devce.id == "x"`} {
			for _, purpose := range []string{"filter", "rule", "access", "target"} {
				b, err := json.Marshal(map[string]any{"source": src, "cursor": len(src), "purpose": purpose})
				f.Must(err)
				if _, text := f.call("POST", "/api/v1/expressions/check", string(b), "Authorization", "Bearer "+token); strings.Contains(strings.ReplaceAll(strings.ToLower(text), strings.ToLower(src), ""), sign) {
					t.Errorf("completing %q for a %s tells of what is foreign: %s", src, purpose, around(text, sign))
				}
			}
		}
		t.Logf("%s: %d operations, %d pairs of requests", role, plain, tried)
	}
}

func around(text, what string) string {
	i := strings.Index(strings.ToLower(text), what)
	return text[max(0, i-200):min(len(text), i+200)]
}

// TestSeenIsSeen makes sure that the test above does not pass because nothing comes
// back at all.
func TestSeenIsSeen(t *testing.T) {
	f := newForeign(t)
	token := f.let(person.Viewer)
	for path, want := range map[string]string{
		"/api/v1/devices":         tank,
		"/api/v1/devices/" + tank: `"health"`,
		"/api/v1/devices/" + tank + "/readings?metric=must_temp": "24.5",
		"/api/v1/query?metric=must_temp":                         tank,
		"/api/v1/export?metric=must_temp":                        tank,
		"/api/v1/alarms":                                         "too_warm",
		"/api/v1/alarms?rule=all_warm":                           "its figures are of more devices",
		"/api/v1/alarms/counts":                                  "too_warm",
		"/api/v1/rules":                                          `label.crew != \"…\" and label.site != \"…\"`,
		"/api/v1/models":                                         "tank-probe",
		"/api/v1/sites":                                          `"at":{"` + tank + `":[30,40]}`,
		"/api/v1/sites/Fennimore":                                `"devices":1`,
		"/api/v1/journal":                                        tank,
		"/api/v1/journal/after":                                  tank,
		"/api/v1/traffic":                                        tank,
		"/api/v1/as-of?at=" + url.QueryEscape(f.Clock.Now().Format(time.RFC3339Nano)): tank,
		"/api/v1/expressions/matching?where=must_temp%20%3E%203":                      tank,
		"/api/v1/boards/hall":                   `"at":{"` + tank,
		"/api/v1/causes":                        "too_warm",
		"/api/v1/made-board?kind=fleet":         "tank-probe",
		"/api/v1/service":                       `"devices":1,"connected":1`,
		"/api/v1/access/explain?device=" + tank: "a-viewer is viewer for " + tank,
	} {
		resp, body := f.call("GET", path, "", "Authorization", "Bearer "+token)
		if resp.StatusCode != 200 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %.400s\nwant %q in it", path, resp.StatusCode, body, want)
		}
	}
	// An owner sees all of it.
	if _, body := f.call("GET", "/api/v1/devices", "", "Authorization", "Bearer "+signIn(f.bench, "engineer")); strings.Count(body, `"id":"qqx-`) != 3 {
		t.Errorf("the owner sees %s", body)
	}
}

// TestStreamsFollowAccess watches the live stream while labels and grants change.
func TestStreamsFollowAccess(t *testing.T) {
	t.Parallel()
	f := newForeign(t)
	f.token = f.let(person.Viewer)
	m := &mirror{}
	f.follow(t, m, "")
	has := func(want ...string) func() bool {
		return func() bool { return slices.Equal(m.names(), want) }
	}
	step := func(what string, f func() bool) {
		t.Helper()
		begun := time.Now()
		late := time.After(30 * time.Second)
		for !f() {
			select {
			case <-m.steps:
			case <-late:
				t.Fatalf("%s: the page has %v", what, m.names())
			}
		}
		if took := time.Since(begun); took > time.Second {
			t.Errorf("%s took %s, want it within a second", what, took)
		}
	}
	step("at the beginning", has(tank))
	ctx := t.Context()
	_, err := f.Devices.Label(ctx, "qqx-tank-1", map[string]string{"crew": "a"}, "engineer")
	f.Must(err)
	step("another device got the label", has("qqx-tank-1", tank))
	_, err = f.Devices.Label(ctx, "qqx-tank-1", map[string]string{"crew": "b"}, "engineer")
	f.Must(err)
	step("it lost the label", has(tank))
	f.Keep("qqx-tank-1", `{"must_temp": 17.125}`)
	f.Keep(tank, `{"must_temp": 25.5}`)
	put := func(grants ...person.Grant) {
		t.Helper()
		_, err := f.People.Put(ctx, person.Person{Name: "a-viewer", Grants: grants}, noun.If{}, "engineer")
		f.Must(err)
	}
	put(person.Grant{Role: person.Viewer, Access: `label.crew == "b"`})
	step("another grant", has("qqx-tank-1"))
	_, err = f.People.Teams.Put(ctx, person.Team{Name: "cellars", People: []string{"a-viewer"}, Grants: person.Grants{{Role: person.Viewer, Access: `label.crew == "a"`}}}, noun.If{}, "engineer")
	f.Must(err)
	step("a team's grant beside it", has("qqx-tank-1", tank))
	f.Must(f.People.Teams.Remove(ctx, "cellars", noun.If{}, "engineer"))
	step("without the team", has("qqx-tank-1"))
	// A hub that they see, and then do not, is named at the device behind it, and then not.
	mine, hub := person.Grant{Role: person.Viewer, Access: `label.crew == "a"`}, person.Grant{Role: person.Viewer, Access: `device.id == "qqx-hub"`}
	behind := func(want any) func() bool {
		return func() bool {
			m.mu.Lock()
			defer m.mu.Unlock()
			d, _ := m.devices[tank].(map[string]any)
			return d != nil && d["hub"] == want
		}
	}
	put(mine)
	step("a device behind a hub", behind(nil))
	put(mine, hub)
	step("its hub", behind("qqx-hub"))
	put(mine)
	step("not its hub any more", behind(nil))
	// Whoever sees all of them now, or not any more, is told so and begins anew: behind the
	// cursor of a stream of some devices comes the whole.
	all := []string{"qqx-hub", "qqx-tank-1", "qqx-valve-1", tank}
	for range 2 {
		for _, grant := range []person.Grant{{Role: person.Viewer}, mine} {
			heard := m.heard("happened")
			put(grant)
			select {
			case <-m.done:
			case <-time.After(30 * time.Second):
				t.Fatalf("with %v the stream goes on, and the page has %v", grant, m.names())
			}
			if m.heard("happened") == heard {
				t.Error("the stream ended and did not say that the access changed")
			}
			f.follow(t, m, "after=2")
			if grant.Access == "" {
				step("all of them", has(all...))
			} else {
				step("some of them", has(tank))
			}
		}
	}
	put()
	select {
	case <-m.done:
	case <-time.After(30 * time.Second):
		t.Error("the stream of somebody without grants goes on")
	}
	f.token = signIn(f.bench, "engineer") // for what ends the test
}

// A key does what its role and access allow, shows its secret once, and ends what is
// open with it when it is removed.
func TestKeys(t *testing.T) {
	f := newForeign(t)
	ctx := t.Context()
	owner := client.New(f.server.URL, f.token)
	_, err := owner.SignIn(ctx, "engineer", "long-enough-1")
	f.Must(err)
	soon := f.Clock.Now().Add(time.Hour)
	made, err := owner.MakeKey(ctx, client.Key{Name: "press-hall", Grant: person.Grant{Role: person.Operator, Access: `label.crew == "a"`}, ExpiresAt: &soon})
	f.Must(err)
	program := client.New(f.server.URL, made.Secret)
	ds, err := program.Devices(ctx)
	if err != nil || len(ds) != 1 || ds[0].ID != tank {
		t.Errorf("the key sees %v, %v", ds, err)
	}
	if _, err := program.ChangeSettings(ctx, tank, client.SettingsChange{Set: map[string]any{"max_temp": 27.0}}); err != nil {
		t.Error(err)
	}
	told, err := owner.Journal(ctx, client.JournalFilter{Person: "key press-hall"})
	if err != nil || len(told.Items) == 0 || told.Items[0].From != "127.0.0.1" {
		t.Errorf("the journal tells of the key %+v, %v", told.Items, err)
	}
	if _, err := program.People().List(ctx, client.ListOptions{}); err == nil || !strings.Contains(err.Error(), "needs the role owner") {
		t.Errorf("the key lists people: %v", err)
	}
	k, _, err := owner.Keys().Get(ctx, "press-hall")
	if err != nil || k.UsedAt == nil || k.UsedFrom != "127.0.0.1" || k.MadeBy != "engineer" {
		t.Errorf("the key is %+v, %v", k, err)
	}
	if b, _ := json.Marshal(k); strings.Contains(string(b), made.Secret) || strings.Contains(f.log.String(), made.Secret) {
		t.Error("the secret is shown again")
	}
	if _, err := owner.MakeKey(ctx, client.Key{Name: "press-hall", Grant: person.Grant{Role: person.Viewer}}); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("a second key of a name: %v", err)
	}
	if _, err := owner.MakeKey(ctx, client.Key{Name: "all", Grant: person.Grant{Role: person.Owner}}); err == nil || !strings.Contains(err.Error(), "cannot be an owner") {
		t.Errorf("a key that is an owner: %v", err)
	}
	f.token = made.Secret
	m := &mirror{}
	f.follow(t, m, "")
	<-m.steps
	f.Restart(false)
	f.Must(f.People.RemoveKey(ctx, "press-hall", noun.If{}, "engineer"))
	if _, err := f.People.Who(made.Secret, ""); err == nil {
		t.Error("a removed key is known")
	}
	m.stop()
}

// Who has some devices changes no label by which they would lose or gain one, and
// makes nothing that concerns others.
func TestLimitedEngineers(t *testing.T) {
	f := newForeign(t)
	token := f.let(person.Engineer)
	for _, c := range []struct {
		method, path, body string
		want               int
		says               string
	}{
		{"POST", "/api/v1/devices/" + tank + "/labels", `{"labels":{"row":"3"}}`, 200, ""},
		{"POST", "/api/v1/devices/" + tank + "/labels", `{"labels":{"crew":"b"}}`, 403, "would not be within"},
		{"POST", "/api/v1/devices/" + tank + "/labels", `{"labels":{"crew":""}}`, 403, "would not be within"},
		{"POST", "/api/v1/devices/qqx-tank-1/labels", `{"labels":{"crew":"a"}}`, 404, "there is no device"},
		{"POST", "/api/v1/devices", `{"id":"tank-fennimore-08","model":"tank-probe"}`, 403, "would not be within"},
		{"POST", "/api/v1/devices", `{"id":"tank-fennimore-08","model":"tank-probe","labels":{"crew":"a"},"hub":"qqx-valve-1"}`, 422, "there is no device"},
		{"POST", "/api/v1/devices", `{"id":"qqx-tank-1","model":"tank-probe","labels":{"crew":"a"}}`, 409, "is not free"},
		{"POST", "/api/v1/devices", `{"id":"tank-fennimore-08","model":"tank-probe","labels":{"crew":"a"}}`, 200, `"id":"tank-fennimore-08"`},
		{"PUT", "/api/v1/sites/Kilnside", `{"site":"Kilnside"}`, 403, "for some of them"},
		{"DELETE", "/api/v1/rules/too_warm", ``, 403, "whose names begin with a_engineer_"},
		{"PUT", "/api/v1/rules/qqx_rule", `{"rule":"qqx_rule","models":["tank-probe"],"raise":"must_temp > 10","priority":"low","message":"x"}`, 403, "whose names begin with a_engineer_"},
		{"PUT", "/api/v1/rules/a_engineer_x", `{"rule":"a_engineer_x","models":["qqx-valve"],"raise":"qqx_flow > 10","priority":"low","message":"x"}`, 404, "there is no model"},
		{"PUT", "/api/v1/rules/a_engineer_x", `{"rule":"a_engineer_x","models":["tank-probe"],"raise":"raised(qqx_rule)","priority":"low","message":"x"}`, 422, "there is no rule qqx_rule"},
		{"PUT", "/api/v1/rules/a_engineer_hot", `{"rule":"a_engineer_hot","models":["tank-probe"],"raise":"must_temp > 20","priority":"low","message":"{device.id} is hot","access":"true"}`, 201, `"access":"label.crew == \"a\""`},
		{"GET", "/api/v1/store", ``, 403, "for some of them"},
		{"PATCH", "/api/v1/devices/" + tank, `{"hub":"qqx-valve-1"}`, 422, "there is no device"},
		{"POST", "/api/v1/settings", `{"where":"must_temp > 3","set":{"max_temp":27.5}}`, 200, `"devices":1`},
		{"POST", "/api/v1/settings", `{"devices":["qqx-tank-1"],"set":{"max_temp":27.5}}`, 404, "there is no device"},
		{"DELETE", "/api/v1/devices/" + tank + "/readings?dry_run=true&all=true", ``, 200, `"readings":1`},
	} {
		resp, body := f.call(c.method, c.path, c.body, "Authorization", "Bearer "+token)
		if resp.StatusCode != c.want || !strings.Contains(body, c.says) {
			t.Errorf("%s %s %s: %d %s\nwant %d with %q", c.method, c.path, c.body, resp.StatusCode, body, c.want, c.says)
		}
	}
	// Their rule is about what they reach, also with a group, and follows when that
	// changes; another's device raises nothing by it.
	f.Keep("qqx-tank-1", `{"must_temp": 31.5}`)
	f.Keep(tank, `{"must_temp": 24.75}`)
	f.Settle()
	hot := func() (out []string) {
		for _, a := range f.OpenAlarms() {
			if a.Rule == "a_engineer_hot" && a.State.Holds() {
				out = append(out, a.Device)
			}
		}
		slices.Sort(out)
		return out
	}
	if got := hot(); !slices.Equal(got, []string{tank}) {
		t.Errorf("their rule has raised alarms of %v, want %s", got, tank)
	}
	follow := func(access, want string, devices ...string) {
		t.Helper()
		_, err := f.People.Put(t.Context(), person.Person{Name: "a-engineer", Grants: person.Grants{{Role: person.Engineer, Access: access}}}, noun.If{}, "engineer")
		f.Must(err)
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			r, err := f.Rig.Alarms.Rule("a_engineer_hot")
			f.Must(err)
			if f.Settle(); r.Access == want && slices.Equal(hot(), devices) {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("with %s the rule is for %s, and raised for %v; want %s for %v", access, r.Access, hot(), want, devices)
			}
			f.Keep("qqx-tank-1", `{"must_temp": 31.5}`)
			f.Keep(tank, `{"must_temp": 24.75}`)
		}
	}
	follow(`device.model == "tank-probe"`, `device.model == "tank-probe"`, "qqx-tank-1", tank)
	follow(`device.id == "qqx-tank-1"`, `device.id == "qqx-tank-1"`, "qqx-tank-1")
	follow("", "", "qqx-tank-1", tank)
	follow(`label.crew == "a"`, "", "qqx-tank-1", tank) // it was everybody's by then
	list, err := f.Rig.Alarms.List(t.Context(), alarms.Filter{Rule: "all_warm"})
	f.Must(err)
	if len(list) == 0 {
		t.Fatal("there is no alarm of the group")
	}
	if resp, body := f.call("POST", "/api/v1/alarms/"+list[0].ID+"/acknowledge", "", "Authorization", "Bearer "+token); resp.StatusCode != 403 {
		t.Errorf("a group of which they have a part is acknowledged: %d %s", resp.StatusCode, body)
	}
}
