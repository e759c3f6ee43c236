package client

import (
	"context"
	"net/url"
	"strconv"
	"time"
)

// LogLines are lines of the log of a device.
type LogLines struct {
	Lines []LogLine `json:"lines"`
	Kept  int       `json:"kept" doc:"How many lines of this device are kept at most"`
	Keep  float64   `json:"keep" doc:"How long, in seconds"`
}

// LogLine is one of them.
type LogLine struct {
	Number int64     `json:"number" doc:"Grows by one with each line of the device"`
	At     time.Time `json:"at" doc:"When the device wrote it, as far as it says so; else when it came"`
	Level  string    `json:"level" enum:"debug,info,warn,error"`
	Text   string    `json:"text"`
}

// LogLineFilter says which lines are asked for.
type LogLineFilter struct {
	Level, Text   string
	From, To      time.Time
	Before, After int64
	Limit         int
	Wait          string // with After: how long to wait for more, like 30s
}

// Log returns lines of the log of a device, the newest first; with After, the oldest of
// those behind it.
func (c *Client) Log(ctx context.Context, id string, f LogLineFilter) (LogLines, error) {
	q := url.Values{}
	for k, v := range map[string]string{"level": f.Level, "text": f.Text, "wait": f.Wait} {
		if v != "" {
			q.Set(k, v)
		}
	}
	for k, v := range map[string]int64{"before": f.Before, "after": f.After, "limit": int64(f.Limit)} {
		if v != 0 {
			q.Set(k, strconv.FormatInt(v, 10))
		}
	}
	for k, v := range map[string]time.Time{"from": f.From, "to": f.To} {
		if !v.IsZero() {
			q.Set(k, v.UTC().Format(time.RFC3339Nano))
		}
	}
	return get[LogLines](ctx, c, "/devices/"+url.PathEscape(id)+"/log?"+q.Encode())
}

// Snapshot returns an HTML file with everything about a device over a span.
func (c *Client) Snapshot(ctx context.Context, id string, from, to time.Time) ([]byte, error) {
	q := url.Values{"from": {from.UTC().Format(time.RFC3339Nano)}, "to": {to.UTC().Format(time.RFC3339Nano)}}
	return c.raw(ctx, "/devices/"+url.PathEscape(id)+"/snapshot?"+q.Encode())
}
