package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"ullage/api"
	"ullage/app"
	"ullage/client"
	"ullage/core/person"
	"ullage/examples/cellars"
	"ullage/fleet/devices"
	"ullage/fleet/noun"
	"ullage/test/attack"
	"ullage/test/service"
)

const (
	seen  = 300
	moves = 5000
)

// peopleFigures measures what access costs: the fleet list of somebody who sees 300
// of 10,000 devices against that of a service that has only those, the one question
// whether somebody may do something, 5,000 devices that change their access, and
// sign-ins beside readings.
func peopleFigures(dir string) ([]figure, error) {
	fmt.Printf("%d devices, of which somebody sees %d, beside a service of %d …\n", allDevices, seen, seen)
	large, err := parted(filepath.Join(dir, "large"), allDevices)
	if err != nil {
		return nil, err
	}
	defer large.close()
	small, err := parted(filepath.Join(dir, "small"), seen)
	if err != nil {
		return nil, err
	}
	defer small.close()
	before := large.Present.Visited()
	if n, err := large.list(); err != nil || n != seen {
		return nil, fmt.Errorf("%d devices were seen, want %d: %v", n, seen, err)
	}
	visited := large.Present.Visited() - before
	var ratios []float64
	var one, other time.Duration
	for range 60 {
		begun := time.Now()
		if _, err := small.list(); err != nil {
			return nil, err
		}
		one = time.Since(begun)
		begun = time.Now()
		if _, err := large.list(); err != nil {
			return nil, err
		}
		other = time.Since(begun)
		ratios = append(ratios, float64(other)/float64(one))
	}
	mid, low, high := spread(ratios)
	out := []figure{
		{fmt.Sprintf("fleet list of %d devices for somebody who sees %d: devices visited", allDevices, seen), fmt.Sprint(visited), fmt.Sprint(seen), ""},
		{"  its time, against a service that has only those", other.Round(10 * time.Microsecond).String(), "1.5 ×", fmt.Sprintf("%.2f × (%.2f to %.2f)", mid, low, high)},
	}

	who := large.Access.Caller("guest", "")
	const asks = 1_000_000
	begun := time.Now()
	for i := range asks {
		who.May(person.Operator, id(i%allDevices))
	}
	names := time.Now()
	for i := range asks {
		_ = id(i % allDevices)
	}
	each := (names.Sub(begun) - time.Since(names)) / asks
	out = append(out, figure{"may this person do this to this device", each.String(), "1 µs", ""})

	begun = time.Now()
	queue := make(chan int)
	failed := make(chan error, 64)
	var wg sync.WaitGroup
	for range 64 {
		wg.Go(func() {
			for i := range queue {
				if _, err := large.Devices.Label(context.Background(), id(seen+i), map[string]string{"crew": "guests"}, "engineer"); err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	for i := range moves {
		queue <- i
	}
	close(queue)
	wg.Wait()
	changed := time.Since(begun)
	select {
	case err := <-failed:
		return nil, err
	default:
	}
	if n := len(who.Set(person.Viewer)); n != seen+moves {
		return nil, fmt.Errorf("%d devices are seen after the change, want %d", n, seen+moves)
	}
	// The same changes, with nobody whose access looks at the label.
	bare, err := moved(filepath.Join(dir, "bare"))
	if err != nil {
		return nil, err
	}
	out = append(out, figure{fmt.Sprintf("a label of %d devices that moves them into an access, until it is in force", moves),
		changed.Round(time.Millisecond).String(), "1 s", fmt.Sprintf("%.2f × without any access", float64(changed)/float64(bare))})
	signing, err := signInFigures(dir)
	return append(out, signing...), err
}

func id(i int) string { return fmt.Sprintf("tank-fennimore-%05d", i) }

// part is a service in this process, of which somebody sees the devices of a crew.
type part struct {
	*app.App
	server *httptest.Server
	guest  *client.Client
}

func (p *part) close() {
	p.server.Close()
	p.App.Close()
}

func (p *part) list() (int, error) {
	ds, err := p.guest.DevicesLike(context.Background(), client.DeviceFilter{Brief: true})
	return len(ds), err
}

func parted(dir string, n int) (*part, error) {
	a, err := plain(dir, n)
	if err != nil {
		return nil, err
	}
	ctx := context.Background()
	gin.SetMode(gin.ReleaseMode)
	if _, err := a.People.Add(ctx, "engineer", service.Password, person.Owner, ""); err != nil {
		return nil, err
	}
	if _, err := a.People.Add(ctx, "guest", service.Password, person.Viewer, "engineer"); err != nil {
		return nil, err
	}
	if _, err := a.People.Put(ctx, person.Person{Name: "guest", Grants: person.Grants{{Role: person.Viewer, Access: `label.crew == "guests"`}}}, noun.If{}, "engineer"); err != nil {
		return nil, err
	}
	h := api.New(api.Options{App: a.API(), Started: time.Now(), MQTT: func() int { return 0 }, Metrics: http.NotFoundHandler()})
	p := &part{App: a, server: httptest.NewServer(h)}
	p.guest = client.New(p.server.URL, "")
	_, err = p.guest.SignIn(ctx, "guest", service.Password)
	return p, err
}

// plain is a service with devices of which the first 300 are of one crew.
func plain(dir string, n int) (*app.App, error) {
	a, err := app.New(context.Background(), app.Options{Dir: dir, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	a.Start(false)
	probe, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		return nil, err
	}
	if _, _, err := a.Models.Publish(context.Background(), probe, nil, "engineer"); err != nil {
		return nil, err
	}
	var wg sync.WaitGroup
	failed := make(chan error, 64)
	for w := range 64 {
		wg.Go(func() {
			for i := w; i < n; i += 64 {
				crew := "others"
				if i < seen {
					crew = "guests"
				}
				if _, _, err := a.Devices.Create(context.Background(), devices.New{ID: id(i), Model: "tank-probe",
					Labels: map[string]string{"site": "Fennimore", "crew": crew}}, "engineer"); err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	wg.Wait()
	a.Settle()
	select {
	case err := <-failed:
		return nil, err
	default:
		return a, nil
	}
}

// moved is how long the same change of labels takes where no access looks at them.
func moved(dir string) (time.Duration, error) {
	a, err := plain(dir, seen+moves)
	if err != nil {
		return 0, err
	}
	defer a.Close()
	begun := time.Now()
	var wg sync.WaitGroup
	for w := range 64 {
		wg.Go(func() {
			for i := w; i < moves; i += 64 {
				_, _ = a.Devices.Label(context.Background(), id(seen+i), map[string]string{"crew": "guests"}, "engineer")
			}
		})
	}
	wg.Wait()
	return time.Since(begun), nil
}

// signInFigures measures sign-ins while 500 readings a second come in.
func signInFigures(dir string) ([]figure, error) {
	fmt.Println("sign-ins beside 500 readings a second …")
	s, err := serve(filepath.Join(dir, "signins"))
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	ctx := context.Background()
	o, err := s.Client.CreateDevice(ctx, client.NewDevice{ID: "tank-fennimore-07", Model: "tank-probe"})
	if err != nil {
		return nil, err
	}
	load, err := attack.Report(s.MQTT, o.ID, o.Token, 2*time.Millisecond)
	if err != nil {
		return nil, err
	}
	var took []time.Duration
	for range 60 {
		begun := time.Now()
		if _, err := client.New(s.Console, "").SignIn(ctx, "engineer", service.Password); err != nil {
			return nil, err
		}
		took = append(took, time.Since(begun))
	}
	if _, err := load.Stop(); err != nil {
		return nil, err
	}
	slices.Sort(took)
	p95 := took[len(took)*95/100]
	return []figure{{"sign-in p95, argon2id of 19 MiB and two passes, beside 500 readings a second", p95.Round(time.Millisecond).String(), "300 ms", ""}}, nil
}
