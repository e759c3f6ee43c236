package api

import (
	"net/http"
	"net/netip"
	"strings"

	"github.com/gin-gonic/gin"

	"ullage/fleet/fault"
	"ullage/transport/conns"
)

// guarded are the pages that tell about the service itself, beside the operations.
var guarded = []string{"/metrics", "/api/openapi", "/api/docs", "/api/schemas"}

// nearby lets only whoever is signed in, has a key, or is on this machine see the
// guarded pages, and only whoever sees all devices the metrics. What a proxy hands on, which is not trusted, is not from here.
func (s *server) nearby(c *gin.Context) {
	for _, path := range guarded {
		if !strings.HasPrefix(c.Request.URL.Path, path) {
			continue
		}
		a, err := netip.ParseAddr(conns.HostOf(c.Request.RemoteAddr))
		if err == nil && a.Unmap().IsLoopback() && c.GetHeader("X-Forwarded-For") == "" && c.GetHeader("Forwarded") == "" {
			return
		}
		from := conns.HostOf(c.Request.RemoteAddr)
		x, err := s.People.Who(secretOf(c.Request), from)
		if err != nil {
			c.Header("WWW-Authenticate", "Bearer")
			s.refuse(c, fault.From(err))
			return
		}
		if x.Screen() {
			s.refuse(c, fault.New(fault.NotAllowed, "a screen shows its page, and asks for nothing else"))
			return
		}
		// The figures are of all devices.
		if err := s.Fleet.Whole(s.People.Caller(x, from)); err != nil && path == "/metrics" {
			s.refuse(c, fault.From(err))
		}
		return
	}
}

// secretOf returns the secret of the session, or of the key, that a request has.
func secretOf(r *http.Request) string {
	if scheme, token, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok && strings.EqualFold(scheme, "Bearer") {
		return strings.TrimSpace(token)
	}
	if c, err := r.Cookie(cookieOf(r.TLS != nil || conns.Secure(r.Context()))); err == nil {
		return c.Value
	}
	return ""
}

// holds reports whether whoever makes a request is let in.
func (s *server) holds(r *http.Request) bool {
	_, err := s.People.Who(secretOf(r), conns.HostOf(r.RemoteAddr))
	return err == nil
}
