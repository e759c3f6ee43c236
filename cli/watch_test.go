package cli

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"encoding/json"

	tea "github.com/charmbracelet/bubbletea"

	"ullage/client"
)

// watched is a view over alarms, and what it has asked the service for.
func watched(t *testing.T) (*watching, *[]client.AlarmActs) {
	t.Helper()
	var asked []client.AlarmActs
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if !strings.HasSuffix(r.URL.Path, "/alarm-acts") {
			fmt.Fprint(w, "[]")
			return
		}
		var a client.AlarmActs
		if err := json.NewDecoder(r.Body).Decode(&a); err != nil {
			t.Error(err)
		}
		asked = append(asked, a)
		out := []client.AlarmActed{}
		for _, id := range a.Alarms {
			out = append(out, client.AlarmActed{Alarm: id, State: "acknowledged"})
		}
		json.NewEncoder(w).Encode(out)
	}))
	t.Cleanup(s.Close)
	cl := client.New(s.URL, "token")
	m := newWatching(t.Context(), cl, client.AlarmFilter{})
	m.plain = true
	now := time.Now()
	m.Update(tea.WindowSizeMsg{Width: 90, Height: 20})
	m.Update(listed{all: []client.Alarm{
		{ID: "01C", Rule: "co2_high", Device: "air-kilnside-2", Priority: "medium", State: "acknowledged", Message: "CO₂ at 1 600 ppm", RaisedAt: now.Add(-time.Hour)},
		{ID: "01A", Rule: "co2_evacuate", Device: "air-kilnside-2", Priority: "urgent", State: "unacknowledged", Waits: true, Message: "leave the room\x1b[2J", Response: "Open the doors", RaisedAt: now.Add(-time.Minute)},
		{ID: "01B", Rule: "co2_high", Device: "air-kilnside-1", Priority: "medium", State: "unacknowledged", Waits: true, Message: "CO₂ at 1 700 ppm", RaisedAt: now.Add(-2 * time.Hour)},
		{ID: "01D", Rule: "air_silent", Device: "air-saltmarsh-1", Priority: "high", State: "suppressed", SuppressedBy: "cellar_silent site=Saltmarsh", Message: "silent", RaisedAt: now},
	}})
	return m, &asked
}

// press gives keys, and carries out what they ask for.
func press(m *watching, keys ...string) {
	for _, k := range keys {
		msg := tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune(k)}
		switch k {
		case "enter":
			msg = tea.KeyMsg{Type: tea.KeyEnter}
		case "esc":
			msg = tea.KeyMsg{Type: tea.KeyEsc}
		case "tab":
			msg = tea.KeyMsg{Type: tea.KeyTab}
		case "down":
			msg = tea.KeyMsg{Type: tea.KeyDown}
		case "backspace":
			msg = tea.KeyMsg{Type: tea.KeyBackspace}
		}
		if _, cmd := m.Update(msg); cmd != nil {
			if x, ok := cmd().(acted); ok {
				m.Update(x)
			}
		}
	}
}

func TestWatch(t *testing.T) {
	m, asked := watched(t)
	view := m.View()
	if !strings.Contains(view, "3 alarms open, 2 unacknowledged, 1 aside") {
		t.Errorf("it begins with\n%s", view)
	}
	order := []int{strings.Index(view, "leave the room"), strings.Index(view, "1 700"), strings.Index(view, "1 600")}
	if order[0] < 0 || order[1] < order[0] || order[2] < order[1] || strings.Contains(view, "silent") {
		t.Errorf("the order is %v in\n%s", order, view)
	}
	if strings.Contains(view, "\x1b[2J") || !strings.Contains(view, `\x1b[2J`) {
		t.Errorf("what a device wrote reaches the terminal as it is\n%q", view)
	}
	for _, line := range strings.Split(view, "\n") {
		if n := len([]rune(line)); n > 90 {
			t.Errorf("a line has %d columns: %s", n, line)
		}
	}
	press(m, "a")
	press(m, "down", "x", "j", "x", "a")
	press(m, "s", "backspace", "backspace", "8h the fan is being changed", "enter")
	press(m, "c", "it smells", "enter", "c", "never mind", "esc", "r", "u")
	want := []string{"acknowledge [01A]  ", "acknowledge [01B 01C]  ", "shelve [01C] 8h the fan is being changed", "comment [01C]  it smells", "reset [01C]  ", "unshelve [01C]  "}
	for i, a := range *asked {
		got := fmt.Sprintf("%s %v %s %s", a.Act, a.Alarms, a.For, a.Text)
		if i >= len(want) || strings.TrimSpace(got) != strings.TrimSpace(want[i]) {
			t.Errorf("act %d is %q", i, got)
		}
	}
	if len(*asked) != len(want) {
		t.Errorf("%d acts, want %d", len(*asked), len(want))
	}
	press(m, "g")
	if view := m.View(); !strings.Contains(view, "response: Open the doors") {
		t.Errorf("more of it is\n%s", view)
	}
	press(m, "tab")
	if view := m.View(); !strings.Contains(view, "1 alarm aside; 3 open") || !strings.Contains(view, "suppressed by cellar_silent site=Saltmarsh") {
		t.Errorf("aside is\n%s", view)
	}
	m.Update(listed{err: fmt.Errorf("the service does not answer")})
	if view := m.View(); !strings.Contains(view, "Not live: the service does not answer") {
		t.Errorf("cut off it shows\n%s", view)
	}
	if _, cmd := m.Update(tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune("q")}); cmd == nil {
		t.Error("q does not end it")
	}
}
