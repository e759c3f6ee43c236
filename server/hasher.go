package server

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"time"

	"ullage/fleet/people"
)

// HashCommand is what the binary is called with to be a hasher.
const HashCommand = "hash-passwords"

const (
	hasherIdle = time.Minute // after which it ends
	hashTime   = 20 * time.Second
	saltSize   = 16
	maxHashed  = 4096 // bytes of a password
)

// hasher has passwords hashed by a process of its own, which gives way to all others.
// A hash takes a processor for some hundredths of a second and 19 MiB that the garbage
// collector has to clear away; what devices wait for is not to wait for that. It is
// started when somebody signs in, and ends when nobody has for a while.
type hasher struct {
	mu   sync.Mutex
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  io.ReadCloser
	idle *time.Timer
}

// hash returns what is kept of a password. Where there can be no other process it is
// made here.
func (h *hasher) hash(password string, salt []byte) []byte {
	if len(salt) != saltSize || len(password) > maxHashed {
		return people.Hash(password, salt)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	out, err := h.ask(password, salt)
	if err != nil {
		h.end()
		return people.Hash(password, salt)
	}
	return out
}

func (h *hasher) ask(password string, salt []byte) ([]byte, error) {
	if h.cmd == nil {
		if err := h.start(); err != nil {
			return nil, err
		}
	}
	h.idle.Reset(hasherIdle)
	b := append(binary.BigEndian.AppendUint16(append([]byte{}, salt...), uint16(len(password))), password...)
	// One that hangs is ended, which ends the reading too.
	late := time.AfterFunc(hashTime, func() { h.cmd.Process.Kill() })
	defer late.Stop()
	if _, err := h.in.Write(b); err != nil {
		return nil, err
	}
	out := make([]byte, 32)
	_, err := io.ReadFull(h.out, out)
	return out, err
}

func (h *hasher) start() (err error) {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, HashCommand)
	// It needs nothing of what this process was told, such as secrets.
	cmd.Env = []string{"GOMAXPROCS=1"}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	h.cmd, h.in, h.out = cmd, in, out
	h.idle = time.AfterFunc(hasherIdle, h.Close)
	return nil
}

// Close ends the process, if there is one.
func (h *hasher) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.end()
}

// end ends it; h.mu is held.
func (h *hasher) end() {
	if h.cmd == nil {
		return
	}
	h.idle.Stop()
	h.in.Close()
	h.cmd.Process.Kill()
	h.cmd.Wait()
	h.cmd = nil
}

// Hash is the other side: it reads salts with passwords, and writes a hash for each,
// until its input ends.
func Hash(in io.Reader, out io.Writer) error {
	giveWay()
	head := make([]byte, saltSize+2)
	for {
		if _, err := io.ReadFull(in, head); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return fmt.Errorf("reading what is to be hashed: %w", err)
		}
		n := binary.BigEndian.Uint16(head[saltSize:])
		if n > maxHashed {
			return fmt.Errorf("a password of %d bytes is not hashed", n)
		}
		password := make([]byte, n)
		if _, err := io.ReadFull(in, password); err != nil {
			return fmt.Errorf("reading what is to be hashed: %w", err)
		}
		if _, err := out.Write(people.Hash(string(password), head[:saltSize])); err != nil {
			return fmt.Errorf("writing a hash: %w", err)
		}
		clear(password)
	}
}
