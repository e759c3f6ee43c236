package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Query is a question about history: of which devices, which metrics, when,
// and summed up how.
type Query struct {
	Devices   []string
	Where     string
	Metrics   []string
	Span      string // 6h, today, 2026-03-01..2026-03-03 and so on
	Zone      string
	Step      string
	Steps     int
	Aggregate string
	GroupBy   string
	Then      string
	Units     []string // metric=unit
}

// Values returns the query as the parameters of a URL.
func (q Query) Values() url.Values {
	v := url.Values{}
	for name, list := range map[string][]string{"device": q.Devices, "metric": q.Metrics, "unit": q.Units} {
		if len(list) > 0 {
			v.Set(name, strings.Join(list, ","))
		}
	}
	for name, s := range map[string]string{"where": q.Where, "span": q.Span, "zone": q.Zone, "step": q.Step,
		"aggregate": q.Aggregate, "group_by": q.GroupBy, "then": q.Then} {
		if s != "" {
			v.Set(name, s)
		}
	}
	if q.Steps > 0 {
		v.Set("steps", strconv.Itoa(q.Steps))
	}
	return v
}

// Answer is the answer to a Query.
type Answer struct {
	From  time.Time `json:"from"`
	To    time.Time `json:"to" doc:"Not included"`
	Step  string    `json:"step" doc:"Width of a point"`
	Lines []Line    `json:"lines"`
}

// Line is one metric of one device, or of devices together.
type Line struct {
	Device   string     `json:"device,omitempty" doc:"Empty where devices are together"`
	Group    string     `json:"group,omitempty" doc:"The label that the devices share" example:"site=Kilnside"`
	Members  int        `json:"members,omitempty" doc:"How many devices of the group have readings"`
	Metric   string     `json:"metric"`
	Title    string     `json:"title,omitempty"`
	Type     string     `json:"type" enum:"number,text,boolean"`
	Unit     string     `json:"unit,omitempty"`
	Display  string     `json:"display,omitempty" doc:"Unit as people write it"`
	Decimals int        `json:"decimals"`
	Steps    []LineStep `json:"steps" doc:"In order of time; a gap has none"`
	Note     string     `json:"note,omitempty" doc:"What could not be read of it"`
}

// Name returns the device or the group.
func (l Line) Name() string { return l.Device + l.Group }

// LineStep is one point of a line.
type LineStep struct {
	At    time.Time `json:"at" doc:"Start of the step"`
	Count int64     `json:"count" doc:"How many readings fell into it"`
	Value float64   `json:"value" doc:"What was asked for; 0 for texts"`
	Min   float64   `json:"min" doc:"The least single reading, of all devices of a group"`
	Max   float64   `json:"max" doc:"The greatest"`
	Last  any       `json:"last" doc:"Value of the last reading; null for a group"`
}

// Ask answers a query.
func (c *Client) Ask(ctx context.Context, q Query) (Answer, error) {
	var a Answer
	var b bytes.Buffer
	if err := c.do(ctx, http.MethodGet, "/query?"+q.Values().Encode(), nil, &b); err != nil {
		return a, err
	}
	if err := json.Unmarshal(b.Bytes(), &a); err != nil {
		return a, fmt.Errorf("the service did not answer as an Ullage does: %w", err)
	}
	return a, nil
}

// Export writes every single reading of a query to w as it comes, in a format:
// csv, wide, jsonl, senml, cbor or parquet.
func (c *Client) Export(ctx context.Context, q Query, format string, raw bool, w io.Writer) error {
	v := q.Values()
	v.Set("format", format)
	if raw {
		v.Set("raw", "true")
	}
	return c.do(ctx, http.MethodGet, "/export?"+v.Encode(), nil, w)
}

// Unwanted says which readings of a device are to be deleted.
type Unwanted struct {
	Metrics  []string // all if it is empty
	From, To time.Time
	All      bool // all of the device, with its traffic
	DryRun   bool // only count them
}

// DeletedMetric is what of one metric is, or was, in a span.
type DeletedMetric struct {
	Metric   string     `json:"metric"`
	Readings int64      `json:"readings"`
	First    *time.Time `json:"first,omitempty" doc:"Time of the first of them"`
	Last     *time.Time `json:"last,omitempty" doc:"Time of the last of them"`
	Damaged  int        `json:"damaged,omitempty" doc:"Pieces of the store that cannot be read, and go too"`
}

// Deletion tells which readings were deleted, or would be.
type Deletion struct {
	Device   string          `json:"device"`
	DryRun   bool            `json:"dry_run,omitempty" doc:"Nothing was deleted"`
	From     *time.Time      `json:"from,omitempty" doc:"Start of the span; nothing for the beginning"`
	To       *time.Time      `json:"to,omitempty" doc:"End of the span, not included; nothing for no end"`
	Metrics  []DeletedMetric `json:"metrics" doc:"Those with something in the span"`
	Readings int64           `json:"readings" doc:"In all"`
	Traffic  int             `json:"traffic,omitempty" doc:"Messages of the traffic log"`
}

// ImportFinding is a row that was not taken.
type ImportFinding struct {
	Line     int    `json:"line" doc:"From 1"`
	Sentence string `json:"sentence"`
}

// Imported tells what became of a file.
type Imported struct {
	Rows     int             `json:"rows" doc:"Rows that were read"`
	Kept     int             `json:"kept" doc:"Readings that are stored now"`
	Refused  int             `json:"refused" doc:"Rows of which nothing was stored"`
	Devices  int             `json:"devices"`
	Findings []ImportFinding `json:"findings" doc:"Why, for the first hundred"`
}

// Import takes readings of the past in from r, in a format: csv, wide, jsonl, senml, cbor or parquet.
func (c *Client) Import(ctx context.Context, r io.Reader, format string, evaluate bool) (Imported, error) {
	var out Imported
	return out, c.do(ctx, http.MethodPost, "/import?format="+format+"&evaluate="+strconv.FormatBool(evaluate), r, &out)
}

// Statistics describe one metric of one device over a span.
type Statistics struct {
	Note      string    `json:"note,omitempty" doc:"What could not be read"`
	Device    string    `json:"device"`
	Metric    string    `json:"metric"`
	Display   string    `json:"display,omitempty" doc:"Unit as people write it"`
	Decimals  int       `json:"decimals"`
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
	N         int       `json:"n" doc:"Readings"`
	Min       float64   `json:"min"`
	P5        float64   `json:"p5" doc:"5 % lie below"`
	P25       float64   `json:"p25"`
	P50       float64   `json:"p50" doc:"The median"`
	P75       float64   `json:"p75"`
	P95       float64   `json:"p95"`
	Max       float64   `json:"max"`
	Mean      float64   `json:"mean"`
	Deviation float64   `json:"deviation" doc:"Standard deviation"`
	Trend     *Trend    `json:"trend,omitempty" doc:"Absent where there is too little for one"`
	Bins      []Bin     `json:"bins"`
}

// Trend is the change in an hour (Theil and Sen).
type Trend struct {
	Slope float64 `json:"slope"`
	Low   float64 `json:"low" doc:"With 95 % confidence it is no less"`
	High  float64 `json:"high" doc:"and no more"`
}

// Bin is one bar of a histogram.
type Bin struct {
	From  float64 `json:"from"`
	To    float64 `json:"to"`
	Count int     `json:"count"`
}

// Statistics describes one metric of one device.
func (c *Client) Statistics(ctx context.Context, q Query) (Statistics, error) {
	return get[Statistics](ctx, c, "/statistics?"+q.Values().Encode())
}

// Forecast is what probably comes.
type Forecast struct {
	Device        string       `json:"device"`
	Metric        string       `json:"metric"`
	Display       string       `json:"display,omitempty" doc:"Unit as people write it"`
	Decimals      int          `json:"decimals"`
	Step          string       `json:"step"`
	Method        string       `json:"method" enum:"last value,line,smoothing,same time before,smoothing with the way of a season" doc:"Chosen because it was the least wrong from many moments of the past"`
	Seasonal      bool         `json:"seasonal" doc:"A day's way, or a week's, is in it"`
	Error         float64      `json:"error" doc:"How far off it was on average, over all steps ahead"`
	Naive         float64      `json:"naive" doc:"How far off the value of the same time a day before was, or without a day's way the last value"`
	NaiveSeasonal bool         `json:"naive_seasonal" doc:"Whether that is of the same time before"`
	Moments       int          `json:"moments" doc:"From how many moments of the past that was tried"`
	Note          string       `json:"note,omitempty" doc:"What to keep in mind"`
	Steps         []Probable   `json:"steps" doc:"The first is the newest reading"`
	Limits        []LimitAhead `json:"limits" doc:"When it gets to the limits of rules"`
}

// LimitAhead tells when a forecast gets to the limit of a rule.
type LimitAhead struct {
	Rule   string     `json:"rule"`
	Limit  float64    `json:"limit"`
	Upward bool       `json:"upward" doc:"The alarm lies above the limit"`
	Likely *time.Time `json:"likely,omitempty" doc:"When it probably gets there; none if not within seven days"`
	Beyond bool       `json:"beyond,omitempty" doc:"It is over the limit already, and the times are of no use"`
	Early  *time.Time `json:"early,omitempty" doc:"Not before this with 95 %; none if surely not within seven days"`
	Late   *time.Time `json:"late,omitempty" doc:"Not after this with 95 %; none if it may not get there"`
}

// Probable is what a metric probably is at a time.
type Probable struct {
	At   time.Time `json:"at"`
	Mean float64   `json:"mean"`
	Low  float64   `json:"low" doc:"With 95 % it is no less"`
	High float64   `json:"high" doc:"and no more"`
}

// Forecast tells what probably comes of one metric, for a time ahead.
func (c *Client) Forecast(ctx context.Context, q Query, ahead string) (Forecast, error) {
	v := q.Values()
	v.Set("ahead", ahead)
	return get[Forecast](ctx, c, "/forecast?"+v.Encode())
}
