package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"ullage/client"
	"ullage/test/browser"
	"ullage/test/service"
)

// TestLargeFleetInTheConsole: of more devices than can be looked at, those that
// need somebody have their vessel, and the sound ones are drawn as one until a
// group is opened.
func TestLargeFleetInTheConsole(t *testing.T) {
	const devices, sound = 1600, 40
	s := start(t, "--device-rate", "0")
	cellars(t, s)
	rule := filepath.Join(t.TempDir(), "must_hot.yaml")
	ok(t, os.WriteFile(rule, []byte("rule: must_hot\nmodels: [tank-probe]\nraise: must_temp > 40\npriority: high\nmessage: \"{device.id} is hot\"\n"), 0o600))
	cli(t, s, "rule", "load", rule)
	tokens := make([]string, devices)
	var all errgroup.Group
	all.SetLimit(32)
	for i := range devices {
		all.Go(func() error {
			site := "Kilnside"
			if i < sound {
				site = "Saltmarsh"
			}
			o, err := s.Client.CreateDevice(context.Background(),
				client.NewDevice{ID: fmt.Sprintf("tank-%04d", i), Model: "tank-probe",
					Labels: map[string]string{"site": site}})
			tokens[i] = o.Token
			return err
		})
	}
	ok(t, all.Wait())
	for i := range sound {
		// The last one is above its limit.
		temp := 20 + float64(i)/4
		if i == sound-1 {
			temp = 45
		}
		req, err := http.NewRequest(http.MethodPost, "http://"+s.HTTP+"/device/v1/readings",
			strings.NewReader(fmt.Sprintf(`{"must_temp":%g}`, temp)))
		ok(t, err)
		req.Header.Set("Authorization", "Bearer "+tokens[i])
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		ok(t, err)
		res.Body.Close()
		if res.StatusCode >= 300 {
			t.Fatalf("the reading of device %d was answered %s", i, res.Status)
		}
	}
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/"))
	ok(t, p.Wait(`document.querySelector("section[aria-label=Vessels]")?.dataset.devices === "1600"`))
	ok(t, p.WaitText("1\u2009600 devices at 2 sites"))
	ok(t, p.WaitText("1\u2009560 awaited"))
	few, err := browser.Eval[int](p, `document.querySelectorAll("section[aria-label=Vessels] li").length`)
	if err != nil || few < 1 || few > sound {
		t.Errorf("%d vessels are drawn, %v; want those that need somebody", few, err)
	}
	// By keyboard: the sound ones of the group are drawn, the URL says so, and the
	// page that is opened by that URL draws them too.
	const button = `section[aria-label=Vessels] button[aria-expanded]`
	ok(t, p.Wait(`(document.querySelector("`+button+`").focus(), document.activeElement.matches("`+button+`"))`))
	ok(t, p.Keys("Enter"))
	drawn := `document.querySelectorAll("section[aria-label=Vessels] li").length === ` + fmt.Sprint(sound)
	ok(t, p.Wait(drawn))
	ok(t, p.Wait(`location.search.includes("open=Saltmarsh")`))
	ok(t, p.Go(s.Console+"/?open=Saltmarsh"))
	ok(t, p.Wait(drawn))
	ok(t, p.Click(button))
	ok(t, p.Wait(fmt.Sprintf(`document.querySelectorAll("section[aria-label=Vessels] li").length === %d`, few)))
	// One kind of health alone is drawn one by one, as far as one can look at it.
	ok(t, p.Go(s.Console+"/?health=awaited"))
	ok(t, p.WaitText("and 560 more"))
	if errs := p.Errors(); len(errs) > 0 {
		t.Errorf("the page complains: %q", errs)
	}
}
