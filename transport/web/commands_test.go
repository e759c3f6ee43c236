package web_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"ullage/fleet/commands"
	"ullage/store"
)

func TestCommandsOverHTTP(t *testing.T) {
	b := newBench(t, store.Options{}, nil)
	ask := func(query string) []commands.Message {
		t.Helper()
		req, err := http.NewRequest(http.MethodGet, b.server.URL+"/device/v1/commands"+query, nil)
		b.Must(err)
		req.Header.Set("Authorization", "Bearer "+b.token)
		resp, err := http.DefaultClient.Do(req)
		b.Must(err)
		defer resp.Body.Close()
		var out []commands.Message
		if err := json.NewDecoder(resp.Body).Decode(&out); err != nil || resp.StatusCode != http.StatusOK {
			t.Fatalf("%d, %v", resp.StatusCode, err)
		}
		return out
	}
	if got := ask(""); got == nil || len(got) != 0 {
		t.Errorf("without a command the list is %v, want an empty one", got)
	}
	heard := make(chan []commands.Message)
	go func() { heard <- ask("?wait=20s") }()
	time.Sleep(50 * time.Millisecond)
	c, err := b.Commands.Give(t.Context(), press, "tare", nil, commands.Expiry{}, "mara")
	b.Must(err)
	if got := <-heard; len(got) != 1 || got[0].ID != c.ID || got[0].Name != "tare" || string(got[0].Input) != "{}" {
		t.Errorf("the long poll gives %+v", got)
	}
	if got := ask(""); len(got) != 0 {
		t.Errorf("at once it comes again: %+v", got)
	}
	b.Clock.Forward(11 * time.Second)
	if got := ask(""); len(got) != 1 || got[0].ID != c.ID {
		t.Errorf("without a reply it does not come again: %+v", got)
	}
	if status, body := b.call(http.MethodPost, "/device/v1/replies",
		`{"id":"`+c.ID+`","error":"a basket stands on it"}`); status != http.StatusOK {
		t.Errorf("the reply gives %d %v", status, body)
	}
	b.Clock.Forward(11 * time.Second)
	if got := ask(""); len(got) != 0 {
		t.Errorf("after the reply it comes again: %+v", got)
	}
	for path, want := range map[string]int{"/device/v1/events/spilt": http.StatusUnprocessableEntity,
		"/device/v1/commands?wait=soon": http.StatusUnprocessableEntity,
		"/device/v1/commands?wait=-5s":  http.StatusUnprocessableEntity} {
		method := http.MethodPost
		if strings.Contains(path, "commands") {
			method = http.MethodGet
		}
		if status, body := b.call(method, path, `{}`); status != want {
			t.Errorf("%s %s gives %d %v", method, path, status, body)
		}
	}
}
