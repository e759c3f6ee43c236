package api

import (
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"
)

// compress packs answers for whoever takes gzip (RFC 1952, RFC 9110 section
// 8.4.1.3). Streams are flushed through. What is packed already, what is short,
// and what was asked for with anything but GET goes as it is: the last may hold
// a secret beside something that a stranger chose.
func compress(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet || !strings.HasPrefix(r.URL.Path, "/api/") ||
			!takesGzip(r.Header.Get("Accept-Encoding")) {
			next.ServeHTTP(w, r)
			return
		}
		c := &packing{ResponseWriter: w}
		defer c.close()
		next.ServeHTTP(c, r)
	})
}

func takesGzip(accept string) bool {
	for _, part := range strings.Split(accept, ",") {
		coding, q, _ := strings.Cut(strings.TrimSpace(part), ";")
		if strings.EqualFold(strings.TrimSpace(coding), "gzip") && !strings.HasPrefix(strings.ReplaceAll(q, " ", ""),
			"q=0") {
			return true
		}
	}
	return false
}

var packers = sync.Pool{New: func() any {
	z, err := gzip.NewWriterLevel(io.Discard, gzip.BestSpeed)
	if err != nil {
		panic(err) // the level is a constant
	}
	return z
}}

type packing struct {
	http.ResponseWriter
	z       *gzip.Writer
	decided bool
}

// Unwrap gives http.ResponseController the writer within.
func (c *packing) Unwrap() http.ResponseWriter { return c.ResponseWriter }

func (c *packing) WriteHeader(status int) {
	if !c.decided {
		c.decided = true
		h := c.Header()
		kind, _, _ := strings.Cut(h.Get("Content-Type"), ";")
		text := kind == "application/json" || kind == "text/event-stream" || kind == "application/x-ndjson" ||
			kind == "text/csv"
		if text && h.Get("Content-Encoding") == "" && status == http.StatusOK {
			h.Set("Content-Encoding", "gzip")
			h.Del("Content-Length")
			c.z = packers.Get().(*gzip.Writer)
			c.z.Reset(c.ResponseWriter)
		}
		if text {
			h.Add("Vary", "Accept-Encoding")
		}
	}
	c.ResponseWriter.WriteHeader(status)
}

func (c *packing) Write(b []byte) (int, error) {
	if !c.decided {
		c.WriteHeader(http.StatusOK)
	}
	if c.z != nil {
		return c.z.Write(b)
	}
	return c.ResponseWriter.Write(b)
}

// Flush sends what was written so far.
func (c *packing) Flush() {
	if c.z != nil {
		c.z.Flush()
	}
	if f, ok := c.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
}

func (c *packing) close() {
	if c.z != nil {
		c.z.Close()
		c.z.Reset(io.Discard)
		packers.Put(c.z)
	}
}
