package server

import (
	"context"
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ullage/app"
	"ullage/core/health"
	"ullage/core/rule"
	"ullage/fleet/present"
	"ullage/transport/conns"
	"ullage/transport/mqtt"
)

// metrics are what /metrics tells, in Prometheus exposition format.
func metrics(a *app.App, broker *mqtt.Server, pool *conns.Pool) http.Handler {
	t, door, bus := a.Store.Telemetry, a.Intake, a.Bus
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	counter := func(name, help string, f func() float64) {
		r.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: name, Help: help}, f))
	}
	gauge := func(name, help string, f func() float64) {
		r.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, f))
	}
	counter("ullage_readings_stored_total", "Readings stored since the start.", func() float64 {
		n, _, _ := door.Counts()
		return float64(n)
	})
	counter("ullage_messages_total", "Messages that devices sent since the start.", func() float64 {
		_, n, _ := door.Counts()
		return float64(n)
	})
	counter("ullage_messages_refused_total", "Messages refused, whole or in part.", func() float64 {
		_, _, n := door.Counts()
		return float64(n)
	})
	counter("ullage_store_commits_total", "Commits of readings.", func() float64 {
		return float64(t.Stats().Commits.Load())
	})
	counter("ullage_store_commit_failures_total", "Commits of readings that failed.", func() float64 {
		return float64(t.Stats().Failures.Load())
	})
	counter("ullage_store_commit_seconds_total", "Time spent in commits of readings.", func() float64 {
		return float64(t.Stats().Nanos.Load()) / 1e9
	})
	gauge("ullage_store_queued_readings", "Readings that wait for the writer.", func() float64 {
		return float64(t.Queued())
	})
	gauge("ullage_mqtt_sessions", "MQTT sessions connected.", func() float64 { return float64(broker.Connected()) })
	gauge("ullage_connections_of_strangers", "Connections that have not said who they are.", func() float64 {
		n, _ := pool.Counts()
		return float64(n)
	})
	counter("ullage_connections_evicted_total", "Connections of strangers that gave way to others.", func() float64 {
		_, n := pool.Counts()
		return float64(n)
	})
	gauge("ullage_events_behind", "Longest queue of news not yet taken in.", func() float64 {
		return float64(bus.Behind())
	})
	counter("ullage_record_commits_total", "Commits of records.", func() float64 {
		n, _ := a.Commits.Counts()
		return float64(n)
	})
	counter("ullage_record_changes_total", "Changes of records; many share a commit.", func() float64 {
		_, n := a.Commits.Counts()
		return float64(n)
	})
	gauge("ullage_record_changes_waiting", "Changes of records that wait for the writer.", func() float64 {
		return float64(a.Commits.Waiting())
	})
	gauge("ullage_store_damaged", "Places in the data folder that cannot be read.", func() float64 {
		found, _ := a.Store.Damage(context.Background())
		return float64(len(found))
	})
	gauge("ullage_store_lost_readings", "Readings that are missing for damage, at most, as far as known.", func() float64 {
		found, _ := a.Store.Damage(context.Background())
		n := int64(0)
		for _, d := range found {
			n += d.Readings
		}
		return float64(n)
	})
	r.MustRegister(fleetCollector{a.Present})
	return promhttp.HandlerFor(r, promhttp.HandlerOpts{})
}

// fleetCollector counts devices by health and open alarms by priority.
type fleetCollector struct{ fleet *present.Fleet }

var (
	healthDesc = prometheus.NewDesc("ullage_devices", "Devices by health.", []string{"health"}, nil)
	alarmDesc  = prometheus.NewDesc("ullage_alarms_open", "Open alarms by priority.", []string{"priority"}, nil)
)

// Describe implements prometheus.Collector.
func (fleetCollector) Describe(ch chan<- *prometheus.Desc) { ch <- healthDesc; ch <- alarmDesc }

// Collect implements prometheus.Collector.
func (c fleetCollector) Collect(ch chan<- prometheus.Metric) {
	healths, open := map[health.Health]int{}, map[rule.Priority]int{}
	all, _ := c.fleet.Since(0)
	for _, d := range all {
		healths[d.Health]++
		for _, a := range d.Alarms {
			open[a.Priority]++
		}
	}
	for _, h := range []health.Health{health.Dark, health.Poor, health.Watch, health.Awaited, health.Sound} {
		ch <- prometheus.MustNewConstMetric(healthDesc, prometheus.GaugeValue, float64(healths[h]), string(h))
	}
	for _, p := range rule.Priorities {
		ch <- prometheus.MustNewConstMetric(alarmDesc, prometheus.GaugeValue, float64(open[p]), string(p))
	}
}
