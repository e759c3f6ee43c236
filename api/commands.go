package api

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"ullage/client"
	"ullage/core/value"
	"ullage/fleet/commands"
	"ullage/fleet/event"
	"ullage/fleet/fault"
)

// OneCommand is the path of one command of a device.
type OneCommand struct {
	One
	Command string `path:"command" doc:"Id of the command" maxLength:"26"`
}

// Input is a request body that may be empty. The framework would want one.
type Input struct{ input json.RawMessage }

// maxInput is the largest input of a command, in bytes.
const maxInput = 1 << 20

// Resolve implements huma.Resolver.
func (i *Input) Resolve(ctx huma.Context) []error {
	if ctx.BodyReader() == nil {
		return nil
	}
	b, err := io.ReadAll(io.LimitReader(ctx.BodyReader(), maxInput+1))
	if err != nil || len(b) > maxInput {
		return []error{huma.Error413RequestEntityTooLarge("the input of a command has at most 1 MiB")}
	}
	i.input = bytes.TrimSpace(b)
	return nil
}

// maxWait is the longest that a request waits for a device's reply.
const maxWait = time.Minute

func (s *server) commandRoutes() {
	type filter struct {
		Where
		Paging
		Device string `query:"device" doc:"Only of this device"`
		Job    string `query:"job" doc:"Only of this command for many devices"`
		Open   bool   `query:"open" doc:"Only those that wait for a reply"`
		Before string `query:"before" doc:"Only those older than this id"`
	}
	huma.Get(s.api, "/api/v1/commands", func(ctx context.Context, f *filter) (*logged[client.Command], error) {
		cs, err := s.Fleet.Commands(ctx, caller(ctx), f.Where.Where, commands.Filter{Device: f.Device, Job: f.Job, Open: f.Open, Before: f.Before,
			Limit: f.ask()})
		if err != nil {
			return nil, s.failed(err)
		}
		out := make([]client.Command, len(cs))
		for i, c := range cs {
			out[i] = commandOf(c)
		}
		return newest(out, f.Paging, func(c client.Command) string { return c.ID }), nil
	}, describe("commands", "Commands, the newest first", "Commands"))
	type give struct {
		One
		Wait string `query:"wait" doc:"How long to wait for the reply before answering, up to 60s" example:"10s"`
		Body client.NewCommand
	}
	huma.Post(s.api, "/api/v1/devices/{id}/commands", func(ctx context.Context, in *give) (*body[client.Command], error) {
		input, err := inputOf(in.Body)
		if err != nil {
			return nil, s.failed(err)
		}
		c, err := s.give(ctx, in.ID, in.Body.Name, input, in.Body.Expires, in.Wait)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Command]{commandOf(c)}, nil
	}, describe("give-command", "Give a command to a device", "Commands"), notFound)
	huma.Get(s.api, "/api/v1/devices/{id}/commands/{command}", func(ctx context.Context, in *OneCommand) (*body[client.Command], error) {
		c, err := s.Fleet.Command(ctx, caller(ctx), in.ID, in.Command)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Command]{commandOf(c)}, nil
	}, describe("command", "One command of a device", "Commands"), notFound)
	huma.Delete(s.api, "/api/v1/devices/{id}/commands/{command}", func(ctx context.Context, in *OneCommand) (*body[client.Command], error) {
		c, err := s.Fleet.Withdraw(ctx, caller(ctx), in.ID, in.Command)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Command]{commandOf(c)}, nil
	}, describe("withdraw-command", "Give a command up before its time", "Commands"), notFound)
	type invoke struct {
		One
		Input
		Name string `path:"name" doc:"Name of the command" maxLength:"200"`
	}
	type output struct {
		Status int
		Body   json.RawMessage
	}
	huma.Post(s.api, "/api/v1/devices/{id}/invoke/{name}", func(ctx context.Context, in *invoke) (*output, error) {
		c, err := s.give(ctx, in.ID, in.Name, in.input, "", "60s")
		switch {
		case err != nil:
			return nil, s.failed(err)
		case c.Phase == commands.Failed:
			return nil, s.failed(fault.New(fault.Conflict, "%s could not %s: %s", c.Device, c.Name, c.Error))
		case c.Phase != commands.Done:
			return nil, s.failed(fault.New(fault.Conflict, "%s has not replied to %s", c.Device, c.Name).
				Then("see whether it is connected; the command may still be done later"))
		case c.Output == nil:
			return &output{Status: http.StatusNoContent}, nil
		}
		return &output{http.StatusOK, c.Output}, nil
	}, describe("invoke", "Give a command and answer with what the device replies; the body is the input alone",
		"Commands"), notFound)
	// Put in afterwards, so that the framework leaves the body to Input.
	s.api.OpenAPI().Paths["/api/v1/devices/{id}/invoke/{name}"].Post.RequestBody = &huma.RequestBody{Description: "The input, as the model says",
		Content: map[string]*huma.MediaType{"application/json": {Schema: &huma.Schema{}}}}
	type happening struct {
		One
		Name string `path:"name" doc:"Name of the event" maxLength:"200"`
	}
	huma.Get(s.api, "/api/v1/devices/{id}/events/{name}", func(ctx context.Context, in *happening) (*huma.StreamResponse, error) {
		if err := s.Fleet.Event(caller(ctx), in.ID, in.Name); err != nil {
			return nil, s.failed(err)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) { s.tell(c, in.ID, in.Name) }}, nil
	},
		describe("device-events",
			"One event of a device whenever it tells of it, as server-sent events of the data alone", "Commands"), notFound,
		func(o *huma.Operation) { o.Middlewares = append(o.Middlewares, s.stream) })
}

// tell streams an event until the client or its session ends. The framework's
// streams say nothing before the first message, and a client would not know
// that it is heard.
func (s *server) tell(c huma.Context, device, name string) {
	news, stop := s.Events.watch(device, name)
	defer stop()
	c.SetHeader("Content-Type", "text/event-stream")
	c.SetStatus(http.StatusOK)
	w := c.BodyWriter()
	rc := humagin.Unwrap(c).Writer
	say := func(line string) bool {
		_, err := io.WriteString(w, line+"\n\n")
		rc.Flush()
		return err == nil
	}
	ctx, end := context.WithCancel(c.Context())
	defer end()
	defer s.People.OnEnd(by(ctx), end)()
	pulse := time.NewTicker(15 * time.Second)
	defer pulse.Stop()
	who := caller(ctx)
	for ok := say(": listening"); ok; {
		granted := s.Fleet.Changed()
		if !who.Sees(device) {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-granted:
		case <-pulse.C:
			ok = say(":")
		case e := <-news:
			ok = say("data: " + string(e.Data))
		}
	}
}

// give queues a command and waits for its end, as long as was asked for.
func (s *server) give(ctx context.Context, id, name string, input json.RawMessage,
	expires, wait string) (commands.Command, error) {
	if err := s.Fleet.Exists(caller(ctx), id); err != nil {
		return commands.Command{}, err
	}
	e, err := commands.ParseExpiry(expires)
	if err != nil {
		return commands.Command{}, err
	}
	patience, err := patienceOf(wait)
	if err != nil {
		return commands.Command{}, err
	}
	c, err := s.Fleet.Give(ctx, caller(ctx), id, name, input, e)
	if err != nil || patience == 0 {
		return c, err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	return s.Fleet.Await(ctx, c)
}

// patienceOf reads how long an answer may wait.
func patienceOf(wait string) (time.Duration, error) {
	if wait == "" {
		return 0, nil
	}
	d, err := value.ParseDuration(wait)
	if err != nil {
		return 0, fault.New(fault.Invalid, "wait: %s", err)
	}
	return min(d.Std(), maxWait), nil
}

func inputOf(n client.NewCommand) (json.RawMessage, error) {
	if n.Input == nil {
		return nil, nil
	}
	return json.Marshal(n.Input)
}

func commandOf(c commands.Command) client.Command {
	return client.Command{ID: c.ID, Device: c.Device, Name: c.Name, Input: c.Input, By: c.By, Phase: string(c.Phase),
		At: c.At.UTC(), Expires: optional(c.Expires.UTC()), SentAt: optional(c.SentAt.UTC()), EndedAt: optional(c.EndedAt.UTC()), Output: c.Output, Error: c.Error, Job: c.Job}
}

// Events passes events of devices on to those that watch for them. Its zero
// value is ready; give Handle to the bus.
type Events struct {
	mu       sync.Mutex
	watchers map[*watcher]struct{}
}

type watcher struct {
	device, name string
	news         chan event.Sent
}

// maxBehind is how many events a slow watcher may be behind before it misses some.
const maxBehind = 64

// Handle implements event.Handler.
func (t *Events) Handle(_ int, e event.Event) {
	told, ok := e.(event.Sent)
	if !ok {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for w := range t.watchers {
		if w.device == told.Device && w.name == told.Name {
			select {
			case w.news <- told:
			default:
			}
		}
	}
}

func (t *Events) watch(device, name string) (<-chan event.Sent, func()) {
	w := &watcher{device, name, make(chan event.Sent, maxBehind)}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.watchers == nil {
		t.watchers = map[*watcher]struct{}{}
	}
	t.watchers[w] = struct{}{}
	return w.news, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.watchers, w)
	}
}
