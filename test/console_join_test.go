package test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"ullage/test/browser"
	"ullage/test/service"
)

// asksToJoin is one request to join, over plain HTTP on loopback.
func asksToJoin(t *testing.T, s *service.Service, serial, secret, nonce string) int {
	t.Helper()
	b, err := json.Marshal(map[string]string{"serial": serial, "secret": secret, "nonce": nonce})
	ok(t, err)
	r, err := http.Post("http://"+s.HTTP+"/device/v1/join", "application/json", bytes.NewReader(b))
	ok(t, err)
	r.Body.Close()
	return r.StatusCode
}

// A batch from the form to the first device that was let in, without a reload.
func TestBatchInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/join?way=batch"))
	ok(t, p.WaitText("There is no join key"))
	_, err := browser.Eval[any](p, `(window.notReloaded = true)`)
	ok(t, err)
	ok(t, p.ClickText("New join key"))
	ok(t, p.Wait(`document.querySelectorAll("#join-key-model option").length === 7`))
	ok(t, p.Type("#join-key-name", "Fennimore Pallet"))
	ok(t, p.Type("#join-key-model", "Tank probe"))
	ok(t, p.Type("#join-key-device", "tank-fennimore-{last2}"))
	ok(t, p.Type("#join-key-serials", "serial;box\nTP-91;1\nTP-92;1"))
	ok(t, p.WaitText("2 listed; no others may join"))
	ok(t, p.ClickText("Make it"))
	ok(t, p.WaitRefused("is no name of a join key"))
	p.Forget() // the refusal
	ok(t, p.Type("#join-key-name", "fennimore-pallet"))
	ok(t, p.ClickText("Make it"))
	ok(t, p.WaitText("Secret of the whole key"))
	ok(t, p.WaitText("Nobody has yet"))

	secret := secretOf(t, s, "fennimore-pallet", "TP-91")
	const nonce = "8f3c1e0b5a7d42e69f10aa27b3c4d5e6"
	if got := asksToJoin(t, s, "TP-91", secret, nonce); got != http.StatusAccepted {
		t.Fatalf("it is answered %d", got)
	}
	ok(t, p.Wait(`document.querySelector("tbody tr")?.innerText.includes("TP-91")`))
	ok(t, p.ClickText("Let in"))
	ok(t, p.WaitText("let in, and not come for it yet"))
	if got := asksToJoin(t, s, "TP-91", secret, nonce); got != http.StatusOK {
		t.Errorf("let in, it is answered %d", got)
	}
	ok(t, p.WaitText("1 of 40 joined"))
	ok(t, p.Wait(`document.querySelector("tbody tr").innerText.includes("joined")`))
	// A second join says so, and asks before it is let in.
	if got := asksToJoin(t, s, "TP-91", secret, "00112233445566778899aabbccddeeff"); got != http.StatusAccepted {
		t.Errorf("a second join is answered %d", got)
	}
	ok(t, p.WaitText("waits, and was here before"))
	ok(t, p.ClickText("Let in"))
	ok(t, p.WaitText("Let TP-91 in once more"))
	ok(t, p.ClickText("Cancel"))
	ok(t, p.ClickText("Refuse…"))
	ok(t, p.Type("#refuse-reason", "it stands elsewhere"))
	ok(t, p.ClickText("Refuse"))
	ok(t, p.Wait(`document.querySelector("tbody tr").innerText.includes("it stands elsewhere")`))
	if still, err := browser.Eval[bool](p, `window.notReloaded === true`); err != nil || !still {
		t.Errorf("the page was loaded again: %v", err)
	}
	ok(t, p.Go(s.Console+"/join"))
	if got := asksToJoin(t, s, "TP-92", secretOf(t, s, "fennimore-pallet", "TP-92"), nonce[2:]+"aa"); got != http.StatusAccepted {
		t.Errorf("the other is answered %d", got)
	}
	ok(t, p.Wait(`document.querySelector("aside").innerText.includes("TP-92")`))
	axe := read(t, "test/corpora/node_modules/axe-core/axe.min.js")
	for _, path := range []string{"/join?way=batch", "/join/keys/fennimore-pallet", "/join/requests"} {
		ok(t, p.Go(s.Console+path))
		ok(t, p.WaitText(map[bool]string{true: "fennimore-pallet", false: "TP-92"}[path != "/join/requests"]))
		found, err := p.Accessible(axe)
		ok(t, err)
		for _, f := range found {
			t.Errorf("%s: %s", path, f)
		}
	}
	ok(t, p.Go(s.Console+"/join/keys/fennimore-pallet"))
	ok(t, p.ClickText("Print labels"))
	ok(t, p.ClickText("Save the sheet"))
	ok(t, p.Wait(`!document.querySelector("[role=dialog]")`))
	ok(t, p.ClickText("Revoke"))
	ok(t, p.Wait(`document.querySelector("[role=dialog]")?.innerText.includes("cannot be undone")`))
	_, err = browser.Eval[any](p, `[...document.querySelectorAll("[role=dialog] button")].find((b) => b.innerText === "Revoke").click()`)
	ok(t, err)
	ok(t, p.WaitText("revoked on"))
	quiet(t, p, "a batch")
	if log := s.Log(); strings.Contains(log, secret) {
		t.Error("the log holds a secret")
	}
}
