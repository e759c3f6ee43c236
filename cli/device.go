package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/geo"
	"ullage/core/health"
	"ullage/core/value"
)

func deviceCommand() *cobra.Command {
	return noun(groupJoin, "device", "Onboard devices and look after them", deviceCreate(), deviceList(), deviceShow(),
		deviceDescription(), deviceLabel(), deviceName(), deviceHub(), devicePlace(), deviceLoad(), deviceWatch(), deviceRenew(), deviceReplace(), deviceCredentials(), deviceRevoke(), deviceChangesList(), deviceUndo(), deviceSendAs(), deviceDifferent(), deviceLog(), deviceSnapshot(), deviceOrigin(), deviceActivity(), deviceUpkeep(), deviceVersions(),
		deviceStatus("suspend", "suspended", "Keep a device out until it is let in again",
			"is kept out; let it in with: ullage device resume %s"),
		deviceStatus("resume", "active", "Let a suspended device in again", "may connect again"),
		deviceStatus("retire", "retired", "Take a device out of service for good; its history stays",
			"is retired; its history stays"))
}

func deviceCreate() *cobra.Command {
	var d client.NewDevice
	var pairs []string
	var f credentialFlags
	c := &cobra.Command{
		Use:   "create ID --model MODEL",
		Short: "Onboard a device, with a token or a certificate and a bundle to flash",
		Long: `Onboards a device and hands its credential over, this once: a token, or with --cert a
certificate of the service's own authority. With --csr the device keeps its key to
itself. The bundle of --out holds all that the device needs, and samples in shell,
Python, C and Go that work as they are.`,
		Example: "  ullage device create tank-fennimore-08 --model tank-probe --label site=Fennimore --label stage=resting\n" +
			"  ullage device create hub-kilnside-2 --model cellar-hub --cert --out hub-kilnside-2",
		Args: exactly(1, "one device id"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			l, err := newLabels(pairs)
			if err != nil {
				return err
			}
			d.ID, d.Labels = args[0], l
			if d.NewCredential, err = f.wanted(c); err != nil {
				return err
			}
			place := f.place(c, d.ID)
			if err := free(place); err != nil {
				return err
			}
			o, err := cl.CreateDevice(c.Context(), d)
			if err != nil {
				return err
			}
			return handedOver(c, o, place)
		},
	}
	f.add(c)
	c.Flags().StringVar(&d.Model, "model", "", "name of its model")
	c.Flags().StringVar(&d.Name, "name", "", "what people call it, in any script")
	c.Flags().StringVar(&d.Hub, "hub", "", "the device that carries it")
	c.RegisterFlagCompletionFunc("hub", deviceNames)
	c.Flags().StringArrayVar(&pairs, "label", nil, "label as key=value; may be given several times")
	needed(c, "model")
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		err := run(c, args)
		if c.Flags().Changed("model") || err == nil {
			return err
		}
		if cl, no := connect(c); no == nil { // which ones there are helps, where it can be found out
			if ms, no := cl.Models().List(c.Context(), client.ListOptions{}); no == nil && len(ms) > 0 {
				var names []string
				for _, m := range ms {
					names = append(names, m.Name)
				}
				return usageError{fmt.Errorf("--model is needed: which model is %s of? There are %s", args[0], strings.Join(names, ", "))}
			}
		}
		return err
	}
	c.RegisterFlagCompletionFunc("model", func(c *cobra.Command, _ []string, p string) ([]string, cobra.ShellCompDirective) {
		return modelNames(c, nil, p)
	})
	return c
}

func deviceName() *cobra.Command {
	return deviceChange("name", "Say what people call a device, in any script; without a name its id alone",
		"tank-fennimore-07 'North tank'", func(name string) client.DeviceChange { return client.DeviceChange{Name: &name} })
}

func deviceHub() *cobra.Command {
	return deviceChange("hub", "Say which device carries a device; without a hub none does",
		"valve-fennimore-02 hub-fennimore", func(hub string) client.DeviceChange { return client.DeviceChange{Hub: &hub} })
}

func devicePlace() *cobra.Command {
	at, none := "", false
	c := &cobra.Command{
		Use: "place ID", Short: "Say where a device stands, for maps; without a position it is shown at its site",
		Example: "  ullage device place bung-saltmarsh-112 --at 47.5592,8.3317\n  ullage device place bung-saltmarsh-112 --none",
		Args:    exactly(1, "the id of a device"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			var to *geo.Position
			if at == "" && !none {
				return usageError{errors.New("nothing says where it stands; give --at LATITUDE,LONGITUDE, or --none to take its position back")}
			}
			if !none {
				p, err := geo.ParsePosition(at)
				if err != nil {
					return usageError{err}
				}
				to = &p
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			d, err := cl.PlaceDevice(c.Context(), args[0], to)
			if err != nil {
				return err
			}
			return show(c, d, func(w io.Writer) {
				if d.Position == nil {
					fmt.Fprintf(w, "%s has no position of its own.\n", d.ID)
					return
				}
				fmt.Fprintf(w, "%s stands at %s.\n", d.ID, d.Position)
			})
		},
	}
	c.Flags().StringVar(&at, "at", "", "latitude and longitude in degrees (WGS 84), such as 47.5592,8.3317")
	c.Flags().BoolVar(&none, "none", false, "take its position back")
	c.MarkFlagsMutuallyExclusive("at", "none")
	return c
}

// deviceChange is a verb that says one thing about a device, or takes it away.
func deviceChange(what, short, example string, change func(string) client.DeviceChange) *cobra.Command {
	return &cobra.Command{
		Use: fmt.Sprintf("%s ID [%s]", what,
			strings.ToUpper(what)), Short: short, Example: fmt.Sprintf("  ullage device %s %s", what, example),
		Args: between(1, 2, "one or two names"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			return changeDevice(c, args[0], change(strings.Join(args[1:], "")))
		},
	}
}

func changeDevice(c *cobra.Command, id string, ch client.DeviceChange) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	d, err := cl.ChangeDevice(c.Context(), id, ch)
	if err != nil {
		return err
	}
	return show(c, d, func(w io.Writer) {
		switch {
		case ch.Name != nil && d.Name == "":
			fmt.Fprintf(w, "%s has no name beside its id.\n", d.ID)
		case ch.Name != nil:
			fmt.Fprintf(w, "%s is called %s.\n", d.ID, d.Name)
		case d.Hub == "":
			fmt.Fprintf(w, "%s is behind no hub.\n", d.ID)
		default:
			fmt.Fprintf(w, "%s is behind %s.\n", d.ID, d.Hub)
		}
	})
}

func printOnboarded(w io.Writer, o client.Onboarded) {
	fmt.Fprintf(w, "%s is onboarded as %s.\n\nToken (shown this once):\n  %s\n\nGive it to your shell, past its history, and send a first reading over MQTT:\n  read -rs TOKEN\n  %s\n\nor over HTTP:\n  %s\n\nWatch it arrive:\n  ullage traffic %s\n",
		o.ID, o.Model, o.Token, o.TryMQTT, o.TryHTTP, o.ID)
}

func parseLabels(pairs []string) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range pairs {
		k, v, ok := strings.Cut(p, "=")
		if !ok || k == "" {
			return nil, usageError{fmt.Errorf("%q is no label; write it like site=Fennimore", p)}
		}
		if before, twice := out[k]; twice && before != v {
			return nil, usageError{fmt.Errorf("the label %s is given twice, as %q and as %q; leave one out", k, before, v)}
		}
		out[k] = v
	}
	return out, nil
}

// newLabels is parseLabels for what is made, which has no label that could be taken away.
func newLabels(pairs []string) (map[string]string, error) {
	out, err := parseLabels(pairs)
	for k, v := range out {
		if v == "" {
			return nil, usageError{fmt.Errorf("the label %s has no value; write it like %s=Fennimore, or leave it out", k, k)}
		}
	}
	return out, err
}

func deviceList() *cobra.Command {
	var f client.DeviceFilter
	var site string
	var where *string
	c := &cobra.Command{
		Use: "list", Short: "List devices with their health", Args: cobra.NoArgs,
		Example: "  ullage device list --health poor\n  ullage device list --where 'must_temp > set.max_temp - 3'\n  ullage device list --site Fennimore -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			f.Where = *where
			if site != "" {
				f.Labels = map[string]string{"site": site}
			}
			format, _ := c.Flags().GetString("output")
			f.Brief = format == "table" // shows no more than that
			ds, err := cl.DevicesLike(c.Context(), f)
			if err != nil {
				return err
			}
			none := "No device is like that. All of them are in: ullage device list"
			if f.Where+site+f.Health+f.Model == "" {
				none = "There is no device yet. Onboard one with: ullage device create ID --model MODEL"
			}
			return list(c, ds, none,
				column[client.Device]{"device", func(d client.Device) string { return d.ID }},
				column[client.Device]{"name", func(d client.Device) string { return d.Name }},
				column[client.Device]{"model", func(d client.Device) string { return d.Model }},
				column[client.Device]{"site", func(d client.Device) string { return d.Labels["site"] }},
				column[client.Device]{"status", func(d client.Device) string { return d.Status }},
				column[client.Device]{"link", func(d client.Device) string { return d.Link }},
				column[client.Device]{"last", func(d client.Device) string { return ago(d.LastAt) }},
				column[client.Device]{"headspace", func(d client.Device) string { return percent(d.Headspace) }},
				column[client.Device]{"health", func(d client.Device) string { return d.Health }},
				column[client.Device]{"why", func(d client.Device) string { return strings.Join(d.Reasons, "; ") }})
		},
	}
	where = whereFlag(c)
	c.Flags().StringVar(&site, "site", "", "only of this site")
	c.Flags().StringVar(&f.Model, "model", "", "only of this model")
	wordFlag(c, &f.Health, "health", "", "only of this health", "sound", "awaited", "watch", "poor", "dark")
	c.Flags().StringVar(&f.Order, "order", "",
		"field to order by, with - before it the other way round, such as headspace")
	limitFlag(c, &f.Limit, 0, "at most this many; all if 0")
	c.RegisterFlagCompletionFunc("model", modelNames)
	return c
}

func percent(f *float64) string {
	if f == nil {
		return "–"
	}
	return num(*f*100, 0) + " %"
}

func deviceShow() *cobra.Command {
	var then string
	c := &cobra.Command{
		Use: "show DEVICE", Short: "Show a device as it is now, or as it was", Args: exactly(1,
			"one device"), ValidArgsFunction: deviceNames,
		Example: "  ullage device show tank-fennimore-07\n  ullage device show tank-fennimore-07 --as-of 2h",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if then != "" {
				return showThen(c, cl, args[0], then)
			}
			d, err := cl.Device(c.Context(), args[0])
			if err != nil {
				return err
			}
			m, err := cl.Model(c.Context(), d.Model+"@"+d.ModelVersion)
			if err != nil {
				return err
			}
			return show(c, d, func(w io.Writer) { printDevice(w, d, m) })
		},
	}
	c.Flags().StringVar(&then, "as-of", "",
		"as it was then: so long ago, like 2h, or at a time, like 2026-03-01T10:00:00Z")
	return c
}

// moment reads the value of a flag: a time, or how long ago it was.
func moment(flag, s string) (time.Time, error) {
	if d, err := value.ParseDuration(s); err == nil {
		return time.Now().Add(-d.Std()), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, s, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{},
		usageError{fmt.Errorf("--%s is %q; write how long ago, like 2h, or a time, like 2026-03-01T10:00:00Z", flag, s)}
}

func showThen(c *cobra.Command, cl *client.Client, id, then string) error {
	at, err := moment("as-of", then)
	if err != nil {
		return err
	}
	all, err := cl.AsOf(c.Context(), at, id)
	if err != nil {
		return err
	}
	if len(all.Devices) == 0 {
		return wrong("%s is not among the answer", id)
	}
	d := all.Devices[0]
	return show(c, d, func(w io.Writer) {
		fmt.Fprintf(w, "%s as of %s\n%s %s, %s", d.ID, at.Local().Format(time.DateTime), d.Model, d.Version, d.Status)
		if d.Link != "" {
			fmt.Fprintf(w, ", %s since %s", d.Link, d.LinkedAt.Local().Format(time.DateTime))
		}
		fmt.Fprintln(w)
		for _, k := range sortedKeys(d.Labels) {
			fmt.Fprintf(w, "  label.%s  %s\n", k, d.Labels[k])
		}
		if len(d.Latest) > 0 {
			fmt.Fprintln(w)
			cells := [][]string{{"METRIC", "VALUE", "READ"}}
			for _, k := range sortedKeys(d.Latest) {
				cells = append(cells, []string{k, plain(d.Latest[k].Value),
					d.Latest[k].At.Local().Format(time.DateTime)})
			}
			table(w, cells)
		}
		if len(d.Settings) > 0 {
			fmt.Fprintln(w)
			cells := [][]string{{"SETTING", "VALUE", "SINCE"}}
			for _, k := range sortedKeys(d.Settings) {
				cells = append(cells, []string{k, plain(d.Settings[k].Value),
					d.Settings[k].Since.Local().Format(time.DateTime)})
			}
			table(w, cells)
		}
		if len(d.Alarms) > 0 {
			fmt.Fprintln(w)
			cells := [][]string{{"ALARM", "STATE", "SINCE"}}
			for _, a := range d.Alarms {
				cells = append(cells, []string{a.Rule, a.State, a.Since.Local().Format(time.DateTime)})
			}
			table(w, cells)
		}
	})
}

func printDevice(w io.Writer, d client.Device, m client.Model) {
	fmt.Fprintf(w, "%s  %s %s, %s\n", d.ID, d.Model, d.ModelVersion, d.Status)
	if d.Reported != "" {
		fmt.Fprintf(w, "model      it says it was built for version %s; give it that with: ullage model move %s@%s --device %s\n", d.Reported, d.Model, d.Reported, d.ID)
	}
	fmt.Fprintf(w, "health     %s", cmp.Or(d.Health, "none"))
	if len(d.Reasons) > 0 {
		fmt.Fprintf(w, ": %s", strings.Join(d.Reasons, "; "))
	}
	fmt.Fprintf(w, "\nlink       %s, last reading %s, expected every %s\n", d.Link, ago(d.LastAt), d.Interval)
	for i, x := range d.Components {
		head := ""
		if i == 0 {
			head = "components"
		}
		line := fmt.Sprintf("%-10s %s %s", head, x.Name, x.Health)
		if len(x.Reasons) > 0 {
			line += ": " + strings.Join(x.Reasons, "; ")
		}
		fmt.Fprintln(w, line)
	}
	fmt.Fprintf(w, "headspace  %s\n", percent(d.Headspace))
	confirmed := "none confirmed yet"
	if d.Applied > 0 {
		confirmed = fmt.Sprintf("revision %d confirmed", d.Applied)
	}
	fmt.Fprintf(w, "settings   revision %d intended, %s\n", d.Revision, confirmed)
	if len(d.Labels) > 0 {
		fmt.Fprintf(w, "labels     %s\n", labels(d.Labels))
	}
	for _, k := range sortedKeys(d.Attributes) {
		fmt.Fprintf(w, "%-10s %s\n", k, plain(d.Attributes[k]))
	}
	fmt.Fprintln(w)
	cells := [][]string{{"METRIC", "VALUE", "AT", "LIMIT", "HEADSPACE", ""}}
	for _, p := range m.Properties {
		l, ok := d.Latest[p.Name]
		if p.Role != "telemetry" || !ok {
			continue
		}
		value := plain(l.Value)
		if f, isNumber := l.Value.(float64); isNumber && p.Decimals >= 0 {
			value = num(f, p.Decimals)
		}
		line := []string{p.Name, strings.TrimSpace(value + " " + p.Display), ago(&l.At), "", "",
			strings.Join(l.Quality, ", ")}
		if mg, ok := nearestLimit(d.Margins, p.Name); ok {
			line[3] = num(mg.Limit, -1) + " (" + mg.Rule + ")"
			if mg.Known {
				line[4] = percent(&mg.Headspace)
			}
			if mg.ToLimit != nil {
				line[4] += ", there in ~" + health.Ago(time.Until(mg.ToLimit.Likely))
			}
		}
		cells = append(cells, line)
	}
	if len(cells) == 1 {
		fmt.Fprintf(w, "No reading has come yet. Watch for the first one with: ullage traffic %s\n", d.ID)
		return
	}
	table(w, cells)
	for _, a := range d.Alarms {
		fmt.Fprintf(w, "\n%s alarm, %s: %s\n  acknowledge with: ullage alarm acknowledge %s\n", a.Priority, a.State,
			a.Message, a.ID)
	}
}

func deviceLabel() *cobra.Command {
	var many change
	var atOnce bool
	c := &cobra.Command{
		Use: "label DEVICE KEY=VALUE…", Short: "Set labels of a device, or of many; KEY= removes one",
		Args: many.args("a device and labels"), ValidArgsFunction: labelWords,
		Long: "Sets labels of a device, or with --where of every device for which the condition is\ntrue now. That is decided at once, goes on if the service is stopped meanwhile, and can\nbe taken back with \"ullage device undo\".",
		Example: "  ullage device label tank-fennimore-07 stage=resting row=\n" +
			"  ullage device label --where 'label.site == \"Fennimore\"' stage=resting --dry-run",
		RunE: func(c *cobra.Command, args []string) error {
			device, pairs := many.split(args)
			l, err := parseLabels(pairs)
			if err != nil {
				return err
			}
			if device == "" {
				return many.changeDevices(c, client.ManyDevices{Labels: l, AtOnce: atOnce})
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			d, err := cl.Label(c.Context(), device, l)
			if err != nil {
				return err
			}
			return show(c, d, func(w io.Writer) { fmt.Fprintf(w, "%s: %s\n", d.ID, labels(d.Labels)) })
		},
	}
	many.flags(c)
	c.Flags().BoolVar(&atOnce, "at-once", false, "with --where: devices get what layers give them by their labels at once, however many they are")
	return c
}

func deviceStatus(verb, status, short, done string) *cobra.Command {
	var many change
	c := &cobra.Command{
		Use: verb + " DEVICE", Short: short, ValidArgsFunction: deviceNames,
		Example: fmt.Sprintf("  ullage device %s tank-fennimore-07\n  ullage device %s --where 'label.site == \"Saltmarsh\"' --dry-run", verb, verb),
		Args:    many.orOne(),
		RunE: func(c *cobra.Command, args []string) error {
			if *many.where != "" {
				return many.changeDevices(c, client.ManyDevices{Status: status})
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if status == "retired" && !many.yes {
				return usageError{fmt.Errorf("retiring %s is for good; if you mean it, say: ullage device retire %s --yes", args[0], args[0])}
			}
			d, err := cl.SetStatus(c.Context(), args[0], status)
			if err != nil {
				return err
			}
			return show(c, d, func(w io.Writer) {
				if strings.Contains(done, "%s") {
					done = fmt.Sprintf(done, d.ID)
				}
				fmt.Fprintf(w, "%s %s\n", d.ID, done)
			})
		},
	}
	many.flags(c)
	if status == "retired" {
		c.Flags().Lookup("yes").Usage = "do it without asking"
	}
	return c
}

// nearestLimit returns the margin with the least headspace among those that
// compare a metric itself, not something worked out from it.
func nearestLimit(all []client.Margin, metric string) (least client.Margin, ok bool) {
	for _, m := range all {
		if m.Of == metric && (!ok || m.Headspace < least.Headspace) {
			least, ok = m, true
		}
	}
	return least, ok
}
