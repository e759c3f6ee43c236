package test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"ullage/test/browser"
	"ullage/test/service"
)

// TestModelsInTheConsole writes, checks, publishes and rolls a model forward
// and back in a browser.
func TestModelsInTheConsole(t *testing.T) {
	t.Parallel()
	s := fleet(t)
	p := open(t, s, "/models")
	ok(t, p.SignIn("engineer", service.Password))
	put := func(from, to string) {
		t.Helper()
		a, err := json.Marshal([2]string{from, to})
		ok(t, err)
		changed, err := browser.Eval[bool](p, fmt.Sprintf(`(() => {
			const [from, to] = %s;
			const content = document.querySelector(".cm-content");
			const view = (content.cmTile ?? content.cmView)?.view ?? content.cmView?.rootView?.view;
			const at = view.state.doc.toString().indexOf(from);
			if (at >= 0) view.dispatch({ changes: { from: at, to: at + from.length, insert: to }, selection: { anchor: at + to.length } });
			view.focus();
			return at >= 0;
		})()`, a))
		if err != nil || !changed {
			t.Fatalf("%q is not in the text, %v", from, err)
		}
	}

	t.Run("the list", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/models"))
		ok(t, p.Wait(`document.querySelectorAll("tbody tr").length === 6`))
		ok(t, p.ClickText("Devices"))
		ok(t, p.Wait(`document.querySelector("tbody tr td").innerText.includes("tank-probe")`))
		ok(t, p.Wait(`new URLSearchParams(location.search).get("sort") === "devices"`))
		ok(t, p.Type("input[type=search]", "no such"))
		ok(t, p.WaitText("No model is called no such"))
	})

	t.Run("a model reads like documentation", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/models/tank-probe"))
		for _, says := range []string{"Must temperature", "set.tank_depth - ullage", "kept by the service",
			"reference_cm, a number from 0 to 400 cm", "must_too_warm"} {
			ok(t, p.WaitText(says))
		}
		ok(t, p.Go(s.Console+"/models/vat-probe"))
		ok(t, p.WaitText(`There is no model "vat-probe"`))
		p.Forget()
	})

	t.Run("a mistake is marked in its place", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/models/tank-probe/edit"))
		ok(t, p.WaitText("This is 1.2.0 as it is published"))
		put(`"unit": "g/L"`, `"unit": "g/furlong"`)
		ok(t, p.WaitText("1 mistake"))
		ok(t, p.WaitText("furlong"))
		ok(t, p.Wait(`document.querySelector(".cm-lintRange-error")?.innerText === '"g/furlong"'`))
		if may, err := browser.Eval[bool](p,
			`[...document.querySelectorAll("button")].find((b) => b.innerText === "Publish").disabled`); err != nil || !may {
			t.Errorf("a model with a mistake may be published, %v", err)
		}
		ok(t, p.Click(`ul[aria-label=Findings] button`))
		ok(t, p.Wait(`document.activeElement.classList.contains("cm-content")`))
	})

	t.Run("keys and values are completed from the schema", func(t *testing.T) {
		ok(t, p.ClickText("As published"))
		ok(t, p.WaitText("This is 1.2.0 as it is published"))
		put(`"ullage:decimals": 1,`, `"ullage:decimals": 1, `)
		ok(t, p.Insert(`"ullage:ret`))
		ok(t, p.Wait(`document.querySelector(".cm-tooltip-autocomplete")?.innerText.includes("ullage:retention")`))
		time.Sleep(200 * time.Millisecond) // the list takes no key in its first moment
		ok(t, p.Keys("Enter"))
		ok(t, p.Wait(`document.querySelector(".cm-content").innerText.includes('"ullage:retention": ')`))
		ok(t, p.ClickText("As published"))
		// What was written survives a reload.
		put(`"Tank probe"`, `"Probe of a tank"`)
		ok(t, p.WaitText("1.2.0 is published already: it needs version 1.2.1"))
		ok(t, p.Go(s.Console+"/models/tank-probe/edit"))
		ok(t, p.WaitText("it needs version 1.2.1"))
	})

	t.Run("YAML and back", func(t *testing.T) {
		ok(t, p.ClickText("YAML"))
		ok(t, p.Wait(`document.querySelector(".cm-content").innerText.includes("title: Probe of a tank")`))
		ok(t, p.WaitText("it needs version 1.2.1"))
		ok(t, p.ClickText("JSON"))
		ok(t, p.Wait(`document.querySelector(".cm-content").innerText.includes('"title": "Probe of a tank"')`))
	})

	t.Run("what a change does is shown before it is published", func(t *testing.T) {
		put(`"must_temp": {`, `"vat_temp": {`)
		put(`"1.2.0"`, `"1.3.0"`)
		ok(t, p.WaitText("Breaks what is in the field: it needs version 2.0.0"))
		ok(t, p.Click(`div[aria-label="Beside the text"] button:last-child`))
		ok(t, p.WaitText("the metric must_temp is gone"))
		ok(t, p.WaitText("Rules that would not fit any more"))
		ok(t, p.WaitText("no metric must_temp"))
		put(`"vat_temp": {`, `"must_temp": {`)
		ok(t, p.WaitText("Sound; follows 1.2.0"))
		ok(t, p.WaitText("Publish 1.3.0"))
		ok(t, p.ClickText("Publish 1.3.0"))
		ok(t, p.WaitText("tank-probe 1.3.0 is published"))
		ok(t, p.WaitText("Probe of a tank"))
	})

	t.Run("devices move, and back", func(t *testing.T) {
		ok(t, p.WaitText("move…"))
		ok(t, p.ClickText("move…"))
		ok(t, p.WaitText("18 devices will move"))
		ok(t, p.Type(`[role=dialog] input[role=combobox]`, `label.site == "Kilnside"`))
		ok(t, p.WaitText("2 devices will move"))
		ok(t, p.WaitText("Move 2 devices"))
		ok(t, p.ClickText("Move 2 devices"))
		ok(t, p.WaitText("2 devices moved to tank-probe 1.3.0"))
		if m, err := s.Client.Model(t.Context(), "tank-probe"); err != nil || m.Versions[0].Devices != 2 ||
			m.Versions[1].Devices != 16 {
			t.Errorf("the versions are %+v, %v", m.Versions, err)
		}
		ok(t, p.WaitText("Undo"))
		ok(t, p.ClickText("Undo"))
		until(t, "the move is undone", func() bool {
			m, err := s.Client.Model(t.Context(), "tank-probe")
			return err == nil && m.Versions[1].Devices == 18
		})
	})

	t.Run("a message becomes a model", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/models/new?from=message"))
		ok(t, p.Type("textarea", `{"cask_temp":12.4,"pressure":101.2`))
		ok(t, p.Type("input:not([type=search])", "cask-lid"))
		ok(t, p.ClickText("Make a model"))
		ok(t, p.WaitText("the message cannot be read"))
		p.Forget()
		ok(t, p.Type("textarea", `{"cask_temp":12.4,"pressure":101.2}`))
		ok(t, p.ClickText("Make a model"))
		ok(t, p.WaitText("Sound, and new to the service"))
		ok(t, p.WaitText("Publish 0.1.0"))
		ok(t, p.ClickText("Publish 0.1.0"))
		ok(t, p.WaitText("cask-lid 0.1.0 is published"))
		if m, err := s.Client.Model(t.Context(), "cask-lid"); err != nil || len(m.Properties) != 2 {
			t.Errorf("%+v, %v", m, err)
		}
	})
	for _, e := range p.Errors() {
		t.Errorf("the page complains: %s", e)
	}
}
