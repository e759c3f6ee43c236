package client

import (
	"context"
	"io"
	"net/http"
	"time"
)

// Store tells what the data folder is filled with. Sizes are in bytes.
type Store struct {
	File          int64      `json:"file" doc:"Size of the telemetry file"`
	Free          int64      `json:"free" doc:"Of that, in pages that hold nothing now"`
	Chunks        int64      `json:"chunks" doc:"Readings, sealed"`
	Rollups       int64      `json:"rollups"`
	UnsealedBytes int64      `json:"unsealed_bytes" doc:"Readings that are not yet sealed"`
	Records       int64      `json:"records" doc:"Size of the other file: models, devices, alarms, journal"`
	Readings      int64      `json:"readings" doc:"All of them"`
	Unsealed      int64      `json:"unsealed" doc:"Of those, not yet sealed: in no chunk yet"`
	Each          *float64   `json:"bytes_a_reading,omitempty" doc:"Data of chunks and roll-ups, for each reading in chunks; nothing while there is none"`
	Since         *time.Time `json:"since,omitempty" doc:"Time of the oldest reading"`
	Growth        *int64     `json:"growth_a_day,omitempty" doc:"Of chunks and roll-ups, over the last week; nothing until there is a day of readings in chunks"`
	DiskFree      *int64     `json:"disk_free,omitempty" doc:"What the disk, or the limit of the file, leaves"`
	FullOn        *time.Time `json:"full_on,omitempty" doc:"When that is used up, if it goes on like this"`
	By            string     `json:"by" enum:"model,metric,device"`
	Shares        []Share    `json:"shares" doc:"The largest first"`
	LeftOut       int        `json:"left_out,omitempty" doc:"How many smaller ones are not listed"`
	ShareOfRest   int64      `json:"share_of_rest,omitempty" doc:"What those take up"`
	Damage        []Damage   `json:"damage" doc:"What cannot be read, and is gone on without"`
}

// Damage is one thing in the data folder that is not as it was written.
type Damage struct {
	File     string     `json:"file"`
	Place    string     `json:"place" doc:"What it is: a commit of readings, a chunk of a series, a record"`
	Sentence string     `json:"sentence" doc:"What is wrong, and what is lost by it"`
	Readings int64      `json:"readings,omitempty" doc:"At most so many readings are lost by it; nothing where that is not known"`
	Since    *time.Time `json:"since,omitempty" doc:"They had come from here"`
	Until    *time.Time `json:"until,omitempty" doc:"to here"`
}

// Share is what one model, metric or device takes up.
type Share struct {
	Name     string   `json:"name"`
	Series   int      `json:"series"`
	Readings int64    `json:"readings" doc:"All of them"`
	Bytes    int64    `json:"bytes" doc:"Of the data of chunks and roll-ups"`
	Each     *float64 `json:"bytes_a_reading,omitempty" doc:"Of those bytes, for each reading in chunks; nothing while there is none"`
}

// Store returns what the data folder is filled with, by model, metric or device.
func (c *Client) Store(ctx context.Context, by string) (Store, error) {
	return get[Store](ctx, c, "/store?by="+by)
}

// Backup writes a backup of the running service to w.
func (c *Client) Backup(ctx context.Context, w io.Writer) error {
	return c.do(ctx, http.MethodGet, "/store/backup", nil, w)
}
