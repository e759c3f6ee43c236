package client

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Client speaks with one Ullage. Its methods are safe for concurrent use.
type Client struct {
	base  string
	token string
	http  *http.Client
	// familiar tells the place from which somebody has signed in before.
	familiar string
	own      bool // numbers are asked for in the units that the person prefers
}

// Familiar has the next sign-in show what an earlier one from the same place gave.
func (c *Client) Familiar(token string) { c.familiar = token }

// InOwnUnits returns a client that is given numbers in the units that whoever signed
// in prefers. What it sends stays in those of the models.
func (c *Client) InOwnUnits() *Client {
	out := *c
	out.own = true
	return &out
}

// inUnits are the paths of answers whose numbers can be in other units.
var inUnits = regexp.MustCompile(`^/(devices(/[^/?]+(/(history|readings|settings|different|peers))?)?|query|statistics|forecast|alarms|models/[^/?]+)(\?|$)`)

// units adds to the path of a question in which units it is to be answered.
func (c *Client) units(method, path string) string {
	if !c.own || method != http.MethodGet || !inUnits.MatchString(path) {
		return path
	}
	if strings.Contains(path, "?") {
		return path + "&units=own"
	}
	return path + "?units=own"
}

// New returns a client of the service at an address such as
// http://127.0.0.1:8460. The token may be empty before signing in.
func New(base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{Timeout: 2 * time.Minute}}
}

// Problem is a refusal by the service (RFC 9457).
type Problem struct {
	Status   int       `json:"status"`
	Code     string    `json:"code"`
	About    string    `json:"about"` // the noun that it is about
	Detail   string    `json:"detail"`
	Findings []Finding `json:"findings"`
}

// Error returns the detail, and every finding that it does not tell already.
func (p *Problem) Error() string {
	var b strings.Builder
	b.WriteString(p.Detail)
	for _, f := range p.Findings {
		if !strings.Contains(p.Detail, f.Sentence) {
			fmt.Fprintf(&b, "\n  %s: %s", f.Pointer, f.Sentence)
		}
	}
	return b.String()
}

// Unreachable is the error of a service that does not answer.
type Unreachable struct {
	Base  string
	Cause error
}

// Error says what could not be reached.
func (u *Unreachable) Error() string { return fmt.Sprintf("no Ullage answers at %s", u.Base) }

// Unwrap returns the network's error.
func (u *Unreachable) Unwrap() error { return u.Cause }

// CheckAddress says what is wrong with the address of a service. Names and passwords have no
// place in it, and are not told again.
func CheckAddress(base string) error {
	const form = "it looks like http://127.0.0.1:8460 or https://cellars.example.org:8462"
	u, err := url.Parse(base)
	switch {
	case err == nil && u.User != nil, err != nil && strings.Contains(base, "@"):
		return errors.New("the address of a service holds a name or a password; leave them out: " + form)
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.RawQuery != "" || u.Fragment != "":
		return fmt.Errorf("%q is no address of a service; %s", base, form)
	}
	return nil
}

// request is one call of the API.
type request struct {
	method, path string
	in           any // sent as JSON, but for bytes and readers; nil for nothing
	header       http.Header
}

func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	_, err := c.call(ctx, request{method: method, path: path, in: in}, out)
	return err
}

// call makes a request, reads the answer into out, and returns its headers.
func (c *Client) call(ctx context.Context, r request, out any) (http.Header, error) {
	in := r.in
	var body io.Reader
	contentType := "application/json"
	switch in := in.(type) {
	case nil:
	case []byte:
		body = bytes.NewReader(in)
	case io.Reader:
		body, contentType = in, "application/octet-stream"
	default:
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	if err := CheckAddress(c.base); err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, r.method, c.base+"/api/v1"+c.units(r.method, r.path), body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", contentType)
	}
	for k, v := range r.header {
		req.Header[k] = v
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	client := c.http
	stream, streams := out.(io.Writer)
	if _, file := in.(io.Reader); streams || file { // takes as long as it takes
		client = &http.Client{Transport: c.http.Transport}
	}
	resp, err := client.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if u := untrusted(c.base, err); u != nil {
			return nil, u
		}
		return nil, &Unreachable{c.base, err}
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		b, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		p := &Problem{}
		if json.Unmarshal(b, p) != nil || p.Detail == "" {
			p.Detail = fmt.Sprintf("%s answered %s, which Ullage does not; is another program listening there?", c.base,
				resp.Status)
		}
		p.Status = resp.StatusCode
		return resp.Header, p
	}
	if out == nil {
		return resp.Header, nil
	}
	if streams {
		if _, err := io.Copy(stream, resp.Body); err != nil {
			return nil, fmt.Errorf("the stream broke off: %w", err)
		}
		if said := resp.Trailer.Get("Ullage-Problem"); said != "" {
			return nil, fmt.Errorf("the stream broke off: %s", said)
		}
		return resp.Header, nil
	}
	if b, ok := out.(*text); ok {
		*b, err = io.ReadAll(resp.Body)
		return nil, err
	}
	if resp.StatusCode == http.StatusNoContent {
		return resp.Header, nil
	}
	if err := json.NewDecoder(&answer{resp.Body, c.base}).Decode(out); err != nil {
		if u := (*Unreachable)(nil); ctx.Err() != nil || errors.As(err, &u) {
			return nil, cmp.Or(ctx.Err(), err)
		}
		return nil, fmt.Errorf("%s did not answer as an Ullage does; is another program listening there?", c.base)
	}
	return resp.Header, nil
}

// answer is a body of an answer; what keeps it from coming is Unreachable, so
// that it is told from a body that is not JSON.
type answer struct {
	io.Reader
	base string
}

func (a *answer) Read(b []byte) (int, error) {
	n, err := a.Reader.Read(b)
	if err != nil && err != io.EOF {
		err = &Unreachable{a.base, err}
	}
	return n, err
}

// raw returns an answer that is no JSON.
func (c *Client) raw(ctx context.Context, path string) ([]byte, error) {
	var b text
	err := c.do(ctx, http.MethodGet, path, nil, &b)
	return b, err
}

// text is an answer as it came.
type text []byte

func get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	err := c.do(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

func send[T any](ctx context.Context, c *Client, method, path string, in any) (T, error) {
	var out T
	err := c.do(ctx, method, path, in, &out)
	return out, err
}

// Base is the address of the service.
func (c *Client) Base() string { return c.base }

// SignIn returns a token for the command line; the client uses it from then on.
func (c *Client) SignIn(ctx context.Context, person, password string) (SignedIn, error) {
	return c.SignInWith(ctx, person, password, "")
}

// SignInWith is SignIn with a code of the second factor.
func (c *Client) SignInWith(ctx context.Context, person, password, code string) (SignedIn, error) {
	var s SignedIn
	r := request{method: http.MethodPost, path: "/sign-in", in: SignIn{person, password, code, true}}
	if c.familiar != "" {
		r.header = http.Header{"Cookie": {(&http.Cookie{Name: "ullage_familiar", Value: c.familiar}).String()}}
	}
	_, err := c.call(ctx, r, &s)
	if err == nil {
		c.token, c.familiar = s.Token, s.Familiar
	}
	return s, err
}

// NeedsCode reports whether err says that a code of a second factor is needed, or was
// wrong.
func NeedsCode(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusUnauthorized && p.About == "code"
}

// SignOut ends the session of the client's token.
func (c *Client) SignOut(ctx context.Context) error {
	return c.do(ctx, http.MethodPost, "/sign-out", nil, nil)
}

// Service returns what the service says about itself.
func (c *Client) Service(ctx context.Context) (Service, error) {
	return get[Service](ctx, c, "/service")
}

// Devices lists every device now.
func (c *Client) Devices(ctx context.Context) ([]Device, error) {
	return c.DevicesLike(ctx, DeviceFilter{})
}

// DeviceFilter narrows a list of devices.
type DeviceFilter struct {
	Where, Health, Model string
	Labels               map[string]string
	Brief                bool   // without attributes, margins, latest readings and alarms
	Order                string // a field, with - before it the other way round; by id if empty
	Limit                int    // 0 for all
}

// DevicesWhere lists the devices for which a condition is true now; every
// device where it is "".
func (c *Client) DevicesWhere(ctx context.Context, where string) ([]Device, error) {
	return c.DevicesLike(ctx, DeviceFilter{Where: where})
}

// DevicesLike lists the devices that pass a filter, by id.
func (c *Client) DevicesLike(ctx context.Context, f DeviceFilter) ([]Device, error) {
	q := url.Values{}
	filter(q, f.Where)
	for name, v := range map[string]string{"health": f.Health, "model": f.Model, "order": f.Order} {
		if v != "" {
			q.Set(name, v)
		}
	}
	var labels []string
	for k, v := range f.Labels {
		labels = append(labels, k+"="+v)
	}
	if len(labels) > 0 {
		q.Set("label", strings.Join(labels, ","))
	}
	if f.Brief {
		q.Set("brief", "true")
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return get[[]Device](ctx, c, "/devices?"+q.Encode())
}

// ChangeManySettings sets settings on many devices and takes them off.
func (c *Client) ChangeManySettings(ctx context.Context, ch SettingsOfMany) (SettingsJob, error) {
	return send[SettingsJob](ctx, c, http.MethodPost, "/settings", ch)
}

// SettingsJob tells how far a change of many devices is.
func (c *Client) SettingsJob(ctx context.Context, id string) (SettingsJob, error) {
	return get[SettingsJob](ctx, c, "/settings/"+url.PathEscape(id))
}

func filter(q url.Values, where string) {
	if where != "" {
		q.Set("where", where)
	}
}

// Device returns one device now.
func (c *Client) Device(ctx context.Context, id string) (Device, error) {
	return get[Device](ctx, c, device(id))
}

func device(id string) string { return "/devices/" + url.PathEscape(id) }

// CreateDevice onboards a device; its token is in the answer and nowhere else.
func (c *Client) CreateDevice(ctx context.Context, d NewDevice) (Onboarded, error) {
	return send[Onboarded](ctx, c, http.MethodPost, "/devices", d)
}

// NewToken gives a device a new token and revokes its old credentials unless keep.
func (c *Client) NewToken(ctx context.Context, id string, keep bool) (Onboarded, error) {
	return c.Renew(ctx, id, NewCredential{}, keep)
}

// Renew gives a device another credential and revokes its old ones unless keep.
func (c *Client) Renew(ctx context.Context, id string, n NewCredential, keep bool) (Onboarded, error) {
	return send[Onboarded](ctx, c, http.MethodPost, device(id)+"/credentials", struct {
		NewCredential
		Keep bool `json:"keep,omitempty"`
	}{n, keep})
}

// Replace puts other hardware behind the id of a device, and returns its credential.
func (c *Client) Replace(ctx context.Context, id, serial string, n NewCredential) (Onboarded, error) {
	return send[Onboarded](ctx, c, http.MethodPost, device(id)+"/replace", struct {
		NewCredential
		Serial string `json:"serial,omitempty"`
	}{n, serial})
}

// Credentials returns those of a device, the newest first.
func (c *Client) Credentials(ctx context.Context, id string) ([]Credential, error) {
	return get[[]Credential](ctx, c, device(id)+"/credentials")
}

// ReadList looks at a list of devices, in CSV or JSON Lines; nothing is made of it.
func (c *Client) ReadList(ctx context.Context, list io.Reader) (BatchPlan, error) {
	var out BatchPlan
	return out, c.do(ctx, http.MethodPost, "/devices/list", list, &out)
}

// CreateDevices onboards some devices, all or none. It returns their bundles: a zip file with
// one for each device and a manifest.
func (c *Client) CreateDevices(ctx context.Context, ds []NewDevice) ([]byte, error) {
	var b text
	_, err := c.call(ctx, request{method: http.MethodPost, path: "/devices/batch", in: Batch{ds}, header: http.Header{"Accept": {"application/zip"}}}, &b)
	return b, err
}

// RenewDevices gives some devices another credential each.
func (c *Client) RenewDevices(ctx context.Context, r RenewMany) (BatchMade, error) {
	return send[BatchMade](ctx, c, http.MethodPost, "/device-credentials", r)
}

// Contact tells how far a device is on its way in, and why it is not in or not well.
func (c *Client) Contact(ctx context.Context, id string) (Contact, error) {
	return get[Contact](ctx, c, device(id)+"/contact")
}

// Revoke ends a credential of a device.
func (c *Client) Revoke(ctx context.Context, id, credential string) error {
	return c.do(ctx, http.MethodDelete, device(id)+"/credentials/"+url.PathEscape(credential), nil, nil)
}

// Label sets labels; an empty value removes one.
func (c *Client) Label(ctx context.Context, id string, labels map[string]string) (Device, error) {
	return send[Device](ctx, c, http.MethodPost, device(id)+"/labels", map[string]any{"labels": labels})
}

// SetStatus suspends ("suspended"), lets in again ("active") or retires ("retired").
func (c *Client) SetStatus(ctx context.Context, id, status string) (Device, error) {
	return send[Device](ctx, c, http.MethodPost, device(id)+"/status", map[string]string{"status": status})
}

// Settings returns a device's settings.
func (c *Client) Settings(ctx context.Context, id string) (Settings, error) {
	return get[Settings](ctx, c, device(id)+"/settings")
}

// ChangeSettings sets settings on a device and takes them off.
func (c *Client) ChangeSettings(ctx context.Context, id string, ch SettingsChange) (Settings, error) {
	return send[Settings](ctx, c, http.MethodPost, device(id)+"/settings", ch)
}

// Span says which part of a history is asked for. Zero times leave the
// service's own choice, zero Step and Points too.
type Span struct {
	From, To time.Time
	Step     time.Duration
	Steps    int
}

func (s Span) query(metric string) string {
	q := url.Values{"metric": {metric}}
	if !s.From.IsZero() {
		q.Set("from", s.From.Format(time.RFC3339Nano))
	}
	if !s.To.IsZero() {
		q.Set("to", s.To.Format(time.RFC3339Nano))
	}
	if s.Step > 0 {
		q.Set("step", strconv.FormatInt(int64(s.Step/time.Second), 10)+"s")
	}
	if s.Steps > 0 {
		q.Set("steps", strconv.Itoa(s.Steps))
	}
	return q.Encode()
}

// History returns a metric in steps.
func (c *Client) History(ctx context.Context, id, metric string, s Span) (History, error) {
	return get[History](ctx, c, device(id)+"/history?"+s.query(metric))
}

// Readings returns single readings of a metric, at most limit.
func (c *Client) Readings(ctx context.Context, id, metric string, s Span, limit int) (Readings, error) {
	return get[Readings](ctx, c, device(id)+"/readings?"+s.query(metric)+"&limit="+strconv.Itoa(limit))
}

// DeleteReadings deletes readings of a device; with DryRun it only counts them.
func (c *Client) DeleteReadings(ctx context.Context, id string, w Unwanted) (Deletion, error) {
	q := url.Values{"metric": w.Metrics}
	for name, at := range map[string]time.Time{"from": w.From, "to": w.To} {
		if !at.IsZero() {
			q.Set(name, at.Format(time.RFC3339Nano))
		}
	}
	for name, on := range map[string]bool{"all": w.All, "dry_run": w.DryRun} {
		if on {
			q.Set(name, "true")
		}
	}
	return send[Deletion](ctx, c, http.MethodDelete, device(id)+"/readings?"+q.Encode(), nil)
}

// Alarms lists alarms, the newest first: the open ones, or closed ones too.
func (c *Client) Alarms(ctx context.Context, f AlarmFilter) (Page[Alarm], error) {
	q := f.query(map[string]string{"rule": f.Rule})
	if f.All {
		q.Set("all", "true")
	}
	if len(f.States) > 0 {
		q.Set("state", strings.Join(f.States, ","))
	}
	if len(f.Priorities) > 0 {
		q.Set("priority", strings.Join(f.Priorities, ","))
	}
	return logged[Alarm](ctx, c, "/alarms", q, f.Limit)
}

// Acknowledge acknowledges an alarm.
func (c *Client) Acknowledge(ctx context.Context, id string) (Alarm, error) {
	return send[Alarm](ctx, c, http.MethodPost, "/alarms/"+url.PathEscape(id)+"/acknowledge", nil)
}

// Alarm returns one alarm, open or closed.
func (c *Client) Alarm(ctx context.Context, id string) (Alarm, error) {
	return get[Alarm](ctx, c, "/alarms/"+url.PathEscape(id))
}

// ActOnAlarms does something about many alarms.
func (c *Client) ActOnAlarms(ctx context.Context, a AlarmActs) ([]AlarmActed, error) {
	return send[[]AlarmActed](ctx, c, http.MethodPost, "/alarm-acts", a)
}

// RuleVersions lists the versions of a rule, the newest first.
func (c *Client) RuleVersions(ctx context.Context, name string) ([]RuleVersion, error) {
	return get[[]RuleVersion](ctx, c, "/rules/"+url.PathEscape(name)+"/versions")
}

// Shelves lists what is shelved, that which ends first first.
func (c *Client) Shelves(ctx context.Context) ([]Shelf, error) {
	return get[[]Shelf](ctx, c, "/shelves")
}

// Journal lists what happened, the newest first.
func (c *Client) Journal(ctx context.Context, f JournalFilter) (Page[JournalEntry], error) {
	q := f.query(map[string]string{"kind": f.Kind, "alarm": f.Alarm, "rule": f.Rule, "person": f.Person, "noun": f.Noun,
		"from": timeOr(f.From), "to": timeOr(f.To)})
	return logged[JournalEntry](ctx, c, "/journal", q, f.Limit)
}

func timeOr(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// JournalKinds lists the kinds of entries that the journal can have.
func (c *Client) JournalKinds(ctx context.Context) ([]string, error) {
	return get[[]string](ctx, c, "/journal/kinds")
}

// JournalAfter returns what happened behind a number, in order, and waits for
// the next where there is nothing yet; an empty list if nothing came.
func (c *Client) JournalAfter(ctx context.Context, number int64, limit int, wait string) ([]JournalEntry, error) {
	q := url.Values{"after": {strconv.FormatInt(number, 10)}, "limit": {strconv.Itoa(limit)}}
	if wait != "" {
		q.Set("wait", wait)
	}
	return get[[]JournalEntry](ctx, c, "/journal/after?"+q.Encode())
}

// AsOf returns what was so at a past moment, of one device or of all.
func (c *Client) AsOf(ctx context.Context, at time.Time, device string, metrics ...string) (AsOf, error) {
	q := url.Values{"at": {at.UTC().Format(time.RFC3339Nano)}}
	if len(metrics) > 0 {
		q.Set("metric", strings.Join(metrics, ","))
	}
	if device != "" {
		q.Set("device", device)
	}
	return get[AsOf](ctx, c, "/as-of?"+q.Encode())
}

// IsNotFound reports whether err says that something does not exist.
func IsNotFound(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusNotFound
}
