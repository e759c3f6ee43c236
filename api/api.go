// Package api is the operators' HTTP API, with the live stream, and serves the
// console. Requests and answers are the types of package client; from them
// come validation and the OpenAPI 3.1 document at once, so that what is
// documented is what is served.
package api

import (
	"context"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"ullage/client"
	"ullage/core/model"
	"ullage/core/record"
	"ullage/fleet/access"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/people"
	"ullage/fleet/scoped"
	"ullage/fleet/traffic"
	"ullage/transport/conns"
	"ullage/transport/problem"
)

// opPlaces is the operation that lists where things are.
const opPlaces = "sites"

// Options are what the API is made of.
type Options struct {
	App     *App     // the use cases behind it
	Names   []string // by which it is reached, beside loopback names and addresses
	Version string
	Started time.Time
	Events  *Events
	Storage Storage
	MQTT    func() int // sessions connected
	MQTTAt  string
	HTTPAt  string
	// MQTTTLSAt and HTTPTLSAt are where devices reach it over TLS, empty where that is
	// off, and Authority the certificate that they trust, in PEM.
	MQTTTLSAt, HTTPTLSAt string
	// TimeAt is where the time alone is told; empty where that is off.
	TimeAt    string
	Authority []byte
	// TLSAt is where the console is over TLS, and Certificate the SHA-256 of what is
	// shown there.
	TLSAt       string
	Certificate func() string
	Console     fs.FS // the built console; nil for none
	Ready       func() bool
	SignOn      *SignOn // nil for none
	Metrics     http.Handler
}

// App are the use cases behind the API. What is about devices is in Fleet, where
// each takes the caller.
type App struct {
	Fleet  *scoped.Fleet
	People *people.Register
	Settle func() // waits until what was done is taken in
	Shown  func() // waits until what was committed is shown, and not for what follows from it
	Log    *slog.Logger
	Now    func() time.Time
}

type server struct {
	Options
	*App
	api huma.API
	// begun tells the streams of one run of the service from those of another.
	begun string
	// nouns holds the fields of every noun, by its word, for conditions over them.
	nouns map[string][]record.Field
	// kept holds the words of the nouns that are put and removed.
	kept []string
	// streams are those that are open.
	streams streams
}

func init() {
	huma.DefaultArrayNullable = false
	// Refusals of the framework take the same form as our own. What was sent is
	// not echoed: it may hold a password.
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		if msg == "request body is required" {
			msg = "nothing was sent; send what the document of the API says"
		}
		d := problem.Of(fault.New(codeOf(status), "%s", msg))
		d.Status, d.Title = status, http.StatusText(status)
		var words []string
		for _, e := range errs {
			if e == nil {
				continue
			}
			f := model.Finding{Sentence: e.Error()}
			if x, ok := e.(huma.ErrorDetailer); ok {
				x := x.ErrorDetail()
				f = located(x.Location, x.Message)
				switch {
				case status == http.StatusBadRequest && x.Location == "body":
					f.Sentence = noJSON(f.Sentence)
				case status == http.StatusUnsupportedMediaType:
					f.Sentence += "; send application/json"
				}
			}
			d.Findings = append(d.Findings, f)
			words = append(words, told(f))
		}
		if len(words) > 0 {
			d.Detail = strings.Join(words, "; ")
			if msg != "validation failed" {
				d.Detail = msg + ": " + d.Detail
			}
		}
		return d
	}
}

func codeOf(status int) fault.Code {
	for _, c := range []fault.Code{fault.Unauthenticated, fault.NotAllowed, fault.NotFound, fault.Conflict,
		fault.TooLarge, fault.TooMany} {
		if problem.Status(c) == status {
			return c
		}
	}
	if status >= 500 {
		return fault.Internal
	}
	return fault.Invalid
}

// located turns a place such as "body.labels.site" into the JSON Pointer
// "/labels/site". What is not in the body has no pointer: it is named.
func located(place, sentence string) model.Finding {
	in, ok := strings.CutPrefix(place, "body")
	if !ok {
		if _, name, found := strings.Cut(place, "."); found {
			sentence = about(name, sentence)
		}
		return model.Finding{Sentence: sentence}
	}
	// First what would be read as a part of the pointer itself (RFC 6901).
	in = strings.NewReplacer("~", "~0", "/", "~1").Replace(in)
	return model.Finding{Pointer: strings.NewReplacer(".", "/", "[", "/", "]", "").Replace(in), Sentence: sentence}
}

// New returns the handler of the console's listener.
func New(d Options) http.Handler {
	s := &server{Options: d, App: d.App, begun: fact.NewID(d.App.Now()), nouns: map[string][]record.Field{},
		streams: streams{open: map[string]int{}}}
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.Use(gin.CustomRecoveryWithWriter(io.Discard, func(c *gin.Context, err any) {
		s.Log.Error("a request failed", "path", c.Request.URL.Path, "panic", err)
		s.refuse(c, fault.New(fault.Internal, "something in the service failed").Then("see its log for the cause"))
	}))
	r.Use(headers, s.nearby)
	config := configuration(d.Version)
	s.api = humagin.New(r, config)
	s.api.UseMiddleware(s.authenticate, s.asks, s.inUnits)
	s.routes()
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", func(c *gin.Context) {
		if d.Ready != nil && !d.Ready() {
			c.String(http.StatusServiceUnavailable, "starting or stopping\n")
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
	if d.Metrics != nil {
		r.GET("/metrics", gin.WrapH(d.Metrics))
	}
	r.GET("/api/docs", s.docs)
	s.console(r)
	guard := http.NewCrossOriginProtection()
	guard.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusForbidden)
		io.WriteString(w, `{"type":"about:blank","title":"Forbidden","status":403,"code":"not-allowed","detail":"this request comes from another web site and was not carried out"}`)
	}))
	return conns.Hosts(d.Names, misdirected, compress(heads(s.barred(guard.Handler(newAgain(s.Now, s.holds).handler(r))))))
}

func configuration(version string) huma.Config {
	config := huma.DefaultConfig("Ullage", version)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", "/api/schemas"
	config.Info.Description = "Models, devices, settings, alarms, readings and the traffic of one fleet. " +
		"Sign in for a bearer token; refusals are problem details (RFC 9457)."
	config.Info.License = &huma.License{Name: "Apache License 2.0", Identifier: "Apache-2.0"}
	config.Servers = []*huma.Server{{URL: "/", Description: "The service that this document comes from"}}
	config.Tags = slices.Clone(tags)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer"}, "session": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	config.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	// Answers hold what the schema says and no link to it.
	config.CreateHooks = nil
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	return config
}

// schemaName tells apart types of one name from different packages.
func schemaName(t reflect.Type, hint string) string {
	switch t {
	case reflect.TypeFor[traffic.Entry]():
		return "TrafficEntry"
	}
	name := huma.DefaultSchemaNamer(t, hint)
	for deepest := t; ; deepest = deepest.Elem() { // what is short in its package says what it is of here
		if strings.HasSuffix(deepest.PkgPath(), "core/join") {
			return "Join" + name
		}
		if k := deepest.Kind(); k != reflect.Pointer && k != reflect.Slice {
			return name
		}
	}
}

// Document returns the OpenAPI document without a running service.
func Document(version string) ([]byte, error) {
	gin.SetMode(gin.ReleaseMode)
	s := &server{Options: Options{Version: version}, App: &App{}, nouns: map[string][]record.Field{}}
	s.api = humagin.New(gin.New(), configuration(version))
	s.routes()
	return s.api.OpenAPI().MarshalJSON()
}

func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
}

func (s *server) refuse(c *gin.Context, e *fault.Error) {
	d := problem.Of(e)
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(d.Status, d)
}

// routes adds every operation.
func (s *server) routes() {
	s.accessRoutes()
	s.serviceRoutes()
	s.journalRoutes()
	s.modelRoutes()
	s.ruleRoutes()
	s.siteRoutes()
	s.maintenanceRoutes()
	s.replayRoutes()
	s.responseRoutes()
	s.layerRoutes()
	s.rolloutRoutes()
	s.boardRoutes()
	s.causeRoutes()
	s.peopleRoutes()
	s.documentRoutes()
	s.thingRoutes()
	s.folderRoutes()
	s.deviceRoutes()
	s.batchRoutes()
	s.joinRoutes()
	s.bulkRoutes()
	s.renewRoutes()
	s.settingRoutes()
	s.commandRoutes()
	s.commandJobRoutes()
	s.historyRoutes()
	s.differentRoutes()
	s.snapshotRoutes()
	s.logRoutes()
	s.activityRoutes()
	s.originRoutes()
	s.deletionRoutes()
	s.queryRoutes()
	s.figureRoutes()
	s.importRoutes()
	s.storeRoutes()
	s.alarmRoutes()
	s.expressionRoutes()
	s.liveRoutes()
	s.units()
}

// Where is the filter that every list takes.
type Where struct {
	Where string `query:"where" maxLength:"65536" doc:"Only of devices for which this condition is true now" example:"must_temp > set.max_temp - 3"`
}

// failed turns an error of a use case into the answer, and logs what people
// cannot be told.
func (s *server) failed(err error) error {
	f := fault.From(err)
	if f.Code == fault.Internal && f.Cause != nil {
		s.Log.Error("a request failed", "error", f.Cause)
	}
	return problem.Of(f)
}

type body[T any] struct{ Body T }

func (s *server) serviceRoutes() {
	huma.Get(s.api, "/api/v1/service", func(ctx context.Context, _ *struct{}) (*body[client.Service], error) {
		return &body[client.Service]{s.service(caller(ctx))}, nil
	}, describe("service", "What the service says about itself", "Service"))
	s.trafficRoutes()
}

func (s *server) service(c access.Caller) client.Service {
	groups := []client.GroupAlarm{}
	for _, a := range s.Fleet.Groups(c) {
		groups = append(groups, client.GroupAlarm{ID: a.ID, Rule: a.Rule, Group: a.Group, Priority: string(a.Priority),
			State: string(a.State), Message: a.Message, RaisedAt: a.RaisedAt})
	}
	out := client.Service{Groups: groups, Version: s.Version, StartedAt: s.Started, Now: s.Now().UTC(),
		MQTT: s.MQTTAt, DeviceHTTP: s.HTTPAt, ConsoleTLS: s.TLSAt}
	if s.TLSAt != "" {
		out.Certificate = s.Certificate()
	}
	readings, refused, perSecond, known := s.Fleet.Flow(c)
	if !known { // what they see is not all there is
		out.Devices, out.Connected = s.Fleet.Counts(c)
		return out
	}
	out.Devices, out.Connected, out.Deriving = s.Fleet.Count(c), s.MQTT(), s.Fleet.Deriving()
	out.Readings, out.Refused, out.PerSecond = &readings, &refused, &perSecond
	return out
}

// given returns the zero time for nil.
func given(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// optional returns nil for the zero time.
func optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
