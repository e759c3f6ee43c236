package api

import (
	"encoding/json"
	"net/http"
	"strings"
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
	// What the decoder says of its own types and states is said as of what was sent.
	for sent, want := range map[string]string{
		``:                         "it ends too early; a bracket or a quote is not closed",
		`{"a": [1`:                 "it ends too early; a bracket or a quote is not closed",
		`{"a": 1e999}`:             "the number 1e999 does not fit a 64-bit float",
		`{"a":1,}`:                 "} stands where a name begins; names stand in double quotes",
		`{'a':1}`:                  `\' stands where a name begins; names stand in double quotes`,
		`{"a":1 "b":2}`:            `" stands after object key:value pair`,
		`{"a" 1}`:                  "1 stands after object key",
		`[1 2]`:                    "2 stands after array element",
		`// none`:                  "/ stands where a value begins",
		`nul`:                      "a word in it is none of true, false and null",
		`{"a": True, "b": nulx}`:   "T stands where a value begins",
		`{"a": nulx}`:              "a word in it is none of true, false and null",
		`{} {}`:                    "{ stands behind its end",
		"\ufeff{}":                 "it begins with a byte-order mark, or with a letter; send UTF-8 without the mark",
		strings.Repeat("[", 20000): "its brackets are nested too deeply",
		strings.Repeat("9", 400):   "the number " + strings.Repeat("9", 40) + "… does not fit a 64-bit float",
	} {
		var into any
		err := json.Unmarshal([]byte(sent), &into)
		if err == nil {
			t.Fatalf("%.40s is JSON", sent)
		}
		if got := noJSON(err.Error()); got != "is no JSON: "+want {
			t.Errorf("%.40s is told as %q, want %q", sent, got, want)
		}
	}
	if s := huma.NewError(http.StatusTeapot, "no"); s.GetStatus() != http.StatusTeapot {
		t.Errorf("the status became %d", s.GetStatus())
	}
}
