package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// Page is a part of what only grows, the newest first.
type Page[T any] struct {
	Items []T
	// Next is where the next page begins, for Before; empty if this is the end.
	Next string
}

// LogFilter narrows what is read of the journal, of alarms and of commands.
type LogFilter struct {
	Where  string // only of devices for which this condition is true
	Device string // only of this device
	Before string // only what is older than this id or number
	Limit  int    // 0 for all
}

// AlarmFilter narrows a list of alarms.
type AlarmFilter struct {
	LogFilter
	Rule string // only of this rule
	All  bool   // closed ones too
	// States narrows to some of the states in which people see them.
	States []string
	// Priorities narrows to some priorities.
	Priorities []string
}

// CommandFilter narrows a list of commands.
type CommandFilter struct {
	LogFilter
	Job  string // only of this command for many devices
	Open bool   // only those that wait for a reply
}

// JournalFilter narrows a reading of the journal.
type JournalFilter struct {
	LogFilter
	Kind, Alarm, Rule, Person, Noun string
	From, To                        time.Time // To is not included; zero for no end
}

func (f LogFilter) query(more map[string]string) url.Values {
	q := url.Values{}
	for _, m := range []map[string]string{more, {"where": f.Where, "device": f.Device, "before": f.Before}} {
		for name, v := range m {
			if v != "" {
				q.Set(name, v)
			}
		}
	}
	return q
}

// logged reads pages until there are limit entries, or no more.
func logged[T any](ctx context.Context, c *Client, path string, q url.Values, limit int) (Page[T], error) {
	out := Page[T]{Items: []T{}}
	for {
		ask := pageSize
		if limit > 0 {
			ask = min(pageSize, limit-len(out.Items))
		}
		q.Set("limit", strconv.Itoa(ask))
		var page []T
		head, err := c.call(ctx, request{method: http.MethodGet, path: path + "?" + q.Encode()}, &page)
		if err != nil {
			return Page[T]{}, err
		}
		out.Items = append(out.Items, page...)
		out.Next = nextPage(head.Get("Link"), "before")
		if out.Next == "" || limit > 0 && len(out.Items) >= limit {
			return out, nil
		}
		q.Set("before", out.Next)
	}
}
