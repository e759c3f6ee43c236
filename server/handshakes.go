package server

import (
	"errors"
	"log/slog"
	"strings"

	"ullage/transport/door"
)

// handshakes takes what net/http logs of connections, and has a failed handshake told
// in the traffic: there is no other way to hear of one.
type handshakes struct {
	door *door.Door
	log  *slog.Logger
}

func (h *handshakes) Write(b []byte) (int, error) {
	line := strings.TrimSpace(string(b))
	rest, ok := strings.CutPrefix(line, "http: TLS handshake error from ")
	remote, why, found := strings.Cut(rest, ": ")
	if !ok || !found {
		h.log.Debug(line)
		return len(b), nil
	}
	h.door.Shaken("http", remote, errors.New(why))
	return len(b), nil
}
