// Package sim plays a fleet of devices against an Ullage, over the same
// protocols and with the same credentials as real ones would. Values follow a
// story and depend on nothing but the seed and the time.
package sim

import (
	"fmt"
	"strings"
	"time"

	"ullage/core/model"
)

// Protocol is how a simulated device speaks.
type Protocol string

// The protocols that are played.
const (
	MQTT5 Protocol = "mqtt 5"
	MQTT3 Protocol = "mqtt 3.1.1"
	HTTP  Protocol = "http"
)

// Unit is one simulated device.
type Unit struct {
	ID       string
	Name     string // what people call it; may be empty
	Hub      string // the unit that carries it; may be empty
	Model    string
	Labels   map[string]string
	Protocol Protocol
	// Every is how often it reports in history, and live unless told otherwise.
	Every time.Duration
	// HwRev and Firmware are what it reports about itself.
	HwRev, Firmware string
	// Writable says that it takes settings.
	Writable bool
	// NoClock says that it has lost the time: it starts in 1970 with each start of the live part.
	NoClock bool
	// Of is the model of a device that is no part of the story; see FleetOf.
	Of *model.Model
}

// siteNames are the six cellars of the made-up cooperative Tarn & Hollow.
var siteNames = []string{"Alder Bank", "Coldharbour", "Fennimore", "High Orchard", "Kilnside", "Saltmarsh"}

// Small is how many devices the small fleet has.
const Small = 48

func slug(site string) string { return strings.ReplaceAll(strings.ToLower(site), " ", "-") }

// Fleet returns n devices. The first 48 are the story's; any more are further
// tanks of the same sites.
func Fleet(n int) []Unit {
	var out []Unit
	add := func(u Unit) { out = append(out, u) }
	tanks := map[string]int{"Alder Bank": 2, "Coldharbour": 3, "Fennimore": 7, "High Orchard": 3, "Kilnside": 2,
		"Saltmarsh": 1}
	airs := map[string]int{"Alder Bank": 1, "Coldharbour": 1, "Fennimore": 2, "High Orchard": 1, "Kilnside": 3,
		"Saltmarsh": 1}
	valves := map[string]int{"Alder Bank": 1, "Coldharbour": 1, "Fennimore": 2, "High Orchard": 1}
	bungs := map[string][]int{"Saltmarsh": {112}, "High Orchard": {21, 22, 23, 24, 25, 26}, "Alder Bank": {7}}
	presses := map[string]int{"Kilnside": 1, "Coldharbour": 1}
	rooms := []string{"fermentation hall", "press hall", "cask store"}
	for _, site := range siteNames {
		key := slug(site)
		add(Unit{ID: "hub-" + key, Model: "cellar-hub", Protocol: MQTT3, Every: time.Minute, HwRev: "C",
			Firmware: "1.9.2", Writable: true, Labels: map[string]string{"site": site}})
		for i := 1; i <= tanks[site]; i++ {
			add(tank(site, i))
		}
		for i := 1; i <= airs[site]; i++ {
			add(Unit{ID: fmt.Sprintf("air-%s-%d", key, i), Model: "cellar-air", Protocol: MQTT5, Every: time.Minute,
				HwRev: "A", Firmware: "1.0.8", Writable: true, Labels: map[string]string{"site": site,
					"row": rooms[(i-1)%3]}})
		}
		for i := 1; i <= valves[site]; i++ {
			add(Unit{ID: fmt.Sprintf("valve-%s-%02d", key, i), Name: "Jacket of tank " + tankName(site, i),
				Hub: "hub-" + key, Model: "jacket-valve", Protocol: MQTT3, Every: time.Minute, HwRev: "A", Firmware: "3.1.0", Writable: true,
				Labels: map[string]string{"site": site, "tank": tankName(site, i)}})
		}
		for _, i := range bungs[site] {
			labels := map[string]string{"site": site, "row": "cask store", "stage": "ageing"}
			if site == "High Orchard" { // these casks are a guest's
				labels["owner"] = "cask-owner"
			}
			add(Unit{ID: fmt.Sprintf("bung-%s-%d", key, i), Model: "cask-bung", Protocol: HTTP, Every: 30 * time.Minute,
				HwRev: "A", Firmware: "2.0.0", Labels: labels})
		}
		for i := 1; i <= presses[site]; i++ {
			add(Unit{ID: fmt.Sprintf("press-%s-%d", key, i), Model: "press-scale", Protocol: HTTP, NoClock: site == "Coldharbour",
				Every: 2 * time.Minute, HwRev: "A", Firmware: "1.2.1", Writable: true,
				Labels: map[string]string{"site": site, "row": "press hall"}})
		}
	}
	for i := 0; len(out) < n; i++ {
		add(tank(siteNames[i%len(siteNames)], 20+i/len(siteNames)))
	}
	return out[:min(n, len(out))]
}

func tankName(site string, i int) string { return fmt.Sprintf("%c%d", site[0], i) }

func tank(site string, i int) Unit {
	stages := []string{"fermenting", "fermenting", "resting"}
	stage := stages[i%3]
	if site == "Fennimore" {
		stage = "fermenting"
	}
	labels := map[string]string{"site": site, "tank": tankName(site, i), "row": string(rune('A' + (i-1)/4%3)),
		"stage": stage, "owner": "cellar master"}
	if i%4 == 3 {
		labels["must"] = "white"
	}
	hardware := "B"
	if i%4 == 2 {
		hardware = "A"
	}
	return Unit{ID: fmt.Sprintf("tank-%s-%02d", slug(site), i), Model: "tank-probe", Protocol: MQTT5,
		Every: time.Minute, HwRev: hardware, Firmware: "2.3.1", Writable: true, Labels: labels}
}

// Refuses returns why a unit does not apply a setting, or "". Three probes are
// sealed and must not be stirred warm.
func (u Unit) Refuses(name string, v any) (reason string, instead any) {
	if u.Of != nil {
		return u.refusesAny(name, v)
	}
	f, _ := v.(float64)
	switch u.ID {
	case "tank-coldharbour-02", "tank-high-orchard-03", "tank-kilnside-01":
		if name == "stir_at" && f > 26 {
			return "above 26 °C while the tank is sealed", 26.0
		}
	}
	if name == "report_every" && f > 0 && f < 5 {
		return "below 5 s", 5.0
	}
	return "", nil
}
