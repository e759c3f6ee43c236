package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func settingCommand() *cobra.Command {
	showing := &cobra.Command{
		Use: "show DEVICE", Short: "Show a device's settings, intended and applied", Args: exactly(1, "one device"), ValidArgsFunction: deviceNames,
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
	set := &cobra.Command{
		Use:   "set DEVICE NAME=VALUE…",
		Short: "Set settings on a device and wait for its confirmation",
		Long: `Sets values on a device (its override), sends them out, and waits for the device to confirm or
refuse them. A device that is away gets them when it is back; --wait 0s does not
wait.`,
		Example: "  ullage setting set tank-fennimore-07 max_temp=30",
		Args:    atLeast(2, "a device and settings"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			values := map[string]any{}
			for _, a := range args[1:] {
				name, text, ok := strings.Cut(a, "=")
				if !ok {
					return usageError{fmt.Errorf("%q is no setting; write it like max_temp=30", a)}
				}
				values[name] = scalar(text)
			}
			return changeSettings(c, args[0], client.SettingsChange{Set: values}, wait)
		},
	}
	set.Flags().DurationVar(&wait, "wait", 10*time.Second, "how long to wait for the device")
	unset := &cobra.Command{
		Use: "unset DEVICE NAME…", Short: "Take values off a device, so that the model's defaults hold again",
		Args: atLeast(2, "a device and names"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			return changeSettings(c, args[0], client.SettingsChange{Unset: args[1:]}, wait)
		},
	}
	unset.Flags().DurationVar(&wait, "wait", 10*time.Second, "how long to wait for the device")
	return noun(groupSettings, "setting", "Change settings over the air", showing, set, unset)
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
	words := map[string]string{"pending": "on its way; the device has not answered yet", "applied": "confirmed by the device",
		"refused": "confirmed, but partly refused", "drift": "confirmed, but the device is not as intended"}
	fmt.Fprintf(w, "%s, revision %d: %s\n\n", s.Device, s.Revision, words[s.State])
	cells := [][]string{{"SETTING", "INTENDED", "APPLIED", "FROM", "STATE"}}
	for _, x := range s.Settings {
		from := x.Source
		if x.OverriddenBy != "" {
			from = fmt.Sprintf("set on this device by %s %s", x.OverriddenBy, ago(x.OverriddenAt))
		}
		state := x.State
		if x.Reason != "" {
			state += ": " + x.Reason
		}
		cells = append(cells, []string{x.Name, withUnit(x.Intended, x.Display), withUnit(x.Applied, x.Display), from, state})
	}
	table(w, cells)
}

func withUnit(v any, display string) string {
	if _, number := v.(float64); number && display != "" {
		return plain(v) + " " + display
	}
	return plain(v)
}
