package traffic_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"ullage/core/model"
	"ullage/fleet/traffic"
)

func TestRings(t *testing.T) {
	l := traffic.New(traffic.Options{All: 10, EachDevice: 3, Start: time.UnixMilli(0)})
	for i := range 25 {
		e := traffic.Entry{Device: fmt.Sprintf("d%d", i%2), Body: fmt.Sprint(i)}
		if i%10 == 0 {
			e.Reason = "no"
		}
		if got := l.Add(e); got.Seq != uint64(i+1) {
			t.Errorf("entry %d has number %d", i, got.Seq)
		}
	}
	bodies := func(es []traffic.Entry) string {
		var out []string
		for _, e := range es {
			out = append(out, e.Body)
		}
		return strings.Join(out, ",")
	}
	for _, c := range []struct {
		f    traffic.Filter
		want string
	}{
		{traffic.Filter{}, "24,23,22,21,20,19,18,17,16,15"},
		{traffic.Filter{Limit: 2}, "24,23"},
		{traffic.Filter{After: 23}, "24,23"},
		{traffic.Filter{Device: "d1"}, "23,21,19"},
		{traffic.Filter{Device: "d9"}, ""},
		{traffic.Filter{Refused: true}, "20"},
	} {
		if got := bodies(l.Recent(c.f)); got != c.want {
			t.Errorf("%+v gives %s, want %s", c.f, got, c.want)
		}
	}
	if all, refused := l.Counts(); all != 25 || refused != 3 {
		t.Errorf("counts are %d and %d", all, refused)
	}
}

func TestBodiesAreCut(t *testing.T) {
	l := traffic.New(traffic.Options{All: 1, EachDevice: 1})
	e := l.Add(traffic.Entry{Body: strings.Repeat("ü", 5000)})
	if e.Size != 10000 || len(e.Body) > 2060 || !utf8.ValidString(e.Body) || !strings.HasSuffix(e.Body, "…") {
		t.Errorf("size %d, %d bytes are kept", e.Size, len(e.Body))
	}
}

func TestRefusal(t *testing.T) {
	if (&traffic.Entry{Marked: []model.Finding{{}}}).Refusal() || !(&traffic.Entry{Refused: []model.Finding{{}}}).
		Refusal() {
		t.Error("a mark is no refused, a refusal is")
	}
}

func TestRefs(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		r := traffic.NewRef()
		if len(r) != 4 || strings.ContainsAny(r, "01IO") {
			t.Errorf("ref %q", r)
		}
		seen[r] = true
	}
	if len(seen) < 190 {
		t.Errorf("only %d of 200 refs differ", len(seen))
	}
}

// Whatever is sent, the log stays within its bytes, and says that something was
// there and was refused.
func TestBytesAreBounded(t *testing.T) {
	const budget = 1 << 20
	l := traffic.New(traffic.Options{Bytes: budget})
	long := strings.Repeat("x", 300_000)
	var many []model.Finding
	for range 500 {
		many = append(many, model.Finding{Pointer: "/" + long, Sentence: long})
	}
	e := l.Add(traffic.Entry{Topic: long, Claimed: long, Reason: long, Note: long, Body: long, Refused: many, Marked: many})
	if b, err := json.Marshal(e); err != nil || len(b) > 16<<10 {
		t.Fatalf("one entry takes %d bytes, %v; want at most 16 KiB", len(b), err)
	}
	if n := len(e.Refused); n != 11 || e.Refused[10].Sentence != "and 490 more like these" {
		t.Errorf("%d findings are kept, the last is %v; want 10 and how many more", n, e.Refused[n-1])
	}
	for i := range 3000 {
		l.Add(traffic.Entry{Device: fmt.Sprintf("tank-%d", i%300), Topic: long, Reason: long, Refused: many})
	}
	all := 0
	seen := map[uint64]bool{}
	for i := range 300 {
		for _, e := range l.Recent(traffic.Filter{Device: fmt.Sprintf("tank-%d", i), Refused: true}) {
			seen[e.Seq] = true
			all += len(e.Body) + len(e.Topic) + len(e.Reason) + len(e.Note)
			for _, f := range e.Refused {
				all += len(f.Pointer) + len(f.Sentence)
			}
		}
	}
	// What is emptied still has some words.
	if limit := budget + 3000*200; all > limit || len(seen) != 3000 {
		t.Errorf("%d entries hold %d bytes, want 3000 with at most %d", len(seen), all, limit)
	}
	if newest := l.Recent(traffic.Filter{Limit: 1})[0]; len(newest.Refused) == 0 {
		t.Errorf("the newest entry is %+v, want it whole", newest)
	}
}

// What strangers claim does nothing to a terminal.
func TestClaimsArePrintable(t *testing.T) {
	l := traffic.New(traffic.Options{})
	e := l.Add(traffic.Entry{Topic: "join", Claimed: "TP\x00\x1b[31mx\u0085Ä"})
	if want := `TP\x00\x1b[31mx\x85Ä`; e.Claimed != want {
		t.Errorf("the claim is %q, want %q", e.Claimed, want)
	}
}
