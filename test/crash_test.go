package test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	mqtt3 "github.com/eclipse/paho.mqtt.golang"

	"ullage/client"
	"ullage/test/service"
)

const crashes = 12

// TestKilledUnderLoad kills the service with SIGKILL at random moments while
// devices send over MQTT and HTTP: after each restart every acknowledged
// reading must be there.
func TestKilledUnderLoad(t *testing.T) {
	dir := t.TempDir()
	s, err := service.Start(dir, "--device-rate", "0", "--device-connects", "0")
	if err != nil {
		t.Fatal(err)
	}
	cellars(t, s)
	const writers = 6
	tokens := map[string]string{}
	for w := range writers {
		id := fmt.Sprintf("bung-saltmarsh-%d", w)
		tokens[id] = onboard(t, s, id, "cask-bung").Token
	}
	base := time.Now().UTC().Add(-48 * time.Hour).Truncate(time.Second)
	var mu sync.Mutex
	acknowledged := map[string][]int{}
	next := map[string]int{}
	body := func(n int) string {
		return fmt.Sprintf(`{"at":%q,"ullage":%d}`, base.Add(time.Duration(n)*time.Second).Format(time.RFC3339), n%250)
	}
	sum := 0
	for round := range crashes {
		stop := make(chan struct{})
		var wg sync.WaitGroup
		for id, token := range tokens {
			wg.Add(1)
			go func() {
				defer wg.Done()
				ack := func(n int) { mu.Lock(); acknowledged[id] = append(acknowledged[id], n); mu.Unlock() }
				mu.Lock()
				n := next[id]
				mu.Unlock()
				defer func() { mu.Lock(); next[id] = n; mu.Unlock() }()
				if strings.HasSuffix(id, "0") || strings.HasSuffix(id, "1") {
					for ; ; n++ {
						select {
						case <-stop:
							return
						default:
						}
						req, _ := http.NewRequest("POST", "http://"+s.HTTP+"/device/v1/readings",
							bytes.NewReader([]byte(body(n))))
						req.Header.Set("Authorization", "Bearer "+token)
						resp, err := http.DefaultClient.Do(req)
						if err != nil {
							return
						}
						if resp.Body.Close(); resp.StatusCode == 200 {
							ack(n)
						}
					}
				}
				c := mqtt3.NewClient(mqtt3.NewClientOptions().AddBroker("tcp://" + s.MQTT).SetClientID(id).
					SetUsername(id).SetPassword(token).SetAutoReconnect(false))
				if tok := c.Connect(); !tok.WaitTimeout(within) || tok.Error() != nil {
					return
				}
				defer c.Disconnect(0)
				type sent struct {
					n   int
					tok mqtt3.Token
				}
				var flying []sent
				for {
					select {
					case <-stop:
						return
					default:
					}
					flying = append(flying, sent{n, c.Publish("ullage/"+id+"/readings", 1, false, body(n))})
					n++
					if len(flying) == 16 {
						f := flying[0]
						flying = flying[1:]
						if !f.tok.WaitTimeout(2*time.Second) || f.tok.Error() != nil {
							return
						}
						ack(f.n)
					}
				}
			}()
		}
		time.Sleep(time.Duration(40+rand.IntN(250)) * time.Millisecond)
		s.Kill()
		close(stop)
		wg.Wait()
		if s, err = service.Start(dir, "--device-rate", "0", "--device-connects", "0"); err != nil {
			t.Fatalf("after crash %d: %v", round+1, err)
		}
		sum = 0
		for id, ns := range acknowledged {
			got, err := s.Client.Readings(t.Context(), id, "ullage",
				client.Span{From: base, To: base.Add(48 * time.Hour)}, 50000)
			if err != nil {
				t.Fatal(err)
			}
			stored := map[int64]float64{}
			for _, p := range got.Readings {
				stored[p.At.Unix()], _ = p.Value.(float64)
			}
			for _, n := range ns {
				if v, ok := stored[base.Unix()+int64(n)]; !ok || v != float64(n%250) {
					t.Fatalf("after crash %d the acknowledged reading %d of %s is %v, %v", round+1, n, id, v, ok)
				}
			}
			sum += len(ns)
		}
	}
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
	if sum < 100*crashes/4 {
		t.Errorf("only %d readings were acknowledged in %d rounds; that tests nothing", sum, crashes)
	}
	t.Logf("%d crashes, %d acknowledged readings, none lost", crashes, sum)
}

// TestStopsGracefully stops a service under load: nothing acknowledged is
// lost, and it stops in time.
func TestStopsGracefully(t *testing.T) {
	dir := t.TempDir()
	s, err := service.Start(dir)
	if err != nil {
		t.Fatal(err)
	}
	cellars(t, s)
	token := onboard(t, s, "bung-saltmarsh-112", "cask-bung").Token
	begun := time.Now()
	if err := s.Stop(); err != nil {
		t.Errorf("it stopped with %v", err)
	}
	if d := time.Since(begun); d > 20*time.Second {
		t.Errorf("stopping took %s", d)
	}
	if log := s.Log(); !strings.Contains(log, "msg=stopped") || strings.Contains(log, token) {
		t.Errorf("the log says\n%s", log)
	}
}
