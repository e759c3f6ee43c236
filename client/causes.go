package client

import (
	"context"
	"time"
)

// Cause is one thing that needs somebody, with the devices that it shows on.
type Cause struct {
	ID           string    `json:"id" doc:"The same as long as the cause is, whichever devices it shows on"`
	Kind         string    `json:"kind" enum:"hub,site,link,alarm,refused,drift,headspace,firmware,clock,other" doc:"A silent hub with what is behind it, a silent site, silent devices, alarms of a rule, a setting that is refused or has drifted, a device near a limit, a firmware with which devices are nearer to their limits, a clock that cannot be right, or what else there is"`
	Priority     string    `json:"priority,omitempty" enum:"urgent,high,medium,low" doc:"Of its worst alarm; absent where nothing calls"`
	Title        string    `json:"title"`
	Why          string    `json:"why,omitempty"`
	Do           string    `json:"do,omitempty" doc:"What to do next"`
	Since        time.Time `json:"since"`
	Devices      []string  `json:"devices" nullable:"false" doc:"Ids"`
	Alarm        string    `json:"alarm,omitempty" doc:"The alarm to open"`
	Rule         string    `json:"rule,omitempty"`
	Setting      string    `json:"setting,omitempty"`
	Site         string    `json:"site,omitempty"`
	Acknowledged bool      `json:"acknowledged,omitempty" doc:"Somebody has every alarm of it"`
	By           []string  `json:"by,omitempty" doc:"Who has acknowledged alarms of it"`
}

// Causes returns what needs somebody now, the most pressing first.
func (c *Client) Causes(ctx context.Context) ([]Cause, error) {
	return get[[]Cause](ctx, c, "/causes")
}
