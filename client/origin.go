package client

import (
	"context"
	"net/url"
	"time"
)

// Origin is where a reading is from.
type Origin struct {
	Device  string     `json:"device"`
	Metric  string     `json:"metric"`
	At      time.Time  `json:"at" doc:"When it was taken, by the device, or else when it came"`
	Value   any        `json:"value" doc:"In the unit of the model"`
	Unit    string     `json:"unit,omitempty" doc:"That unit, as people read it"`
	Quality []string   `json:"quality,omitempty" doc:"Its marks, such as beyond range"`
	Arrived *time.Time `json:"arrived,omitempty" doc:"When the message came that brought it"`
	// Message is the one that brought it, as it is in the traffic.
	Message *TrafficEntry `json:"message,omitempty"`
	Gone    string        `json:"gone,omitempty" doc:"Why there is no message"`
	Derived string        `json:"derived,omitempty" doc:"The expression that computes it"`
	Inputs  []OriginInput `json:"inputs,omitempty" doc:"The readings that it was computed from"`
	Limits  []OriginLimit `json:"limits,omitempty" doc:"Those of the rules that look at it; of the newest reading alone"`
}

// OriginInput is a reading from which another one was derived.
type OriginInput struct {
	Metric string    `json:"metric"`
	At     time.Time `json:"at"`
	Value  any       `json:"value"`
}

// OriginLimit is a limit that a rule sets.
type OriginLimit struct {
	Rule   string  `json:"rule"`
	Of     string  `json:"of" doc:"What the limit is on, as the rule writes it"`
	Limit  float64 `json:"limit"`
	Upward bool    `json:"upward" doc:"The alarm is above it"`
}

// Origin tells where the newest reading of a metric is from, or that at or before a time.
func (c *Client) Origin(ctx context.Context, device, metric string, at time.Time) (Origin, error) {
	path := "/devices/" + url.PathEscape(device) + "/values/" + url.PathEscape(metric) + "/origin"
	if !at.IsZero() {
		path += "?at=" + url.QueryEscape(at.Format(time.RFC3339Nano))
	}
	return get[Origin](ctx, c, path)
}
