package api

import (
	"bytes"
	"crypto/sha256"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/fleet/fault"
	"ullage/transport/problem"
)

// Bounds of what is remembered for requests that are sent again.
const (
	againFor    = 24 * time.Hour
	againMost   = 10_000
	againBytes  = 64 << 20 // of all answers together
	againAnswer = 256 << 10
	againKey    = 200
)

// again answers a POST that is sent again with the same Idempotency-Key as it
// was answered first, so that a client that has lost the answer may ask once
// more (draft-ietf-httpapi-idempotency-key-header). It remembers successes in
// memory: behind a restart a request is carried out again.
type again struct {
	holds func(*http.Request) bool
	now   func() time.Time

	mu    sync.Mutex
	done  map[[sha256.Size]byte]*answered
	order [][sha256.Size]byte // the oldest first
	bytes int
}

// answered is one request and its answer; the answer is empty while it is
// carried out.
type answered struct {
	request [sha256.Size]byte
	at      time.Time
	over    bool
	status  int
	header  http.Header
	body    []byte
}

// newAgain remembers answers. Holds tells whether whoever asks is still let in: who is
// not is told nothing of what they were told before.
func newAgain(now func() time.Time, holds func(*http.Request) bool) *again {
	return &again{now: now, holds: holds, done: map[[sha256.Size]byte]*answered{}}
}

func (a *again) handler(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method != http.MethodPost || !strings.HasPrefix(r.URL.Path, "/api/v1/") ||
			r.ContentLength > againAnswer {
			next.ServeHTTP(w, r)
			return
		}
		if len(key) > againKey {
			tell(w, fault.New(fault.Invalid, "the Idempotency-Key has %d characters; %d are the most",
				len(key), againKey))
			return
		}
		body, err := io.ReadAll(io.LimitReader(r.Body, againAnswer+1))
		if err != nil || len(body) > againAnswer {
			tell(w, fault.New(fault.TooLarge, "a request with an Idempotency-Key may have %d bytes", againAnswer))
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		if !a.holds(r) {
			next.ServeHTTP(w, r) // which says so
			return
		}
		// Keys are those of whoever signed in: of others nothing is learnt by them.
		id := sha256.Sum256([]byte(secretOf(r) + "\n" + key))
		x, known := a.begin(id, sha256.Sum256([]byte(r.URL.Path+"?"+r.URL.RawQuery+"\n"+string(body))))
		switch {
		case known && x == nil:
			tell(w, fault.New(fault.Invalid, "this Idempotency-Key was used for another request").
				Then("take a new key for each request"))
			return
		case known && !x.over:
			tell(w, fault.New(fault.Conflict, "the first request with this Idempotency-Key is still being carried out").
				Then("ask again in a moment"))
			return
		case known:
			for k, v := range x.header {
				w.Header()[k] = v
			}
			w.Header().Set("Ullage-Repeated", "true")
			w.WriteHeader(x.status)
			w.Write(x.body)
			return
		}
		rec := &recorder{ResponseWriter: w, status: http.StatusOK}
		defer func() { a.end(id, rec) }()
		next.ServeHTTP(rec, r)
	})
}

// begin notes a request. It returns the one that has the key already; nil and
// true if that was another request.
func (a *again) begin(id, request [sha256.Size]byte) (x *answered, known bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.now()
	for len(a.order) > 0 {
		first := a.done[a.order[0]]
		if first != nil && now.Sub(first.at) < againFor && len(a.order) < againMost && a.bytes < againBytes {
			break
		}
		a.forget(a.order[0])
	}
	if x = a.done[id]; x != nil {
		if x.request != request {
			return nil, true
		}
		copied := *x
		return &copied, true
	}
	a.done[id] = &answered{request: request, at: now}
	a.order = append(a.order, id)
	return nil, false
}

// forget drops the oldest; the caller holds mu.
func (a *again) forget(id [sha256.Size]byte) {
	if x := a.done[id]; x != nil {
		a.bytes -= len(x.body)
	}
	delete(a.done, id)
	if len(a.order) > 0 && a.order[0] == id {
		a.order = a.order[1:]
	}
}

// end keeps the answer of a success. What failed may be tried again.
func (a *again) end(id [sha256.Size]byte, r *recorder) {
	a.mu.Lock()
	defer a.mu.Unlock()
	x := a.done[id]
	if x == nil {
		return
	}
	if r.status >= 300 || r.body.Len() > againAnswer || !r.wrote {
		// Nor does it count, or strangers would push out what is remembered.
		delete(a.done, id)
		for i := len(a.order) - 1; i >= 0; i-- {
			if a.order[i] == id {
				a.order = slices.Delete(a.order, i, i+1)
				break
			}
		}
		return
	}
	x.over, x.status, x.header, x.body = true, r.status, r.Header().Clone(), r.body.Bytes()
	x.header.Del("Set-Cookie")
	a.bytes += len(x.body)
}

// recorder keeps what is answered beside sending it.
type recorder struct {
	http.ResponseWriter
	status int
	wrote  bool
	body   bytes.Buffer
}

func (r *recorder) WriteHeader(status int) {
	r.status, r.wrote = status, true
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(b []byte) (int, error) {
	r.wrote = true
	if r.body.Len() <= againAnswer {
		r.body.Write(b)
	}
	return r.ResponseWriter.Write(b)
}

// Unwrap lets streams through.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// tell answers with problem details outside of Gin.
func tell(w http.ResponseWriter, f *fault.Error) {
	d := problem.Of(f)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(d.Status)
	w.Write(d.JSON())
}
