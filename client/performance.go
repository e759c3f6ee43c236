package client

import (
	"context"
	"fmt"
	"net/url"
	"time"
)

// AlarmPerformance is how well the alarms themselves have worked over a span. Counts a day,
// an hour and in 10 minutes are for one operator.
type AlarmPerformance struct {
	From         time.Time      `json:"from"`
	To           time.Time      `json:"to"`
	Operators    int            `json:"operators"`
	Alarms       int            `json:"alarms" doc:"That called somebody"`
	ADay         float64        `json:"a_day"`
	AnHour       float64        `json:"an_hour"`
	Peak         int            `json:"peak" doc:"Most in 10 minutes"`
	PeakAt       *time.Time     `json:"peak_at,omitempty"`
	Floods       int            `json:"floods" doc:"Times with more than 10 in 10 minutes, until there were less than 5"`
	InFlood      float64        `json:"in_flood" doc:"Seconds"`
	FloodShare   float64        `json:"flood_share" doc:"Of the time"`
	Chattering   int            `json:"chattering" doc:"Alarms of which three or more came within 60 s"`
	Fleeting     int            `json:"fleeting" doc:"Alarms that returned within 60 s before anybody acknowledged"`
	Stale        int            `json:"stale" doc:"Alarms that held for more than 24 h"`
	Priorities   map[string]int `json:"priorities"`
	Acknowledged int            `json:"acknowledged"`
	TimeToAck    float64        `json:"time_to_acknowledge" doc:"Median, in seconds"`
	TimeToAck95  float64        `json:"time_to_acknowledge_p95" doc:"95th percentile, in seconds"`
	Shelved      int            `json:"shelved" doc:"Shelves now"`
	Suppressed   int            `json:"suppressed" doc:"Alarms that are suppressed by design now"`
	OutOfService int            `json:"out_of_service" doc:"Alarms that are out of service now"`
	TopTen       float64        `json:"top_ten" doc:"Share of the ten worst rules on a device, of all alarms"`
	Rules        []WorstOf      `json:"rules" doc:"The ten that make most of the load"`
	Devices      []WorstOf      `json:"devices"`
	Days         []int          `json:"days" doc:"Alarms of each day"`
	Targets      AlarmTargets   `json:"targets"`
}

// WorstOf is a rule or a device that makes much of the load.
type WorstOf struct {
	Name       string  `json:"name"`
	Alarms     int     `json:"alarms"`
	Share      float64 `json:"share" doc:"Of all alarms"`
	Chattering int     `json:"chattering"`
	Fleeting   int     `json:"fleeting"`
}

// AlarmTargets are what the standards ask for.
type AlarmTargets struct {
	ADay       float64            `json:"a_day" doc:"Very likely to be acceptable"`
	MostADay   float64            `json:"most_a_day" doc:"The most that one operator can handle"`
	Peak       int                `json:"peak"`
	FloodShare float64            `json:"flood_share"`
	TopTen     float64            `json:"top_ten"`
	Stale      int                `json:"stale"`
	Priorities map[string]float64 `json:"priorities"`
}

// Handover is what the next shift has to know.
type Handover struct {
	From     time.Time             `json:"from"`
	To       time.Time             `json:"to"`
	Open     []Alarm               `json:"open" doc:"That call somebody, the most urgent first"`
	Aside    []Alarm               `json:"aside"`
	Raised   int                   `json:"raised" doc:"In the hours of the shift"`
	Returned int                   `json:"returned"`
	Comments []HandoverComment     `json:"comments"`
	Coming   []HandoverMaintenance `json:"coming" doc:"Maintenance that is on, or begins within a day"`
}

// HandoverComment is a comment on an alarm.
type HandoverComment struct {
	At     time.Time `json:"at"`
	Person string    `json:"person,omitempty"`
	On     string    `json:"on"`
	Alarm  string    `json:"alarm"`
	Text   string    `json:"text"`
}

// HandoverMaintenance is maintenance that is on, or begins soon.
type HandoverMaintenance struct {
	Maintenance string     `json:"maintenance"`
	Why         string     `json:"why,omitempty"`
	Begins      *time.Time `json:"begins,omitempty" doc:"Left out while it is on"`
	To          *time.Time `json:"to,omitempty"`
	Devices     int        `json:"devices"`
}

// AlarmPerformance measures how well the alarms have worked over a span.
func (c *Client) AlarmPerformance(ctx context.Context, span string, operators int) (AlarmPerformance, error) {
	return get[AlarmPerformance](ctx, c, "/alarm-performance?"+url.Values{"span": {span}, "operators": {fmt.Sprint(operators)}}.Encode())
}

// Handover gathers what the next shift has to know after a shift of some hours.
func (c *Client) Handover(ctx context.Context, hours string) (Handover, error) {
	return get[Handover](ctx, c, "/handover?"+url.Values{"for": {hours}}.Encode())
}
