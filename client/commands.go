package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"time"

	"ullage/core/value"
)

// NewCommand is a command to give to a device.
type NewCommand struct {
	Name    string `json:"name" doc:"An action of the device's model" example:"zero_level" maxLength:"200"`
	Input   any    `json:"input,omitempty" doc:"What goes with it, as the model says"`
	Expires string `json:"expires,omitempty" doc:"How long to wait for the reply, or \"next contact\" for a device that sleeps: one minute after it comes; 60s where not given" example:"90s"`
}

// Command is a command to one device and how far it has come.
type Command struct {
	ID      string          `json:"id" doc:"ULID"`
	Device  string          `json:"device"`
	Name    string          `json:"name"`
	Input   json.RawMessage `json:"input,omitempty"`
	By      string          `json:"by" doc:"Who gave it"`
	Phase   string          `json:"phase" enum:"waiting,sent,done,failed,expired,withdrawn" doc:"Waiting and sent are open; the device said done or failed"`
	At      time.Time       `json:"at" doc:"When it was given"`
	Expires *time.Time      `json:"expires,omitempty" doc:"When it is given up; absent while it waits for the next contact"`
	SentAt  *time.Time      `json:"sent_at,omitempty" doc:"When it was handed over last"`
	EndedAt *time.Time      `json:"ended_at,omitempty" doc:"When it was replied to or given up"`
	Output  json.RawMessage `json:"output,omitempty" doc:"What the device replied"`
	Error   string          `json:"error,omitempty" doc:"Why the device could not do it"`
}

// Open reports whether a reply is still waited for.
func (c Command) Open() bool { return c.Phase == "waiting" || c.Phase == "sent" }

// EventSent is an event that a device told of.
type EventSent struct {
	Device string          `json:"device"`
	Name   string          `json:"name"`
	At     time.Time       `json:"at"`
	Data   json.RawMessage `json:"data"`
}

// Give gives a command to a device and waits up to a time for its reply.
func (c *Client) Give(ctx context.Context, device string, n NewCommand, wait time.Duration) (Command, error) {
	var out Command
	q := url.Values{}
	if wait > 0 {
		q.Set("wait", value.Duration(max(wait.Round(time.Second), time.Second)).String())
	}
	return out, c.do(ctx, http.MethodPost, "/devices/"+url.PathEscape(device)+"/commands?"+q.Encode(), n, &out)
}

// Command returns one command of a device.
func (c *Client) Command(ctx context.Context, dev, id string) (Command, error) {
	return get[Command](ctx, c, device(dev)+"/commands/"+url.PathEscape(id))
}

// Commands lists commands, the newest first.
func (c *Client) Commands(ctx context.Context, f CommandFilter) (Page[Command], error) {
	q := f.query(nil)
	if f.Open {
		q.Set("open", "true")
	}
	return logged[Command](ctx, c, "/commands", q, f.Limit)
}

// Withdraw gives a command up before its time.
func (c *Client) Withdraw(ctx context.Context, device, id string) (Command, error) {
	var out Command
	return out, c.do(ctx, http.MethodDelete, "/devices/"+url.PathEscape(device)+"/commands/"+url.PathEscape(id), nil,
		&out)
}
