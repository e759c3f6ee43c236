package client

import (
	"context"
	"net/url"
	"time"
)

// Activity is how a device was in contact over a span that ends now.
type Activity struct {
	Device   string     `json:"device"`
	Model    string     `json:"model"`
	Version  string     `json:"version"`
	Firmware string     `json:"firmware,omitempty" doc:"What it reports as its firmware"`
	Site     string     `json:"site,omitempty"`
	From     time.Time  `json:"from" doc:"Where the span begins, or when the device was onboarded after that"`
	Online   float64    `json:"online" doc:"Share of the span in which it was on line, in percent"`
	Spells   int        `json:"spells" doc:"How often it was off line"`
	Longest  float64    `json:"longest" doc:"The longest time off line, in seconds"`
	Total    float64    `json:"total" doc:"All of it, in seconds"`
	Link     string     `json:"link" enum:"online,overdue,silent,never"`
	LastAt   *time.Time `json:"last_at,omitempty" doc:"Newest reading"`
	// What passed is counted by the hour, for 35 days.
	Messages uint64     `json:"messages" doc:"How many passed in the span, both ways"`
	Bytes    uint64     `json:"bytes" doc:"Of these messages, without what the protocols add"`
	Monthly  float64    `json:"monthly" doc:"Bytes in a month of 30 days, if it goes on like that; 0 until six hours were counted"`
	Refused  uint64     `json:"refused" doc:"Messages of which something was refused"`
	Late     uint64     `json:"late" doc:"Readings that came more than five intervals, and five minutes, after they were taken"`
	Connects uint64     `json:"connects" doc:"Sessions that began; over HTTP there are none"`
	Counted  *time.Time `json:"counted,omitempty" doc:"From when on these were counted, where that is later than the span"`
	Versions int        `json:"versions" doc:"Versions of its model that it had in the span"`
	Off      []OffLine  `json:"off,omitempty" doc:"The newest times off line, as many as were asked for, the oldest first"`
}

// OffLine is a time in which a device was off line.
type OffLine struct {
	From time.Time  `json:"from"`
	To   *time.Time `json:"to,omitempty" doc:"Left out while it still is"`
}

// Activity tells how the devices for which a condition is true were in contact, the worst
// first.
func (c *Client) Activity(ctx context.Context, where, span string) ([]Activity, error) {
	return get[[]Activity](ctx, c, "/activity?where="+url.QueryEscape(where)+"&span="+url.QueryEscape(span))
}
