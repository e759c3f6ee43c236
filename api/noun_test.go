package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ullage/client"
	"ullage/fleet/fact"
	"ullage/test/rig"
)

func ptr[T any](x T) *T { return &x }

func TestSites(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", map[string]string{"site": "High Orchard"})
	body := `{"site":"High Orchard","zone":"UTC","latitude":47.701,"longitude":8.198}`
	path := "/api/v1/sites/High%20Orchard"
	resp, got := b.as("PUT", path, body)
	if resp.StatusCode != 201 || resp.Header.Get("Location") != path || resp.Header.Get("Ullage-Changed") != "true" {
		t.Fatalf("made with %d, Location %q: %s", resp.StatusCode, resp.Header.Get("Location"), got)
	}
	tag := resp.Header.Get("ETag")
	resp, got = b.as("PUT", path, body)
	if resp.StatusCode != 200 || resp.Header.Get("ETag") != tag || resp.Header.Get("Ullage-Changed") != "false" {
		t.Errorf("put again: %d, tag %s after %s: %s", resp.StatusCode, resp.Header.Get("ETag"), tag, got)
	}
	resp, got = b.as("GET", path, "")
	var s client.Site
	if err := json.Unmarshal([]byte(got), &s); err != nil || s.Devices != 1 || *s.Latitude != 47.701 ||
		resp.Header.Get("ETag") != tag {
		t.Errorf("shown as %s, tag %s, %v", got, resp.Header.Get("ETag"), err)
	}
	if d := b.Device(tank); b.Present.Zone(d.ID).String() != "UTC" {
		t.Errorf("the zone of the device is %s", b.Present.Zone(d.ID))
	}
	if resp, got = b.as("PUT", path, strings.Replace(body, "UTC", "Europe/Berlin", 1), "If-Match", tag); resp.StatusCode != 200 {
		t.Fatalf("changed with its tag: %d %s", resp.StatusCode, got)
	}
	if zone := b.Present.Zone(tank).String(); zone != "Europe/Berlin" {
		t.Errorf("the zone of the device is %s after its site's was changed", zone)
	}
	for _, c := range []struct{ method, body, header, value string }{
		{"PUT", body, "If-Match", tag}, {"DELETE", "", "If-Match", tag}, {"PUT", body, "If-None-Match", "*"}, {"PUT", body, "If-Match", `"nonsense"`},
	} {
		resp, got := b.as(c.method, path, c.body, c.header, c.value)
		if resp.StatusCode != http.StatusPreconditionFailed || !strings.Contains(got, "condition-not-met") {
			t.Errorf("%s with %s: %s gives %d %s", c.method, c.header, c.value, resp.StatusCode, got)
		}
	}
	want := []string{"engineer made the site High Orchard",
		"engineer saved the site High Orchard; zone: UTC → Europe/Berlin"}
	if got := b.Journal(fact.ChangedKind("site")); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("the journal says %q, want %q", got, want)
	}
	b.Restart(true)
	if s, err := b.App.Sites.Get("High Orchard"); err != nil || s.Zone != "Europe/Berlin" {
		t.Errorf("after a crash it is %+v, %v", s, err)
	}
}

func TestWrongSites(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for _, c := range []struct {
		path, body string
		status     int
		says       string
	}{
		{"Fennimore", `{"site":"Kilnside"}`, 422, "the address says Fennimore and the site Kilnside"},
		{"Fennimore", `{"site":"Fennimore","zone":"Mars/Olympus"}`, 422, "is no time zone"},
		{"Fennimore", `{"site":"Fennimore","latitude":47}`, 422, "write both or none"},
		{"Fennimore", `{"site":"Fennimore","latitude":470,"longitude":1}`, 422, "latitude"},
		{"Fennimore", `{"site":"Fennimore","colour":"red"}`, 422, "colour"},
		{"Fennimore", `{"site":`, 400, ""},
	} {
		if resp, got := b.as("PUT", "/api/v1/sites/"+c.path, c.body); resp.StatusCode/100 != 4 ||
			!strings.Contains(got, c.says) {
			t.Errorf("%s gives %d %s, want %q", c.body, resp.StatusCode, got, c.says)
		}
	}
	if resp, got := b.as("GET", "/api/v1/sites/Nowhere", ""); resp.StatusCode != 404 ||
		!strings.Contains(got, "there is no site") {
		t.Errorf("a site that is not there: %d %s", resp.StatusCode, got)
	}
	if resp, _ := b.as("DELETE", "/api/v1/sites/Nowhere", ""); resp.StatusCode != 404 {
		t.Errorf("taking it away: %d", resp.StatusCode)
	}
}

// TestWrittenTexts writes what cannot be seen wherever people write something for people.
func TestWrittenTexts(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	for _, c := range []struct{ path, body string }{
		{"sites/Kilnside", `"site":"Kilnside","note":`},
		{"sites/Kilnside", `"site":"Kilnside","address":`},
		{"teams/cellars", `"team":"cellars","note":`},
		{"people/night-duty", `"person":"night-duty","note":`},
		{"boards/night", `"board":"night","instruments":[],"title":`},
		{"boards/night", `"board":"night","instruments":[{"instrument":"note","place":[0,0,3,3],"text":"x","title":`},
		{"boards/night", `"board":"night","instruments":[{"instrument":"note","place":[0,0,3,3],"text":`},
		{"rules/must_warm", `"rule":"must_warm","models":["tank-probe"],"raise":"must_temp > 30","priority":"low","message":`},
		{"layers/night", `"layer":"night","set":{"max_temp":28},"why":`},
		{"maintenances/cleaning", `"maintenance":"cleaning","devices":"true","to":"2126-12-02T00:00:00Z","why":`},
		{"responses/switch", `"stopped":true,"release":false,"why":`},
	} {
		closing := strings.Repeat("]", strings.Count(c.body, `[{`))
		if closing != "" {
			closing = "}" + closing
		}
		for text, status := range map[string]int{`"a\u0000b"`: 422, `"\u001b[31m"`: 422, `"gnp.\u202etxe"`: 422, `"two lines,\nin 28 °C"`: 0} {
			resp, got := b.as("PUT", "/api/v1/"+c.path, "{"+c.body+text+closing+"}")
			if status == 0 && resp.StatusCode >= 300 || status != 0 && (resp.StatusCode != status || !strings.Contains(got, "cannot be seen")) {
				t.Errorf("%s with %s%s gives %d %s", c.path, c.body, text, resp.StatusCode, got)
			}
		}
	}
}

func TestPlanPictures(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.as("PUT", "/api/v1/sites/Fennimore", `{"site":"Fennimore"}`)
	path := "/api/v1/sites/Fennimore/plan"
	var picture bytes.Buffer
	if err := png.Encode(&picture, image.NewGray(image.Rect(0, 0, 20, 10))); err != nil {
		t.Fatal(err)
	}
	drawing := `<svg xmlns="http://www.w3.org/2000/svg"><rect width="3" height="4"/></svg>`
	for _, c := range []struct {
		name, body string
		status     int
		says       string
	}{
		{"a drawing", drawing, 204, ""},
		{"a script in it", `<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>`, 422, "does more than draw"},
		{"a page", `<html><script>alert(1)</script></html>`, 422, "no picture"},
		{"nothing", "", 400, "nothing was sent"},
		{"50 MB", strings.Repeat("x", 50<<20), 413, ""},
		{"a picture", picture.String(), 204, ""},
	} {
		if resp, got := b.as("PUT", path, c.body, "Content-Type", "application/octet-stream"); resp.StatusCode != c.status || !strings.Contains(got, c.says) {
			t.Errorf("%s gives %d %s, want %d", c.name, resp.StatusCode, got, c.status)
		}
	}
	resp, got := b.as("GET", path, "")
	if resp.Header.Get("Content-Type") != "image/png" || got != picture.String() ||
		!strings.Contains(resp.Header.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("the picture comes as %v, %d bytes", resp.Header, len(got))
	}
	if _, got := b.as("GET", "/api/v1/sites/Fennimore", ""); !strings.Contains(got, `"plan":"image/png"`) {
		t.Errorf("the site is %s", got)
	}
	b.as("PUT", "/api/v1/sites/Fennimore", `{"site":"Fennimore","note":"mind the step"}`)
	if resp, _ := b.as("GET", path, ""); resp.StatusCode != 200 {
		t.Errorf("saving the site lost its picture: %d", resp.StatusCode)
	}
	b.as("DELETE", path, "")
	if resp, _ := b.as("GET", path, ""); resp.StatusCode != 404 {
		t.Errorf("a picture that was taken away: %d", resp.StatusCode)
	}
}

// A list is filtered, ordered and paged the same way for every noun; a page goes
// on where the last one ended also when things come and go meanwhile.
func TestPages(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for i := range 25 {
		zone := []string{"UTC", "Europe/Berlin", ""}[i%3]
		_, err := b.client.Sites().Put(t.Context(), client.Site{Name: fmt.Sprintf("Site %02d", i), Zone: zone,
			Latitude: ptr(float64(-i)), Longitude: ptr(1.0)}, "")
		b.Must(err)
	}
	names := func(o client.ListOptions) string {
		t.Helper()
		xs, err := b.client.Sites().List(t.Context(), o)
		b.Must(err)
		var out []string
		for _, x := range xs {
			out = append(out, strings.TrimPrefix(x.Name, "Site "))
		}
		return strings.Join(out, " ")
	}
	if got := names(client.ListOptions{Where: `zone == "UTC" and latitude < -10`}); got != "12 15 18 21 24" {
		t.Errorf("filtered: %s", got)
	}
	if got := names(client.ListOptions{Order: "latitude", Limit: 3}); got != "24 23 22" {
		t.Errorf("by latitude: %s", got)
	}
	if got := names(client.ListOptions{Order: "-zone", Limit: 4}); got != "00 03 06 09" {
		t.Errorf("by zone, turned round: %s", got)
	}
	if got := names(client.ListOptions{Order: "zone"}); !strings.HasSuffix(got, "14 17 20 23") {
		t.Errorf("those without a zone do not stand last: %s", got)
	}
	resp, got := b.as("GET", "/api/v1/sites?order=-latitude&limit=10", "")
	next := strings.TrimSuffix(strings.TrimPrefix(resp.Header.Get("Link"), "<"), `>; rel="next"`)
	if resp.Header.Get("Ullage-Count") != "25" || next == "" || !strings.Contains(got, "Site 09") {
		t.Fatalf("the first page: %v %s", resp.Header, got)
	}
	b.Must(b.client.Sites().Remove(t.Context(), "Site 09", "")) // where the page ended
	var page []client.Site
	if _, got = b.as("GET", next, ""); json.Unmarshal([]byte(got), &page) != nil || len(page) != 10 ||
		page[0].Name != "Site 10" {
		t.Errorf("the second page: %s", got)
	}
	u, _ := url.Parse(next)
	after := u.Query().Get("after")
	for name, q := range map[string]string{
		"another order":  "order=zone&after=" + after,
		"another filter": "order=-latitude&where=" + url.QueryEscape(`zone == "UTC"`) + "&after=" + after,
		"forged":         "order=-latitude&after=" + after[:len(after)-4] + "AAAA",
		"nonsense":       "after=xyz",
		"another noun's": "",
	} {
		path := "/api/v1/sites?" + q
		if q == "" {
			path = "/api/v1/rules?order=-name&after=" + after
		}
		if resp, got := b.as("GET", path, ""); resp.StatusCode != 422 {
			t.Errorf("%s: %d %s", name, resp.StatusCode, got)
		}
	}
	for q, says := range map[string]string{"order=latitud": "did you mean latitude",
		"where=zon+%3D%3D+1": "did you mean zone", "limit=0": "limit", "limit=100000": "limit"} {
		if resp, got := b.as("GET", "/api/v1/sites?"+q, ""); resp.StatusCode != 422 || !strings.Contains(got, says) {
			t.Errorf("%s: %d %s, want %q", q, resp.StatusCode, got, says)
		}
	}
}

func TestDeviceNameAndHub(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	b.Onboard("hub-fennimore", "cellar-hub", nil)
	d, err := b.client.ChangeDevice(t.Context(), tank, client.DeviceChange{Name: ptr("Nördlicher Tank 北タンク"),
		Hub: ptr("hub-fennimore")})
	if err != nil || d.Name != "Nördlicher Tank 北タンク" || d.Hub != "hub-fennimore" {
		t.Fatalf("%+v, %v", d, err)
	}
	ds, err := b.client.DevicesWhere(t.Context(), `device.hub == "hub-fennimore" and device.name != ""`)
	if err != nil || len(ds) != 1 || ds[0].ID != tank {
		t.Errorf("found by its hub: %v, %v", ds, err)
	}
	for name, c := range map[string]struct {
		id string
		ch client.DeviceChange
	}{
		"one line":              {tank, client.DeviceChange{Name: ptr("a\nb")}},
		"not one line":          {tank, client.DeviceChange{Name: ptr("a\u202eb")}},
		"characters":            {tank, client.DeviceChange{Name: ptr(strings.Repeat("x", 101))}},
		"could be the hub":      {tank, client.DeviceChange{Hub: ptr("hub-nowhere")}},
		"its own hub":           {tank, client.DeviceChange{Hub: ptr(tank)}},
		"cannot be behind":      {"hub-fennimore", client.DeviceChange{Hub: ptr("other")}},
		"there is no device":    {"tank-nowhere", client.DeviceChange{Name: ptr("x")}},
		"so it cannot be a hub": {"other", client.DeviceChange{Hub: ptr(tank)}},
	} {
		if name == "cannot be behind" || name == "so it cannot be a hub" {
			if _, err := b.Devices.Get("other"); err != nil {
				b.Onboard("other", "tank-probe", nil)
			}
		}
		if _, err := b.client.ChangeDevice(t.Context(), c.id, c.ch); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%v, want %q", err, name)
		}
	}
	b.Restart(true)
	if d, err := b.Devices.Get(tank); err != nil || d.Hub != "hub-fennimore" || d.Name == "" {
		t.Errorf("after a crash it is %+v, %v", d, err)
	}
	if _, err := b.Devices.Behind(t.Context(), "hub-fennimore", "other", "tester"); rig.Code(err) == "" {
		t.Error("after a restart a hub with devices behind it can be put behind another")
	}
}

// as makes a request as the engineer.
func (b *bench) as(method, path, body string, headers ...string) (*http.Response, string) {
	b.T.Helper()
	return b.call(method, path, body, append([]string{"Authorization", "Bearer " + b.token}, headers...)...)
}

func TestDevicePages(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for i := range 12 {
		b.Onboard(fmt.Sprintf("tank-fennimore-%02d", i), "tank-probe",
			map[string]string{"site": []string{"Fennimore", "Kilnside"}[i%2]})
	}
	seen := []string{}
	for next := "/api/v1/devices?order=-id&limit=2&label=site=Kilnside"; next != ""; {
		resp, got := b.as("GET", next, "")
		var page []client.Device
		if err := json.Unmarshal([]byte(got), &page); err != nil || resp.StatusCode != 200 ||
			resp.Header.Get("Ullage-Count") != "6" {
			t.Fatalf("%s: %d %s", next, resp.StatusCode, got)
		}
		for _, d := range page {
			seen = append(seen, d.ID[len("tank-fennimore-"):])
		}
		next = strings.TrimSuffix(strings.TrimPrefix(resp.Header.Get("Link"), "<"), `>; rel="next"`)
	}
	if got := strings.Join(seen, " "); got != "11 09 07 05 03 01" {
		t.Errorf("the pages give %s", got)
	}
}
