package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/check"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/core/waves"
	"ullage/examples/cellars"
	"ullage/fleet/fault"
	"ullage/server"
	"ullage/sim"
)

func demoCommand() *cobra.Command {
	var history string
	var seed uint64
	c := &cobra.Command{
		Use:     "demo",
		Short:   "Run a service with the simulated fleet until interrupted",
		GroupID: groupService,
		Args:    cobra.NoArgs,
		Long: `Starts a service on a data folder of its own, loads the models and rules of
Tarn & Hollow, onboards its 48 devices, tells their last 30 days through the
front door, and goes on live. The devices run in a process of their own, with
their own tokens, over MQTT and HTTP.

Without --data the folder is thrown away at the end. Ports that are taken are
replaced by free ones unless they were asked for.`,
		RunE: func(c *cobra.Command, _ []string) error {
			span, err := value.ParseDuration(history)
			if err != nil {
				return usageError{fmt.Errorf("--history: %w", err)}
			}
			return runDemo(c, span, seed)
		},
	}
	server.AddFlags(c.Flags())
	c.Flags().StringVar(&history, "history", "30d", "how much of the time before now to tell")
	c.Flags().Uint64Var(&seed, "seed", 1, "another seed gives another season")
	return c
}

func runDemo(c *cobra.Command, history value.Duration, seed uint64) error {
	flags := c.Flags()
	if !flags.Changed("data") {
		dir, err := os.MkdirTemp("", "ullage-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		flags.Set("data", dir)
	}
	if !flags.Changed("log-level") {
		flags.Set("log-level", "warn")
	}
	data, _ := flags.GetString("data")
	cfg, err := server.Load(flags, demoEnv)
	if err != nil {
		return err
	}
	log, err := cfg.Logger(c.ErrOrStderr())
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(c.Context())
	defer cancel()
	started := make(chan server.Started, 1)
	ended := make(chan error, 1)
	run := func() { ended <- server.Run(ctx, cfg, log, func(s server.Started) { started <- s }) }
	go run()
	var s server.Started
	for up := false; !up; {
		select {
		case s = <-started:
			up = true
		case err := <-ended:
			// A taken port is no reason not to show anything.
			if !fault.Is(err, fault.Conflict) || !strings.Contains(err.Error(), "taken by another program") ||
				!freePorts(c) {
				return err
			}
			if cfg, err = server.Load(flags, demoEnv); err != nil {
				return err
			}
			go run()
		}
	}
	err = playDemo(ctx, c, s, data, history, seed)
	cancel()
	return errors.Join(err, <-ended)
}

// demoEnv is the environment without the password of a real service: the demo
// makes one up.
func demoEnv(key string) (string, bool) {
	if key == "ULLAGE_FIRST_PASSWORD" || key == "ULLAGE_FIRST_PERSON" {
		return "", false
	}
	return os.LookupEnv(key)
}

// freePorts lets the system choose the ports that were not asked for.
func freePorts(c *cobra.Command) bool {
	any := false
	for _, f := range []string{"listen", "listen-tls", "mqtt", "device-http"} {
		if !c.Flags().Changed(f) {
			c.Flags().Set(f, "127.0.0.1:0")
			any = true
		}
	}
	return any
}

func playDemo(ctx context.Context, c *cobra.Command, s server.Started, data string, history value.Duration,
	seed uint64) error {
	errs := c.ErrOrStderr()
	if s.FirstPassword == "" {
		return fault.New(fault.Conflict, "the data folder %s has been used before", data).
			Then("give the demo an empty one, or go on with: ullage serve --data %s", data)
	}
	fmt.Fprintln(errs, "Starting Tarn & Hollow: 6 cellars, 48 devices,", history, "of history")
	cl := client.New(s.Console, "")
	if _, err := cl.SignIn(ctx, s.FirstPerson, s.FirstPassword); err != nil {
		return err
	}
	if err := loadCellars(ctx, cl); err != nil {
		return err
	}
	var creds sim.Credentials
	if err := onboardFleet(ctx, errs, cl, sim.Fleet(sim.Small), &creds); err != nil {
		return err
	}
	path := filepath.Join(data, "fleet-credentials.json")
	if err := sim.WriteCredentials(path, creds); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	// The live part begins about when the history has been told.
	start := time.Now().Add(10 * time.Second).Truncate(time.Second)
	fleet := exec.CommandContext(ctx, self, "sim", "--credentials", path, "--history", history.String(), "--seed",
		fmt.Sprint(seed), "--start", start.Format(time.RFC3339))
	fleet.Stderr = errs
	fleet.Cancel = func() error { return fleet.Process.Signal(syscall.SIGTERM) }
	fleet.WaitDelay = 5 * time.Second
	out, err := fleet.StdoutPipe()
	if err != nil {
		return err
	}
	if err := fleet.Start(); err != nil {
		return err
	}
	ready := make(chan struct{})
	over := make(chan error, 1)
	go func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
			if lines.Text() == liveLine {
				close(ready)
			}
		}
		over <- fleet.Wait()
	}()
	select {
	case <-ready:
	case <-ctx.Done():
		<-over
		return nil
	case err := <-over:
		return fmt.Errorf("the simulated fleet ended before it was ready: %w", err)
	}
	if err := tidyUp(ctx, cl); err != nil {
		return err
	}
	if err := stirLater(ctx, cl); err != nil {
		return err
	}
	passwords, err := letInAll(ctx, cl)
	if err != nil {
		return err
	}
	console := s.Console
	if console == "" {
		console = s.ConsoleTLS
	}
	fmt.Fprintf(c.OutOrStdout(), `
Console: %s
Sign in as           with the password
  %-18s %s   owner
  cellar-master      %s   operator at Fennimore
  night-duty         %s   operator everywhere
  cask-owner         %s   viewer of six casks at High Orchard

From another terminal:
  ullage login %s --person %s
  ullage device list --health poor
  ullage traffic tank-fennimore-07
  ullage setting set tank-fennimore-07 max_temp=30
  ullage key code press-hall-screen
Stop with Ctrl-C.
`, console, s.FirstPerson, s.FirstPassword, passwords["cellar-master"], passwords["night-duty"], passwords["cask-owner"],
		console, s.FirstPerson)
	select {
	case <-ctx.Done():
		<-over
		return nil
	case err := <-over:
		if ctx.Err() != nil {
			return nil // interrupted from the keyboard together with us
		}
		return fmt.Errorf("the simulated fleet ended by itself: %w", err)
	}
}

// letIn makes a person with a password.
func letIn(ctx context.Context, cl *client.Client, p client.Person) (string, error) {
	if _, err := cl.People().Put(ctx, p, ""); err != nil {
		return "", err
	}
	i, err := cl.Invite(ctx, p.Name)
	if err != nil {
		return "", err
	}
	password := rand.Text()[:16]
	_, err = cl.Activate(ctx, i.Secret, password)
	return password, err
}

// letInAll lets the people of the story in, and returns their passwords.
func letInAll(ctx context.Context, cl *client.Client) (map[string]string, error) {
	passwords := map[string]string{}
	for _, p := range []client.Person{
		{Name: "cellar-master", Grants: []client.Grant{{Role: person.Operator, Access: `label.site == "Fennimore"`}}, Note: "Serves the cellar at Fennimore"},
		{Name: "night-duty", Note: "Looks after everything at night"},
		{Name: "cask-owner", Note: "Six casks at High Orchard are theirs"},
	} {
		var err error
		if passwords[p.Name], err = letIn(ctx, cl, p); err != nil {
			return nil, err
		}
	}
	for _, t := range []client.Team{
		{Name: "cellars", Grants: []client.Grant{{Role: person.Operator}}, People: []string{"night-duty"}, Note: "Who looks after all cellars"},
		{Name: "casks", Grants: []client.Grant{{Role: person.Viewer, Access: `label.owner == "cask-owner"`}}, People: []string{"cask-owner"},
			Start: &person.Start{Page: "/query?metric=ullage&span=30d", Only: true},
			Note:  "The people of a customer, who look at their casks"},
	} {
		if _, err := cl.Teams().Put(ctx, t, ""); err != nil {
			return nil, err
		}
	}
	_, err := cl.MakeKey(ctx, client.Key{Name: "press-hall-screen", Grant: client.Grant{Role: person.Viewer, Access: `label.site == "Kilnside"`},
		Page: "/boards/safe-air?at=site%3DKilnside", Note: "On the wall of the press hall"})
	return passwords, err
}

// loadCellars brings the example fleet folder in.
func loadCellars(ctx context.Context, cl *client.Client) error {
	var folder client.Folder
	err := fs.WalkDir(cellars.Files, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := fs.ReadFile(cellars.Files, p)
		folder.Files = append(folder.Files, folderFile(check.File{Path: p, Data: b}))
		return err
	})
	if err != nil {
		return err
	}
	o, err := cl.LoadFolder(ctx, folder)
	if err == nil && folderErrors(o) > 0 {
		err = fmt.Errorf("%s: %s", o.Findings[0].File, o.Findings[0].Sentence)
	}
	return err
}

// stirLater rolls a layer out whose first wave is at Coldharbour, where a probe refuses it,
// so that the rollout stops by itself.
func stirLater(ctx context.Context, cl *client.Client) error {
	_, err := cl.StartRollout(ctx, client.RolloutStart{
		Layer: client.Layer{Name: "later-stirring", Target: `device.model == "tank-probe"`, Set: map[string]any{"stir_at": 30.0}, Why: "Stirring later saves current"},
		Plan:  client.WavePlan{Waves: []waves.Size{{Where: `label.site == "Coldharbour"`}, {Percent: 50}}, Gate: waves.Gate{Soak: value.Duration(10 * time.Minute)}},
	})
	return err
}

// tidyUp acknowledges what had returned in the days that were told, as the
// people on duty would have.
func tidyUp(ctx context.Context, cl *client.Client) error {
	as, err := cl.Alarms(ctx, client.AlarmFilter{})
	if err != nil {
		return err
	}
	for _, a := range as.Items {
		if a.State == "returned unacknowledged" && time.Since(a.RaisedAt) > 9*time.Hour {
			if _, err := cl.Acknowledge(ctx, a.ID); err != nil {
				return err
			}
		}
	}
	return nil
}
