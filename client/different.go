package client

import (
	"context"
	"net/url"
	"time"
)

// Different is what was other on a device in a span than before it.
type Different struct {
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Before time.Time `json:"before" doc:"What was before begins here, and ends where the span begins: three times the span, and a day at least"`
	Metric string    `json:"metric,omitempty" doc:"By which peers are compared"`
	// Metrics and Peers have the greatest deviation first.
	Metrics []Differing    `json:"metrics" doc:"Metrics of the device, the greatest deviation first"`
	Peers   []Differing    `json:"peers" doc:"Devices of the same model and stage, the greatest deviation first"`
	Alike   int            `json:"alike" doc:"Peers that deviate as the device does"`
	Facts   []JournalEntry `json:"facts" doc:"What happened to the device and its hub in the span and shortly before it, the oldest first"`
}

// Differing is one metric of one device, compared with what it was.
type Differing struct {
	Device    string  `json:"device"`
	Metric    string  `json:"metric"`
	Title     string  `json:"title,omitempty"`
	Unit      string  `json:"unit,omitempty" doc:"As people write it"`
	Decimals  int     `json:"decimals"`
	Was       float64 `json:"was" doc:"Median before"`
	Is        float64 `json:"is" doc:"Median in the span"`
	Spread    float64 `json:"spread" doc:"1.4826 times the median distance from was, before"`
	Deviation float64 `json:"deviation" doc:"Is less was, in spreads; 3 and more is other than before"`
}

// PeerBand is where the peers of a device lay.
type PeerBand struct {
	Peers int            `json:"peers" doc:"Devices of the same model and stage; there is no band of fewer than three"`
	Steps []PeerBandStep `json:"steps"`
}

// PeerBandStep is where they lay at a time, but for the lowest and the highest tenth.
type PeerBandStep struct {
	At     time.Time `json:"at"`
	Low    float64   `json:"low"`
	Middle float64   `json:"middle"`
	High   float64   `json:"high"`
	Peers  int       `json:"peers" doc:"That have a reading there"`
}

// Different tells what was other on a device in a span, such as 2h or 2026-03-01T10:00..12h.
func (c *Client) Different(ctx context.Context, id, metric, span string) (Different, error) {
	q := url.Values{"span": {span}}
	if metric != "" {
		q.Set("metric", metric)
	}
	return get[Different](ctx, c, "/devices/"+url.PathEscape(id)+"/different?"+q.Encode())
}
