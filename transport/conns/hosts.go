package conns

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// Hosts lets requests through that are for one of the names, for a loopback name
// or for an address, and has the others refused: a page of somebody else can make
// a browser believe that its own name leads here (DNS rebinding), and would then
// speak for whoever is signed in.
func Hosts(names []string, refuse, next http.Handler) http.Handler {
	known := map[string]bool{"localhost": true}
	for _, n := range names {
		known[strings.ToLower(strings.TrimSuffix(n, "."))] = true
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		host = strings.ToLower(strings.TrimSuffix(host, "."))
		_, err := netip.ParseAddr(strings.Trim(host, "[]"))
		if err == nil || known[host] || strings.HasSuffix(host, ".localhost") {
			next.ServeHTTP(w, r)
			return
		}
		refuse.ServeHTTP(w, r)
	})
}

// Prefixes reads addresses and networks, such as 10.0.0.7 and 10.1.0.0/16.
func Prefixes(list []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, s := range list {
		p, err := netip.ParsePrefix(s)
		if a, no := netip.ParseAddr(s); no == nil {
			p, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return nil, fmt.Errorf("%q is no address and no network; write it like 10.0.0.7 or 10.1.0.0/16", s)
		}
		out = append(out, p)
	}
	return out, nil
}

type secureKey struct{}

// Forwarded takes the address of the client, and whether it speaks TLS, from what
// a trusted proxy says (X-Forwarded-For and X-Forwarded-Proto). What others say
// there counts for nothing.
func Forwarded(trusted []netip.Prefix, next http.Handler) http.Handler {
	if len(trusted) == 0 {
		return next
	}
	trusts := func(address string) bool {
		a, err := netip.ParseAddr(address)
		if err != nil {
			return false
		}
		for _, p := range trusted {
			if p.Contains(a.Unmap()) {
				return true
			}
		}
		return false
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !trusts(HostOf(r.RemoteAddr)) {
			next.ServeHTTP(w, r)
			return
		}
		ctx := r.Context()
		if strings.EqualFold(r.Header.Get("X-Forwarded-Proto"), "https") {
			ctx = context.WithValue(ctx, secureKey{}, true)
		}
		r = r.WithContext(ctx)
		hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
		for i := len(hops) - 1; i >= 0; i-- { // from the nearest on
			hop := strings.TrimSpace(hops[i])
			if _, err := netip.ParseAddr(hop); err != nil {
				break
			}
			r.RemoteAddr = net.JoinHostPort(hop, "0")
			if !trusts(hop) {
				break
			}
		}
		next.ServeHTTP(w, r)
	})
}

// Secure reports whether a trusted proxy says that the client speaks TLS.
func Secure(ctx context.Context) bool { return ctx.Value(secureKey{}) != nil }
