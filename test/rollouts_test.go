package test

import (
	"strings"
	"testing"
	"time"

	"ullage/test/service"
)

// A rollout over simulated devices stops by itself where probes refuse it, goes on over a
// killed service, and is undone from its page.
func TestARolloutStopsByItself(t *testing.T) {
	t.Parallel()
	s, err := service.Start(t.TempDir())
	ok(t, err)
	defer func() { s.Kill() }()
	populate(t, s)
	if _, errs, code := s.CLI("", "rollout", "start", "later-stirring", "stir_at=28", "--target", `device.model == "tank-probe"`); code != 1 || !strings.Contains(errs, "nothing to roll out") {
		t.Errorf("a rollout that changes nothing: %d %s", code, errs)
	}
	out := cli(t, s, "rollout", "start", "later-stirring", "stir_at=30", "--target", `device.model == "tank-probe"`,
		"--wave", `label.site == "Coldharbour"`, "--wave", "50%", "--soak", "10min", "--yes")
	if !strings.Contains(out, "has begun") {
		t.Fatal(out)
	}
	shows := func(text string) string {
		t.Helper()
		for end := time.Now().Add(within); ; time.Sleep(200 * time.Millisecond) {
			out := cli(t, s, "rollout", "show", "later-stirring")
			if strings.Contains(out, text) {
				return out
			}
			if time.Now().After(end) {
				t.Fatalf("%q does not come:\n%s", text, out)
			}
		}
	}
	out = shows("stopped")
	for _, want := range []string{"count_of(device.refused) == 0, and it is 1", "tank-coldharbour-02 refused stir_at: above 26", "1 now"} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
	if out := cli(t, s, "setting", "explain", "tank-fennimore-07", "stir_at"); strings.Contains(out, "wins  layer later-stirring") {
		t.Errorf("a device of the last wave has it already:\n%s", out)
	}
	s.Kill()
	s, err = service.Start(s.Data)
	ok(t, err)
	if out := cli(t, s, "rollout", "show", "later-stirring"); !strings.Contains(out, "tank-coldharbour-02 refused stir_at") {
		t.Errorf("after it was killed:\n%s", out)
	}
	if _, errs, code := s.CLI("", "layer", "set", "later-stirring", "stir_at=31", "--yes"); code == 0 || !strings.Contains(errs, "a rollout of the layer later-stirring is stopped") {
		t.Errorf("the layer was changed under its rollout: %s", errs)
	}

	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/settings"))
	ok(t, p.WaitText("Rollout of later-stirring"))
	ok(t, p.ClickText("Rollout of later-stirring"))
	ok(t, p.WaitText("stopped by itself"))
	ok(t, p.WaitText("above 26 °C while the tank is sealed"))
	ok(t, p.ClickText("Undo for all…"))
	ok(t, p.ClickText("Undo it"))
	ok(t, p.WaitText("The rollout is undone"))
	quiet(t, p, "a rollout")
	if out := cli(t, s, "layer", "list"); strings.Contains(out, "later-stirring") {
		t.Errorf("undone, the new layer is still there:\n%s", out)
	}
}
