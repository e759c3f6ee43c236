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
	"ullage/core/board"
	"ullage/core/layering"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/core/site"
	"ullage/core/waves"
	"ullage/fleet/access"
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
