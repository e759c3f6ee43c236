package test

import (
	"path/filepath"
	"strings"
	"testing"

	"ullage/test/service"
)

// An engineer makes a layer, sees what it would do before it is saved, moves it, finds out
// why a value is so, and goes back; a rule that sets something by itself is stopped.
func TestLayersAndResponses(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	cli(t, s, "layer", "load", filepath.Join(service.Root(), "examples", "cellars", "layers"))
	// What it gives depends on the hour at which this is tried.
	cli(t, s, "layer", "remove", "night-kilnside", "--yes")
	send := airs(t, s, "air-kilnside-1", "air-kilnside-2")
	onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore", "must=white")
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/settings"))
	ok(t, p.WaitText("white-must"))
	ok(t, p.WaitText("chooses no device now")) // close-watch
	ok(t, p.ClickText("New layer"))
	ok(t, p.Type("#layer-name", "Press Hall"))
	ok(t, p.Type(`[aria-label="Target of the layer"]`, `label.row == "press hall"`))
	ok(t, p.Wait(`(() => { const s = document.querySelector('[aria-label="Add a setting"]');
		if (!s || s.options.length < 3) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "buzzer_level");
		s.dispatchEvent(new Event("change", { bubbles: true })); return true })()`))
	ok(t, p.Type("#layer-set-buzzer_level", "4"))
	ok(t, p.WaitText("2 settings of 2 devices would change"))
	ok(t, p.ClickText("Change 2 devices"))
	ok(t, p.Wait(`location.pathname === "/settings/press-hall"`))
	ok(t, p.WaitText("2 devices chosen by its target now"))
	ok(t, p.WaitText("2 pending"))
	quiet(t, p, "a layer")

	// The difference is shown, saved, and taken back.
	ok(t, p.Type("#layer-set-buzzer_level", "2"))
	ok(t, p.ClickText("Save, changing 2 devices"))
	ok(t, p.WaitText("buzzer_level: 4 → 2"))
	ok(t, p.ClickText("Take this one"))
	ok(t, p.ClickText("Save, changing 2 devices"))
	ok(t, p.WaitText("buzzer_level: 2 → 4"))
	// What is being edited stays when somebody else changes the layer, and it is said.
	ok(t, p.Type("#layer-set-buzzer_level", "3"))
	ok(t, p.WaitText("Save, changing 2 devices"))
	cli(t, s, "layer", "set", "press-hall", "buzzer_level=1", "--yes")
	ok(t, p.WaitText("was changed since you began"))
	ok(t, p.Wait(`document.querySelector("#layer-set-buzzer_level").value === "3"`))
	ok(t, p.ClickText("Take what is in force"))
	ok(t, p.Wait(`document.querySelector("#layer-set-buzzer_level").value === "1"`))

	ok(t, p.Go(s.Console+"/settings"))
	ok(t, p.WaitText("press-hall"))
	for range 4 { // below base
		ok(t, p.Click(`[aria-label="Move press-hall down"]`))
		ok(t, p.Wait(`document.querySelector("[role=dialog] button[type=submit]:not(:disabled)")`))
		ok(t, p.Click("[role=dialog] button[type=submit]"))
		ok(t, p.Wait(`!document.querySelector("[role=dialog]")`))
	}
	ok(t, p.Wait(`document.querySelector('[aria-label="Move press-hall down"]').disabled`))
	if out := cli(t, s, "setting", "explain", "air-kilnside-1", "buzzer_level"); !strings.Contains(out, "wins  layer base") {
		t.Errorf("below base, press-hall still wins:\n%s", out)
	}
	ok(t, p.Go(s.Console+"/devices/air-kilnside-1"))
	ok(t, p.Wait(`document.querySelector('[aria-label^="buzzer_level: layer base"]')`))
	ok(t, p.Click(`[aria-label^="buzzer_level: layer base"]`))
	ok(t, p.WaitText("layer press-hall"))
	quiet(t, p, "why a value is so")

	// A rule sets a fan by itself; all of that is stopped, and what is set is taken off.
	send("air-kilnside-1", 6000)
	ok(t, p.Go(s.Console+"/rules"))
	ok(t, p.WaitText("1 response of rules now"))
	ok(t, p.WaitText("fan_mode at on"))
	ok(t, p.ClickText("Stop all…"))
	ok(t, p.Click("[role=dialog] input[type=checkbox]"))
	ok(t, p.Type("#stop-why", "the fans trip the fuse"))
	ok(t, p.ClickText("Stop all"))
	ok(t, p.WaitText("All responses are stopped"))
	ok(t, p.WaitText("the fans trip the fuse"))
	if out := cli(t, s, "setting", "show", "air-kilnside-2"); !strings.Contains(out, "fan_mode") || strings.Contains(out, "response co2_evacuate") {
		t.Errorf("released, the settings are\n%s", out)
	}
	ok(t, p.ClickText("Let them act again"))
	ok(t, p.WaitText("Responses act again"))
	quiet(t, p, "responses")
}
