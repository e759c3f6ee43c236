// Package conns bounds the connections that strangers hold. Whoever has not yet
// said who they are is a stranger; where there are too many of them the oldest of
// the address that has most go, so that somebody new always gets to speak, and
// descriptors are left for the devices and people that are known.
package conns

import (
	"container/list"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/time/rate"
)

// Options bound a Pool.
type Options struct {
	// Strangers is how many connections strangers may hold on all listeners
	// together; a quarter of the descriptors of the process if it is zero, within
	// 64 and 4,096.
	Strangers int
	// Address is how many of them one address may hold; half of them if it is zero.
	Address int
	Log     *slog.Logger
}

// Pool is what the listeners of a service share.
type Pool struct {
	o Options

	mu        sync.Mutex
	addresses map[string]*list.List // of *Conn, the oldest in front
	strangers int
	evicted   atomic.Uint64
	logged    time.Time
	ends      *rate.Limiter // of strangers
}

// How many strangers that hang up are seen to a second, after endBurst at once, and how
// long one of them waits at most. Thousands that go in one moment would else stand, each
// with a little work, in front of what devices wait for.
const (
	endPace  = 1000
	endBurst = 50
	endWait  = 2 * time.Second
)

// NewPool returns a Pool without connections.
func NewPool(o Options) *Pool {
	if o.Strangers <= 0 {
		o.Strangers = 4096
		var files syscall.Rlimit
		if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files) == nil {
			o.Strangers = int(min(max(files.Cur/4, 64), 4096))
		}
	}
	if o.Address <= 0 {
		o.Address = max(o.Strangers/2, 1)
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	return &Pool{o: o, addresses: map[string]*list.List{}, ends: rate.NewLimiter(endPace, endBurst)}
}

// Counts returns how many connections strangers hold now, and how many had to go
// since the start.
func (p *Pool) Counts() (strangers int, evicted uint64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.strangers, p.evicted.Load()
}

// Listening says how a listener takes connections.
type Listening struct {
	// Name is what its connections are told apart by, for ListenerOf; may be empty.
	Name string
	// WriteWait is the time within which each write has to get on; whoever writes
	// sees to it if it is zero.
	WriteWait time.Duration
	// Pace is how many connections are taken a second, after a twentieth as many at
	// once, and six at least; those that wait are with the operating system. What many strangers ask
	// for at once then comes in between what the others do, and not before it. No
	// limit if it is zero.
	Pace int
}

// Listen returns a listener whose connections are counted.
func (p *Pool) Listen(l net.Listener, o Listening) net.Listener {
	pace := rate.NewLimiter(rate.Inf, 1)
	if o.Pace > 0 {
		pace = rate.NewLimiter(rate.Limit(o.Pace), max(o.Pace/20, 6))
	}
	return &listener{Listener: l, pool: p, name: o.Name, writeWait: o.WriteWait, pace: pace}
}

type listener struct {
	net.Listener
	pool      *Pool
	name      string
	writeWait time.Duration
	pace      *rate.Limiter
}

// Accept waits for the next connection. Errors that pass, such as too few
// descriptors, are waited for, and told once a second.
func (l *listener) Accept() (net.Conn, error) {
	time.Sleep(l.pace.Reserve().Delay())
	for wait := 5 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		conn, err := l.Listener.Accept()
		if err == nil {
			c := &Conn{Conn: conn, pool: l.pool, listener: l.name, address: HostOf(conn.RemoteAddr().String()), writeWait: l.writeWait}
			l.pool.add(c)
			return c, nil
		}
		if errors.Is(err, net.ErrClosed) {
			return nil, err
		}
		l.pool.told(l.Addr(), err)
		l.pool.relieve()
		time.Sleep(wait)
	}
}

func (p *Pool) told(at net.Addr, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if time.Since(p.logged) < time.Second {
		return
	}
	p.logged = time.Now()
	p.o.Log.Warn("a connection could not be accepted; strangers give way", "listener", at, "strangers", p.strangers,
		"error", err)
}

func (p *Pool) add(c *Conn) {
	p.mu.Lock()
	var out *Conn
	if of := p.addresses[c.address]; of != nil && of.Len() >= p.o.Address {
		out = p.oldest(of)
	} else if p.strangers >= p.o.Strangers {
		out = p.oldest(p.crowd())
	}
	of := p.addresses[c.address]
	if of == nil {
		of = list.New()
		p.addresses[c.address] = of
	}
	c.at = of.PushBack(c)
	p.strangers++
	p.mu.Unlock()
	p.evict(out)
}

// relieve ends the connection of one stranger, for want of descriptors.
func (p *Pool) relieve() {
	p.mu.Lock()
	out := p.oldest(p.crowd())
	p.mu.Unlock()
	p.evict(out)
}

func (p *Pool) evict(c *Conn) {
	if c != nil {
		p.evicted.Add(1)
		c.Conn.Close() // whoever serves it notices
	}
}

// crowd is the address with most strangers; nil if there are none.
func (p *Pool) crowd() (most *list.List) {
	for _, of := range p.addresses {
		if most == nil || of.Len() > most.Len() {
			most = of
		}
	}
	return most
}

// oldest takes the oldest of an address out.
func (p *Pool) oldest(of *list.List) *Conn {
	if of == nil || of.Len() == 0 {
		return nil
	}
	c := of.Front().Value.(*Conn)
	p.forget(c)
	return c
}

// forget takes a connection out of those of strangers; the pool is locked.
func (p *Pool) forget(c *Conn) {
	if c.at == nil {
		return
	}
	of := p.addresses[c.address]
	of.Remove(c.at)
	c.at = nil
	p.strangers--
	if of.Len() == 0 {
		delete(p.addresses, c.address)
	}
}

// Conn is a counted connection.
type Conn struct {
	net.Conn
	pool      *Pool
	listener  string
	address   string
	writeWait time.Duration
	at        *list.Element // among strangers; nil once known, or gone
}

// Known says that the other side has shown who it is.
func (c *Conn) Known() {
	c.pool.mu.Lock()
	c.pool.forget(c)
	c.pool.mu.Unlock()
}

// Close ends the connection.
func (c *Conn) Close() error {
	c.Known()
	return c.Conn.Close()
}

// Read reads as net.Conn does. That a stranger has hung up it tells when its turn comes.
func (c *Conn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if err == nil || n > 0 || errors.Is(err, net.ErrClosed) || errors.Is(err, os.ErrDeadlineExceeded) {
		return n, err
	}
	c.pool.mu.Lock()
	stranger := c.at != nil
	c.pool.mu.Unlock()
	if stranger {
		time.Sleep(min(c.pool.ends.Reserve().Delay(), endWait))
	}
	return n, err
}

func (c *Conn) Write(b []byte) (int, error) {
	if c.writeWait > 0 {
		c.Conn.SetWriteDeadline(time.Now().Add(c.writeWait))
	}
	return c.Conn.Write(b)
}

// Known is Conn.Known for a connection that may be another one.
func Known(c net.Conn) {
	if k := counted(c); k != nil {
		k.Known()
	}
}

// ListenerOf returns the name of the listener that a connection came by; empty for one
// of another kind.
func ListenerOf(c net.Conn) string {
	if k := counted(c); k != nil {
		return k.listener
	}
	return ""
}

func counted(c net.Conn) *Conn {
	if t, ok := c.(*tls.Conn); ok {
		c = t.NetConn()
	}
	k, _ := c.(*Conn)
	return k
}

type connKey struct{}

// Context is for http.Server.ConnContext: it lets KnownIn find the connection.
func Context(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, connKey{}, c)
}

// ListenerIn is ListenerOf for the connection of an HTTP request, by its context.
func ListenerIn(ctx context.Context) string {
	c, _ := ctx.Value(connKey{}).(net.Conn)
	return ListenerOf(c)
}

// KnownIn is Known for the connection of an HTTP request, by its context.
func KnownIn(ctx context.Context) {
	if c, ok := ctx.Value(connKey{}).(net.Conn); ok {
		Known(c)
	}
}

// How long a request's body may take: bodyWait, and a second more for each
// bodyRate bytes that have come.
const (
	bodyWait = 30 * time.Second
	bodyRate = 4 << 10
)

// Bodies gives the body of each request a time to come in by: whoever begins one
// and does not go on loses the connection.
func Bodies(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body != nil && r.Body != http.NoBody {
			b := &body{ReadCloser: r.Body, control: http.NewResponseController(w), begun: time.Now()}
			b.allow()
			r.Body = b
		}
		next.ServeHTTP(w, r)
	})
}

type body struct {
	io.ReadCloser
	control *http.ResponseController
	begun   time.Time
	n       int64
}

func (b *body) allow() {
	_ = b.control.SetReadDeadline(b.begun.Add(bodyWait + time.Duration(b.n/bodyRate)*time.Second))
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.n += int64(n)
	if err == io.EOF {
		_ = b.control.SetReadDeadline(time.Time{}) // what comes next is another request
	} else {
		b.allow()
	}
	return n, err
}

// Loopback reports whether a host is this machine.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback() || host == "localhost"
}

// HostOf returns the host of an address with a port.
func HostOf(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return address
}
