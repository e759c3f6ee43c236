package device

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
	"sync"
	"time"
)

// linkHTTP speaks HTTP. It is never lost: each request connects by itself.
type linkHTTP struct {
	d      *Device
	life   context.Context
	base   string
	client *http.Client
	stop   context.CancelFunc
	polls  sync.WaitGroup
	never  chan struct{}
}

const (
	// pollWait is how long the service may hold a request open until it has news.
	pollWait = 30 * time.Second
	// answerMost bounds what is read of an answer.
	answerMost = 1 << 20
)

func dialHTTP(ctx, life context.Context, d *Device, u *url.URL) (link, error) {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = d.o.TLS
	hears, stop := context.WithCancel(life)
	l := &linkHTTP{d: d, life: life, base: u.Scheme + "://" + u.Host + "/device/v1/",
		client: &http.Client{Transport: t, Timeout: 2 * time.Minute}, stop: stop, never: make(chan struct{})}
	if _, status, err := l.request(ctx, http.MethodGet, "time", nil); err != nil || status != http.StatusOK {
		stop()
		t.CloseIdleConnections()
		if err == nil {
			err = fmt.Errorf("the service answers %d", status)
		}
		return nil, err
	}
	if d.o.Obey != nil {
		l.polls.Go(func() { l.pollIntended(hears) })
	}
	if len(d.o.Commands) > 0 {
		l.polls.Go(func() { l.pollCommands(hears) })
	}
	return l, nil
}

func (l *linkHTTP) lost() <-chan struct{} { return l.never }

func (l *linkHTTP) close() {
	l.stop()
	l.polls.Wait()
	l.client.CloseIdleConnections()
}

func (l *linkHTTP) request(ctx context.Context, method, path string, body []byte) ([]byte, int, error) {
	req, err := http.NewRequestWithContext(ctx, method, l.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, 0, err
	}
	if l.d.o.Token != "" {
		req.Header.Set("Authorization", "Bearer "+l.d.o.Token)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := l.client.Do(req)
	if err != nil {
		return nil, 0, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, answerMost))
	return b, resp.StatusCode, err
}

func (l *linkHTTP) publish(ctx context.Context, name string, body []byte) error {
	path := name
	if event, ok := strings.CutPrefix(name, "event/"); ok {
		path = "events/" + event
	} else if name == "reply" {
		path = "replies"
	}
	answer, status, err := l.request(ctx, http.MethodPost, path, body)
	switch {
	case err != nil:
		return err
	case status == http.StatusUnauthorized, status == http.StatusTooManyRequests, status >= 500:
		return fmt.Errorf("the service answers %d", status)
	case status >= 300:
		var p Problem
		if json.Unmarshal(answer, &p) != nil || p.Detail == "" {
			p.Detail = fmt.Sprintf("the service answers %d", status)
		}
		l.d.problem(p)
		return &Refusal{p.Detail}
	}
	var kept struct {
		Kept    int       `json:"kept"`
		Refused []Finding `json:"refused"`
	}
	if json.Unmarshal(answer, &kept) == nil && len(kept.Refused) > 0 {
		l.d.problem(Problem{Code: "invalid", Detail: kept.Refused[0].Sentence, Findings: kept.Refused})
	}
	return nil
}

// pollIntended asks for the settings, and then for each next revision.
func (l *linkHTTP) pollIntended(ctx context.Context) {
	var revision int64
	for failed := 0; ctx.Err() == nil; {
		q := ""
		if revision != 0 {
			q = "?not=" + strconv.FormatInt(revision, 10) + "&wait=" + pollWait.String()
		}
		body, status, err := l.request(ctx, http.MethodGet, "intended"+q, nil)
		switch {
		case err == nil && status == http.StatusOK:
			failed = 0
			var in Intended
			if json.Unmarshal(body, &in) == nil && in.Revision != 0 {
				revision = in.Revision
			}
			l.d.receive(l.life, "intended", body)
		case err == nil && status == http.StatusNotModified:
			failed = 0
		default:
			l.d.pause(ctx, l.d.retry(failed), nil)
			failed++
		}
	}
}

// pollCommands asks for commands. The service gives each again until there is a
// reply.
func (l *linkHTTP) pollCommands(ctx context.Context) {
	for failed := 0; ctx.Err() == nil; {
		body, status, err := l.request(ctx, http.MethodGet, "commands?wait="+pollWait.String(), nil)
		var given []json.RawMessage
		if err != nil || status != http.StatusOK || json.Unmarshal(body, &given) != nil {
			l.d.pause(ctx, l.d.retry(failed), nil)
			failed++
			continue
		}
		failed = 0
		for _, raw := range given {
			var named struct {
				Name string `json:"name"`
			}
			if json.Unmarshal(raw, &named) == nil {
				l.d.receive(l.life, "command/"+named.Name, raw)
			}
		}
	}
}
