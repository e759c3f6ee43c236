package api

import (
	"net/netip"
	"strings"

	"github.com/gin-gonic/gin"

	"ullage/fleet/fault"
	"ullage/transport/conns"
)

// guarded are the pages that tell about the service itself, beside the operations.
var guarded = []string{"/metrics", "/api/openapi", "/api/docs", "/api/schemas"}

// nearby lets only whoever is signed in, has a key, or is on this machine see the
// guarded pages. What a proxy hands on, which is not trusted, is not from here.
func (s *server) nearby(c *gin.Context) {
	for _, path := range guarded {
		if !strings.HasPrefix(c.Request.URL.Path, path) {
			continue
		}
		a, err := netip.ParseAddr(conns.HostOf(c.Request.RemoteAddr))
		if err == nil && a.Unmap().IsLoopback() && c.GetHeader("X-Forwarded-For") == "" && c.GetHeader("Forwarded") == "" {
			return
		}
		secret, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
		if secret == "" {
			secret, _ = c.Cookie(cookieOf(c.Request.TLS != nil || conns.Secure(c.Request.Context())))
		}
		if _, err := s.People.Who(secret, conns.HostOf(c.Request.RemoteAddr)); err != nil {
			c.Header("WWW-Authenticate", "Bearer")
			s.refuse(c, fault.From(err))
		}
		return
	}
}
