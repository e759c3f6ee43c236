package test

import (
	"fmt"
	"strings"
	"testing"

	"ullage/client"
	"ullage/test/browser"
	"ullage/test/service"
)

// The traffic is searched, taken as an example, sent as a device and found again behind
// a restart, without a reload but for that.
func TestTrafficInTheConsole(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s, err := service.Start(data)
	ok(t, err)
	defer func() { s.Stop() }()
	cellars(t, s)
	o := onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore")
	const id = "tank-fennimore-07"
	for i := range 3 {
		if out, err := shell(t, "TOKEN="+o.Token+"\n"+strings.Replace(o.TryHTTP, `"must_temp":22`, fmt.Sprintf(`"must_temp":%d`, 20+i), 1)); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/traffic?device="+id))
	rows := `[...document.querySelectorAll("ol li")]`
	ok(t, p.Wait(rows+`.length >= 3`))
	_, err = browser.Eval[any](p, `(window.notReloaded = true)`)
	ok(t, err)
	ok(t, p.Type(`[aria-label="Only messages that hold a text"]`, `must_temp":21`))
	ok(t, p.Wait(rows+`.length === 1 && `+rows+`[0].innerText.includes("21")`))
	ok(t, p.Click(`ol li button`))
	ok(t, p.ClickText("Take it as an example"))
	ok(t, p.Wait(`[...document.querySelectorAll("code")].some((c) => c.innerText.includes("payload: '{\"must_temp\":21"))`))
	_, err = browser.Eval[any](p, `document.querySelector('[aria-label="Only messages that hold a text"]').value`)
	ok(t, err)
	// A message that is sent as the device says who sent it, and what became of it.
	ok(t, p.ClickText("Send as it…"))
	ok(t, p.Type("#send-as-body", `{"must_temp":"hot","density":1045}`))
	ok(t, p.ClickText("Send it"))
	ok(t, p.WaitText("1 value kept; refused: /must_temp"))
	ok(t, p.Go(s.Console+"/traffic?device="+id+"&match="+`refused_is_no_field`))
	ok(t, p.WaitText("no field refused_is_no_field"))
	p.Forget() // the refusal
	ok(t, p.Go(s.Console+"/traffic?device="+id+"&match=by+%3D%3D+%22engineer%22"))
	ok(t, p.Wait(rows+`.length === 1`))
	ok(t, p.Click(`ol li button`))
	ok(t, p.WaitText("engineer sent it as the device, which did not."))
	// A command and its reply stand together.
	c, err := s.Client.Give(t.Context(), id, client.NewCommand{Name: "identify"}, 0)
	ok(t, err)
	if out, err := shell(t, fmt.Sprintf(`curl -sS -f -H 'Authorization: Bearer %s' 'http://%s/device/v1/commands?wait=5s' && curl -sS -f -H 'Authorization: Bearer %s' -d '{"id":"%s","output":{"blinked":3}}' http://%s/device/v1/replies`,
		o.Token, s.HTTP, o.Token, c.ID, s.HTTP)); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	ok(t, p.Go(s.Console+"/traffic?device="+id+"&text="+c.ID))
	ok(t, p.Wait(rows+`.length === 2`))
	_, err = browser.Eval[any](p, rows+`.find((r) => r.innerText.includes("command/identify")).querySelector("button").click()`)
	ok(t, err)
	ok(t, p.Wait(`document.body.innerText.includes("The reply,") && document.body.innerText.includes('"blinked":3')`))
	axe := read(t, "test/corpora/node_modules/axe-core/axe.min.js")
	found, err := p.Accessible(axe)
	ok(t, err)
	for _, f := range found {
		t.Error(f)
	}
	quiet(t, p, "traffic")

	// What it sent before is there behind a restart.
	ok(t, s.Stop())
	s, err = service.Start(data)
	ok(t, err)
	es, _, err := s.Client.Traffic(t.Context(), client.TrafficFilter{Device: id, Match: `topic == "readings"`})
	if err != nil || len(es) != 4 {
		t.Errorf("behind a restart there are %d messages, %v; want 4", len(es), err)
	}
	if out := cli(t, s, "traffic", id, "--since", "1h", "--text", `"must_temp":21`); strings.Count(out, "readings") != 1 {
		t.Errorf("the command line finds\n%s", out)
	}
}
