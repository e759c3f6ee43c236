package api

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/record"
	"ullage/fleet/fault"
	"ullage/fleet/traffic"
)

// searchFor is how long one search through the traffic takes at most; it goes on behind
// where it has come to.
const searchFor = 3 * time.Second

// trafficFilter narrows the traffic.
type trafficFilter struct {
	Where
	Device  string    `query:"device" maxLength:"63" doc:"Only of this device"`
	Refused bool      `query:"refused" doc:"Only where something was refused"`
	After   uint64    `query:"after" doc:"Only entries with a greater number, of those in memory"`
	Before  uint64    `query:"before" doc:"Only entries with a smaller number, to go on behind a page"`
	From    time.Time `query:"from" doc:"Only entries of this time or later"`
	To      time.Time `query:"to" doc:"Only entries before this time"`
	Text    string    `query:"text" maxLength:"200" doc:"Only entries that hold this text, in letters of either size"`
	Match   string    `query:"match" maxLength:"4000" doc:"Only entries for which this condition over their fields is true" example:"topic == \"readings\" and size > 200"`
	Limit   int       `query:"limit" default:"100" minimum:"1" maximum:"1000" doc:"At most this many"`
}

// past reports whether what is asked for may be beyond what memory holds.
func (f *trafficFilter) past() bool {
	return f.Before > 0 || !f.From.IsZero() || !f.To.IsZero() || f.Text != "" || f.Match != ""
}

// next is the address of what is before a number.
func (f *trafficFilter) next(before uint64) string {
	q := url.Values{"before": {strconv.FormatUint(before, 10)}, "limit": {strconv.Itoa(f.Limit)}}
	for k, v := range map[string]string{"where": f.Where.Where, "device": f.Device, "text": f.Text, "match": f.Match} {
		if v != "" {
			q.Set(k, v)
		}
	}
	for k, at := range map[string]time.Time{"from": f.From, "to": f.To} {
		if !at.IsZero() {
			q.Set(k, at.Format(time.RFC3339Nano))
		}
	}
	if f.Refused {
		q.Set("refused", "true")
	}
	return "</api/v1/traffic?" + q.Encode() + `>; rel="next"`
}

func (s *server) trafficRoutes() {
	fields := record.Fields[traffic.Entry]()
	s.nouns["message"] = fields
	type passed struct {
		Link string `header:"Link" doc:"Address of the entries before these (RFC 8288), if there may be any"`
		Body []client.TrafficEntry
	}
	huma.Get(s.api, "/api/v1/traffic", func(ctx context.Context, f *trafficFilter) (*passed, error) {
		x := traffic.Filter{Device: f.Device, Refused: f.Refused, After: f.After, Before: f.Before, From: f.From, To: f.To, Text: f.Text, Limit: f.Limit}
		if strings.TrimSpace(f.Match) != "" {
			p, found := record.NewFilter("message", f.Match, fields)
			if p == nil {
				return nil, s.failed(fault.New(fault.Invalid, "match: %s", found).Then("write a condition over the fields of a message, like topic == \"readings\""))
			}
			now := s.Now()
			x.Match = func(e *traffic.Entry) bool { return p.Passes(e, now) }
		}
		out := &passed{}
		var err error
		if !f.past() || f.After > 0 {
			if out.Body, err = s.Fleet.Traffic(caller(ctx), f.Where.Where, x); err != nil {
				return nil, s.failed(err)
			}
			if f.After == 0 {
				before := uint64(1) << 52
				if n := len(out.Body); n > 0 {
					before = out.Body[n-1].Seq
				}
				out.Link = f.next(before)
			}
			return out, nil
		}
		search, cancel := context.WithTimeout(ctx, searchFor)
		defer cancel()
		var reached uint64
		if out.Body, reached, err = s.Fleet.PastTraffic(search, caller(ctx), f.Where.Where, x); err != nil {
			return nil, s.failed(err)
		}
		if reached > 0 {
			out.Link = f.next(reached)
		}
		return out, nil
	}, describe("traffic", "Raw messages, the newest first", "Traffic"))
	type sendAs struct {
		One
		Body client.SendAs
	}
	huma.Post(s.api, "/api/v1/devices/{id}/messages", func(ctx context.Context, in *sendAs) (*body[client.SentAs], error) {
		o, err := s.Fleet.SendAs(ctx, caller(ctx), in.ID, in.Body.Name, in.Body.ContentType, []byte(in.Body.Body), caller(ctx).From)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		out := client.SentAs{Kept: o.Kept, Refused: []client.FindingLine{}}
		for _, f := range o.Refused {
			out.Refused = append(out.Refused, client.FindingLine{Pointer: f.Pointer, Sentence: f.Sentence})
		}
		if o.Err != nil {
			out.Reason = o.Err.Error()
		}
		return &body[client.SentAs]{out}, nil
	}, describe("send-as", "Send a message as a device, to try what becomes of it", "Traffic",
		"It is taken as if the device had sent it, and marked as such in the traffic and the journal."), notFound, func(o *huma.Operation) { o.MaxBodyBytes = 2 << 20 })
}
