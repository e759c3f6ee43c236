package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"
)

// ReplayAsk asks what a rule would have done.
type ReplayAsk struct {
	Rule    *Rule    `json:"rule,omitempty" doc:"The rule, in force or not; else the name of one in force"`
	Name    string   `json:"name,omitempty" maxLength:"63" doc:"Name of a rule in force" example:"must_too_warm"`
	Span    string   `json:"span,omitempty" maxLength:"80" doc:"Over which time, 90d at most; 30d if empty" example:"30d"`
	Where   string   `json:"where,omitempty" maxLength:"2000" doc:"Only devices for which this is true now"`
	Devices []string `json:"devices,omitempty" maxItems:"10000" doc:"Only these devices"`
	Spans   bool     `json:"spans,omitempty" doc:"Tell when each alarm was raised, too"`
	Live    bool     `json:"live,omitempty" doc:"Tell what live did, too, and why it differs"`
}

// ReplaySide is what one version of a rule would have done.
type ReplaySide struct {
	Alarms     int     `json:"alarms"`
	ADay       float64 `json:"a_day" doc:"Alarms a day"`
	Chattering int     `json:"chattering" doc:"Alarms of which three or more came within 60 s (ISA-18.2)"`
	Chatter    int     `json:"chattering_devices,omitempty" doc:"On how many devices; in the summary"`
	Suppressed int     `json:"suppressed,omitempty" doc:"Alarms that were suppressed by design when they were raised"`
	// OutOfService are alarms that called nobody.
	OutOfService int          `json:"out_of_service,omitempty" doc:"Alarms that were out of service for maintenance when they were raised"`
	Raised       float64      `json:"raised" doc:"For how long it was raised, in seconds"`
	Lost         *float64     `json:"headspace_lost,omitempty" doc:"How much of the headspace was lost, in the mean over time, 0 to 1"`
	Spans        []ReplaySpan `json:"spans,omitempty" doc:"When it was raised, in order; at most 2,000"`
}

// ReplaySpan is for how long an alarm was raised.
type ReplaySpan struct {
	From       time.Time `json:"from"`
	To         time.Time `json:"to,omitzero" doc:"Left out while it is raised at the end"`
	Value      *float64  `json:"value,omitempty"`
	Limit      *float64  `json:"limit,omitempty"`
	Suppressed bool      `json:"suppressed,omitempty" doc:"By design, when it was raised"`
	// OutOfService is so when it was raised.
	OutOfService bool `json:"out_of_service,omitempty" doc:"For maintenance, when it was raised"`
}

// ReplayOne is what is found for one device or group.
type ReplayOne struct {
	Subject     string             `json:"subject" doc:"The device, or the group such as site=Kilnside"`
	Readings    int                `json:"readings"`
	This        ReplaySide         `json:"this"`
	InForce     *ReplaySide        `json:"in_force,omitempty" doc:"What the version in force would have done; left out where there is none"`
	Live        *int               `json:"live,omitempty" doc:"How many alarms live raised"`
	Differences []ReplayDifference `json:"differences,omitempty" doc:"Where live did otherwise than the version in force would have, at most 100"`
}

// ReplayDifference is an alarm that only live raised, or only the replay.
type ReplayDifference struct {
	At    time.Time `json:"at"`
	Only  string    `json:"only" enum:"live,replay"`
	Cause string    `json:"cause"`
}

// ReplayProgress is how far a replay is.
type ReplayProgress struct {
	Done     int `json:"done"`
	Of       int `json:"of"`
	Readings int `json:"readings"`
}

// ReplaySummary is what is found for all devices together.
type ReplaySummary struct {
	From        time.Time   `json:"from"`
	To          time.Time   `json:"to"`
	Devices     int         `json:"devices"`
	Readings    int         `json:"readings"`
	Seconds     float64     `json:"seconds" doc:"How long it took"`
	This        ReplaySide  `json:"this"`
	InForce     *ReplaySide `json:"in_force,omitempty"`
	Live        *int        `json:"live,omitempty"`
	Differences int         `json:"differences,omitempty"`
	// Responses are what the rule would have done by itself.
	Responses []ReplayResponse `json:"responses,omitempty" doc:"What the rule would have done by itself, on the devices that it would choose now"`
}

// ReplayResponse is what one response of a rule would have done.
type ReplayResponse struct {
	Does     string  `json:"does" doc:"Such as: sets fan_mode to \"on\""`
	Acts     int     `json:"acts" doc:"How often it would have acted on a device"`
	Devices  int     `json:"devices" doc:"On how many"`
	HeldBack int     `json:"held_back" doc:"How often its limit an hour would have held it back"`
	Seconds  float64 `json:"seconds" doc:"For how long settings would have been set, over all devices"`
	Nowhere  int     `json:"nowhere,omitempty" doc:"For how many alarms there was no device to act on"`
}

// ReplayLine is one line of the answer: one of its fields.
type ReplayLine struct {
	Progress *ReplayProgress `json:"progress,omitempty"`
	One      *ReplayOne      `json:"device,omitempty"`
	Summary  *ReplaySummary  `json:"summary,omitempty" doc:"The last line"`
	Error    string          `json:"error,omitempty" doc:"Why it ended before the summary"`
}

// Suggestion is a change of a rule that the data gives.
type Suggestion struct {
	Kind     string     `json:"kind" enum:"deadband,on_delay,limit,never,always"`
	Value    string     `json:"value,omitempty" doc:"That the rule would get; left out where there is none to take"`
	Figures  string     `json:"figures" doc:"What it is computed from"`
	Rule     Rule       `json:"rule" doc:"The rule with it"`
	Before   ReplaySide `json:"before" doc:"Without it, on what it was not computed from"`
	After    ReplaySide `json:"after" doc:"With it"`
	JudgedOn string     `json:"judged_on"`
}

// Suggest asks for suggestions for a rule.
func (c *Client) Suggest(ctx context.Context, a ReplayAsk) ([]Suggestion, error) {
	return send[[]Suggestion](ctx, c, http.MethodPost, "/suggestions", a)
}

// Replay asks what a rule would have done, and calls told with each line as it comes.
func (c *Client) Replay(ctx context.Context, a ReplayAsk, told func(ReplayLine) error) error {
	r, w := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		err := c.do(ctx, http.MethodPost, "/replays", a, w)
		w.CloseWithError(err)
		ended <- err
	}()
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 16<<20)
	whole := false
	for lines.Scan() {
		var l ReplayLine
		err := json.Unmarshal(lines.Bytes(), &l)
		if err == nil && l.Error != "" {
			err = errors.New(l.Error)
		}
		if err == nil {
			err = told(l)
		}
		if err != nil {
			r.CloseWithError(err)
			<-ended
			return err
		}
		whole = whole || l.Summary != nil
	}
	if err := <-ended; err != nil {
		return err
	}
	if err := lines.Err(); err != nil {
		return err
	}
	if !whole {
		return fmt.Errorf("the replay was cut off before its end")
	}
	return nil
}

// AtOnce is on which devices a rule would be raised if it were put in force now.
type AtOnce struct {
	Of      int      `json:"of" doc:"How many devices it is for"`
	Asked   int      `json:"asked" doc:"How many of them were looked at: not all, where they are many and the rule looks back"`
	Devices []string `json:"devices" doc:"Those on which it would be raised, by id"`
	Many    bool     `json:"many" doc:"Whether they are more than a fifth of those that were looked at"`
}

// RuleAtOnce tells on which devices a rule would be raised if it were put in force now.
func (c *Client) RuleAtOnce(ctx context.Context, r Rule) (AtOnce, error) {
	return send[AtOnce](ctx, c, http.MethodPost, "/rules/at-once", r)
}
