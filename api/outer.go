package api

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/transport/conns"
	"ullage/transport/problem"
)

// refuseWith answers with a fault outside of the framework.
func refuseWith(w http.ResponseWriter, e *fault.Error) {
	d := problem.Of(e)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(d.Status)
	w.Write(d.JSON())
}

// misdirected refuses requests for names that are not ours.
var misdirected = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
	refuseWith(w, fault.New(fault.NotAllowed, "this service is not called %q", value.Clip(r.Host, 100)).
		Then("use its address, or add the name to the option names"))
})

// heads answers HEAD as GET does, without the body, which net/http leaves out.
// Streams have no end to wait for.
func heads(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodHead && !strings.HasSuffix(r.URL.Path, "/live") &&
			!strings.Contains(r.URL.Path, "/events/") {
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		next.ServeHTTP(w, r)
	})
}

// barred refuses sign-ins from an address that has had its attempts, before anything
// of them is read: that is all that thousands of them a second cost. A familiar place
// is heard all the same.
func (s *server) barred(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost && r.URL.Path == "/api/v1/sign-in" {
			if _, err := r.Cookie(familiarName); err != nil {
				if err := s.People.Barred(conns.HostOf(r.RemoteAddr)); err != nil {
					refuseWith(w, fault.From(err))
					return
				}
			}
		}
		next.ServeHTTP(w, r)
	})
}

// asks refuses query parameters that an operation does not have: one that is
// written wrongly would be passed over, and the answer be of something else.
func (s *server) asks(ctx huma.Context, next func(huma.Context)) {
	u := ctx.URL()
	if u.RawQuery == "" {
		next(ctx)
		return
	}
	names := map[string]bool{}
	for _, p := range ctx.Operation().Parameters {
		if p.In == "query" {
			names[p.Name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(u.Query())) {
		if names[name] {
			continue
		}
		says := "there are none here"
		if len(names) > 0 {
			all := slices.Sorted(maps.Keys(names))
			says = "there are " + strings.Join(all, ", ")
			if near := value.Nearest(name, all); near != "" {
				says = fmt.Sprintf("did you mean %s?", near)
			}
		}
		s.deny(ctx, fault.New(fault.Invalid, "there is no query parameter %q", value.Clip(name, 60)).Then("%s", says))
		return
	}
	next(ctx)
}
