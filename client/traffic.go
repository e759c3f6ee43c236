package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// TrafficFilter narrows the traffic. The zero filter is the latest messages.
type TrafficFilter struct {
	Device  string
	Where   string // a condition on devices
	Match   string // a condition over the fields of a message
	Text    string // that stands in the message, or in what became of it
	Refused bool
	After   uint64 // only newer ones, of those in memory
	Before  uint64 // only older ones
	From    time.Time
	To      time.Time
	Limit   int // 100 if it is zero
}

// SendAs is a message that a person sends as a device.
type SendAs struct {
	Name        string `json:"name" maxLength:"100" doc:"What it is: readings, about, applied, reply or event/NAME" example:"readings"`
	Body        string `json:"body" maxLength:"262144" doc:"The message, as the device would send it" example:"{\"must_temp\":21.4}"`
	ContentType string `json:"content_type,omitempty" enum:"application/json,application/cbor,application/senml+json,application/senml+cbor" doc:"Its content type; told by its first byte if left out"`
}

// SentAs is what became of it.
type SentAs struct {
	Kept    int           `json:"kept" doc:"Values that were kept"`
	Refused []FindingLine `json:"refused" nullable:"false" doc:"What was not kept, and why"`
	Reason  string        `json:"reason,omitempty" doc:"Why the whole message was refused"`
}

// FindingLine is one place of a message and what is wrong with it.
type FindingLine struct {
	Pointer  string `json:"pointer"`
	Sentence string `json:"sentence"`
}

// SendAs sends a message as a device, marked as such in the traffic and the journal.
func (c *Client) SendAs(ctx context.Context, id string, m SendAs) (SentAs, error) {
	return send[SentAs](ctx, c, http.MethodPost, device(id)+"/messages", m)
}

// Traffic lists raw messages, the newest first. Before is where to go on for older ones,
// 0 where there are none.
func (c *Client) Traffic(ctx context.Context, f TrafficFilter) (es []TrafficEntry, before uint64, err error) {
	q := url.Values{}
	for k, v := range map[string]string{"device": f.Device, "match": f.Match, "text": f.Text} {
		if v != "" {
			q.Set(k, v)
		}
	}
	for k, n := range map[string]uint64{"after": f.After, "before": f.Before, "limit": uint64(f.Limit)} {
		if n > 0 {
			q.Set(k, strconv.FormatUint(n, 10))
		}
	}
	for k, at := range map[string]time.Time{"from": f.From, "to": f.To} {
		if !at.IsZero() {
			q.Set(k, at.UTC().Format(time.RFC3339Nano))
		}
	}
	if f.Refused {
		q.Set("refused", "true")
	}
	filter(q, f.Where)
	head, err := c.call(ctx, request{method: http.MethodGet, path: "/traffic?" + q.Encode()}, &es)
	if err != nil {
		return nil, 0, err
	}
	before, _ = strconv.ParseUint(nextPage(head.Get("Link"), "before"), 10, 64)
	return es, before, nil
}
