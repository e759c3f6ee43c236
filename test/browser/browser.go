// Package browser drives the console in headless Chromium, for the end-to-end
// tests, the benchmarks and the pictures.
package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/heapprofiler"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/memory"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Browser is one running Chromium.
type Browser struct {
	ctx    context.Context
	cancel func()
}

// Start starts Chromium with an empty profile. It goes nowhere but loopback.
func Start() (*Browser, error) {
	path, err := program()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "ullage-chromium-")
	if err != nil {
		return nil, err
	}
	alloc, stop := chromedp.NewExecAllocator(context.Background(),
		chromedp.ExecPath(path), chromedp.UserDataDir(dir), chromedp.Flag("headless", "new"), chromedp.Flag("no-sandbox", true),
		chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update",
			true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("hide-scrollbars", true), chromedp.Flag("force-color-profile", "srgb"))
	ctx, cancel := chromedp.NewContext(alloc)
	b := &Browser{ctx, func() { cancel(); stop(); os.RemoveAll(dir) }}
	if err := chromedp.Do(ctx, chromedp.Navigate("about:blank")); err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// program finds Chromium. The one without windows of its own comes first: the other
// draws its frame and its tabs too, for nobody.
func program() (string, error) {
	for _, name := range []string{"chromium-headless-shell", "chromium"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", fmt.Errorf("chromium is not installed; run: scripts/setup.sh test")
}

// Apart returns the same browser with cookies and a window of its own, so that services at
// different ports of one address do not share them.
func (b *Browser) Apart() (*Browser, error) {
	ctx, cancel := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	if err := chromedp.Do(ctx, chromedp.Navigate("about:blank")); err != nil {
		cancel()
		return nil, err
	}
	return &Browser{ctx, cancel}, nil
}

// Close ends the browser.
func (b *Browser) Close() { b.cancel() }

// Page is one tab. Its methods wait for what they need and fail after a time.
type Page struct {
	ctx    context.Context
	Close  func()
	mu     sync.Mutex
	errors []string
}

// Open opens a tab of a size on a URL.
func (b *Browser) Open(url string, width, height int64) (*Page, error) {
	p := &Page{}
	ctx, cancel := chromedp.NewContext(b.ctx, chromedp.WithListener(func(ev any) {
		switch ev := ev.(type) {
		case *runtime.EventExceptionThrown:
			text := ev.ExceptionDetails.Text
			if x := ev.ExceptionDetails.Exception; x != nil {
				text += fmt.Sprint(" ", x.Description)
			}
			p.complain(text)
		case *runtime.EventConsoleAPICalled:
			if ev.Type == runtime.ConsoleAPICalledTypeError {
				p.complain(fmt.Sprint(ev.Args))
			}
		case *log.EventEntryAdded:
			if ev.Entry.Level == log.EntryLevelError {
				p.complain(ev.Entry.Text + " " + ev.Entry.URL)
			}
		}
	}))
	p.ctx, p.Close = ctx, cancel
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(width, height)); err != nil {
		return p, err
	}
	// Whoever looks at a page has no tools open that copy all it is sent.
	if _, err := chromedp.Call(ctx, network.Disable, cdp.Empty{}); err != nil {
		return p, err
	}
	// ULLAGE_SLOW=6 makes every page six times slower: what comes too early on a slow machine shows.
	if rate, err := strconv.ParseFloat(os.Getenv("ULLAGE_SLOW"), 64); err == nil {
		if _, err := chromedp.Call(ctx, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: rate}); err != nil {
			return p, err
		}
	}
	// Pages beside each other all take keys and draw, as if each had the focus.
	if _, err := chromedp.Call(ctx, emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true}); err != nil {
		return p, err
	}
	return p, chromedp.Do(ctx, chromedp.Navigate(url))
}

func (p *Page) complain(s string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.errors) < 20 {
		p.errors = append(p.errors, s)
	}
}

// Errors returns what the console of the page complained about.
func (p *Page) Errors() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.errors...)
}

// Forget drops the complaints so far.
func (p *Page) Forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.errors = nil
}

// Go navigates.
func (p *Page) Go(url string) error { return chromedp.Do(p.ctx, chromedp.Navigate(url)) }

// Size changes the size of the page.
func (p *Page) Size(width, height int64) error {
	return chromedp.Do(p.ctx, chromedp.EmulateViewport(width, height))
}

// Eval evaluates an expression, waits for its promise, and decodes the result.
func Eval[T any](p *Page, expression string) (T, error) {
	var out T
	s, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("(async () => JSON.stringify(await ("+expression+
		") ?? null))()", chromedp.EvalAwaitPromise))
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal([]byte(s), &out)
}

// Patience is how long a page is waited for: far longer than it takes, since a machine that does
// much else at the time is no fault of the page. How fast pages are is measured in test/bench.
const Patience = 45 * time.Second

// Wait waits until an expression is true.
func (p *Page) Wait(expression string) error {
	var last error
	for end := time.Now().Add(Patience); time.Now().Before(end); time.Sleep(25 * time.Millisecond) {
		ok, err := Eval[bool](p, "Boolean("+expression+")")
		if err == nil && ok {
			return nil
		}
		last = err
	}
	text, _ := Eval[string](p, `document.body.innerText.slice(0, 1500) + [...document.querySelectorAll("input, textarea")].map((e) =>
		"\n" + (e.name || e.id || e.getAttribute("aria-label") || e.placeholder) + ": " + JSON.stringify(e.type === "password" ? "" : e.value)).join("")`)
	return fmt.Errorf("after %s it is still not true that %s (%v); the page complains of %q and says:\n%s", Patience,
		expression, last, p.Errors(), text)
}

// WaitText waits until the page shows a text.
func (p *Page) WaitText(text string) error {
	b, _ := json.Marshal(text)
	return p.Wait("document.body.innerText.includes(" + string(b) + ")")
}

// Click clicks on the first element that a CSS selector finds.
func (p *Page) Click(selector string) error {
	ctx, cancel := context.WithTimeout(p.ctx, Patience)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Click(chromedp.CSS(selector))); err != nil {
		return fmt.Errorf("clicking %s: %w", selector, err)
	}
	return nil
}

// ClickText clicks on the first button or link with a text that can be clicked on; one that is still busy with the
// click before is waited for, as a person would.
func (p *Page) ClickText(text string) error {
	b, _ := json.Marshal(text)
	click := `(() => { const e = [...document.querySelectorAll("button, a, [role=menuitem], [role=menuitemradio]")]
		.find((e) => e.innerText.trim() === ` + string(b) + ` && !e.disabled); e?.click(); return Boolean(e); })()`
	for start := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if ok, err := Eval[bool](p, click); err != nil || ok {
			return err
		}
		if time.Since(start) > Patience {
			return fmt.Errorf("there is nothing to click that says %q", text)
		}
	}
}

// WaitRefused waits until the page shows a refusal that contains a text: a hint beside the field may say the same.
func (p *Page) WaitRefused(text string) error {
	b, _ := json.Marshal(text)
	return p.Wait(`[...document.querySelectorAll("[role=alert]")].some((e) => e.innerText.includes(` + string(b) + `))`)
}

// Type puts text into a field, replacing what was there.
func (p *Page) Type(selector, text string) error {
	ctx, cancel := context.WithTimeout(p.ctx, Patience)
	defer cancel()
	if _, err := Eval[any](p, fmt.Sprintf("document.querySelector(%q)?.select?.()", selector)); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.SendKeys(chromedp.CSS(selector), text)); err != nil {
		return fmt.Errorf("typing into %s: %w", selector, err)
	}
	return nil
}

// Keys presses keys by their names: ArrowDown, Enter, Tab, Escape.
func (p *Page) Keys(names ...string) error {
	codes := map[string]string{"ArrowDown": kb.ArrowDown, "ArrowUp": kb.ArrowUp, "ArrowLeft": kb.ArrowLeft, "ArrowRight": kb.ArrowRight, "Enter": kb.Enter, "Tab": kb.Tab,
		"Escape": kb.Escape}
	for _, n := range names {
		code, known := codes[n]
		if !known {
			return fmt.Errorf("there is no key %q here", n)
		}
		if err := chromedp.Do(p.ctx, chromedp.KeyEvent(code)); err != nil {
			return fmt.Errorf("pressing %s: %w", n, err)
		}
		time.Sleep(60 * time.Millisecond) // as a person would, one after the other
	}
	return nil
}

// Insert types text where the cursor is.
func (p *Page) Insert(text string) error {
	for _, r := range text {
		if err := chromedp.Do(p.ctx, chromedp.KeyEvent(string(r))); err != nil {
			return fmt.Errorf("typing %q: %w", r, err)
		}
	}
	return nil
}

// SignIn signs in on the sign-in page and waits for the fleet.
func (p *Page) SignIn(person, password string) error {
	if err := p.Wait(`document.querySelector("input[name=password]")`); err != nil {
		return err
	}
	for _, step := range []func() error{
		func() error { return p.Type("input[name=person]", person) },
		func() error { return p.Type("input[name=password]", password) },
		func() error { return p.Click("button[type=submit]") },
		func() error { return p.Wait(`document.querySelector("header nav")`) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	p.Forget() // the question who is signed in was answered with 401 before
	return nil
}

// Picture takes a PNG of what is visible.
func (p *Page) Picture(path string) error {
	b, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(path, b, 0o644)
}

// Accessible runs an accessibility check (axe-core) and returns what it found.
func (p *Page) Accessible(axe string) ([]string, error) {
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[*runtime.RemoteObject](axe)); err != nil {
		return nil, fmt.Errorf("putting in axe-core: %w", err)
	}
	type node struct {
		HTML string `json:"html"`
	}
	type violation struct {
		ID, Help string
		Nodes    []node
	}
	found, err := Eval[[]violation](p,
		`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]}).then((r) => r.violations.map((v) => ({ID: v.id, Help: v.help, Nodes: v.nodes.slice(0, 3).map((n) => ({html: n.html + " " + (n.any[0]?.message ?? "")}))})))`)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, v := range found {
		var where []string
		for _, n := range v.Nodes {
			where = append(where, n.HTML)
		}
		out = append(out, fmt.Sprintf("%s: %s\n    %s", v.ID, v.Help, strings.Join(where, "\n    ")))
	}
	return out, nil
}

// Held is what a page holds on to.
type Held struct {
	Heap             float64 // bytes of script, after its garbage was collected
	Nodes, Listeners int64   // of the document
}

// Held collects the garbage of a page and tells what is left.
func (p *Page) Held() (h Held, err error) {
	for range 2 { // what ends with the first waits for the second
		if _, err := chromedp.Call(p.ctx, heapprofiler.CollectGarbage, cdp.Empty{}); err != nil {
			return h, err
		}
	}
	used, err := chromedp.Call(p.ctx, runtime.GetHeapUsage, cdp.Empty{})
	if err != nil {
		return h, err
	}
	dom, err := chromedp.Call(p.ctx, memory.GetDOMCounters, cdp.Empty{})
	return Held{used.UsedSize, int64(dom.Nodes), int64(dom.JsEventListeners)}, err
}

// Spent is how long a page has worked since it began to be measured.
type Spent struct{ Script, Layout, Style, Task float64 } // seconds

// Spent tells how long the page has worked. The first call begins to measure.
func (p *Page) Spent() (s Spent, err error) {
	if _, err := chromedp.Call(p.ctx, performance.Enable, performance.EnableParams{}); err != nil {
		return s, err
	}
	all, err := chromedp.Call(p.ctx, performance.GetMetrics, cdp.Empty{})
	if err != nil {
		return s, err
	}
	for _, m := range all.Metrics {
		switch m.Name {
		case "ScriptDuration":
			s.Script = m.Value
		case "LayoutDuration":
			s.Layout = m.Value
		case "RecalcStyleDuration":
			s.Style = m.Value
		case "TaskDuration":
			s.Task = m.Value
		}
	}
	return s, nil
}
