package client

import (
	"context"
	"net/http"
	"time"
)

// ResponseEntries are what rules keep on devices now, and whether they act at all.
type ResponseEntries struct {
	Stopped   bool            `json:"stopped" doc:"Whether all responses are stopped"`
	StoppedBy string          `json:"stopped_by,omitempty"`
	StoppedAt *time.Time      `json:"stopped_at,omitempty"`
	Why       string          `json:"why,omitempty"`
	Responses []ResponseEntry `json:"responses" doc:"The newest first"`
}

// ResponseEntry is what one response of a rule keeps on devices while the condition of an alarm
// holds.
type ResponseEntry struct {
	ID         string         `json:"id"`
	Rule       string         `json:"rule"`
	Subject    string         `json:"subject,omitempty" doc:"The device or group that the alarm is on"`
	Alarm      string         `json:"alarm,omitempty"`
	Set        map[string]any `json:"set"`
	Devices    []string       `json:"devices"`
	Since      time.Time      `json:"since"`
	State      string         `json:"state" enum:"holds,left,released" doc:"It gives its values; it does so although its rule was disabled or removed; or it does not any more"`
	Left       string         `json:"left,omitempty" doc:"Why nothing ends it by itself any more"`
	ReleasedBy string         `json:"released_by,omitempty"`
	ReleasedAt *time.Time     `json:"released_at,omitempty"`
}

// ResponsesTurn stops all responses, or lets them act again.
type ResponsesTurn struct {
	Stopped bool   `json:"stopped"`
	Release bool   `json:"release,omitempty" doc:"Take off what they keep on devices, too"`
	Why     string `json:"why,omitempty" maxLength:"400"`
}

// ResponseRelease names what is to be released.
type ResponseRelease struct {
	ID string `json:"id" minLength:"1" maxLength:"300"`
}

// Responses lists what rules keep on devices now.
func (c *Client) Responses(ctx context.Context) (ResponseEntries, error) {
	return get[ResponseEntries](ctx, c, "/responses")
}

// ReleaseResponse takes what a response keeps off its devices; its alarm stays.
func (c *Client) ReleaseResponse(ctx context.Context, id string) (ResponseEntry, error) {
	return send[ResponseEntry](ctx, c, http.MethodPost, "/responses/release", ResponseRelease{id})
}

// TurnResponses stops all responses, or lets them act again.
func (c *Client) TurnResponses(ctx context.Context, t ResponsesTurn) (ResponseEntries, error) {
	return send[ResponseEntries](ctx, c, http.MethodPut, "/responses/switch", t)
}
