// Package mqtt serves devices that speak MQTT 3.1.1 (ISO/IEC 20922)
// or MQTT 5.0 (OASIS) over TCP. It serves devices and is no general broker: a
// device reaches its own topics under ullage/<id>/ and nothing else.
package mqtt

import (
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ullage/fleet/event"
	"ullage/transport/door"
)

// Options are what a Server is made of.
type Options struct {
	Door *door.Door
	Log  *slog.Logger
	Now  func() time.Time
}

// Server holds the sessions of every device. Create one with NewServer, give
// Handle to the bus, and Serve a listener.
type Server struct {
	o        Options
	limits   door.Limits
	mu       sync.Mutex
	sessions map[string]*session   // by client id
	kept     map[string]*kept      // of sessions that are away, by client id
	away     map[string][]string   // their client ids by device, the one that went first in front
	byDevice map[string][]*session // now connected
	conns    map[net.Conn]struct{}
	stopped  bool
	wg       sync.WaitGroup
	hands    *hands
	hellos   atomic.Uint64
}

// kept is what outlives a connection: subscriptions, until the session expires.
type kept struct {
	device  string
	subs    map[string]byte
	expires time.Time
}

// NewServer returns a Server without sessions.
func NewServer(o Options) *Server {
	return &Server{o: o, limits: o.Door.Limits(), sessions: map[string]*session{}, kept: map[string]*kept{}, away: map[string][]string{},
		byDevice: map[string][]*session{}, conns: map[net.Conn]struct{}{}, hands: newHands()}
}

// Serve accepts connections until the listener is closed.
func (s *Server) Serve(l net.Listener) error { return s.accept(l, nil) }

// ServeTLS is Serve for connections that are encrypted.
func (s *Server) ServeTLS(l net.Listener, config *tls.Config) error { return s.accept(l, config) }

func (s *Server) accept(l net.Listener, config *tls.Config) error {
	for {
		conn, err := l.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return nil
			}
			s.o.Log.Warn("a connection could not be accepted", "error", err)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		s.mu.Lock()
		if s.stopped {
			s.mu.Unlock()
			conn.Close()
			return nil
		}
		s.conns[conn] = struct{}{}
		s.wg.Add(1)
		s.mu.Unlock()
		go s.begin(conn, config)
	}
}

// begin hears what a connection says first, after the handshake where there is one. A session
// lives on a goroutine of its own: to greet it has made the stack of this one deep, and a stack
// is most of what a session costs while it waits.
func (s *Server) begin(conn net.Conn, config *tls.Config) {
	x := &session{srv: s, raw: conn, conn: conn}
	if config != nil {
		secured := tls.Server(conn, config)
		if s.o.Door.Handshake(secured, transport, s.limits.Hello) != nil {
			s.over(conn)
			return
		}
		state := secured.ConnectionState()
		x.conn, x.tls = secured, &state
	}
	if !x.greet() {
		s.leave(x)
		close(x.gone)
		s.over(conn)
		return
	}
	go x.live()
}

// over closes a connection and forgets it.
func (s *Server) over(conn net.Conn) {
	conn.Close()
	s.mu.Lock()
	delete(s.conns, conn)
	s.mu.Unlock()
	s.wg.Done()
}

// Stop ends every session, telling the devices that the service is going, and
// waits for them up to a time. What was accepted is still acknowledged.
func (s *Server) Stop(wait time.Duration) {
	s.mu.Lock()
	if !s.stopped {
		defer s.hands.close()
	}
	s.stopped = true
	open := make([]*session, 0, len(s.sessions))
	for _, x := range s.sessions {
		open = append(open, x)
	}
	// Connections that have not said hello yet have no session to tell.
	idle := make([]net.Conn, 0)
	known := map[net.Conn]bool{}
	for _, x := range open {
		known[x.raw] = true
	}
	for c := range s.conns {
		if !known[c] {
			idle = append(idle, c)
		}
	}
	s.mu.Unlock()
	for _, c := range idle {
		c.Close()
	}
	for _, x := range open {
		x.end(codeShuttingDown, "the service is stopping")
	}
	done := make(chan struct{})
	go func() { s.wg.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(wait):
		s.mu.Lock()
		for c := range s.conns {
			c.Close()
		}
		s.mu.Unlock()
	}
}

// Handle passes on news to sessions: new intended settings, commands, and the end for
// devices that may not stay.
func (s *Server) Handle(_ int, e event.Event) {
	switch e := e.(type) {
	case event.Settings:
		for _, x := range s.of(e.Device) {
			if e.Again {
				x.forget()
			}
			x.poke()
		}
	case event.Command:
		for _, x := range s.of(e.Device) {
			x.poke()
		}
	case event.Device:
		for _, x := range s.of(e.Device) {
			if why, ok := x.dev.MayStay(); !ok {
				go x.end(codeNotAuthorised, why) // writing may wait; the bus must not
			}
		}
	}
}

func (s *Server) of(device string) []*session {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.byDevice[device])
}

// Connected returns how many sessions are connected.
func (s *Server) Connected() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.sessions)
}

var (
	errStopping = errors.New("the service is stopping")
	errNewer    = errors.New("a newer connection has taken over this client id")
)

// enter makes x a session, ending the one that had its client id, and reports
// whether a kept session was resumed.
func (s *Server) enter(x *session, clean bool) (resumed bool, err error) {
	for {
		s.mu.Lock()
		old := s.sessions[x.clientID]
		switch {
		case s.stopped:
			s.mu.Unlock()
			return false, errStopping
		case old != nil && old.order > x.order: // it came later, and was quicker
			s.mu.Unlock()
			return false, errNewer
		}
		if old == nil {
			if err := x.dev.Enter(); err != nil {
				s.mu.Unlock()
				return false, err
			}
			break
		}
		s.mu.Unlock()
		old.conn.SetWriteDeadline(time.Now().Add(time.Second)) // whoever is gone takes nothing any more
		old.end(codeTakenOver, "the device connected again with the same client id")
		<-old.gone
	}
	defer s.mu.Unlock()
	k := s.kept[x.clientID]
	delete(s.kept, x.clientID)
	if k != nil && !clean && k.device == x.dev.ID && s.o.Now().Before(k.expires) {
		x.subs, resumed = k.subs, true
	}
	s.sessions[x.clientID] = x
	s.byDevice[x.dev.ID] = append(s.byDevice[x.dev.ID], x)
	return resumed, nil
}

// leave takes x out; its subscriptions are kept for as long as it asked.
func (s *Server) leave(x *session) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sessions[x.clientID] != x {
		return
	}
	delete(s.sessions, x.clientID)
	x.dev.Leave()
	s.byDevice[x.dev.ID] = slices.DeleteFunc(s.byDevice[x.dev.ID], func(o *session) bool { return o == x })
	if len(s.byDevice[x.dev.ID]) == 0 {
		delete(s.byDevice, x.dev.ID)
	}
	now := s.o.Now()
	if len(s.kept) > 1000 {
		for id, k := range s.kept {
			if now.After(k.expires) {
				delete(s.kept, id)
				s.away[k.device] = slices.DeleteFunc(s.away[k.device], func(o string) bool { return o == id })
				if len(s.away[k.device]) == 0 {
					delete(s.away, k.device)
				}
			}
		}
	}
	if x.expiry <= 0 || len(x.subs) == 0 {
		return
	}
	ids := slices.DeleteFunc(s.away[x.dev.ID], func(id string) bool { return id == x.clientID || s.kept[id] == nil })
	for len(ids) >= maxKept { // the one that went first
		delete(s.kept, ids[0])
		ids = ids[1:]
	}
	s.away[x.dev.ID] = append(ids, x.clientID)
	s.kept[x.clientID] = &kept{x.dev.ID, x.subs, now.Add(x.expiry)}
}
