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
	FirstAt  *time.Time `json:"first_at,omitempty" doc:"When it was heard for the first time that is known of"`
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

// Upkeep is what keeps a device going.
type Upkeep struct {
	Device  string   `json:"device"`
	Site    string   `json:"site,omitempty"`
	Model   string   `json:"model"`
	Battery *Reserve `json:"battery,omitempty" doc:"Left out for a device that tells nothing of one"`
	Signal  *Reserve `json:"signal,omitempty" doc:"Left out for a device that does not tell how well it is heard"`
}

// Reserve is how a battery or a signal went, by days of UTC.
type Reserve struct {
	Metric   string     `json:"metric"`
	Unit     string     `json:"unit,omitempty"`
	Display  string     `json:"display,omitempty" doc:"The unit as people write it"`
	Decimals int        `json:"decimals" doc:"Digits that make sense on screen"`
	Value    float64    `json:"value" doc:"Mean of the newest day"`
	Low      float64    `json:"low" doc:"The least single reading of the last seven days"`
	From     time.Time  `json:"from" doc:"The first day of which there are readings"`
	Days     []*float64 `json:"days,omitempty" doc:"Means of the newest days, as many as were asked for, one after the other up to the newest; null for a day without readings"`
	PerMonth float64    `json:"per_month,omitempty" doc:"Of a battery: what it loses in 30 days, as its trend has it"`
	Rule     string     `json:"rule,omitempty" doc:"Of a battery: the rule that says from where on it is empty"`
	Limit    *float64   `json:"limit,omitempty" doc:"Its limit"`
	Likely   *time.Time `json:"likely,omitempty" doc:"When it gets there, as the trend of its days has it"`
	Early    *time.Time `json:"early,omitempty" doc:"When it does if the trend is as steep as its days allow for, with 95 % confidence"`
	Late     *time.Time `json:"late,omitempty" doc:"When it does if the trend is as flat; left out for not within ten years"`
	Replaced *time.Time `json:"replaced,omitempty" doc:"The first day of the present cell, or charge, where there was another before"`
	Note     string     `json:"note,omitempty" doc:"Why no day is known"`
}

// Upkeep tells what keeps the devices going for which a condition is true, those whose battery
// is empty first before the others.
func (c *Client) Upkeep(ctx context.Context, where string) ([]Upkeep, error) {
	return get[[]Upkeep](ctx, c, "/upkeep?where="+url.QueryEscape(where))
}

// Course is how many devices had what over a span that ends now.
type Course struct {
	At    []time.Time  `json:"at" doc:"Moments, evenly spaced; the last is now, the first where the span begins, or with the first device"`
	Parts []CoursePart `json:"parts" doc:"What most have now comes first"`
}

// CoursePart are the devices that had one of it.
type CoursePart struct {
	Name   string    `json:"name" doc:"A model with its version, or with a firmware; the model alone for those that told none"`
	Counts []int     `json:"counts" doc:"How many had it at each moment"`
	First  time.Time `json:"first" doc:"When the first had it that is known of; where the span begins for those that had it by then"`
}

// Course tells how many of the devices for which a condition is true had which firmware, or
// which version of their model (of: firmware or model).
func (c *Client) Course(ctx context.Context, where, of, span string) (Course, error) {
	return get[Course](ctx, c, "/course?where="+url.QueryEscape(where)+"&of="+url.QueryEscape(of)+"&span="+url.QueryEscape(span))
}

// Activity tells how the devices for which a condition is true were in contact, the worst
// first.
func (c *Client) Activity(ctx context.Context, where, span string) ([]Activity, error) {
	return get[[]Activity](ctx, c, "/activity?where="+url.QueryEscape(where)+"&span="+url.QueryEscape(span))
}
