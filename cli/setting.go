package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/value"
)

func settingCommand() *cobra.Command {
	showing := &cobra.Command{
		Use: "show DEVICE", Short: "Show a device's settings, intended and applied", Args: exactly(1,
			"one device"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			s, err := cl.Settings(c.Context(), args[0])
			if err != nil {
				return err
			}
			return show(c, s, func(w io.Writer) { printSettings(w, s) })
		},
	}
	var wait time.Duration
	var secrets []string
	var secretsIn bool
	many := change{more: &secrets}
	var until string
	set := &cobra.Command{
		Use:   "set DEVICE NAME=VALUE…",
		Short: "Set settings on a device, or on many, and wait for the confirmation",
		Long: `Sets values on a device (its override), sends them out, and waits for the device to confirm or
refuse them. A device that is away gets them when it is back; --wait 0s does not
wait.

With --where the settings are set on every device for which the condition is
true now. That is decided at once and done device by device; it goes on where it
stopped if the service is stopped meanwhile.`,
		Example: "  ullage setting set tank-fennimore-07 max_temp=30\n" +
			"  ullage setting set hub-kilnside-01 --secret wifi_password\n" +
			"  ullage setting set --where 'label.site == \"Fennimore\" and device.model == \"tank-probe\"' max_temp=30 --dry-run",
		Args: many.args("a device and settings"), ValidArgsFunction: settingWords(false),
		RunE: func(c *cobra.Command, args []string) error {
			device, args := many.split(args)
			values := map[string]any{}
			for _, a := range args {
				name, text, ok := strings.Cut(a, "=")
				if !ok {
					return usageError{fmt.Errorf("%q is no setting; write it like max_temp=30", a)}
				}
				values[name] = scalar(text)
			}
			if err := askSecrets(c, secrets, secretsIn, values); err != nil {
				return err
			}
			ends, err := untilWhen(until, time.Now())
			if err != nil {
				return err
			}
			if device == "" {
				return many.run(c, client.SettingsOfMany{Set: values, Until: ends})
			}
			return changeSettings(c, device, client.SettingsChange{Set: values, Until: ends}, wait)
		},
	}
	set.Flags().DurationVar(&wait, "wait", 10*time.Second, "how long to wait for the device")
	set.Flags().StringVar(&until, "until", "", "when it ends by itself: a time of day, like 06:00, a time, or for how long, like 2h")
	set.Flags().StringArrayVar(&secrets, "secret", nil, "a setting whose value is asked for and not shown (repeatable)")
	set.Flags().BoolVar(&secretsIn, "secret-stdin", false, "read the values of --secret from standard input, one on each line")
	many.flags(set)
	var off change
	unset := &cobra.Command{
		Use: "unset DEVICE NAME…", Short: "Take values off a device, or off many, so that what stands below holds again",
		Args: off.args("a device and names"), ValidArgsFunction: settingWords(true),
		RunE: func(c *cobra.Command, args []string) error {
			device, names := off.split(args)
			if device == "" {
				return off.run(c, client.SettingsOfMany{Unset: names})
			}
			return changeSettings(c, device, client.SettingsChange{Unset: names}, wait)
		},
	}
	off.flags(unset)
	unset.Flags().DurationVar(&wait, "wait", 10*time.Second, "how long to wait for the device")
	return noun(groupSettings, "setting", "Change settings over the air", showing, set, unset, settingExplain(), settingDrift(), settingRetry(), settingForbidden())
}

// change is how a change of many devices is asked for.
type change struct {
	where       *string
	dryRun, yes bool
	more        *[]string // settings that flags name
}

func (m *change) flags(c *cobra.Command) {
	m.where = whereFlag(c)
	c.Flags().BoolVar(&m.dryRun, "dry-run", false, "with --where: only tell how many devices it would be")
	c.Flags().BoolVar(&m.yes, "yes", false, "with --where: do not ask")
}

func (m *change) args(words string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if m.where != nil && *m.where != "" {
			return atLeast(1-m.named(), "what to change")(c, args)
		}
		return atLeast(max(1, 2-m.named()), words)(c, args)
	}
}

// named is how many settings flags name.
func (m *change) named() int {
	if m.more == nil {
		return 0
	}
	return len(*m.more)
}

// askSecrets asks for the values of settings that must not stand in a command line.
func askSecrets(c *cobra.Command, names []string, stdin bool, values map[string]any) error {
	if len(names) == 0 {
		return nil
	}
	texts, err := askHidden(c, stdin, "--secret-stdin", names...)
	if err != nil {
		return err
	}
	for i, name := range names {
		values[name] = texts[i]
	}
	return nil
}

// orOne wants one device, or none where a condition chooses many.
func (m *change) orOne() cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if *m.where != "" {
			return cobra.NoArgs(c, args)
		}
		return exactly(1, "one device")(c, args)
	}
}

// split takes the device off the words, where one is meant.
func (m *change) split(args []string) (device string, rest []string) {
	if *m.where != "" {
		return "", args
	}
	return args[0], args[1:]
}

func (m *change) run(c *cobra.Command, ch client.SettingsOfMany) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	ch.Where, ch.Preview = *m.where, true
	j, err := cl.ChangeManySettings(c.Context(), ch)
	if err != nil {
		return err
	}
	if m.dryRun {
		return show(c, j, func(w io.Writer) { fmt.Fprintf(w, "%d devices would be changed.\n", j.Devices) })
	}
	if j.Devices > 1 && !m.yes {
		if err := confirm(c, fmt.Sprintf("Change the settings of %d devices?", j.Devices)); err != nil {
			return err
		}
	}
	ch.Preview = false
	if j, err = cl.ChangeManySettings(c.Context(), ch); err != nil {
		return err
	}
	bar := newProgress(c.ErrOrStderr(), "settings", "devices")
	for j.EndedAt == nil {
		bar.set(j.Done, j.Devices)
		select {
		case <-c.Context().Done():
			return c.Context().Err()
		case <-time.After(100 * time.Millisecond):
		}
		if j, err = cl.SettingsJob(c.Context(), j.ID); err != nil {
			return err
		}
	}
	bar.set(j.Done, j.Devices)
	bar.finish()
	return show(c, j, func(w io.Writer) {
		fmt.Fprintf(w, "The settings of %d devices are changed; each gets them when it is there.\n", j.Done-j.Failed)
		if j.Failed > 0 {
			fmt.Fprintf(w, "%d could not be changed any more.\n", j.Failed)
		}
	})
}

// untilWhen reads when something ends: a time of day to come, a time, or for how long.
func untilWhen(s string, now time.Time) (*time.Time, error) {
	if s == "" {
		return nil, nil
	}
	if d, err := value.ParseDuration(s); err == nil {
		at := now.Add(d.Std())
		return &at, nil
	}
	if at, err := time.ParseInLocation("15:04", s, now.Location()); err == nil {
		at = time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
		if !at.After(now) {
			at = at.AddDate(0, 0, 1)
		}
		return &at, nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02T15:04"} {
		if at, err := time.ParseInLocation(layout, s, now.Location()); err == nil {
			return &at, nil
		}
	}
	return nil, usageError{fmt.Errorf("%q is no time to come; write a time of day, like 06:00, a time, like \"2026-03-10 06:00\", or how long from now, like 2h", s)}
}

// scalar reads a value as JSON where it is a number or a boolean, else as text.
func scalar(s string) any {
	var v any
	if json.Unmarshal([]byte(s), &v) == nil {
		switch v.(type) {
		case float64, bool, string:
			return v
		}
	}
	return s
}

func changeSettings(c *cobra.Command, id string, ch client.SettingsChange, wait time.Duration) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	s, err := cl.ChangeSettings(c.Context(), id, ch)
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(wait); s.State == "pending" && time.Now().Before(deadline); {
		select {
		case <-c.Context().Done():
			return c.Context().Err()
		case <-time.After(200 * time.Millisecond):
		}
		if s, err = cl.Settings(c.Context(), id); err != nil {
			return err
		}
	}
	return show(c, s, func(w io.Writer) { printSettings(w, s) })
}

func printSettings(w io.Writer, s client.Settings) {
	words := map[string]string{"pending": "on its way; the device has not answered yet",
		"applied": "confirmed by the device", "refused": "confirmed, but partly refused", "drift": "confirmed, but the device is not as intended"}
	fmt.Fprintf(w, "%s, revision %d: %s\n", s.Device, s.Revision, words[s.State])
	if s.WaitsUntil != nil {
		fmt.Fprintf(w, "It has had as many revisions in this hour as a device may; the next comes at %s.\n", s.WaitsUntil.Local().Format(time.TimeOnly))
	}
	fmt.Fprintln(w)
	cells := [][]string{{"SETTING", "INTENDED", "APPLIED", "FROM", "STATE"}}
	for _, x := range s.Settings {
		from := x.Source
		if x.OverriddenBy != "" {
			from = fmt.Sprintf("set on this device by %s %s", x.OverriddenBy, ago(x.OverriddenAt))
			if x.Until != nil {
				from += ", until " + x.Until.Local().Format("2006-01-02 15:04")
			}
		} else if x.From != "" {
			from += " " + x.From
		}
		state := x.State
		if x.Reason != "" {
			state += ": " + x.Reason
		}
		cells = append(cells, []string{x.Name, withUnit(x.Intended, x.Display), withUnit(x.Applied, x.Display), from,
			state})
	}
	table(w, cells)
}

func withUnit(v any, display string) string {
	if _, number := v.(float64); number && display != "" {
		return plain(v) + " " + display
	}
	return plain(v)
}

func settingForbidden() *cobra.Command {
	return &cobra.Command{Use: "forbidden", Short: "Show what devices would lose with the newest version of their model", Args: cobra.NoArgs,
		Long: `Lists the values of layers, responses and overrides on devices of an older version that
the newest version of their model does not allow, or has no setting for. They are
taken off when a device moves to it. It exits with 3 if there are any.`,
		Example: "  ullage setting forbidden",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.ForbiddenValues(c.Context())
			if err != nil {
				return err
			}
			err = list(c, all, "The newest version of every model allows what its devices have.",
				column[client.ForbiddenValue]{"newest", func(f client.ForbiddenValue) string { return f.Model + " " + f.Version }},
				column[client.ForbiddenValue]{"setting", func(f client.ForbiddenValue) string { return f.Setting }},
				column[client.ForbiddenValue]{"value", func(f client.ForbiddenValue) string { return f.Value }},
				column[client.ForbiddenValue]{"from", func(f client.ForbiddenValue) string { return strings.TrimSpace(f.Source + " " + f.Name) }},
				column[client.ForbiddenValue]{"why", func(f client.ForbiddenValue) string { return f.Why }},
				column[client.ForbiddenValue]{"devices", func(f client.ForbiddenValue) string { return fmt.Sprintf("%d: %s", len(f.Devices), fewOf(f.Devices)) }})
			if err == nil && len(all) > 0 {
				err = findings{fmt.Errorf("%s would be taken off devices", plural(len(all), "value"))}
			}
			return err
		}}
}
