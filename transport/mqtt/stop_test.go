package mqtt_test

import (
	"bufio"
	"crypto/tls"
	"net"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
)

// TestStop: whoever is connected while the service stops is told so, with and without encryption, and
// what was taken from it before is acknowledged.
func TestStop(t *testing.T) {
	for _, secured := range []bool{false, true} {
		t.Run(map[bool]string{false: "plain", true: "TLS"}[secured], func(t *testing.T) {
			b := newBench(t, nil)
			p := b.dial(5)
			if secured {
				web := httptest.NewTLSServer(nil)
				defer web.Close()
				l, err := net.Listen("tcp", "127.0.0.1:0")
				b.Must(err)
				defer l.Close()
				go b.server.ServeTLS(l, web.TLS)
				conn, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true})
				b.Must(err)
				defer conn.Close()
				p.conn, p.r = conn, bufio.NewReader(conn)
			}
			p.send(connectPacket(tank, b.token, tank))
			p.want(packets.Connack)
			const sent = 20
			for i := range uint16(sent) {
				p.send(publish(i+1, "ullage/"+tank+"/readings", `{"must_temp":21.4}`))
			}
			p.want(packets.Puback)
			go b.server.Stop(5 * time.Second)
			for i := range sent - 1 {
				pk := p.next()
				if pk != nil && pk.FixedHeader.Type == packets.Disconnect { // the rest was not taken
					if pk.ReasonCode != packets.ErrServerShuttingDown.Code {
						t.Errorf("it was told %#x", pk.ReasonCode)
					}
					return
				}
				if pk == nil || pk.FixedHeader.Type != packets.Puback {
					t.Fatalf("after %d acknowledgements came %+v", i+1, pk)
				}
			}
			if pk := p.want(packets.Disconnect); pk.ReasonCode != packets.ErrServerShuttingDown.Code {
				t.Errorf("it was told %#x", pk.ReasonCode)
			}
			if pk := p.next(); pk != nil {
				t.Errorf("then came %+v", pk)
			}
		})
	}
}
