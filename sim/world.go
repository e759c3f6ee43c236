package sim

import (
	"hash/fnv"
	"math"
	"time"
)

// World is the story: what every device measures at every time. Start is when
// the story's live part begins; what lies before it is history.
type World struct {
	Seed  uint64
	Start time.Time
}

// noise returns a number from -1 to 1 that depends on the seed, the unit, the
// metric and k alone.
func (w World) noise(id, metric string, k int64) float64 {
	h := fnv.New64a()
	var b [16]byte
	for i := range 8 {
		b[i], b[8+i] = byte(w.Seed>>(8*i)), byte(uint64(k)>>(8*i))
	}
	h.Write(b[:])
	h.Write([]byte(id))
	h.Write([]byte(metric))
	x := h.Sum64()
	x ^= x >> 33 // finalizer of MurmurHash3, so that neighbouring k are unrelated
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	x *= 0xc4ceb9fe1a85ec53
	x ^= x >> 33
	return float64(x>>11)/(1<<52) - 1
}

// wander returns a smooth curve from -1 to 1 with a bend about every period.
func (w World) wander(id, metric string, at time.Time, period time.Duration) float64 {
	pos := float64(at.UnixMilli()) / float64(period.Milliseconds())
	k := math.Floor(pos)
	f := pos - k
	f = f * f * (3 - 2*f)
	return w.noise(id, metric, int64(k))*(1-f) + w.noise(id, metric, int64(k)+1)*f
}

func (w World) jitter(id, metric string, at time.Time) float64 {
	return w.noise(id, metric+"*", at.UnixMilli()/1000)
}

// since returns the hours from the start of the live part; history is negative.
func (w World) since(at time.Time) float64 { return at.Sub(w.Start).Hours() }

func round(v float64, decimals int) float64 {
	s := math.Pow10(decimals)
	return math.Round(v*s) / s
}

// bump rises smoothly from 0 at the hour a to 1 at the hour b and falls back by c.
func bump(h, a, b, c float64) float64 {
	switch {
	case h <= a || h >= c:
		return 0
	case h < b:
		x := (h - a) / (b - a)
		return x * x * (3 - 2*x)
	}
	x := (c - h) / (c - b)
	return x * x * (3 - 2*x)
}

// Silent reports whether the story has the unit out of reach at a time, and
// keeps what it measures until it is back.
func (w World) Silent(u Unit, at time.Time) bool {
	h := w.since(at)
	switch u.ID {
	case "hub-saltmarsh":
		// Off for six hours up to three minutes into the live part; once before.
		return h > -5.95 && h < 0.05 || h > -40 && h < -38.5
	case "press-coldharbour-1":
		return h > -30 && h < -29.2
	}
	return false
}

// Sample returns what a unit measures at a time, given the settings it has
// applied.
func (w World) Sample(u Unit, at time.Time, applied map[string]any) map[string]any {
	if u.Of != nil {
		return w.invent(u, at)
	}
	h := w.since(at)
	day := math.Sin(2 * math.Pi * (float64(at.UTC().Hour()) + float64(at.UTC().Minute())/60 - 9) / 24)
	slow := func(metric string) float64 { return w.wander(u.ID, metric, at, 5*time.Hour) }
	quick := func(metric string) float64 { return w.wander(u.ID, metric, at, 20*time.Minute) }
	jit := func(metric string) float64 { return w.jitter(u.ID, metric, at) }
	own := w.noise(u.ID, "own", 0)
	switch u.Model {
	case "tank-probe":
		return w.tank(u, h, day, own, slow, quick, jit)
	case "cellar-air":
		return w.air(u, at, h, day, own, slow, quick, jit, applied)
	case "jacket-valve":
		opening := 32 + 14*slow("opening") + 6*day + 2*quick("opening")
		supply := 4.5 + 0.8*slow("supply") + 0.3*jit("supply")
		if u.ID == "valve-high-orchard-01" {
			supply += 9.5 * bump(h, -20, -19, -17)
		}
		faults := 0.0
		if u.ID == "valve-fennimore-02" && h > -9 {
			faults = 3
			opening = 58 + 0.5*jit("opening")
		}
		return map[string]any{"opening": round(opening, 0), "flow": round(opening*0.62+jit("flow"), 1),
			"supply_temp": round(supply, 1), "faults": faults}
	case "cask-bung":
		battery := 3.3 + 0.12*own - (0.00006+0.00003*own)*h + 0.01*day + 0.006*jit("battery")
		if u.ID == "bung-saltmarsh-112" {
			battery = 2.572 - 0.0011*h + 0.008*day + 0.004*jit("battery")
		}
		return map[string]any{"ullage": round(26+9*own-h*-0.004+0.6*jit("ullage"), 0),
			"pressure":  round(101.6+1.1*slow("pressure")+0.2*jit("pressure"), 1),
			"cask_temp": round(12.2+0.8*own+0.5*day+0.1*jit("cask_temp"), 1), "battery": round(battery, 2)}
	case "press-scale":
		return w.press(u, at, quick, jit)
	}
	uptime := math.Mod(h*3600+2100*3600+own*9000, 400*3600)
	disk := 66 + 12*own - 0.02*h + 1.2*slow("disk")
	return map[string]any{"cpu_temp": round(48+3*own+2.5*day+1.2*quick("cpu")+0.4*jit("cpu"), 1),
		"disk_free": round(disk, 0), "backlog": round(math.Max(0, 6+8*quick("backlog")+2*jit("backlog")), 0), "uptime": round(math.Max(0, uptime), 0)}
}

func (w World) tank(u Unit, h, day, own float64, slow, quick, jit func(string) float64) map[string]any {
	fermenting := u.Labels["stage"] == "fermenting"
	temp := 14.5 + 1.2*own + 0.4*slow("temp") + 0.15*day
	flow := math.Max(0, 0.4+0.3*quick("flow"))
	density := 1003 + 4*own
	if fermenting {
		// The must went in some days ago; before that the tank rested.
		if filled := -210 - 40*own; h > filled {
			warm := min(1, (h-filled)/18)
			temp += warm * (22.4 + 1.6*own + 0.9*slow("temp") + 0.4*day - temp)
			flow += warm * (11 + 3*own + 3*slow("flow") + 0.8*quick("flow") - flow)
			density = 1046 + 9*own - 0.31*h
		}
	}
	switch u.ID {
	case "tank-fennimore-07":
		// Runs away for nine hours and is two hours short of its limit now.
		if x := h + 9; x > 0 {
			temp = 23.4 + 0.58*x + 0.021*x*x
			flow = 13 + 0.9*x + 0.8*quick("flow")
			density -= 0.8 * x
		} else if h > -72 {
			temp = 23.4 + 0.3*slow("temp")
		}
	case "tank-fennimore-03":
		// Ran away two days ago, stood over its limit, and was cooled.
		temp += 10.2 * bump(h, -54, -49, -44)
	case "tank-coldharbour-01":
		temp += 9.8 * bump(h, -29, -26.5, -24)
	}
	ullage := 34 + 11*own + 1.5*slow("ullage") + 0.2*jit("ullage")
	battery := 3.42 + 0.08*own + 0.004*day + (0.0001+0.00006*own)*-h + 0.004*jit("battery")
	return map[string]any{"must_temp": round(temp+0.06*jit("temp"), 1), "density": round(density+0.2*jit("density"), 1),
		"ullage": round(ullage, 1), "co2_flow": round(math.Max(0, flow+0.3*jit("flow")), 1), "battery": round(battery, 2), "rssi": round(-66+9*own+3*quick("rssi")+1.5*jit("rssi"), 0)}
}

func (w World) air(u Unit, at time.Time, h, day, own float64,
	slow, quick, jit func(string) float64, applied map[string]any) map[string]any {
	co2 := 620 + 110*own + 90*slow("co2") + 40*quick("co2") + 8*jit("co2")
	switch u.ID {
	case "air-kilnside-2":
		// Unloading fills the press hall, once a day, and again as the live part begins.
		for _, begin := range []float64{-62, -38, -14, -0.185} {
			co2 += 4950 * bump(h, begin, begin+0.24, begin+0.7)
		}
	case "air-alder-bank-1":
		// Its cell drifts, and it ends up on its limit.
		if h > -8 {
			drift := math.Min(1, (h+8)/2)
			co2 = co2*(1-drift) + 1500*drift
			co2 += drift * (35*math.Sin(2*math.Pi*at.Sub(w.Start).Seconds()/47) + 10*jit("chatter"))
		}
	}
	fan := co2 > 1100
	switch applied["fan_mode"] {
	case "on":
		fan = true
		co2 = 420 + (co2-420)*0.6
	case "off":
		fan = false
		co2 += 120
	}
	return map[string]any{"co2": round(math.Max(380, co2), 0),
		"air_temp": round(12.8+1.8*own+1.1*day+0.4*quick("air")+0.1*jit("air"), 1),
		"humidity": round(74+5*own-3*day+1.5*quick("hum"), 0), "fan_on": fan}
}

// press runs through a cycle of 96 minutes by day and stands idle by night.
func (w World) press(u Unit, at time.Time, quick, jit func(string) float64) map[string]any {
	minute := float64(at.Unix()/60%96) + float64(at.Unix()%60)/60
	load, current, cycle := 0.0, 0.4, "idle"
	if hour := at.UTC().Hour(); hour >= 5 && hour < 19 {
		switch {
		case minute < 18:
			cycle, load, current = "filling", 2200*minute/18, 2.5
		case minute < 66:
			x := (minute - 18) / 48
			cycle, load, current = "pressing", 2200-900*x, 8+11*x
		case minute < 80:
			cycle, load, current = "emptying", 1300*(80-minute)/14, 3
		}
	}
	if u.ID == "press-kilnside-1" && cycle == "pressing" && w.since(at) < -27 && w.since(at) > -31 {
		current += 14 // a basket that was overfilled
	}
	return map[string]any{"load": round(math.Max(0, load+6*jit("load")), 0), "cycle": cycle,
		"motor_current": round(math.Max(0, current+0.3*quick("current")+0.2*jit("current")), 1)}
}
