package cli

import (
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/expr"
	"ullage/core/layering"
	"ullage/core/value"
	"ullage/core/waves"
)

func rolloutCommand() *cobra.Command {
	return noun(groupSettings, "rollout", "Bring a version of a layer to its devices in waves that stop by themselves", rolloutStart(), rolloutList(), rolloutShow(),
		rolloutAct("approve", "Let a rollout begin that somebody else has started"), rolloutAct("pause", "Let a rollout rest"), rolloutAct("resume", "Go on with a rollout that was paused, or that stopped"),
		rolloutAct("stop", "Stop a rollout; devices that have it keep it"), rolloutUndo(), rolloutLeaveOut())
}

func rolloutStart() *cobra.Command {
	var sizes []string
	var p waves.Plan
	var soak, within, spread, start, target string
	var dry, yes bool
	c := &cobra.Command{
		Use: "start LAYER|FILE [SETTING=VALUE…]", Short: "Start a rollout of a layer with other values, or from a file",
		Long: `Brings a layer, with other values or from a file, to its devices in waves. Each wave
ends at a gate: conditions over its devices that must hold for a soak time. A gate
that breaks stops the rollout.

Waves are given one by one: 2 for two devices, 10% for a share, a condition for those
for which it is true. Whoever is left is the last wave. It shows who would be in
which wave, and asks before it begins.`,
		Example: "  ullage rollout start white-must max_temp=25 --wave 1 --wave 50% --per label.site --soak 10min --dry-run\n  ullage rollout start examples/cellars/layers/base.yaml --wave 'label.site == \"Kilnside\"' --dry-run",
		Args:    atLeast(1, "a layer, and values"), ValidArgsFunction: layerThings.names(),
		RunE: func(c *cobra.Command, args []string) (err error) {
			for _, s := range sizes {
				size, err := sizeOf(s)
				if err != nil {
					return usageError{fmt.Errorf("--wave %s: %w", s, err)}
				}
				p.Waves = append(p.Waves, size)
			}
			for _, d := range []struct {
				text string
				into *value.Duration
			}{{soak, &p.Gate.Soak}, {within, &p.Gate.Within}, {spread, &p.Spread}} {
				if d.text == "" {
					continue
				}
				if *d.into, err = value.ParseDuration(d.text); err != nil {
					return usageError{err}
				}
			}
			at, err := untilWhen(start, time.Now())
			if err != nil {
				return err
			}
			if at != nil {
				p.Start = *at
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			l, err := layerAt(c, cl, args[0])
			if err != nil {
				return err
			}
			for _, a := range args[1:] {
				name, text, ok := strings.Cut(a, "=")
				if !ok {
					return usageError{fmt.Errorf("%q is no setting; write it like max_temp=25", a)}
				}
				l.Set[name] = scalar(text)
			}
			if len(l.Set) == 0 {
				return fmt.Errorf("there is no layer %s, and nothing is set; write its values behind it, or see: ullage layer list", args[0])
			}
			if c.Flags().Changed("target") {
				l.Target = target
			}
			ask := client.RolloutStart{Layer: *l, Plan: p}
			planned, err := cl.PlanRollout(c.Context(), ask)
			if err != nil {
				return err
			}
			if dry {
				return show(c, planned, func(w io.Writer) { printPlanned(w, planned) })
			}
			if !yes && len(planned.Sizes) > 0 { // nobody to begin with is refused below
				printPlanned(c.ErrOrStderr(), planned)
				if err := confirm(c, fmt.Sprintf("Begin with %s?", plural(planned.Sizes[0], "device"))); err != nil {
					return err
				}
			}
			ask.Tag = planned.Preview.Tag
			r, err := cl.StartRollout(c.Context(), ask)
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				fmt.Fprintf(w, "The rollout %s of %s has begun. Follow it with: ullage rollout show %s\n", r.ID, r.Layer, r.ID)
			})
		},
	}
	f := c.Flags()
	f.StringArrayVar(&sizes, "wave", nil, "who is in the next wave: a number, a share like 10%, or a condition")
	f.StringVar(&p.Per, "per", "", "label by which devices are grouped; numbers and shares are of each group")
	wordFlag(c, &p.Order, "order", "", "in which order devices are taken, headspace being the most of it first", "hash", "headspace")
	amountFlag(c, &p.AtMost, "at-most", 0, 0, "how many devices of a group may be on their way at once; 0 for no limit")
	f.StringVar(&p.During, "during", "", "only in these hours of the week, in the zone of each device's site")
	f.StringVar(&start, "start", "", "when it begins: a time of day, a time, or in how long, like 2h")
	f.StringVar(&spread, "spread", "", "over which time the devices of a wave are offered it, like 10min")
	f.StringArrayVar(&p.Gate.Conditions, "gate", nil, "a condition that must hold after each wave; the usual ones where none is given")
	f.StringVar(&soak, "soak", "", "for how long the gate must hold; at least four intervals of the slowest device")
	f.StringVar(&within, "within", "", "how long the gate waits for it")
	percentFlag(c, &p.Gate.Reached, "reached", "percent of a wave that must be reached; 90 where nothing is said")
	wordFlag(c, &p.Broken, "broken", "", "what is done when a gate breaks", "stop", "undo_wave", "undo")
	f.StringVar(&target, "target", "", "selector of the layer's devices")
	f.BoolVar(&dry, "dry-run", false, "only show who would be in which wave")
	f.BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// sizeOf reads one wave.
func sizeOf(s string) (size waves.Size, err error) {
	s = strings.TrimSpace(s)
	share, percent := strings.CutSuffix(s, "%")
	f, notNumber := strconv.ParseFloat(strings.TrimSpace(share), 64)
	switch {
	case notNumber != nil && s != "":
		if _, found := expr.Parse(s); len(found.Errors()) > 0 {
			return size, found.Errors()
		}
		return waves.Size{Where: s}, nil
	case percent && f > 0 && f <= 100:
		return waves.Size{Percent: f}, nil
	case !percent && f >= 1 && f <= 1e9 && f == math.Trunc(f):
		return waves.Size{Count: int(f)}, nil
	}
	return size, errors.New("that is no wave; write how many devices, such as 2, a share such as 10%, or a condition")
}

// layerAt reads a layer from a file, or gets one by its name; one that is not there is new.
func layerAt(c *cobra.Command, cl *client.Client, at string) (*client.Layer, error) {
	src, err := os.ReadFile(at)
	switch {
	case err == nil:
		l, err := layering.ParseLayer(src)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", at, err)
		}
		return l, nil
	case strings.ContainsAny(at, "./"):
		return nil, err
	}
	l, _, err := cl.Layers().Get(c.Context(), at)
	if err != nil && !client.IsNotFound(err) {
		return nil, err
	}
	l.Name = at
	if l.Set == nil {
		l.Set = map[string]any{}
	}
	return &l, nil
}

func seconds(x float64) string { return short(time.Duration(x * float64(time.Second))) }

func printPlanned(w io.Writer, p client.RolloutPlanned) {
	printPreview(w, p.Preview)
	if len(p.Sizes) == 0 {
		return
	}
	rows := [][]string{{"WAVE", "DEVICES", ""}}
	for i, n := range p.Sizes {
		rows = append(rows, []string{fmt.Sprint(i + 1), fmt.Sprint(n), fewOf(p.Waves[i])})
	}
	fmt.Fprintln(w)
	table(w, rows)
	fmt.Fprintf(w, "\nEach gate must hold for %s; all of it takes %s at least.", seconds(p.Soak), seconds(p.Takes))
	switch {
	case p.Likely > p.Takes:
		fmt.Fprintf(w, " As these devices have been off line in the last 30 days, it is likely to take %s.", seconds(p.Likely))
	case p.Likely == 0:
		fmt.Fprint(w, " Some of these devices have not come back in the last 30 days, so that a gate may wait in vain.")
	}
	if p.Offline > 0 {
		fmt.Fprintf(w, " %s off line now; who is away catches up when it returns.", isAre(p.Offline))
	}
	fmt.Fprintln(w)
}

var rolloutStates = []string{"waiting", "offered", "confirmed", "refused", "off line", "left out"}

func rolloutList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the rollouts, the newest first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.Rollouts(c.Context())
			if err != nil {
				return err
			}
			return list(c, all, "There are no rollouts. Start one with: ullage rollout start LAYER SETTING=VALUE --wave 2 --wave 20%",
				column[client.Rollout]{"rollout", func(r client.Rollout) string { return r.ID }},
				column[client.Rollout]{"layer", func(r client.Rollout) string { return r.Layer }},
				column[client.Rollout]{"state", func(r client.Rollout) string { return rolloutWord(r) }},
				column[client.Rollout]{"wave", func(r client.Rollout) string { return fmt.Sprintf("%d of %d", r.Wave, len(r.Waves)) }},
				column[client.Rollout]{"confirmed", func(r client.Rollout) string { return fmt.Sprint(r.Counts["confirmed"]) }},
				column[client.Rollout]{"refused", func(r client.Rollout) string { return fmt.Sprint(r.Counts["refused"]) }},
				column[client.Rollout]{"by", func(r client.Rollout) string { return r.By }},
				column[client.Rollout]{"since", func(r client.Rollout) string { return ago(&r.Since) }},
				column[client.Rollout]{"why", func(r client.Rollout) string { return r.Why }})
		}}
}

// rolloutWord is the state of a rollout as lists have it.
func rolloutWord(r client.Rollout) string {
	if r.Asks {
		return "asks for approval"
	}
	return r.State
}

func rolloutNames() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
		all, err := cl.Rollouts(c.Context())
		var out []string
		for _, r := range all {
			out = append(out, r.ID)
		}
		return out, err
	})
}

// latestRollout is the id that is said, or that of the newest rollout of a layer that is
// said instead.
func latestRollout(c *cobra.Command, cl *client.Client, said string) (string, error) {
	all, err := cl.Rollouts(c.Context())
	if err != nil {
		return "", err
	}
	for _, r := range all {
		if r.ID == said || r.Layer == said {
			return r.ID, nil
		}
	}
	return said, nil
}

func rolloutShow() *cobra.Command {
	return &cobra.Command{Use: "show ROLLOUT|LAYER", Short: "Show a rollout: its waves, its gate, and each device", Args: exactly(1, "one rollout, or its layer"),
		ValidArgsFunction: rolloutNames(), Example: "  ullage rollout show white-must",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			id, err := latestRollout(c, cl, args[0])
			if err != nil {
				return err
			}
			r, err := cl.Rollout(c.Context(), id)
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) { printRollout(w, r) })
		}}
}

func printRollout(w io.Writer, r client.Rollout) {
	fmt.Fprintf(w, "rollout %s of the layer %s: %s %s", r.ID, r.Layer, r.State, ago(&r.Since))
	if r.Asks {
		fmt.Fprintf(w, "\nIt waits for the approval of somebody else than %s: ullage rollout approve %s", r.By, r.Layer)
	}
	if r.Why != "" {
		fmt.Fprintf(w, "\n%s", r.Why)
	}
	fmt.Fprint(w, "\n\n")
	rows := [][]string{append([]string{"WAVE", "DEVICES"}, upper(rolloutStates)...)}
	for i, x := range r.Waves {
		mark := fmt.Sprint(i + 1)
		if i+1 == r.Wave && (r.State == "running" || r.State == "paused" || r.State == "stopped") {
			mark += " now"
		}
		row := []string{mark, fmt.Sprint(x.Devices)}
		for _, s := range rolloutStates {
			row = append(row, fmt.Sprint(x.Counts[s]))
		}
		rows = append(rows, row)
	}
	table(w, rows)
	if len(r.Gate) > 0 {
		if r.State == "catching up" {
			fmt.Fprint(w, "\nThe gate of those that come late; what breaks among them stops the others")
		} else {
			fmt.Fprintf(w, "\nThe gate of wave %d must hold for %s", r.Wave, seconds(r.Soak))
		}
		if r.Holds != nil {
			fmt.Fprintf(w, "; it has held since %s", ago(r.Holds))
		}
		fmt.Fprintln(w)
		rows := [][]string{{"CONDITION", "", "NOW"}}
		for _, g := range r.Gate {
			holds := map[string]string{"true": "holds", "false": "does not", "unknown": "not known yet"}[g.Truth]
			rows = append(rows, []string{g.Source, holds, g.Says})
		}
		table(w, rows)
	}
	var wrong [][]string
	for _, d := range r.Devices {
		if d.State != "confirmed" && d.State != "waiting" {
			wrong = append(wrong, []string{d.ID, fmt.Sprint(d.Wave), d.State, d.Reason})
		}
	}
	if len(wrong) > 0 {
		fmt.Fprintln(w)
		const most = 30
		table(w, slices.Insert(wrong[:min(len(wrong), most)], 0, []string{"DEVICE", "WAVE", "STATE", "REASON"}))
		if len(wrong) > most {
			fmt.Fprintf(w, "and %d more; all of them with -o json\n", len(wrong)-most)
		}
	}
	if len(r.Journal) > 0 {
		fmt.Fprintln(w)
		rows := [][]string{{"WHEN", "WHAT HAPPENED", "WHO"}}
		const most = 20
		for _, e := range r.Journal[:min(len(r.Journal), most)] {
			said := strings.TrimPrefix(strings.TrimPrefix(e.Text, e.Person+": "), "the rollout of the layer "+r.Layer+": ")
			rows = append(rows, []string{ago(&e.At), said, e.Person})
		}
		table(w, rows)
	}
}

func upper(xs []string) []string {
	var out []string
	for _, x := range xs {
		out = append(out, strings.ToUpper(x))
	}
	return out
}

func rolloutDo(c *cobra.Command, said string, a client.RolloutAct) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	id, err := latestRollout(c, cl, said)
	if err != nil {
		return err
	}
	r, err := cl.ActOnRollout(c.Context(), id, a)
	if err != nil {
		return err
	}
	return show(c, r, func(w io.Writer) { fmt.Fprintf(w, "The rollout of %s is %s.\n", r.Layer, r.State) })
}

func rolloutAct(act, short string) *cobra.Command {
	var why string
	c := &cobra.Command{Use: act + " ROLLOUT|LAYER", Short: short, Args: exactly(1, "one rollout, or its layer"), ValidArgsFunction: rolloutNames(),
		RunE: func(c *cobra.Command, args []string) error {
			return rolloutDo(c, args[0], client.RolloutAct{Act: act, Why: why})
		}}
	if act != "resume" && act != "approve" {
		c.Flags().StringVar(&why, "why", "", "why, for the journal")
	}
	return c
}

func rolloutUndo() *cobra.Command {
	var wave, force, yes bool
	c := &cobra.Command{Use: "undo ROLLOUT|LAYER", Short: "Take a rollout back, or only its present wave",
		Long: `Takes a rollout back. On its way, every device has what it had. After its end its own
difference becomes a new version of the layer; what somebody has changed since is
told, and nothing is done unless --force takes that back too.`,
		Args: exactly(1, "one rollout, or its layer"), ValidArgsFunction: rolloutNames(),
		RunE: func(c *cobra.Command, args []string) error {
			a := client.RolloutAct{Act: "undo", Force: force}
			if wave {
				a.Act = "undo-wave"
			}
			if !yes {
				if err := confirm(c, "Give the devices what they had before?"); err != nil {
					return err
				}
			}
			return rolloutDo(c, args[0], a)
		}}
	c.Flags().BoolVar(&wave, "wave", false, "only the present wave; the rollout stops")
	c.Flags().BoolVar(&force, "force", false, "take back what was changed since, too")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func rolloutLeaveOut() *cobra.Command {
	return &cobra.Command{Use: "leave-out ROLLOUT|LAYER DEVICE", Short: "Take a device out of a rollout", Args: exactly(2, "a rollout and a device"),
		ValidArgsFunction: rolloutNames(),
		RunE: func(c *cobra.Command, args []string) error {
			return rolloutDo(c, args[0], client.RolloutAct{Act: "leave-out", Device: args[1]})
		}}
}
