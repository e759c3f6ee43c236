package web

import (
	"io"
	"log/slog"
	"net/http"
	"strings"

	"ullage/fleet/fault"
	"ullage/transport/problem"
)

// maxNonce and minNonce are how long the nonce of a question for the time is, in
// characters.
const (
	minNonce = 16
	maxNonce = 128
)

// NewTime returns the handler of a listener that tells the time and nothing else. It may
// be plain: the answer is signed over the nonce that came, since a device with the clock
// of 1970 cannot check a certificate first.
func NewTime(sign func(nonce string) (string, error), log *slog.Logger) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		refuse := func(f *fault.Error) {
			d := problem.Of(f)
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(d.Status)
			w.Write(d.JSON())
		}
		if r.URL.Path != "/time" || r.Method != http.MethodGet {
			refuse(fault.New(fault.NotFound, "this port tells the time and nothing else").Then("ask GET /time?nonce=… with at least 16 characters that you have made up"))
			return
		}
		nonce := r.URL.Query().Get("nonce")
		if len(nonce) < minNonce || len(nonce) > maxNonce || strings.ContainsFunc(nonce, func(c rune) bool { return c <= ' ' || c > '~' }) {
			refuse(fault.New(fault.Invalid, "the nonce has %d characters; %d to %d of ASCII are taken", len(nonce), minNonce, maxNonce).Then("make another one for each question"))
			return
		}
		text, err := sign(nonce)
		if err != nil {
			log.Error("the time could not be signed", "error", err)
			refuse(fault.New(fault.Internal, "something in the service failed").Then("ask again in a moment"))
			return
		}
		w.Header().Set("Content-Type", "application/jose")
		w.Header().Set("Cache-Control", "no-store")
		io.WriteString(w, text)
	})
}
