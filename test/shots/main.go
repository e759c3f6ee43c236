// Command shots makes the pictures of docs/screenshots from a running demo.
// Make runs it: make screenshots.
package main

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"ullage/test/browser"
	"ullage/test/service"
)

type shot struct {
	name   string
	path   string
	theme  string
	width  int64
	height int64
	after  func(*browser.Page) error
}

func main() {
	console := flag.String("console", "", "address of a running demo; empty starts one")
	password := flag.String("password", "", "its password")
	out := flag.String("out", filepath.Join(service.Root(), "docs", "screenshots"), "folder for the pictures")
	only := flag.String("only", "", "make only this one")
	flag.Parse()
	if err := run(*console, *password, *out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(console, password, out, only string) error {
	if console == "" {
		d, err := service.StartDemo()
		if err != nil {
			return err
		}
		defer d.Stop()
		console, password = d.Console, d.Password
		time.Sleep(45 * time.Second) // until the story has raised its live alarms
	}
	b, err := browser.Start()
	if err != nil {
		return err
	}
	defer b.Close()
	p, err := b.Open(console, 1280, 800)
	if err != nil {
		return err
	}
	defer p.Close()
	if only == "" || only == "sign-in" {
		time.Sleep(time.Second)
		if err := p.Picture(filepath.Join(out, "sign-in.png")); err != nil {
			return err
		}
	}
	if err := p.SignIn("engineer", password); err != nil {
		return err
	}
	shots := []shot{
		{name: "fleet", path: "/"},
		{name: "fleet-dark", path: "/", theme: "dark"},
		{name: "fleet-list", path: "/?view=list&sort=headspace"},
		{name: "fleet-narrow", path: "/", width: 390, height: 844},
		{name: "device", path: "/devices/tank-fennimore-07?span=24h"},
		{name: "device-dark", path: "/devices/air-kilnside-2?span=6h", theme: "dark"},
		{name: "settings", path: "/devices/tank-coldharbour-02", after: func(p *browser.Page) error { return p.ClickText("Change a setting") }},
		{name: "alarms", path: "/alarms"},
		{name: "wire", path: "/wire"},
		{name: "api", path: "/api/docs"},
	}
	for _, s := range shots {
		if only != "" && only != s.name {
			continue
		}
		if s.width == 0 {
			s.width, s.height = 1280, 800
		}
		if s.theme == "" {
			s.theme = "light"
		}
		if err := p.Size(s.width, s.height); err != nil {
			return err
		}
		if _, err := browser.Eval[any](p, fmt.Sprintf("localStorage.setItem('ullage-theme', %q)", s.theme)); err != nil {
			return err
		}
		if err := p.Go(console + s.path); err != nil {
			return err
		}
		time.Sleep(2500 * time.Millisecond)
		if s.after != nil {
			if err := s.after(p); err != nil {
				return err
			}
			time.Sleep(500 * time.Millisecond)
		}
		if err := p.Picture(filepath.Join(out, s.name+".png")); err != nil {
			return err
		}
		fmt.Println(s.name)
	}
	for _, e := range p.Errors() {
		fmt.Fprintln(os.Stderr, "the page complains:", e)
	}
	return nil
}
