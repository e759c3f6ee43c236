package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/layering"
)

var layerThings = things[client.Layer]{
	group: groupSettings, word: "layer", words: "layers", short: "Named sets of settings for many devices, in one order",
	of: (*client.Client).Layers, name: func(l client.Layer) string { return l.Name },
	read: layering.ParseLayer, yaml: func(l client.Layer) []byte { return l.YAML() },
	removed: "devices fall back to what is below it", example: "white-must", folder: "layers", together: "layers",
}

func layerCommand() *cobra.Command {
	return noun(layerThings.group, layerThings.word, layerThings.short, layerList(), layerThings.show(), layerSet(), layerPreview(), layerThings.load(),
		layerOrder(), layerStatus(), layerHistory(), layerThings.remove())
}

func layerList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the layers in their order, the highest first, with how far their devices are", Args: cobra.NoArgs,
		Long: `Lists the layers, the highest first: where two give a setting, the higher one wins.
Below all of them stand the defaults of each model, above them what rules' responses
set while they are raised, and on top what is set on a device itself.`,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.LayerSummaries(c.Context())
			if err != nil {
				return err
			}
			slices.Reverse(all)
			count := func(f func(client.LayerSummary) int) func(client.LayerSummary) string {
				return func(l client.LayerSummary) string { return fmt.Sprint(f(l)) }
			}
			return list(c, all, "There are no layers. Make one with: ullage layer set base report_every=30",
				column[client.LayerSummary]{"layer", func(l client.LayerSummary) string { return l.Name }},
				column[client.LayerSummary]{"sets", func(l client.LayerSummary) string { return valuesSaid(l.Set) }},
				column[client.LayerSummary]{"on", func(l client.LayerSummary) string {
					return chosenBy(l.Target, l.Access)
				}},
				column[client.LayerSummary]{"devices", count(func(l client.LayerSummary) int { return l.Devices })},
				column[client.LayerSummary]{"as intended", count(func(l client.LayerSummary) int { return l.AsIntended })},
				column[client.LayerSummary]{"pending", count(func(l client.LayerSummary) int { return l.Pending })},
				column[client.LayerSummary]{"refused", count(func(l client.LayerSummary) int { return l.Refused })},
				column[client.LayerSummary]{"drift", count(func(l client.LayerSummary) int { return l.Drifted })},
				column[client.LayerSummary]{"waiting", count(func(l client.LayerSummary) int { return l.Waiting })})
		}}
}

// chosenBy tells which devices a layer is for: those of its target that its author reaches.
func chosenBy(target, access string) string {
	switch {
	case target == "" && access == "":
		return "all devices"
	case access == "":
		return target
	case target == "":
		return access
	}
	return "(" + target + ") and (" + access + ")"
}

// layerChange is how a change of layers is shown and asked about before it is made.
type layerChange struct{ dryRun, yes, atOnce bool }

func (x *layerChange) flags(c *cobra.Command) {
	c.Flags().BoolVar(&x.dryRun, "dry-run", false, "only show what would change")
	c.Flags().BoolVar(&x.yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&x.atOnce, "at-once", false, "let all devices get it at once, also where they are so many that it should go out in waves")
}

// asksAbove is from how many devices on a change is asked about.
const asksAbove = 1

func (x *layerChange) run(c *cobra.Command, cl *client.Client, ch client.LayerChange) error {
	p, err := cl.PreviewLayers(c.Context(), ch)
	if err != nil {
		return err
	}
	if x.dryRun {
		return show(c, p, func(w io.Writer) { printPreview(w, p) })
	}
	if p.Waves && !x.atOnce {
		printPreview(c.ErrOrStderr(), p)
		return fmt.Errorf("%d devices would change at once, and above %d a change goes out in waves; start one with: ullage rollout start, or let all get it with --at-once", p.Devices, p.WavesAbove)
	}
	if p.Devices > asksAbove && !x.yes {
		printPreview(c.ErrOrStderr(), p)
		if err := confirm(c, fmt.Sprintf("Change %s on %s?", plural(p.Settings, "setting"), plural(p.Devices, "device"))); err != nil {
			return err
		}
	}
	ch.Tag, ch.AtOnce = p.Tag, x.atOnce
	if _, err := cl.ChangeLayers(c.Context(), ch); err != nil {
		return err
	}
	return show(c, p, func(w io.Writer) {
		if p.Devices == 0 {
			fmt.Fprintln(w, "Done. No device has other settings by it now.")
			return
		}
		fmt.Fprintf(w, "Done: %s on %s get another value.", plural(p.Settings, "setting"), plural(p.Devices, "device"))
		if p.Offline > 0 {
			fmt.Fprintf(w, " %s off line and get it when they return.", isAre(p.Offline))
		}
		fmt.Fprintln(w, " Follow them with: ullage layer status")
	})
}

func isAre(n int) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

func printPreview(w io.Writer, p client.LayerPreview) {
	fmt.Fprintf(w, "%s on %s would change", plural(p.Settings, "setting"), plural(p.Devices, "device"))
	if p.Scope > 0 {
		fmt.Fprintf(w, "; the target chooses %d", p.Scope)
	}
	if p.Offline > 0 {
		fmt.Fprintf(w, "; %s off line", isAre(p.Offline))
	}
	if p.RefusedEver > 0 {
		fmt.Fprintf(w, "; %d refused such a setting before", p.RefusedEver)
	}
	fmt.Fprintln(w, ".")
	for _, name := range slices.Sorted(maps.Keys(p.Lacking)) {
		fmt.Fprintf(w, "Without the setting %s: %s.\n", name, strings.Join(p.Lacking[name], ", "))
	}
	for _, x := range p.Warnings {
		fmt.Fprintf(w, "Note: %s.\n", x)
	}
	const most = 40
	if len(p.Differences) == 0 {
		return
	}
	rows := [][]string{{"DEVICE", "SETTING", "IS", "WOULD BE", "BY", ""}}
	for _, x := range p.Differences[:min(len(p.Differences), most)] {
		note := ""
		if x.Offline {
			note = "off line"
		}
		if x.Refused != "" {
			note = "refused before: " + x.Refused
		}
		by := x.Source
		if x.Name != "" {
			by += " " + x.Name
		}
		rows = append(rows, []string{x.Device, x.Setting, plain(x.From), plain(x.To), by, note})
	}
	fmt.Fprintln(w)
	table(w, rows)
	if n := p.Settings - most; n > 0 {
		fmt.Fprintf(w, "and %d more; all of them with -o json\n", n)
	}
}

func layerSet() *cobra.Command {
	var x layerChange
	var target, why string
	var unset, takeOff []string
	c := &cobra.Command{
		Use: "set LAYER SETTING=VALUE…", Short: "Make a layer, on top, or change values of one",
		Long: `Makes a layer, which stands on top of the others, or changes values of the one of
that name; values that are not named stay. It shows what would change on which
devices, and asks before it is done.

Whoever is engineer for some devices makes layers for those alone. Their names begin
with their author's, like cellar-master-summer; the order stays with whoever is
engineer for all devices.`,
		Example: "  ullage layer set white-must --target 'label.must == \"white\"' max_temp=24\n  ullage layer set base report_every=30 --dry-run",
		Args:    atLeast(1, "a layer, and settings"), ValidArgsFunction: layerThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			l, _, err := cl.Layers().Get(c.Context(), args[0])
			if err != nil && !client.IsNotFound(err) {
				return err
			}
			l.Name = args[0]
			if l.Set == nil {
				l.Set = map[string]any{}
			}
			for _, a := range args[1:] {
				name, text, ok := strings.Cut(a, "=")
				if !ok {
					return usageError{fmt.Errorf("%q is no setting; write it like max_temp=24", a)}
				}
				l.Set[name] = scalar(text)
			}
			for _, name := range takeOff {
				l.Set[name] = nil
			}
			for _, name := range unset {
				if _, has := l.Set[name]; !has {
					return fmt.Errorf("%s does not set %s; look at it with: ullage layer show %s", l.Name, name, l.Name)
				}
				delete(l.Set, name)
			}
			if c.Flags().Changed("target") {
				l.Target = target
			}
			if c.Flags().Changed("why") {
				l.Why = why
			}
			return x.run(c, cl, client.LayerChange{Layer: &l})
		},
	}
	c.Flags().StringVar(&target, "target", "", "selector of the devices; all where it is empty")
	c.Flags().StringVar(&why, "why", "", "what it is for")
	c.Flags().StringSliceVar(&unset, "unset", nil, "settings that it says nothing of any more")
	c.Flags().StringSliceVar(&takeOff, "take-off", nil, "settings for which it lets the model's default hold again")
	x.flags(c)
	return c
}

func layerPreview() *cobra.Command {
	return &cobra.Command{Use: "preview FILE", Short: "Show what a layer in a file would change", Args: exactly(1, "one file"),
		Example: "  ullage layer preview examples/cellars/layers/white-must.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			src, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			l, err := layering.ParseLayer(src)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			p, err := cl.PreviewLayers(c.Context(), client.LayerChange{Layer: l})
			if err != nil {
				return err
			}
			return show(c, p, func(w io.Writer) { printPreview(w, p) })
		}}
}

func layerOrder() *cobra.Command {
	var x layerChange
	var above, below string
	c := &cobra.Command{
		Use: "move LAYER --above LAYER | --below LAYER", Short: "Move a layer in the order; where two give a setting, the higher wins",
		Example: "  ullage layer move white-must --above hardware-b", Args: exactly(1, "one layer"), ValidArgsFunction: layerThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			if (above == "") == (below == "") {
				return usageError{errors.New("say where to: --above LAYER, or --below LAYER")}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.LayerSummaries(c.Context())
			if err != nil {
				return err
			}
			var order []string
			for _, l := range all {
				if l.Name != args[0] {
					order = append(order, l.Name)
				}
			}
			if len(order) == len(all) {
				return fmt.Errorf("there is no layer %q", args[0])
			}
			at := slices.Index(order, above+below)
			if at < 0 {
				return fmt.Errorf("there is no other layer %q", above+below)
			}
			if above != "" {
				at++
			}
			return x.run(c, cl, client.LayerChange{Order: slices.Insert(order, at, args[0])})
		},
	}
	c.Flags().StringVar(&above, "above", "", "put it right above this layer")
	c.Flags().StringVar(&below, "below", "", "put it right below this layer")
	_ = c.RegisterFlagCompletionFunc("above", layerThings.names())
	_ = c.RegisterFlagCompletionFunc("below", layerThings.names())
	x.flags(c)
	return c
}

func layerStatus() *cobra.Command {
	var span string
	c := &cobra.Command{Use: "status [LAYER]", Short: "Show how far devices are with what they were given", Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: layerThings.names(), Example: "  ullage layer status\n  ullage layer status white-must",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			name := ""
			if len(args) == 1 {
				name = args[0]
			}
			st, err := cl.LayerStatus(c.Context(), name)
			if err != nil {
				return err
			}
			over, err := cl.LayerOverTime(c.Context(), name, span)
			if err != nil {
				return err
			}
			return show(c, struct {
				client.LayerStatus
				OverTime client.LayerOverTime `json:"over_time"`
			}{st, over}, func(w io.Writer) {
				printLayerStatus(w, st)
				printOverTime(w, over, span)
			})
		}}
	c.Flags().StringVar(&span, "span", "24h", "how far back to tell how it went")
	return c
}

// printOverTime draws how many devices had what is intended for them, in eighth blocks.
func printOverTime(w io.Writer, o client.LayerOverTime, span string) {
	if o.Scope == 0 || len(o.Points) == 0 {
		return
	}
	const columns = 40
	var b strings.Builder
	for i := range columns {
		p := o.Points[(i+1)*(len(o.Points)-1)/columns]
		b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(7, p.AsIntended*8/o.Scope)])
	}
	first, last := o.Points[0], o.Points[len(o.Points)-1]
	fmt.Fprintf(w, "\nover %s  %d %s %d of %d had what is intended for them now\n", span, first.AsIntended, b.String(), last.AsIntended, o.Scope)
}

func printLayerStatus(w io.Writer, st client.LayerStatus) {
	of := "the whole fleet"
	if st.Layer != "" {
		of = "the layer " + st.Layer
	}
	fmt.Fprintf(w, "%s: %s, %d on line and %d off line\n\n", of, plural(st.Scope, "device"), st.Live, st.Offline)
	rows := [][]string{{"STATE", "DEVICES", ""}}
	for _, x := range []struct {
		name string
		n    int
		ids  []string
	}{{"as intended", st.AsIntended, nil}, {"pending", st.Pending, st.Devices["pending"]}, {"refused", st.Refused, st.Devices["refused"]},
		{"drift", st.Drifted, st.Devices["drift"]}, {"waiting", st.Waiting, st.Devices["waiting"]}} {
		rows = append(rows, []string{x.name, fmt.Sprint(x.n), fewOf(x.ids)})
	}
	table(w, rows)
	if len(st.Values) > 0 {
		rows := [][]string{{"SETTING", "VALUE", "WINS ON", "LOSES TO"}}
		for _, x := range st.Values {
			var loses []string
			for _, to := range slices.Sorted(maps.Keys(x.Loses)) {
				loses = append(loses, fmt.Sprintf("%s on %d", to, x.Loses[to]))
			}
			v := plain(x.Value)
			if x.Value == nil {
				v = "taken off"
			}
			rows = append(rows, []string{x.Setting, v, fmt.Sprint(x.Wins), strings.Join(loses, ", ")})
		}
		fmt.Fprintln(w)
		table(w, rows)
	}
	for _, r := range st.Reasons {
		fmt.Fprintf(w, "\n%s refused by %s: %s\n  %s\n", r.Setting, plural(len(r.Devices), "device"), r.Reason, fewOf(r.Devices))
	}
}

func layerHistory() *cobra.Command {
	return &cobra.Command{Use: "history LAYER", Short: "List the versions of a layer: who has changed what, and when",
		Long: "Lists the versions of a layer, the newest first. With -o json each comes whole; to go\nback to one, load it again.",
		Args: exactly(1, "one layer"), ValidArgsFunction: layerThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			vs, err := cl.LayerVersions(c.Context(), args[0])
			if err != nil {
				return err
			}
			return list(c, vs, "It has no versions.",
				column[client.LayerVersion]{"when", func(v client.LayerVersion) string { return v.At.Local().Format(time.DateTime) }},
				column[client.LayerVersion]{"by", func(v client.LayerVersion) string { return v.By }},
				column[client.LayerVersion]{"what", func(v client.LayerVersion) string { return v.Verb }},
				column[client.LayerVersion]{"difference", func(v client.LayerVersion) string { return strings.Join(v.Changed, "; ") }})
		}}
}

// settingExplain says why a setting of a device has its value.
func settingExplain() *cobra.Command {
	return &cobra.Command{Use: "explain DEVICE SETTING", Short: "Show why a setting of a device has its value", Args: exactly(2, "a device and a setting"),
		ValidArgsFunction: settingWords(true), Example: "  ullage setting explain tank-fennimore-07 max_temp",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			x, err := cl.ExplainSetting(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return show(c, x, func(w io.Writer) { printExplainedSetting(w, x) })
		}}
}

func printExplainedSetting(w io.Writer, x client.SettingExplained) {
	rows := [][]string{{"", "FROM", "GIVES", "ON"}}
	for i := len(x.Steps) - 1; i >= 0; i-- {
		s := x.Steps[i]
		mark := ""
		if s.Wins {
			mark = "wins"
		}
		gives := withUnit(s.Gives, x.Display)
		if s.Removes {
			gives = "takes it off"
		}
		if s.Wrong != "" {
			gives = "not allowed: " + s.Wrong
		}
		from := s.Source
		if s.Name != "" {
			from += " " + s.Name
		}
		on := ""
		if s.Source == "layer" {
			on = chosenBy(s.Target, s.Access)
		}
		if s.Source == "layer" && s.Matches != "true" {
			on += "  (" + map[string]string{"false": "not this device", "unknown": "not known of this device"}[s.Matches] + ")"
		}
		rows = append(rows, []string{mark, from, gives, on})
	}
	table(w, rows)
}

// settingDrift lists the devices that are not as intended.
func settingDrift() *cobra.Command {
	return &cobra.Command{Use: "drift", Short: "List the devices that are not as intended although they have confirmed", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			st, err := cl.LayerStatus(c.Context(), "")
			if err != nil {
				return err
			}
			type row struct {
				Device   string `json:"device"`
				Setting  string `json:"setting"`
				Intended any    `json:"intended"`
				Applied  any    `json:"applied"`
				Reason   string `json:"reason,omitempty"`
			}
			out := []row{}
			for _, id := range append(slices.Clone(st.Devices["drift"]), st.Devices["refused"]...) {
				s, err := cl.Settings(c.Context(), id)
				if err != nil {
					return err
				}
				for _, x := range s.Settings {
					if x.State == "drift" || x.State == "refused" {
						out = append(out, row{id, x.Name, x.Intended, x.Applied, x.Reason})
					}
				}
			}
			return list(c, out, "Every device that has confirmed is as intended.",
				column[row]{"device", func(r row) string { return r.Device }},
				column[row]{"setting", func(r row) string { return r.Setting }},
				column[row]{"intended", func(r row) string { return plain(r.Intended) }},
				column[row]{"applied", func(r row) string { return plain(r.Applied) }},
				column[row]{"reason", func(r row) string { return r.Reason }})
		}}
}

// settingRetry sends devices what is intended for them once more.
func settingRetry() *cobra.Command {
	var all bool
	c := &cobra.Command{Use: "retry DEVICE… | --all", Short: "Send devices that refused or drifted what is intended for them once more",
		Example: "  ullage setting retry tank-coldharbour-02\n  ullage setting retry --all", ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			if all == (len(args) > 0) {
				return usageError{errors.New("name devices, or say --all for every one that has refused or drifted")}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if all {
				st, err := cl.LayerStatus(c.Context(), "")
				if err != nil {
					return err
				}
				args = append(slices.Clone(st.Devices["refused"]), st.Devices["drift"]...)
			}
			out := []outcome{}
			for _, id := range args {
				s, err := cl.RetrySettings(c.Context(), id)
				if err != nil && !all {
					return err
				}
				result := fmt.Sprintf("sent as revision %d", s.Revision)
				if err != nil {
					result = err.Error()
				}
				out = append(out, outcome{id, result})
			}
			return list(c, out, "No device has refused or drifted.",
				column[outcome]{"device", func(o outcome) string { return o.Name }}, column[outcome]{"result", func(o outcome) string { return o.Result }})
		}}
	c.Flags().BoolVar(&all, "all", false, "every device that has refused or drifted")
	return c
}
