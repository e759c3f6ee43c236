package site_test

import (
	"bytes"
	"image"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"ullage/core/site"
)

const good = `site: High Orchard
zone: UTC
latitude: 47.701
longitude: 8.198
address: Orchard Lane 1, High Orchard
note: The gate is locked after six.
plan: high-orchard.svg
at:
  hub-high-orchard: [12.5, 80]
call:
  - who: cellar-master
    phone: +49 30 23125 014
    when: by day
  - who: night-duty
    mail: night-duty@example.org
`

func TestParse(t *testing.T) {
	s, err := site.Parse([]byte(good))
	if err != nil {
		t.Fatal(err)
	}
	if s.Name != "High Orchard" || *s.Latitude != 47.701 || s.Plan != "high-orchard.svg" {
		t.Errorf("read as %+v", s)
	}
	again, err := site.Parse(s.YAML())
	if err != nil || again.Name != s.Name || *again.Longitude != *s.Longitude || again.Note != s.Note || again.At["hub-high-orchard"][1] != 80 || again.Call[1] != s.Call[1] {
		t.Errorf("written and read again: %+v, %v", again, err)
	}
	for change, says := range map[string]string{
		"site: High Orchard|site: ''":                        "a site has a name",
		"site: High Orchard|site: 'a/b'":                     "a site has a name",
		"site: High Orchard|site: ' x'":                      "a site has a name",
		"zone: UTC|zone: Mars/Olympus":                       "is no time zone",
		"zone: UTC|zone: Local":                              "is no time zone",
		"latitude: 47.701|latitude: 91":                      "from -90 to 90",
		"latitude: 47.701|latitude: .nan":                    "from -90 to 90",
		"longitude: 8.198|longitude: 181":                    "from -180 to 180",
		"longitude: 8.198\n|":                                "write both or none",
		"plan: high-orchard.svg|plan: ../etc.svg":            "name a picture beside the file",
		"plan: high-orchard.svg|plan: x.exe":                 "name a picture beside the file",
		"zone: UTC|zones: UTC":                               "zones",
		"note: The|note: !!binary The":                       "",
		"[12.5, 80]|[12.5]":                                  "stands nowhere on the plan",
		"[12.5, 80]|[12.5, 101]":                             "stands nowhere on the plan",
		"[12.5, 80]|[.nan, 1]":                               "stands nowhere on the plan",
		"who: night-duty|who: ''":                            "number 2 of those to call: say who it is",
		"phone: +49 30 23125 014|phone: javascript:alert(1)": "is no number",
		"night-duty@example.org|night-duty":                  "is no mail address",
		"night-duty@example.org|a@b?cc=c":                    "is no mail address",
		"when: by day|who2: x":                               "who2",
	} {
		old, next, _ := strings.Cut(change, "|")
		if _, err := site.Parse([]byte(strings.Replace(good, old, next, 1))); says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%s: %v, want %q", change, err, says)
		}
	}
	if _, err := site.Parse(bytes.Repeat([]byte("a"), site.MaxSource+1)); err == nil {
		t.Error("a file that is too large was read")
	}
}

func pictures(t *testing.T) (p, j []byte) {
	t.Helper()
	var a, b bytes.Buffer
	m := image.NewGray(image.Rect(0, 0, 30, 20))
	if err := png.Encode(&a, m); err != nil {
		t.Fatal(err)
	}
	if err := jpeg.Encode(&b, m, nil); err != nil {
		t.Fatal(err)
	}
	return a.Bytes(), b.Bytes()
}

func TestCheckPlan(t *testing.T) {
	p, j := pictures(t)
	svg := func(inside string) []byte {
		return []byte(`<?xml version="1.0"?><svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" viewBox="0 0 9 9">` + inside + `</svg>`)
	}
	huge := bytes.Clone(p)
	huge[18], huge[19] = 0xff, 0xff // the width in IHDR; its checksum is wrong then too
	for name, c := range map[string]struct {
		b    []byte
		kind string
		says string
	}{
		"png":                {p, site.PNG, ""},
		"jpeg":               {j, site.JPEG, ""},
		"drawing":            {svg(`<g style="fill:url(#a)"><rect width="3" height="4"/><use xlink:href="#x"/><style>rect{fill:#fff}</style></g>`), site.SVG, ""},
		"editor's notes":     {svg(`<n:view xmlns:n="http://example.org/notes" onload="x()"><n:script/></n:view><path d="M0 0"/>`), site.SVG, ""},
		"script":             {svg(`<script>alert(1)</script>`), "", "element script"},
		"script elsewhere":   {svg(`<g><g><script href="#x"/></g></g>`), "", "element script"},
		"html in it":         {svg(`<foreignObject><b xmlns="http://www.w3.org/1999/xhtml"/></foreignObject>`), "", "element foreignObject"},
		"html without":       {svg(`<b xmlns="http://www.w3.org/1999/xhtml"/>`), "", "element b"},
		"handler":            {svg(`<rect onclick="alert(1)"/>`), "", "runs something at onclick"},
		"handler in capital": {svg(`<rect ONLOAD="alert(1)"/>`), "", "runs something at onload"},
		"link out":           {svg(`<use href="http://example.org/x.svg#a"/>`), "", "fetches"},
		"data link":          {svg(`<use href="data:image/svg+xml,x"/>`), "", "fetches"},
		"style out":          {svg(`<rect style="fill:url('http://example.org/')"/>`), "", "fetches something by its style"},
		"import":             {svg(`<style>@import "http://example.org/a.css";</style>`), "", "fetches and runs nothing"},
		"escaped":            {svg(`<style>@\69mport "x";</style>`), "", "fetches and runs nothing"},
		"animation":          {svg(`<a href="#x"><set attributeName="href" to="javascript:alert(1)"/></a>`), "", "element a"},
		"entities":           {[]byte(`<!DOCTYPE svg [<!ENTITY a "b">]><svg xmlns="http://www.w3.org/2000/svg"/>`), "", "declares entities"},
		"style sheet":        {[]byte(`<?xml-stylesheet href="x.css"?><svg xmlns="http://www.w3.org/2000/svg"/>`), "", "asks for xml-stylesheet"},
		"html":               {[]byte(`<html><script>1</script></html>`), "", "no picture"},
		"script file":        {[]byte(`#!/bin/sh` + "\nrm -rf /\n"), "", "no picture"},
		"nothing":            {nil, "", "no picture"},
		"torn png":           {p[:20], "", "begins as PNG"},
		"too wide":           {huge, "", "PNG"},
		"torn drawing":       {svg(`<g>`), "", "not well-formed"},
		"too large":          {make([]byte, site.MaxPlan+1), "", "a plan may have"},
		"too deep":           {svg(strings.Repeat("<g>", 300) + strings.Repeat("</g>", 300)), "", "nested too deep"},
	} {
		kind, err := site.CheckPlan(c.b)
		if c.says == "" && (err != nil || kind != c.kind) {
			t.Errorf("%s: %q, %v; want %q", name, kind, err, c.kind)
		}
		if c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("site: !!binary x\nzone: [1]"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := site.Parse(b)
		if err != nil {
			return
		}
		again, err := site.Parse(s.YAML())
		if err != nil || again.Name != s.Name || again.Zone != s.Zone || again.Plan != s.Plan {
			t.Errorf("%q is written as %q, which gives %+v, %v", b, s.YAML(), again, err)
		}
	})
}

// Whatever passes as a drawing holds no script and no handler, as the plainest
// of readers sees it.
func FuzzCheckPlan(f *testing.F) {
	f.Add([]byte(`<svg xmlns="http://www.w3.org/2000/svg"><rect width="1"/></svg>`))
	f.Add([]byte(`<svg><script>x</script></svg>`))
	f.Add([]byte(`<svg xmlns:x="u"><x:g><script/></x:g></svg>`))
	f.Fuzz(func(t *testing.T, b []byte) {
		kind, err := site.CheckPlan(b)
		if err != nil || kind != site.SVG {
			return
		}
		if low := strings.ToLower(string(b)); strings.Contains(low, "<script") && !strings.Contains(low, ":") &&
			!strings.Contains(low, "<!--") && !strings.Contains(low, "cdata") {
			t.Errorf("%q passes", b)
		}
	})
}
