// Package app puts a whole Ullage together: the service, the tests and the
// benchmarks use the same one.
package app

import (
	"context"
	"crypto/x509"
	"errors"
	"log/slog"
	"net/http"
	"time"

	"ullage/api"
	"ullage/core/check"
	"ullage/core/maintenance"
	"ullage/core/person"
	"ullage/core/secret"
	"ullage/fleet/access"
	"ullage/fleet/activity"
	"ullage/fleet/ahead"
	"ullage/fleet/alarms"
	"ullage/fleet/asof"
	"ullage/fleet/boards"
	"ullage/fleet/bulk"
	"ullage/fleet/commands"
	"ullage/fleet/commit"
	"ullage/fleet/deletion"
	"ullage/fleet/derived"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/expressions"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/folder"
	"ullage/fleet/history"
	"ullage/fleet/imports"
	"ullage/fleet/ingest"
	"ullage/fleet/joining"
	"ullage/fleet/layers"
	"ullage/fleet/links"
	"ullage/fleet/logs"
	"ullage/fleet/maintenances"
	"ullage/fleet/models"
	"ullage/fleet/people"
	"ullage/fleet/present"
	"ullage/fleet/query"
	"ullage/fleet/replays"
	"ullage/fleet/responses"
	"ullage/fleet/retention"
	"ullage/fleet/revisions"
	"ullage/fleet/rollouts"
	"ullage/fleet/scoped"
	"ullage/fleet/settings"
	"ullage/fleet/sites"
	"ullage/fleet/traffic"
	"ullage/store"
	"ullage/transport/door"
	"ullage/transport/mqtt"
	"ullage/transport/web"
)

// Options say how an Ullage is put together. The zero value of each is usable
// but for Dir.
type Options struct {
	Dir   string // the data folder
	Store store.Options
	// Zone is that of the sites, for schedules and local days; UTC if it is nil.
	Zone *time.Location
	// KeepReadings and KeepRollups say how long those are kept of which the model
	// says nothing; 0 for always.
	KeepReadings, KeepRollups time.Duration
	// KeepFacts is how many entries of the journal are kept at most; 0 for all that
	// their kinds keep.
	KeepFacts int
	// Revisions is how many revisions of its settings a device gets in an hour at most; no
	// limit if it is 0.
	Revisions int
	// Drift says what is done about devices that are not as they have confirmed; it is only
	// told if it is zero.
	Drift settings.Drift
	// WavesAbove is from how many devices on a change of layers goes out in waves unless
	// whoever makes it says otherwise; never if it is 0.
	WavesAbove int
	// ApprovalAbove is from how many devices on a second person approves a change of layers;
	// never if it is 0.
	ApprovalAbove int
	// Traffic bounds the latest messages that are kept in memory.
	Traffic traffic.Options
	// KeepTraffic says how much of the traffic is kept on the disk; none if it is nil.
	KeepTraffic *store.TrafficOptions
	// Limits bound devices and strangers at the door; door.DefaultLimits if they
	// are all zero.
	Limits door.Limits
	Log    *slog.Logger     // nothing is logged if it is nil
	Now    func() time.Time // time.Now if it is nil
	// Hash makes what is kept of a password elsewhere; here if it is nil.
	Hash func(password string, salt []byte) []byte
	// Issuer makes certificates for devices, and Judge says what is wrong with one that
	// a device shows; nil where there are none.
	Issuer devices.Issuer
	Judge  func(shown []*x509.Certificate, now time.Time) error
	// Takes says which kinds of credential a listener for devices takes, by its name; every kind where
	// it says nothing.
	Takes map[string][]devices.Kind
	// Master is the secret that those of join keys are made of; nobody joins by
	// themselves where it is empty.
	Master []byte
	// Ways tells devices that join where the doors are; nil for nowhere.
	Ways func() door.Ways
	// Ends tells when the certificates of the service end; nil where there are none.
	Ends func() []Ends
	// Exported tells when the keys were exported last, the zero time for never; nil where
	// there are none.
	Exported func() time.Time
	// Handlers are told the news after those of the service.
	Handlers []event.Handler
}

// App is everything between the doors and the disk. Its parts may be used once
// New has returned.
type App struct {
	Store        *store.Store
	History      *history.History
	Bus          *event.Bus
	Commits      *commit.Writer
	Models       *models.Catalogue
	Devices      *devices.Registry
	Sites        *sites.Sites
	Maintenances *maintenances.Maintenances
	Boards       *boards.Boards
	Replays      *replays.Replays
	Responses    *responses.Responses
	Layers       *layers.Layers
	Rollouts     *rollouts.Rollouts
	Joining      *joining.Joining
	Bulk         *bulk.Changes
	Settings     *settings.Settings
	Commands     *commands.Queue
	Present      *present.Fleet
	Alarms       *alarms.Engine
	Access       *access.Register
	People       *people.Register
	Fleet        *scoped.Fleet // as callers see it
	Traffic      *traffic.Log
	Door         *door.Door
	Intake       *ingest.Intake
	Meter        *ingest.Meter
	Derivations  *derived.Derivations
	Expressions  *expressions.Expressions
	Queries      *query.Queries
	Logs         *logs.Logs
	Activity     *activity.Counter
	Revisions    *revisions.Revisions
	Folder       *folder.Loader
	Importer     *imports.Importer
	Deleter      *deletion.Deleter
	Ahead        *ahead.Watcher
	Retention    *retention.Retention
	AsOf         *asof.AsOf
	Facts        fact.Log
	News         *fact.News
	Now          func() time.Time
	Log          *slog.Logger

	exported func() time.Time
	ends     func() []Ends
	// What watchService has seen last; it is asked by one goroutine.
	jump      time.Duration
	jumped    time.Time
	refused   uint64
	counted   time.Time
	refusedAt time.Time
	kept      *store.Traffic // nil where no traffic is kept
	keptLogs  *store.Logs
	keptCount *store.Activity
	damage    int // how much of the data folder is known to be damaged
	running   bool
	stop      context.CancelFunc
	ticking   chan struct{}
}

// New opens the data folder and makes every part. News is told from Start on.
func New(ctx context.Context, o Options) (a *App, err error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Limits == (door.Limits{}) {
		o.Limits = door.DefaultLimits()
	}
	if o.Zone == nil {
		o.Zone = time.UTC
	}
	a = &App{Bus: event.NewBus(), Now: o.Now, Log: o.Log, exported: o.Exported, ends: o.Ends}
	if a.Store, err = store.Begin(o.Dir, o.Store); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			if a.Commits != nil {
				a.Commits.Close()
			}
			err = errors.Join(err, a.closeAside(), a.Store.Close())
			a = nil
		}
	}()
	records := a.Store.Records
	a.Facts = records
	a.News = fact.NewNews()
	a.Commits = commit.NewWriter(records, a.News)
	if a.Models, err = models.Open(ctx, models.Options{Records: records, Commits: a.Commits, Bus: a.Bus, Now: o.Now}); err != nil {
		return a, err
	}
	var secrets *secret.Box
	if len(o.Master) > 0 {
		if secrets, err = secret.NewBox(o.Master); err != nil {
			return a, err
		}
	}
	if a.Devices, err = devices.Open(ctx, devices.Options{Records: records, Commits: a.Commits, Models: a.Models, Issuer: o.Issuer, Master: o.Master,
		Bus: a.Bus, Now: o.Now}); err != nil {
		return a, err
	}
	if a.Settings, err = settings.Open(ctx, settings.Options{Records: records, Commits: a.Commits, Devices: a.Devices,
		Models: a.Models, Bus: a.Bus, Revisions: o.Revisions, Drift: o.Drift, Secrets: secrets, Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	mayOperate := func(who, device string) bool { return a.Access.Caller(who, "").May(person.Operator, device) }
	if a.Commands, err = commands.Open(ctx, commands.Options{Records: records, Commits: a.Commits, Devices: a.Devices,
		Models: a.Models, Bus: a.Bus, MayOperate: mayOperate, Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	if a.Bulk, err = bulk.Open(ctx, bulk.Options{Records: records, Commits: a.Commits, Devices: a.Devices, Models: a.Models, Settings: a.Settings,
		Moved: func(device string) { a.Derivations.Forget(device) }, Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	a.Access = access.New(a.Devices)
	if a.Joining, err = joining.Open(ctx, joining.Options{Records: records, Commits: a.Commits, Devices: a.Devices, Models: a.Models,
		Master: o.Master, Referred: func(label string) bool { return a.Access.Labels()[label] }, Now: o.Now}); err != nil {
		return a, err
	}
	if a.People, err = people.Open(ctx, people.Options{Records: records, Commits: a.Commits, Access: a.Access, Granted: a.granted, Hash: o.Hash, Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	if err = a.Store.Ready(); err != nil {
		return a, err
	}
	telemetry := a.Store.Telemetry
	past := history.New(telemetry, a.Devices, a.Models)
	a.History = past
	if a.Sites, err = sites.Open(ctx, sites.Options{Records: records, Commits: a.Commits, Zone: o.Zone,
		Changed: a.siteChanged, Now: o.Now}); err != nil {
		return a, err
	}
	if a.Present, err = present.Open(ctx, present.Options{Devices: a.Devices, Models: a.Models, Settings: a.Settings,
		Telemetry: past, Records: records, Bus: a.Bus, Zone: a.Sites.Zone, Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	if a.Boards, err = boards.Open(ctx, boards.Options{Records: records, Commits: a.Commits, Devices: a.Devices, Models: a.Models, Now: o.Now,
		Place: func(name string) (known, plan bool) { s, known := a.Sites.Find(name); return known, s.Plan != "" }}); err != nil {
		return a, err
	}
	if a.Maintenances, err = maintenances.Open(ctx, maintenances.Options{Records: records, Commits: a.Commits, Devices: a.Devices,
		Matching:   func(where string) (map[string]bool, error) { return a.Expressions.Where(where) },
		MayOperate: mayOperate, Zone: a.Present.Zone, Now: o.Now}); err != nil {
		return a, err
	}
	if a.Responses, err = responses.Open(ctx, responses.Options{Records: records, Facts: a.Facts, Commits: a.Commits,
		Devices: a.Devices, Settings: a.Settings, Commands: a.Commands, Now: o.Now}); err != nil {
		return a, err
	}
	if a.Alarms, err = alarms.Open(ctx, alarms.Options{Records: records, History: past, Outages: a.Maintenances,
		Responses: a.Responses, Matching: a.matching,
		MayEngineer: func(who, device string) bool { return a.Access.Caller(who, "").May(person.Engineer, device) },
		Layers:      func() []check.Layer { return a.Layers.Asked() },
		Arrivals:    telemetry.Arrivals, Commits: a.Commits,
		Devices: a.Devices, Models: a.Models, Present: a.Present, Bus: a.Bus, Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	if a.Layers, err = layers.Open(ctx, layers.Options{Records: records, Commits: a.Commits, Devices: a.Devices, Models: a.Models,
		Settings: a.Settings, Rules: a.Alarms.Rules, Raised: a.Alarms.RaisedOn, Zone: a.Present.Zone, WavesAbove: o.WavesAbove, ApprovalAbove: o.ApprovalAbove, Secrets: secrets, Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	a.Traffic = traffic.New(o.Traffic)
	a.Traffic.Hiding(a.Settings.Hide)
	if o.KeepTraffic != nil {
		var aside string
		if a.kept, aside, err = store.OpenTraffic(o.Dir, *o.KeepTraffic); err != nil {
			return a, err
		}
		if aside != "" {
			o.Log.Error("the traffic that was kept cannot be read, and was put aside", "file", aside)
		}
		a.Traffic.Begin(a.kept, func(err error) { o.Log.Error("traffic could not be kept", "error", err) })
	}
	var aside string
	if a.keptLogs, aside, err = store.OpenLogs(o.Dir); err != nil {
		return a, err
	}
	if aside != "" {
		o.Log.Error("the logs of devices cannot be read, and were put aside", "file", aside)
	}
	if a.keptCount, aside, err = store.OpenActivity(o.Dir); err != nil {
		return a, err
	}
	if aside != "" {
		o.Log.Error("what passed between devices and the service cannot be read, and was put aside", "file", aside)
	}
	a.Activity = activity.New(activity.Options{Keeper: a.keptCount, Now: o.Now,
		Failed: func(err error) {
			o.Log.Error("what passed between devices and the service could not be counted", "error", err)
		}})
	a.Traffic.Counting(a.Activity.Passed)
	a.Logs = logs.New(logs.Options{Keeper: a.keptLogs, Devices: a.Devices, Models: a.Models, Hide: a.Settings.Hide, Now: o.Now,
		Failed: func(err error) { o.Log.Error("lines of logs could not be kept", "error", err) }})
	a.Meter = &ingest.Meter{}
	a.Derivations = derived.New(derived.Options{Devices: a.Devices, Models: a.Models, Present: a.Present,
		History: past, Store: telemetry, Bus: a.Bus, Log: o.Log, Now: o.Now})
	a.Intake = ingest.New(ingest.Options{Store: telemetry, Devices: a.Devices, Models: a.Models, Settings: a.Settings,
		Commands: a.Commands, Commits: a.Commits, Traffic: a.Traffic, Bus: a.Bus, Derive: a.Derivations, Logs: a.Logs, Late: a.Activity.Late, Now: o.Now})
	a.Door = door.New(door.Options{Devices: a.Devices, Intake: a.Intake, Settings: a.Settings, Commands: a.Commands,
		Traffic: a.Traffic, Joining: a.Joining, Models: a.Models, Ways: o.Ways, Judge: o.Judge, Takes: o.Takes, Limits: o.Limits, Log: o.Log, Now: o.Now})
	a.Expressions = expressions.New(expressions.Options{Models: a.Models, Devices: a.Devices, Present: a.Present,
		History: past, Rules: a.Alarms.Names, Sites: a.Sites.Names, Now: o.Now})
	a.Queries = query.New(query.Options{History: past, Devices: a.Devices, Models: a.Models, Limits: a.Present,
		Matching: a.Expressions.Where, Zone: o.Zone, ZoneFor: a.Present.Zone, Now: o.Now})
	a.Revisions = revisions.New(revisions.Options{Models: a.Models, Devices: a.Devices, Settings: a.Settings,
		Alarms: a.Alarms, Matching: a.Expressions.Where, Bulk: a.Bulk})
	a.Replays = replays.New(replays.Options{History: past, Records: records, Facts: a.Facts, Rules: a.Alarms, Devices: a.Devices,
		Models: a.Models, Present: a.Present, Maintenances: func() []maintenance.Maintenance { return a.Maintenances.List() },
		MayOperate: mayOperate, Now: o.Now})
	a.Ahead = ahead.New(ahead.Options{Forecasts: a.Queries, Bus: a.Bus, Log: o.Log, Now: o.Now})
	if a.Rollouts, err = rollouts.Open(ctx, rollouts.Options{Records: records, Commits: a.Commits, Devices: a.Devices, Models: a.Models,
		Settings: a.Settings, Layers: a.Layers, ApprovalAbove: o.ApprovalAbove, Present: a.Present, Rules: a.Alarms.Names, Matching: a.Expressions.Where, Zone: a.Present.Zone,
		Log: o.Log, Now: o.Now}); err != nil {
		return a, err
	}
	a.Folder = folder.New(folder.Options{Models: a.Models, Alarms: a.Alarms, Devices: a.Devices, Sites: a.Sites, Layers: a.Layers, Boards: a.Boards})
	a.Importer = imports.New(imports.Options{Intake: a.Intake, Devices: a.Devices, Models: a.Models, Store: telemetry,
		Derive: a.Derivations, Bus: a.Bus, Now: o.Now})
	a.Deleter = deletion.New(deletion.Options{Store: telemetry, Names: past.Names, Devices: a.Devices, Commits: a.Commits,
		Traffic: a.Traffic, Logs: a.Logs, Activity: a.Activity, Bus: a.Bus, Forget: a.Derivations.Forget, Now: o.Now})
	a.Retention = retention.New(retention.Options{Store: telemetry, Records: records, Devices: a.Devices,
		Models: a.Models, Facts: o.KeepFacts, Readings: o.KeepReadings, Rollups: o.KeepRollups, Log: o.Log, Now: o.Now})
	a.AsOf = asof.New(asof.Options{Records: records, History: past, Devices: a.Devices, Models: a.Models,
		Now: o.Now})

	a.Fleet = scoped.New(scoped.Options{Access: a.Access, Models: a.Models, Devices: a.Devices, Sites: a.Sites, Maintenances: a.Maintenances, Replays: a.Replays, Responses: a.Responses, Layers: a.Layers, Boards: a.Boards, Rollouts: a.Rollouts, Joining: a.Joining, Bulk: a.Bulk,
		Settings: a.Settings, Commands: a.Commands, Alarms: a.Alarms, Present: a.Present, Logs: a.Logs, Teams: teamsOf{a.People}, Activity: a.Activity, Changes: records, Expressions: a.Expressions,
		Facts: a.Facts, News: a.News, AsOf: a.AsOf, History: past, Queries: a.Queries, Importer: a.Importer,
		Deleter: a.Deleter, Traffic: a.Traffic, Revisions: a.Revisions, Derivations: a.Derivations, Folder: a.Folder,
		Intake: a.Intake, Meter: a.Meter, Commits: a.Commits, Now: o.Now})

	a.Maintenances.Refresh() // before alarms are looked at

	// Who reads from what is present comes after it.
	a.Bus.Handle(a.Present.Handle)
	a.Bus.Handle(a.Maintenances.Handle)
	a.Bus.Handle(a.Settings.Handle)
	a.Bus.Handle(a.Layers.Handle)
	a.Bus.Handle(a.Rollouts.Handle)
	a.Bus.Handle(a.Alarms.Handle)
	a.Bus.Handle(a.Ahead.Handle)
	a.Bus.Handle(links.New(a.Commits, o.Log).Handle)
	a.Bus.Handle(a.Commands.Handle)
	a.Bus.Handle(func(_ int, e event.Event) { // that a command was handed over is no fact, and shown all the same
		if c, ok := e.(event.Command); ok {
			a.News.Add(fact.Fact{Kind: fact.CommandGiven, Device: c.Device})
		}
	})
	for _, h := range o.Handlers {
		a.Bus.Handle(h)
	}
	return a, nil
}

// matching answers selectors for rules; not while Ullage is being put together.
func (a *App) matching(where string) (map[string]bool, bool, error) {
	if a.Expressions == nil {
		return nil, false, nil
	}
	ids, err := a.Expressions.Where(where)
	return ids, true, err
}

// granted lets what somebody has made follow what they reach now.
func (a *App) granted(name string) {
	if a.Fleet == nil { // it is being put together
		return
	}
	go func() {
		if err := a.Fleet.Regranted(context.Background(), name); err != nil && !fault.Is(err, fault.Stopping) {
			a.Log.Error("the rules of somebody could not follow what they reach", "person", name, "error", err)
		}
	}()
}

// siteChanged tells everybody of the devices of a site, whose time zone may be
// another one now.
func (a *App) siteChanged(name string) {
	for _, id := range a.Devices.AtSite(name) {
		a.Bus.Publish(event.Device{Device: id})
	}
}

// API returns the use cases as the operators' API takes them.
func (a *App) API() *api.App {
	return &api.App{Fleet: a.Fleet, People: a.People, Settle: a.Settle, Shown: a.Bus.Settle, Log: a.Log, Now: a.Now}
}

// MQTT returns the server for devices that speak MQTT, as a handler of news too.
// It must be called before Start.
func (a *App) MQTT() *mqtt.Server {
	s := mqtt.NewServer(mqtt.Options{Door: a.Door, Log: a.Log, Now: a.Now})
	a.Handle(s.Handle)
	return s
}

// Web returns the handler for devices that speak HTTP and reach the service by some names
// beside loopback and addresses. Revoked are the lists of revoked certificates in DER, that of
// the present issuing certificate in front.
func (a *App) Web(names []string, revoked func() ([][]byte, error)) http.Handler {
	return web.New(web.Options{Names: names, Door: a.Door, Revoked: revoked, Log: a.Log, Now: a.Now})
}

// Handle adds a handler of news; it must be called before Start.
func (a *App) Handle(h event.Handler) { a.Bus.Handle(h) }

const tickEvery = 250 * time.Millisecond

// watchEvery is how many ticks are between two looks at what is damaged.
const watchEvery = int(time.Minute / tickEvery)

// Start begins to tell news. With clock, time is told too, and what is too old
// is thrown away now and then; without, whoever tests tells the time.
func (a *App) Start(clock bool) {
	a.Bus.Start()
	a.running = true
	a.Watch(context.Background())
	a.Bulk.Resume()
	a.Commands.Resume()
	a.Settings.Start()
	if !clock {
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	a.stop, a.ticking = stop, make(chan struct{})
	go a.tick(ctx)
	go a.Retention.Run(ctx)
	go a.Ahead.Run(ctx)
}

func (a *App) tick(ctx context.Context) {
	defer close(a.ticking)
	t := time.NewTicker(tickEvery)
	defer t.Stop()
	last := time.Now()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case at := <-t.C:
			a.Bus.Publish(event.Tick{Now: at})
			now := time.Now()
			a.clocked(last, now)
			last = now
			if n%watchEvery == watchEvery-1 {
				a.Watch(ctx)
			}
			if n%4 == 0 {
				stored, _, _ := a.Intake.Counts()
				a.Meter.Sample(at, stored)
			}
		}
	}
}

// Settle waits until what was done so far is stored and taken in by everybody.
func (a *App) Settle() {
	// News makes changes, and changes make news; a chain has three links at most.
	for range 3 {
		a.Bus.Settle()
		a.Commits.Settle()
		a.Settings.Derived()
	}
	a.Bus.Settle()
}

// Close stores what is on its way and closes the data folder.
func (a *App) Close() error { return a.close(true) }

// Crash closes the data folder without what a graceful stop would still have
// stored. It is for tests.
func (a *App) Crash() error { return a.close(false) }

func (a *App) close(graceful bool) error {
	if a.stop != nil {
		a.stop()
		<-a.ticking
	}
	a.Derivations.Stop("")
	if a.running {
		a.Bus.Stop()
	}
	if graceful {
		a.Alarms.Flush()
		_ = a.Devices.SaveUses(context.Background()) // the latest uses of credentials, if there is time
	}
	a.Commits.Close()
	return errors.Join(a.closeAside(), a.Store.Close())
}

// closeAside closes the files on which nothing depends.
func (a *App) closeAside() (err error) {
	if a.kept != nil {
		a.Traffic.End()
		err = errors.Join(err, a.kept.Close())
	}
	if a.Logs != nil {
		a.Logs.End()
	}
	if a.keptLogs != nil {
		err = errors.Join(err, a.keptLogs.Close())
	}
	if a.Activity != nil {
		a.Activity.End()
	}
	if a.keptCount != nil {
		err = errors.Join(err, a.keptCount.Close())
	}
	return err
}

// teamsOf are the teams of people, as the fleet asks for them.
type teamsOf struct{ people *people.Register }

func (t teamsOf) Of(name string) ([]string, bool) { return t.people.TeamsOf(name) }

func (t teamsOf) Known(team string) bool {
	_, ok := t.people.Teams.Find(team)
	return ok
}
