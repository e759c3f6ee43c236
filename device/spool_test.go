package device

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

func text(n int) entry {
	return entry{Name: "readings", Body: json.RawMessage(fmt.Sprintf(`{"n":%d}`, n)), Values: 1}
}

// bodies returns the messages in a spool, one by one.
func (s *spool) bodies() []string {
	var out []string
	for _, e := range s.entries {
		out = append(out, string(e.Body))
	}
	return out
}

func TestSpoolPutsReadingsTogether(t *testing.T) {
	s, err := openSpool("", 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 1000 {
		e := text(i)
		e.Values = 2
		s.add(e)
	}
	s.add(entry{Name: "event/muted", Body: json.RawMessage(`{}`)})
	s.add(text(1001))
	var got []string
	for {
		m, n := s.head()
		if n == 0 {
			break
		}
		got = append(got, fmt.Sprintf("%s %d", m.name, n))
		if !json.Valid(m.body) {
			t.Fatalf("not JSON: %s", m.body)
		}
		s.drop(n)
	}
	if want := []string{"readings 450", "readings 450", "readings 100", "event/muted 1", "readings 1"}; !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

func TestSpoolThrowsTheOldestAway(t *testing.T) {
	s, _ := openSpool("", 10*text(10).cost())
	for i := range 10 {
		s.add(text(i + 10))
	}
	if _, n := s.head(); n != 10 {
		t.Fatalf("%d under way, want 10", n)
	}
	for i := range 5 {
		s.add(text(i + 20))
	}
	if len(s.entries) != 11 || s.lost != 4 {
		t.Errorf("%d entries, %d lost; want 11 and 4: what is under way stays, and the newest", len(s.entries), s.lost)
	}
	s.drop(10)
	if got := s.bodies(); len(got) != 1 || got[0] != `{"n":24}` {
		t.Errorf("left are %v, want the newest", got)
	}
	for i := range 30 {
		s.add(text(i + 30))
	}
	if got := s.bodies(); len(got) != 10 || got[0] != `{"n":50}` {
		t.Errorf("left are %v, want the ten newest", got)
	}
}

// Whatever happens to a spool, its file gives the same entries back; at most
// some that were taken come again.
func TestSpoolFileHoldsWhatMemoryHolds(t *testing.T) {
	path := filepath.Join(t.TempDir(), "spool")
	r := rand.New(rand.NewPCG(1, 2))
	s, err := openSpool(path, 4<<10)
	if err != nil {
		t.Fatal(err)
	}
	for step := range 4000 {
		switch r.IntN(10) {
		case 0, 1:
			if _, n := s.head(); n > 0 {
				s.drop(1 + r.IntN(n))
			}
		case 2:
			want := s.bodies()
			s.close()
			if s, err = openSpool(path, 4<<10); err != nil {
				t.Fatal(err)
			}
			if got := s.bodies(); !slices.Equal(got, want) {
				t.Fatalf("step %d: the file gives %v, want %v", step, got, want)
			}
		default:
			if err := s.add(text(step)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if i, err := os.Stat(path); err != nil || i.Size() > 4*(4<<10) {
		t.Errorf("the file has %d bytes, %v; want no more than four times what is kept", i.Size(), err)
	}
	s.close()
}

func TestRetryGrowsAndVaries(t *testing.T) {
	d, err := New(Options{Server: "mqtt://h:1", ID: "a", Token: "t", RetryFirst: time.Second, RetryMost: time.Minute})
	if err != nil {
		t.Fatal(err)
	}
	seen := map[time.Duration]bool{}
	for tries := range 1000 {
		most := min(time.Second<<min(tries, 20), time.Minute)
		got := d.retry(tries)
		if got > most || got < most/2 {
			t.Fatalf("after %d failures it waits %s, want %s to %s", tries, got, most/2, most)
		}
		seen[got] = true
	}
	if len(seen) < 500 {
		t.Errorf("%d different waits of 1000; a fleet would come back at once", len(seen))
	}
}

// A file of any content is read without fail, and what it holds is JSON.
func FuzzSpoolFile(f *testing.F) {
	f.Add([]byte(`{"name":"readings","body":{"n":1},"values":1}` + "\n" + `{"taken":1}` + "\n"))
	f.Add([]byte(`{"taken":99}` + "\n" + `{"name":"event/muted","body":{}}`))
	f.Add([]byte("\x00\n{}\n{\"name\":\"readings\"}\n"))
	f.Add(bytes.Repeat([]byte("x"), lineMost+1))
	f.Fuzz(func(t *testing.T, content []byte) {
		s, err := openSpool("", 1<<20)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.load(bytes.NewReader(content)); err != nil {
			t.Fatal(err)
		}
		for {
			m, n := s.head()
			if n == 0 {
				return
			}
			if !json.Valid(m.body) {
				t.Fatalf("%q is no JSON", m.body)
			}
			s.drop(n)
		}
	})
}
