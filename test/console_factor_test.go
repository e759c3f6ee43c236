package test

import (
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"ullage/test/browser"
	"ullage/test/service"
)

// A second factor as people meet it: the picture, a code, recovery codes, the field
// at the next sign-in, and the command line's question.
func TestSecondFactorInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/you"))
	ok(t, p.WaitText("Set one up"))
	ok(t, p.ClickText("Set one up"))
	ok(t, p.Type("#factor-password", "wrong-password"))
	ok(t, p.ClickText("Go on"))
	ok(t, p.WaitText("name or password is wrong"))
	ok(t, p.Type("#factor-password", service.Password))
	ok(t, p.ClickText("Go on"))
	ok(t, p.Wait(`document.querySelector("[role=dialog] img")?.naturalWidth >= 200`))
	secret, err := browser.Eval[string](p, `document.querySelector("[role=dialog] code").innerText`)
	ok(t, err)
	code, err := totp.GenerateCode(secret, time.Now())
	ok(t, err)
	ok(t, p.Type("#factor-code", code))
	ok(t, p.ClickText("Put it in force"))
	ok(t, p.WaitText("Keep these codes"))
	list, err := browser.Eval[string](p, `document.querySelector("[role=dialog] code").innerText`)
	ok(t, err)
	codes := strings.Fields(list)
	if len(codes) != 10 {
		t.Fatalf("%d recovery codes are shown: %q", len(codes), list)
	}
	ok(t, p.ClickText("Done"))
	ok(t, p.WaitText("A sign-in needs a code"))
	if _, errs, exit := s.CLI(service.Password+"\n", "login", s.Console, "--password-stdin"); exit == 0 || !strings.Contains(errs, "code of your second factor") {
		t.Errorf("the command line without a code: %d %s", exit, errs)
	}
	if out, errs, exit := s.CLI(service.Password+"\n"+codes[0]+"\n", "login", s.Console, "--password-stdin"); exit != 0 {
		t.Errorf("the command line with a recovery code: %d %s %s", exit, out, errs)
	}

	other, err := browser.Start()
	ok(t, err)
	defer other.Close()
	q, err := other.Open(s.Console, 1280, 800)
	ok(t, err)
	defer q.Close()
	ok(t, q.Wait(`document.querySelector("input[name=password]")`))
	ok(t, q.Type("input[name=password]", service.Password))
	ok(t, q.Click("button[type=submit]"))
	ok(t, q.Wait(`document.querySelector("input[name=code]")`))
	ok(t, q.Type("input[name=code]", codes[0]))
	ok(t, q.Click("button[type=submit]"))
	ok(t, q.WaitText("was used before"))
	ok(t, q.Type("input[name=code]", codes[1]))
	ok(t, q.Click("button[type=submit]"))
	ok(t, q.WaitText("Fleet"))

	ok(t, p.Go(s.Console+"/you"))
	ok(t, p.WaitText("Take it off"))
	ok(t, p.ClickText("Take it off"))
	ok(t, p.Type("#factor-password", service.Password))
	ok(t, p.Type("#factor-code", codes[2]))
	ok(t, p.Click("[role=dialog] button[type=submit]"))
	ok(t, p.WaitText("Set one up"))
}
