package server

import (
	"bytes"
	"io"
	"os"
	"testing"
	"time"

	"ullage/fleet/people"
)

// The binary of the tests is the hasher that it starts.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == HashCommand {
		if os.Getenv("HOME") != "" {
			os.Exit(3) // it was told what it does not need
		}
		if err := Hash(os.Stdin, os.Stdout); err != nil {
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func TestHasher(t *testing.T) {
	h := &hasher{}
	defer h.Close()
	salt := []byte("sixteen bytes of")
	for _, password := range []string{"", "long-enough-1", "pässword with ünicode", string(bytes.Repeat([]byte("x"), maxHashed)), string(bytes.Repeat([]byte("x"), maxHashed+1))} {
		if got, want := h.hash(password, salt), people.Hash(password, salt); !bytes.Equal(got, want) {
			t.Errorf("a password of %d bytes is hashed as %x, want %x", len(password), got, want)
		}
	}
	if h.cmd == nil {
		t.Fatal("nothing was started")
	}
	// One that was ended is started again, and nobody waits in vain meanwhile.
	first := h.cmd.Process.Pid
	h.cmd.Process.Kill()
	if got, want := h.hash("after", salt), people.Hash("after", salt); !bytes.Equal(got, want) {
		t.Errorf("with the process gone it is %x, want %x", got, want)
	}
	if h.hash("again", salt); h.cmd == nil || h.cmd.Process.Pid == first {
		t.Error("the process was not started again")
	}
	h.Close()
	if h.cmd != nil {
		t.Error("the process goes on after the end")
	}
}

func TestHashRefuses(t *testing.T) {
	var out bytes.Buffer
	for what, in := range map[string][]byte{
		"too long a password": append(make([]byte, saltSize), 0xff, 0xff),
		"half a head":         make([]byte, 5),
		"half a password":     append(make([]byte, saltSize), 0, 9, 'a'),
	} {
		done := make(chan error, 1)
		go func() { done <- Hash(bytes.NewReader(in), &out) }()
		select {
		case err := <-done:
			if err == nil {
				t.Errorf("%s is taken", what)
			}
		case <-time.After(30 * time.Second):
			t.Fatalf("%s is waited for", what)
		}
	}
	if out.Len() > 0 {
		t.Errorf("%d bytes were written for what was refused", out.Len())
	}
	if err := Hash(bytes.NewReader(nil), io.Discard); err != nil {
		t.Errorf("nothing at all is %v", err)
	}
}

func FuzzHash(f *testing.F) {
	f.Add(append(make([]byte, saltSize), 0, 1, 'a'))
	f.Fuzz(func(t *testing.T, in []byte) {
		if len(in) > 200 {
			return
		}
		var out bytes.Buffer
		Hash(bytes.NewReader(in), &out)
		if out.Len()%32 != 0 {
			t.Errorf("%d bytes come out", out.Len())
		}
	})
}
