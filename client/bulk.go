package client

import (
	"context"
	"net/http"
	"net/url"
	"time"
)

// ManyDevices changes the labels or the status of many devices.
type ManyDevices struct {
	Devices []string          `json:"devices,omitempty" nullable:"false" maxItems:"100000" doc:"Ids"`
	Where   string            `json:"where,omitempty" maxLength:"65536" doc:"Only those for which this is true now, in the place of ids or beside them" example:"label.site == \"Fennimore\""`
	Labels  map[string]string `json:"labels,omitempty" nullable:"false" doc:"Labels to set; an empty text takes one away" example:"{\"stage\":\"resting\"}"`
	Status  string            `json:"status,omitempty" enum:"active,suspended,retired" doc:"Status to give; active lets them in again, retired is for good"`
	Preview bool              `json:"preview,omitempty" doc:"Only say which would change"`
	AtOnce  bool              `json:"at_once,omitempty" doc:"Their settings may change at once, also where they are so many that a change of layers would go out in waves"`
}

// DeviceJob is a change of many devices, and how far it is.
type DeviceJob struct {
	ID       string     `json:"id,omitempty" doc:"Nothing for a preview"`
	Says     string     `json:"says" doc:"What it does" example:"label stage=resting"`
	By       string     `json:"by,omitempty"`
	At       *time.Time `json:"at,omitempty"`
	Devices  int        `json:"devices" doc:"How many it changes; those that are so already do not count"`
	Some     []string   `json:"some" nullable:"false" doc:"The first hundred of them"`
	Done     int        `json:"done"`
	Failed   int        `json:"failed" doc:"Of those done, how many could not be changed any more"`
	EndedAt  *time.Time `json:"ended_at,omitempty" doc:"When it was over; absent while it goes on"`
	Undoes   string     `json:"undoes,omitempty" doc:"The change that this one takes back"`
	UndoneBy string     `json:"undone_by,omitempty" doc:"The change that has taken this one back"`
}

// ChangeDevices changes many devices, or says which would change.
func (c *Client) ChangeDevices(ctx context.Context, m ManyDevices) (DeviceJob, error) {
	return send[DeviceJob](ctx, c, http.MethodPost, "/device-changes", m)
}

// DeviceJobs returns the latest changes of many devices, the newest first.
func (c *Client) DeviceJobs(ctx context.Context) ([]DeviceJob, error) {
	return get[[]DeviceJob](ctx, c, "/device-changes")
}

// DeviceJob returns one change of many devices.
func (c *Client) DeviceJob(ctx context.Context, id string) (DeviceJob, error) {
	return get[DeviceJob](ctx, c, "/device-changes/"+url.PathEscape(id))
}

// UndoDevices takes a change of many devices back, which is a change itself.
func (c *Client) UndoDevices(ctx context.Context, id string) (DeviceJob, error) {
	return send[DeviceJob](ctx, c, http.MethodPost, "/device-changes/"+url.PathEscape(id)+"/undo", nil)
}
