package api

import (
	"net/http"
	"testing"

	"github.com/danielgtaylor/huma/v2"
)

// What the framework refuses is told in one sentence that names the field, without what
// was sent.
func TestWordsOfTheFramework(t *testing.T) {
	at := func(place, words string) error {
		return &huma.ErrorDetail{Location: place, Message: words, Value: "a password"}
	}
	for _, c := range []struct {
		status int
		errs   []error
		want   string
	}{
		{422, []error{at("body.cap", "must be 1 at least")}, "cap must be 1 at least"},
		{422, []error{at("body.labels.site", "must be a text"), at("body", "needs the field model")},
			"labels/site must be a text; what was sent needs the field model"},
		{422, []error{at("query.limit", "must be 1 at least")}, "limit must be 1 at least"},
		{422, []error{at("query.limit", "invalid integer")}, "limit must be a whole number"},
		{400, []error{at("body", "unexpected end of JSON input")}, "what was sent is no JSON: unexpected end of JSON input"},
		{422, []error{at("query.from", "invalid date/time for format 2006-01-02")},
			"from must be a time in RFC 3339, like 2026-03-01T10:00:00Z"},
		{415, []error{at("body", "unknown content type: text/plain")}, "unknown content type: text/plain; send application/json"},
		{400, nil, "validation failed"},
	} {
		err := huma.NewError(c.status, "validation failed", c.errs...)
		if err.Error() != c.want || err.GetStatus() != c.status {
			t.Errorf("%d %v is told as %q, want %q", c.status, c.errs, err, c.want)
		}
	}
	if s := huma.NewError(http.StatusTeapot, "no"); s.GetStatus() != http.StatusTeapot {
		t.Errorf("the status became %d", s.GetStatus())
	}
}
