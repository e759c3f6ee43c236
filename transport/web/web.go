// Package web is the door for devices that speak HTTP: the same messages as
// over MQTT, under /device/v1, with the token as a bearer token (RFC 6750).
package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"

	"ullage/core/value"
	"ullage/fleet/commands"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/settings"
	"ullage/fleet/traffic"
	"ullage/transport/problem"
)

// MaxWait is the longest that GET /device/v1/intended waits for a change.
const MaxWait = 60 * time.Second

// Options are the use cases that the door opens on.
type Options struct {
	Devices  *devices.Registry
	Door     *ingest.Door
	Settings *settings.Settings
	Commands *commands.Queue
	Traffic  *traffic.Log
	Gate     *devices.Gate
	Limits   ingest.Limits
	Log      *slog.Logger
	Now      func() time.Time
}

type door struct {
	Options
	mu       sync.Mutex
	limiters map[string]*rate.Limiter
}

// New returns the handler of the device listener.
func New(d Options) http.Handler {
	w := &door{Options: d, limiters: map[string]*rate.Limiter{}}
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.Use(gin.CustomRecoveryWithWriter(io.Discard, func(c *gin.Context, err any) {
		d.Log.Error("a device request failed", "path", c.Request.URL.Path, "panic", err)
		refuse(c, fault.New(fault.Internal, "something in the service failed").Then("send again in a moment"))
	}))
	v1 := r.Group("/device/v1", w.identify)
	v1.POST("/readings", w.post(ingest.Readings))
	v1.POST("/about", w.post(ingest.About))
	v1.POST("/applied", w.post(ingest.Applied))
	v1.POST("/replies", w.post(ingest.Reply))
	v1.POST("/events/:name", func(c *gin.Context) { w.post(ingest.Event + ingest.Kind(c.Param("name")))(c) })
	v1.GET("/intended", w.intended)
	v1.GET("/commands", w.commands)
	v1.GET("/time", w.time)
	r.NoRoute(func(c *gin.Context) {
		refuse(c, fault.New(fault.NotFound, "there is nothing at %s %s", c.Request.Method, c.Request.URL.Path).
			Then("devices use POST /device/v1/readings, /about, /applied, /replies, /events/NAME and GET /device/v1/intended, /commands, /time"))
	})
	r.NoMethod(func(c *gin.Context) {
		refuse(c, fault.New(fault.Invalid, "%s is not taken at %s", c.Request.Method, c.Request.URL.Path))
	})
	return r
}

// refuse answers with problem details (RFC 9457).
func refuse(c *gin.Context, e *fault.Error) {
	if e.Code.Ours() || e.Code == fault.TooMany {
		c.Header("Retry-After", "5")
	}
	c.Header("Content-Type", "application/problem+json")
	d := problem.Of(e)
	c.AbortWithStatusJSON(d.Status, d)
}

// identify finds the device of the bearer token.
func (w *door) identify(c *gin.Context) {
	scheme, token, _ := strings.Cut(c.GetHeader("Authorization"), " ")
	var err error
	var dev devices.Device
	if !strings.EqualFold(scheme, "Bearer") {
		err = fault.New(fault.Unauthenticated, "no bearer token was given; send the header Authorization: Bearer TOKEN")
	} else {
		dev, err = w.Devices.Authenticate("", strings.TrimSpace(token))
	}
	if err != nil {
		ref := traffic.NewRef()
		if wait, quiet := w.Gate.Failed(hostOf(c.Request.RemoteAddr)); quiet {
			time.Sleep(wait)
		} else {
			w.Traffic.Add(traffic.Entry{At: w.Now(), Direction: traffic.Up, Transport: "http", Remote: c.Request.RemoteAddr, Topic: "connect", Reason: err.Error(), Ref: ref})
		}
		f := fault.New(fault.Unauthenticated, "not authorised")
		f.Ref = ref
		c.Header("WWW-Authenticate", "Bearer")
		refuse(c, f)
		return
	}
	if !w.limiter(dev.ID).AllowN(w.Now(), 1) {
		refuse(c, fault.New(fault.TooMany, "%s sends more than %g messages a second", dev.ID, w.Limits.Rate).Then("put several readings into one message"))
		return
	}
	c.Set("device", dev.ID)
}

func (w *door) limiter(device string) *rate.Limiter {
	w.mu.Lock()
	defer w.mu.Unlock()
	l := w.limiters[device]
	if l == nil {
		l = rate.NewLimiter(rate.Inf, 0)
		if w.Limits.Rate > 0 {
			l = rate.NewLimiter(rate.Limit(w.Limits.Rate), int(w.Limits.Rate*4))
		}
		w.limiters[device] = l
	}
	return l
}

// post takes a message and answers when it is durable.
func (w *door) post(kind ingest.Kind) gin.HandlerFunc {
	return func(c *gin.Context) {
		device := c.GetString("device")
		reject := func(e *fault.Error) {
			w.Traffic.Add(traffic.Entry{At: w.Now(), Device: device, Direction: traffic.Up, Transport: "http", Remote: c.Request.RemoteAddr, Topic: string(kind), Reason: e.Error()})
			refuse(c, e)
		}
		if c.Request.ContentLength > int64(w.Limits.Message) {
			reject(fault.New(fault.TooLarge, "the message has %d bytes; %d are taken at most", c.Request.ContentLength, w.Limits.Message).Then("send it in parts"))
			return
		}
		body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, int64(w.Limits.Message)))
		if err != nil {
			var large *http.MaxBytesError
			if errors.As(err, &large) {
				reject(fault.New(fault.TooLarge, "the message has more than %d bytes", w.Limits.Message).Then("send it in parts"))
				return
			}
			reject(fault.New(fault.Invalid, "the message ended before it was whole").Then("send it again"))
			return
		}
		result := make(chan ingest.Outcome, 1)
		w.Door.Accept(ingest.Message{Device: device, Kind: kind, Body: body, ContentType: strings.ToLower(c.ContentType()),
			Transport: "http", Remote: c.Request.RemoteAddr}, func(o ingest.Outcome) { result <- o })
		o := <-result
		switch {
		case o.Err != nil:
			refuse(c, o.Err)
		case len(o.Refused) > 0 && o.Kept == 0:
			refuse(c, &fault.Error{Code: fault.Invalid, Sentence: o.Refused[0].Sentence + "; nothing was kept", Findings: o.Refused})
		default:
			answer := gin.H{"kept": o.Kept}
			if len(o.Refused) > 0 {
				answer["refused"] = o.Refused
			}
			if len(o.Marked) > 0 {
				answer["marked"] = o.Marked
			}
			c.JSON(http.StatusOK, answer)
		}
	}
}

// intended gives the settings document; with ?not=REV&wait=30s it waits until
// the revision is another one, or answers 304 when the time is up.
func (w *door) intended(c *gin.Context) {
	device := c.GetString("device")
	doc, err := w.Settings.Document(device)
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	if not := c.Query("not"); not != "" {
		rev, err := strconv.ParseInt(not, 10, 64)
		if err != nil {
			refuse(c, fault.New(fault.Invalid, "?not=%s is no revision", clip(not)).Then("give the number of the revision you have"))
			return
		}
		wait, ok := waiting(c)
		if !ok {
			return
		}
		if doc.Revision == rev {
			timer := time.NewTimer(wait)
			defer timer.Stop()
			select {
			case <-w.Settings.Changed(device, rev):
			case <-timer.C:
				c.Status(http.StatusNotModified)
				return
			case <-c.Request.Context().Done():
				return
			}
			if doc, err = w.Settings.Document(device); err != nil {
				refuse(c, fault.From(err))
				return
			}
		}
	}
	body, err := json.Marshal(doc)
	if err != nil {
		refuse(c, fault.From(fmt.Errorf("writing the settings: %w", err)))
		return
	}
	w.Traffic.Add(traffic.Entry{At: w.Now(), Device: device, Direction: traffic.Down, Transport: "http", Remote: c.Request.RemoteAddr, Topic: "intended", Body: string(body)})
	c.Data(http.StatusOK, "application/json", body)
}

// waiting reads ?wait=30s; it refuses what is no duration.
func waiting(c *gin.Context) (time.Duration, bool) {
	s := c.Query("wait")
	if s == "" {
		return 0, true
	}
	wait, err := value.ParseDuration(s)
	if err != nil {
		refuse(c, fault.New(fault.Invalid, "?wait: %s", err))
		return 0, false
	}
	return min(wait.Std(), MaxWait), true
}

// commands gives a list of the commands that the device has not replied to;
// with ?wait=30s it waits for one, and answers with an empty list when the time
// is up. What is not replied to comes again.
func (w *door) commands(c *gin.Context) {
	device := c.GetString("device")
	wait, ok := waiting(c)
	if !ok {
		return
	}
	until := time.NewTimer(wait)
	defer until.Stop()
	out := []commands.Message{}
	for {
		news := w.Commands.Changed(device)
		due, next := w.Commands.Due(device)
		for _, cmd := range due {
			if m, open := w.Commands.HandOver(device, cmd.ID); open {
				out = append(out, m)
			}
		}
		if len(out) > 0 {
			break
		}
		var again <-chan time.Time
		if !next.IsZero() {
			again = time.After(max(next.Sub(w.Now()), 10*time.Millisecond))
		}
		select {
		case <-news:
			continue
		case <-again:
			continue
		case <-until.C:
		case <-c.Request.Context().Done():
			return
		}
		break
	}
	for _, m := range out {
		if body, err := json.Marshal(m); err == nil {
			w.Traffic.Add(traffic.Entry{At: w.Now(), Device: device, Direction: traffic.Down, Transport: "http", Remote: c.Request.RemoteAddr, Topic: "command/" + m.Name, Body: string(body)})
		}
	}
	c.JSON(http.StatusOK, out)
}

func (w *door) time(c *gin.Context) {
	c.JSON(http.StatusOK, gin.H{"now": w.Now().UTC().Format("2006-01-02T15:04:05.000Z07:00")})
}

func hostOf(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return address
}

func clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}
