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
	Error   string          `json:"error,omitempty" doc:"Why the device could not do it, or could not be given it"`
	Job     string          `json:"job,omitempty" doc:"The command for many devices that it is part of"`
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
	if f.Job != "" {
		q.Set("job", f.Job)
	}
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

// ManyCommands gives a command to many devices.
type ManyCommands struct {
	Devices []string `json:"devices,omitempty" nullable:"false" maxItems:"100000" doc:"Ids"`
	Where   string   `json:"where,omitempty" maxLength:"65536" doc:"Only those for which this is true now, in the place of ids or beside them" example:"label.site == \"Fennimore\""`
	NewCommand
	AtOnce  int    `json:"at_once,omitempty" minimum:"0" maximum:"100000" doc:"How many devices at most have the command without having replied; all where not given"`
	Tag     string `json:"tag,omitempty" maxLength:"64" doc:"Of a preview: it is refused if the devices are others by now"`
	Preview bool   `json:"preview,omitempty" doc:"Only say who would get it"`
}

// CommandJob is a command for many devices, and how far it is. Of a preview it is who would
// get it.
type CommandJob struct {
	ID          string          `json:"id,omitempty" doc:"ULID; nothing for a preview"`
	Name        string          `json:"name"`
	Input       json.RawMessage `json:"input,omitempty"`
	Expires     string          `json:"expires,omitempty" doc:"How long each waits for its reply"`
	AtOnce      int             `json:"at_once,omitempty" doc:"How many at most at a time; absent for all"`
	By          string          `json:"by,omitempty"`
	At          *time.Time      `json:"at,omitempty"`
	Devices     int             `json:"devices" doc:"How many get it"`
	Some        []string        `json:"some" nullable:"false" doc:"The first hundred of them, in the order in which they get it"`
	Offline     int             `json:"off_line,omitempty" doc:"In a preview: of which nothing is heard; they get it last"`
	Left        []LeftOut       `json:"left_out,omitempty" doc:"In a preview: which do not get it, and why"`
	Tag         string          `json:"tag,omitempty" doc:"In a preview: names this list"`
	Given       int             `json:"given" doc:"How many it was given to so far"`
	Counts      map[string]int  `json:"counts" nullable:"false" doc:"How many commands there are in each phase" example:"{\"done\":7,\"failed\":1}"`
	WithdrawnAt *time.Time      `json:"withdrawn_at,omitempty"`
	WithdrawnBy string          `json:"withdrawn_by,omitempty"`
	EndedAt     *time.Time      `json:"ended_at,omitempty" doc:"When it was over; absent while it goes on"`
}

// LeftOut are devices that do not get something, and why.
type LeftOut struct {
	Why     string   `json:"why"`
	Devices int      `json:"devices"`
	Some    []string `json:"some" nullable:"false" doc:"The first hundred"`
}

// GiveMany gives a command to many devices, or says who would get it.
func (c *Client) GiveMany(ctx context.Context, m ManyCommands) (CommandJob, error) {
	return send[CommandJob](ctx, c, http.MethodPost, "/command-jobs", m)
}

// CommandJobs returns the latest commands for many devices, the newest first.
func (c *Client) CommandJobs(ctx context.Context) ([]CommandJob, error) {
	return get[[]CommandJob](ctx, c, "/command-jobs")
}

// CommandJob returns one of them; it waits up to a time for its end.
func (c *Client) CommandJob(ctx context.Context, id string, wait time.Duration) (CommandJob, error) {
	path := "/command-jobs/" + url.PathEscape(id)
	if wait > 0 {
		path += "?wait=" + value.Duration(max(wait.Round(time.Second), time.Second)).String()
	}
	return get[CommandJob](ctx, c, path)
}

// WithdrawJob gives up what of a command for many devices was not replied to yet.
func (c *Client) WithdrawJob(ctx context.Context, id string) (CommandJob, error) {
	return send[CommandJob](ctx, c, http.MethodDelete, "/command-jobs/"+url.PathEscape(id), nil)
}
