package conns_test

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ullage/transport/conns"
)

// closed reports whether the other side has ended a connection.
func closed(c net.Conn) bool {
	c.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
	_, err := c.Read(make([]byte, 1))
	var timeout net.Error
	return err != nil && !(errors.As(err, &timeout) && timeout.Timeout())
}

// TestPace takes some at once, and the rest at the pace.
func TestPace(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := conns.NewPool(conns.Options{}).Listen(inner, conns.Listening{Pace: 100})
	defer l.Close()
	for range 40 {
		c, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
	}
	begun := time.Now()
	for range 40 {
		s, err := l.Accept()
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
	}
	// More than thirty of them wait for 10 ms each; a slow machine takes longer.
	if took := time.Since(begun); took < 250*time.Millisecond {
		t.Errorf("40 connections were taken within %s, want six at once and a hundred a second", took)
	}
}

// The oldest strangers give way to new ones; who is known stays.
func TestStrangersGiveWay(t *testing.T) {
	pool := conns.NewPool(conns.Options{Strangers: 4, Address: 4})
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := pool.Listen(inner, conns.Listening{WriteWait: time.Second})
	defer l.Close()
	var here, there []net.Conn
	for i := range 10 {
		c, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		s, err := l.Accept()
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if i%3 == 0 {
			conns.Known(s)
		}
		here, there = append(here, c), append(there, s)
	}
	var gone []int
	for i, c := range here {
		if closed(c) {
			gone = append(gone, i)
		}
	}
	// 0, 3, 6 and 9 are known soon after they came; 6, 8 and 9 each found four strangers.
	if fmt.Sprint(gone) != "[1 2 4]" {
		t.Errorf("%v had to go, want the oldest strangers of their time", gone)
	}
	if n, evicted := pool.Counts(); n != 3 || evicted != 3 {
		t.Errorf("%d strangers are left and %d had to go, want 3 and 3", n, evicted)
	}
	for _, s := range there {
		s.Close()
	}
	if n, _ := pool.Counts(); n != 0 {
		t.Errorf("%d strangers are left once all are closed, want none", n)
	}
}

// The address with most strangers loses one, not the one that comes.
func TestCrowdedAddressGivesWay(t *testing.T) {
	pool := conns.NewPool(conns.Options{Strangers: 10, Address: 8})
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := pool.Listen(inner, conns.Listening{})
	defer l.Close()
	from := func(host string) net.Conn {
		t.Helper()
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(host)}}
		c, err := d.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		s, err := l.Accept()
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		return c
	}
	alone := from("127.0.0.9")
	for range 30 {
		from("127.0.0.2")
	}
	for i := range 5 {
		from(fmt.Sprintf("127.0.1.%d", i+1))
	}
	if closed(alone) {
		t.Error("an address with one connection lost it to one with thirty")
	}
}

// failing fails some times before it accepts.
type failing struct {
	net.Listener
	left atomic.Int32
}

func (f *failing) Accept() (net.Conn, error) {
	if f.left.Add(-1) >= 0 {
		return nil, &net.OpError{Op: "accept", Err: syscall.EMFILE}
	}
	return f.Listener.Accept()
}

// Too few descriptors are waited for, and strangers give theirs.
func TestTooFewDescriptors(t *testing.T) {
	pool := conns.NewPool(conns.Options{Strangers: 10})
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	f := &failing{Listener: inner}
	l := pool.Listen(f, conns.Listening{})
	first, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	if _, err := l.Accept(); err != nil {
		t.Fatal(err)
	}
	f.left.Store(3)
	second, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	if _, err := l.Accept(); err != nil {
		t.Errorf("accepting gives %v after errors that pass, want the connection", err)
	}
	if !closed(first) {
		t.Error("the stranger kept its connection, want it given")
	}
	l.Close()
	if _, err := l.Accept(); !errors.Is(err, net.ErrClosed) {
		t.Errorf("a closed listener gives %v, want that it is closed", err)
	}
}

// A whole body gets through, in pieces and behind another one.
func TestBodies(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: conns.Bodies(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, err := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%d %v", len(b), err)
	}))}
	go s.Serve(l)
	defer s.Close()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	answers := bufio.NewReader(c)
	for range 3 {
		fmt.Fprintf(c, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 20\r\n\r\n%s", strings.Repeat("a", 10))
		time.Sleep(20 * time.Millisecond)
		fmt.Fprint(c, strings.Repeat("b", 10))
		resp, err := http.ReadResponse(answers, nil)
		if err != nil {
			t.Fatal(err)
		}
		if b, _ := io.ReadAll(resp.Body); string(b) != "20 <nil>" {
			t.Errorf("the handler read %s, want 20 bytes", b)
		}
	}
}

// Strangers that hang up in one moment are seen to one after the other; who is known,
// and a read that only ran out of time, does not wait behind them.
func TestEndsOfStrangersArePaced(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := conns.NewPool(conns.Options{Strangers: 4096, Address: 4096}).Listen(inner, conns.Listening{})
	defer l.Close()
	pair := func() (here, there net.Conn) {
		t.Helper()
		here, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		if there, err = l.Accept(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { here.Close(); there.Close() })
		return here, there
	}
	const many = 450
	var gone []net.Conn
	ends := make(chan time.Time, many)
	for range many {
		here, there := pair()
		gone = append(gone, here)
		go func() {
			if _, err := there.Read(make([]byte, 1)); err != io.EOF {
				t.Errorf("a stranger that hangs up is told as %v", err)
			}
			ends <- time.Now()
		}()
	}
	friend, known := pair()
	conns.Known(known)
	_, slow := pair()
	slow.SetReadDeadline(time.Now())

	begun := time.Now()
	for _, c := range append(gone, friend) {
		c.Close()
	}
	if _, err := slow.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a read that runs out of time says %v", err)
	}
	if _, err := known.Read(make([]byte, 1)); err != io.EOF {
		t.Errorf("the end of one who is known is told as %v", err)
	}
	known.Close()
	others := time.Now()
	var last time.Time
	for range many {
		if at := <-ends; at.After(last) {
			last = at
		}
	}
	// Fifty are seen to at once, and a thousand a second after them.
	if took := last.Sub(begun); took < 350*time.Millisecond || took > 30*time.Second {
		t.Errorf("%d ends were seen to within %s", many, took)
	}
	if !others.Before(last) {
		t.Error("who is known waited behind all strangers")
	}
}
