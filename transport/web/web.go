// Package web serves devices that speak HTTP: the same messages as over MQTT, under /device/v1, with the token as a bearer token (RFC 6750).
package web

import (
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ullage/core/value"
	"ullage/fleet/commands"
	"ullage/fleet/fault"
	"ullage/transport/conns"
	"ullage/transport/door"
	"ullage/transport/problem"
)

// MaxWait is the longest that GET /device/v1/intended waits for a change.
const MaxWait = 60 * time.Second

// Options are what the handler is made of.
type Options struct {
	// Names are those that the service is reached by, beside loopback names and
	// addresses.
	Names []string
	Door  *door.Door
	// Revoked returns the lists of revoked certificates, in DER: that of the present
	// issuing certificate, and of those of before that hold still; nil where there are no
	// certificates.
	Revoked func() ([][]byte, error)
	Log     *slog.Logger
	Now     func() time.Time
}

// misdirected refuses requests for names that are not ours.
func misdirected(w http.ResponseWriter, r *http.Request) {
	d := problem.Of(fault.New(fault.NotAllowed, "this service is not called %q", value.Clip(r.Host, 100)).
		Then("use its address, or add the name to the option names"))
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(d.Status)
	w.Write(d.JSON())
}

type handler struct{ Options }

// New returns the handler of the device listener.
func New(d Options) http.Handler {
	w := &handler{d}
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.Use(gin.CustomRecoveryWithWriter(io.Discard, func(c *gin.Context, err any) {
		d.Log.Error("a device request failed", "path", c.Request.URL.Path, "panic", err)
		refuse(c, fault.New(fault.Internal, "something in the service failed").Then("send again in a moment"))
	}))
	r.POST("/device/v1/join", w.join)
	w.est(r)
	r.GET("/authority/:file", w.authority)
	v1 := r.Group("/device/v1", w.identify)
	v1.POST("/readings", w.post("readings"))
	v1.POST("/about", w.post("about"))
	v1.POST("/applied", w.post("applied"))
	v1.POST("/replies", w.post("reply"))
	v1.POST("/log", w.post("log"))
	v1.POST("/events/:name", func(c *gin.Context) { w.post("event/" + c.Param("name"))(c) })
	v1.GET("/intended", w.intended)
	v1.GET("/commands", w.commands)
	v1.GET("/time", w.time)
	v1.POST("/token", w.renewToken)
	r.NoRoute(func(c *gin.Context) {
		refuse(c, fault.New(fault.NotFound, "there is nothing at %s %s", c.Request.Method, c.Request.URL.Path).
			Then("devices use POST /device/v1/readings, /about, /applied, /replies, /log, /events/NAME and GET /device/v1/intended, /commands, /time; POST /device/v1/token for another token; to get in, POST /device/v1/join, and EST under /.well-known/est"))
	})
	r.NoMethod(func(c *gin.Context) {
		refuse(c, fault.New(fault.NoMethod, "%s is not taken at %s", c.Request.Method, c.Request.URL.Path).
			Then("there is %s", c.Writer.Header().Get("Allow")))
	})
	return conns.Hosts(d.Names, http.HandlerFunc(misdirected), r)
}

// refuse answers with problem details (RFC 9457).
func refuse(c *gin.Context, e *fault.Error) {
	tell(c, problem.Of(e))
}

func tell(c *gin.Context, d *problem.Details) {
	if d.Code.Ours() || d.Code == fault.TooMany {
		c.Header("Retry-After", "5")
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(d.Status, d)
}

// identify finds the device of the bearer token.
func (w *handler) identify(c *gin.Context) {
	claim := w.shown(c)
	if scheme, token, _ := strings.Cut(c.GetHeader("Authorization"), " "); strings.EqualFold(scheme, "Bearer") {
		claim.Token = strings.TrimSpace(token)
	} else {
		claim.Missing = "no bearer token was given; send the header Authorization: Bearer TOKEN, or over TLS the certificate of the device"
	}
	dev, err := w.Door.Admit(claim)
	if err != nil {
		c.Header("WWW-Authenticate", "Bearer")
		refuse(c, fault.From(err))
		return
	}
	if err := dev.Allow(); err != nil {
		refuse(c, fault.From(err))
		return
	}
	conns.KnownIn(c.Request.Context())
	c.Set("device", dev)
}

// caller is the device that identify has let in.
func caller(c *gin.Context) *door.Device {
	v, _ := c.Get("device")
	dev, _ := v.(*door.Device)
	return dev
}

// post takes a message and answers when it is durable.
func (w *handler) post(name string) gin.HandlerFunc {
	return func(c *gin.Context) {
		dev := caller(c)
		most := int64(w.Door.Limits().Message)
		if c.Request.ContentLength > most {
			answer(c, dev.Refuse(name, w.Door.TooLarge(c.Request.ContentLength)))
			return
		}
		if coding := c.GetHeader("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") {
			answer(c, dev.Refuse(name, fault.New(fault.Invalid, "content encoding %q is not read", value.Clip(coding, 40)).
				Then("send the message as it is")))
			return
		}
		body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, most))
		if err != nil {
			why := fault.New(fault.Invalid, "the message ended before it was whole").Then("send it again")
			var large *http.MaxBytesError
			if errors.As(err, &large) {
				why = w.Door.TooLarge(-1)
			}
			answer(c, dev.Refuse(name, why))
			return
		}
		result := make(chan door.Verdict, 1)
		dev.Take(door.Message{Name: name, Body: body, ContentType: c.ContentType()}, func(v door.Verdict) {
			result <- v
		})
		answer(c, <-result)
	}
}

// answer says what became of a message. One that was kept in part is a success
// that names what was not.
func answer(c *gin.Context, v door.Verdict) {
	if v.Problem != nil && v.Kept == 0 {
		tell(c, v.Problem)
		return
	}
	body := gin.H{"kept": v.Kept}
	if len(v.Refused) > 0 {
		body["refused"] = v.Refused
	}
	if len(v.Marked) > 0 {
		body["marked"] = v.Marked
	}
	c.JSON(http.StatusOK, body)
}

// intended gives the settings document; with ?not=REV&wait=30s it waits until
// the revision is another one, or answers 304 when the time is up.
func (w *handler) intended(c *gin.Context) {
	dev := caller(c)
	if !only(c, "not", "wait") {
		return
	}
	if c.Query("wait") != "" && c.Query("not") == "" {
		refuse(c, fault.New(fault.Invalid, "?wait waits until the revision is another one, and ?not says which you have").
			Then("write ?not=12&wait=30s"))
		return
	}
	body, revision, err := dev.Intended()
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	if not := c.Query("not"); not != "" {
		rev, err := strconv.ParseInt(not, 10, 64)
		if err != nil {
			refuse(c, fault.New(fault.Invalid, "?not=%s is no revision", value.Clip(not, 60)).
				Then("give the number of the revision you have"))
			return
		}
		wait, ok := waiting(c)
		if !ok {
			return
		}
		if revision == rev && wait == 0 {
			c.Status(http.StatusNotModified)
			return
		}
		if revision == rev {
			done, err := dev.Await()
			if err != nil {
				refuse(c, fault.From(err))
				return
			}
			defer done()
			timer := time.NewTimer(wait)
			defer timer.Stop()
			select {
			case <-dev.IntendedChanged(rev):
			case <-timer.C:
				c.Status(http.StatusNotModified)
				return
			case <-c.Request.Context().Done():
				return
			}
			if body, _, err = dev.Intended(); err != nil {
				refuse(c, fault.From(err))
				return
			}
		}
	}
	dev.Sent("intended", body, "")
	c.Data(http.StatusOK, "application/json", body)
}

// only refuses what an address asks beside some names: a wait whose name is misspelled would
// be asked for again at once, for ever.
func only(c *gin.Context, names ...string) bool {
	for name := range c.Request.URL.Query() {
		if slices.Contains(names, name) {
			continue
		}
		next := "there is ?" + strings.Join(names, " and ?")
		if near := value.Nearest(name, names); near != "" {
			next = "did you mean ?" + near + "?"
		}
		refuse(c, fault.New(fault.Invalid, "?%s is not known here", value.Clip(name, 40)).Then("%s", next))
		return false
	}
	return true
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
func (w *handler) commands(c *gin.Context) {
	dev := caller(c)
	if !only(c, "wait") {
		return
	}
	wait, ok := waiting(c)
	if !ok {
		return
	}
	if wait > 0 {
		done, err := dev.Await()
		if err != nil {
			refuse(c, fault.From(err))
			return
		}
		defer done()
	}
	until := time.NewTimer(wait)
	defer until.Stop()
	out := []commands.Message{}
	for {
		news := dev.CommandsChanged()
		due, next := dev.Due()
		for _, cmd := range due {
			if m, open := dev.HandOver(cmd.ID); open {
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
			dev.Sent("command/"+m.Name, body, "")
		}
	}
	c.JSON(http.StatusOK, out)
}

func (w *handler) time(c *gin.Context) {
	c.Data(http.StatusOK, "application/json; charset=utf-8", w.Door.Time())
}
