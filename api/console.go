package api

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"

	"ullage/fleet/fault"
)

// console serves the built console: assets for a year, with their compressed
// siblings, and the page itself for every other path, so that links into it
// can be shared.
func (s *server) console(r *gin.Engine) {
	r.GET("/api/docs.css", s.docsStyle)
	var page []byte
	if s.Console != nil {
		page, _ = fs.ReadFile(s.Console, "index.html")
	}
	r.NoMethod(func(c *gin.Context) {
		s.refuse(c, fault.New(fault.NoMethod, "%s is not taken at %s", c.Request.Method, c.Request.URL.Path).
			Then("there is %s", c.Writer.Header().Get("Allow")))
	})
	r.NoRoute(func(c *gin.Context) {
		p := c.Request.URL.Path
		switch {
		case p == "/api" || strings.HasPrefix(p, "/api/"):
			s.refuse(c, fault.New(fault.NotFound, "there is nothing at %s %s", c.Request.Method, p).
				Then("see /api/docs"))
		case c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead:
			s.refuse(c, fault.New(fault.NotFound, "there is nothing to %s at %s", c.Request.Method, p))
		case strings.HasPrefix(p, "/assets/") || p == "/favicon.svg":
			s.asset(c, strings.TrimPrefix(p, "/"))
		case page == nil:
			c.String(http.StatusOK, "This Ullage was built without its console; build it with: make build\n")
		default:
			s.page(c, page)
		}
	})
}

// page serves index.html with a nonce of its own, which is all that inline
// styles and scripts may run with.
func (s *server) page(c *gin.Context, page []byte) {
	var b [16]byte
	rand.Read(b[:])
	nonce := base64.StdEncoding.EncodeToString(b[:])
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self' 'nonce-"+nonce+
		"'; style-src 'self' 'nonce-"+nonce+
		"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	h.Set("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", bytes.ReplaceAll(page, []byte("__NONCE__"), []byte(nonce)))
}

func (s *server) asset(c *gin.Context, name string) {
	if s.Console == nil {
		c.Status(http.StatusNotFound)
		return
	}
	for _, enc := range []struct{ name, ext string }{{"br", ".br"}, {"gzip", ".gz"}, {"", ""}} {
		if enc.name != "" && !strings.Contains(c.GetHeader("Accept-Encoding"), enc.name) {
			continue
		}
		b, err := fs.ReadFile(s.Console, name+enc.ext)
		if err != nil {
			continue
		}
		h := c.Writer.Header()
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
		h.Add("Vary", "Accept-Encoding")
		if enc.name != "" {
			h.Set("Content-Encoding", enc.name)
		}
		kind := mime.TypeByExtension(path.Ext(name))
		if kind == "" {
			kind = "application/octet-stream"
		}
		c.Data(http.StatusOK, kind, b)
		return
	}
	c.String(http.StatusNotFound, "there is no such file\n")
}
