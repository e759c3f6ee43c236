package device

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
)

// entry is one message in the spool. In the file it is one line of JSON.
type entry struct {
	Name   string          `json:"name,omitempty"`
	Body   json.RawMessage `json:"body,omitempty"`
	Values int             `json:"values,omitempty"` // metrics in a reading
	// Taken, alone on its line, says that the service has so many of the entries
	// before it.
	Taken int `json:"taken,omitempty"`
}

// cost is what an entry counts of the spool's bytes.
func (e entry) cost() int64 { return int64(len(e.Name) + len(e.Body) + 32) }

// message is what goes out: one entry, or readings that were put together.
type message struct {
	name string
	body []byte
}

// spool keeps messages in their order until the service has them.
type spool struct {
	most int64

	mu      sync.Mutex
	entries []entry
	bytes   int64
	lost    int
	sending int           // entries at the head that are under way
	news    chan struct{} // closed and renewed with every change
	file    *os.File      // nil for memory only
	written int64         // bytes in the file
}

const (
	// valuesAtOnce and bytesAtOnce bound what readings are put into one message:
	// the service takes 1,000 values.
	valuesAtOnce = 900
	bytesAtOnce  = 128 << 10
	// lineMost bounds a line of the file.
	lineMost = MaxMessage + 4096
)

func openSpool(path string, most int64) (*spool, error) {
	s := &spool{most: most, news: make(chan struct{})}
	if path == "" {
		return s, nil
	}
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the spool cannot be opened: %w", cause(err))
	}
	s.file = f
	if err := errors.Join(s.load(f), s.rewrite()); err != nil {
		f.Close()
		return nil, fmt.Errorf("the spool %s cannot be read: %w", path, err)
	}
	return s, nil
}

func cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return fmt.Errorf("%s: %w", p.Path, p.Err)
	}
	return err
}

// load reads what a file holds. What a power cut left of the last line is
// dropped.
func (s *spool) load(file io.Reader) error {
	r := bufio.NewReaderSize(file, 64<<10)
	for {
		line, err := readLine(r)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		var e entry
		if json.Unmarshal(line, &e) != nil {
			return nil // torn: nothing behind it was ever promised
		}
		if e.Taken > 0 {
			n := min(e.Taken, len(s.entries))
			for _, x := range s.entries[:n] {
				s.bytes -= x.cost()
			}
			s.entries = s.entries[n:]
			continue
		}
		if e.Name != "" && len(e.Body) > 0 {
			s.push(e)
		}
	}
}

// readLine reads one line, whose length is bounded. A line without an end is EOF.
func readLine(r *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		if len(line)+len(part) > lineMost {
			return nil, io.EOF
		}
		line = append(line, part...)
		if err == nil {
			return line, nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil, err
		}
	}
}

// push adds an entry and throws away the oldest that do not fit; those under way
// stay. The caller holds mu.
func (s *spool) push(e entry) {
	s.entries = append(s.entries, e)
	s.bytes += e.cost()
	for s.bytes > s.most && len(s.entries) > s.sending+1 {
		s.bytes -= s.entries[s.sending].cost()
		copy(s.entries[1:], s.entries[:s.sending])
		s.entries[0] = entry{}
		s.entries = s.entries[1:]
		s.lost++
	}
}

func (s *spool) add(e entry) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	before := s.lost
	s.push(e)
	s.told()
	if s.file == nil {
		return nil
	}
	if s.lost > before && s.written > 2*s.most {
		return s.rewrite()
	}
	return s.write(e, true)
}

// told wakes who waits for a change; the caller holds mu.
func (s *spool) told() {
	close(s.news)
	s.news = make(chan struct{})
}

func (s *spool) write(e entry, sync bool) error {
	line, err := json.Marshal(e)
	if err != nil {
		return fmt.Errorf("the spool: %w", err)
	}
	n, err := s.file.Write(append(line, '\n'))
	s.written += int64(n)
	if err == nil && sync {
		err = s.file.Sync()
	}
	if err != nil {
		return fmt.Errorf("the spool cannot be written, so this outlives no restart: %w", cause(err))
	}
	return nil
}

// rewrite writes the file anew, beside the old one, with what is still to send.
func (s *spool) rewrite() error {
	path := s.file.Name()
	next, err := os.OpenFile(path+".new", os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return cause(err)
	}
	old := s.file
	s.file, s.written = next, 0
	w := bufio.NewWriter(next)
	for _, e := range s.entries {
		line, err := json.Marshal(e)
		if err == nil {
			line = append(line, '\n')
			s.written += int64(len(line))
			_, err = w.Write(line)
		}
		if err != nil {
			next.Close()
			s.file = old
			return err
		}
	}
	err = errors.Join(w.Flush(), next.Sync())
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		next.Close()
		s.file = old
		return cause(err)
	}
	old.Close()
	// Later rewrites go by the name of the file, which is the old one again.
	if s.file, err = os.OpenFile(path, os.O_RDWR|os.O_APPEND, 0o600); err != nil {
		s.file = next
		return cause(err)
	}
	next.Close()
	return nil
}

// head returns the next message and how many entries are in it; they are under
// way until they are dropped. Readings go out together.
func (s *spool) head() (message, int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.entries) == 0 {
		s.sending = 0
		return message{}, 0
	}
	first := s.entries[0]
	n, values, size := 1, first.Values, len(first.Body)
	for first.Name == "readings" && n < len(s.entries) {
		e := s.entries[n]
		if e.Name != "readings" || values+e.Values > valuesAtOnce || size+len(e.Body) > bytesAtOnce {
			break
		}
		n, values, size = n+1, values+e.Values, size+len(e.Body)+1
	}
	s.sending = n
	if n == 1 {
		return message{first.Name, first.Body}, 1
	}
	body := append(make([]byte, 0, size+2), '[')
	for i, e := range s.entries[:n] {
		if i > 0 {
			body = append(body, ',')
		}
		body = append(body, e.Body...)
	}
	return message{first.Name, append(body, ']')}, n
}

// drop takes n entries out: the service has them.
func (s *spool) drop(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range n {
		s.bytes -= s.entries[i].cost()
		s.entries[i] = entry{}
	}
	s.entries = s.entries[n:]
	s.sending = 0
	if len(s.entries) == 0 {
		s.entries = nil
	}
	s.told()
	if s.file == nil {
		return
	}
	if len(s.entries) == 0 && s.written > 64<<10 || s.written > 2*s.most {
		_ = s.rewrite() // else the old file holds: what is sent again does no harm
		return
	}
	_ = s.write(entry{Taken: n}, false)
}

// changed returns a channel that is closed with the next change.
func (s *spool) changed() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.news
}

func (s *spool) size() (int, int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.entries), s.bytes
}

func (s *spool) lostSoFar() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lost
}

func (s *spool) close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.file == nil {
		return nil
	}
	err := s.file.Close()
	s.file = nil
	return err
}
