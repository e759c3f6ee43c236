package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

// changeDevices changes many devices: it says how many first, asks, and shows how far
// it is.
func (m *change) changeDevices(c *cobra.Command, ch client.ManyDevices) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	ch.Where, ch.Preview = *m.where, true
	j, err := cl.ChangeDevices(c.Context(), ch)
	if err != nil {
		return err
	}
	if m.dryRun {
		return show(c, j, func(w io.Writer) {
			fmt.Fprintf(w, "%s would get: %s.\n", plural(j.Devices, "device"), j.Says)
			for _, id := range j.Some {
				fmt.Fprintln(w, "  "+id)
			}
			if more := j.Devices - len(j.Some); more > 0 {
				fmt.Fprintf(w, "  and %d more\n", more)
			}
		})
	}
	if j.Devices == 0 {
		fmt.Fprintln(c.OutOrStdout(), "No device would change; they are so already, or the condition is true for none.")
		return nil
	}
	if !m.yes && (j.Devices > 1 || ch.Status == "retired") {
		question := fmt.Sprintf("%s get: %s. Go on?", plural(j.Devices, "device"), j.Says)
		if ch.Status == "retired" {
			question = fmt.Sprintf("%s are retired for good. Go on?", plural(j.Devices, "device"))
		}
		if err := confirm(c, question); err != nil {
			return err
		}
	}
	ch.Preview = false
	if j, err = cl.ChangeDevices(c.Context(), ch); err != nil {
		return err
	}
	return followed(c, cl, j)
}

// followed shows a change of many devices until it is over.
func followed(c *cobra.Command, cl *client.Client, j client.DeviceJob) (err error) {
	bar := newProgress(c.ErrOrStderr(), "changing", "devices")
	for j.EndedAt == nil {
		bar.set(j.Done, j.Devices)
		select {
		case <-c.Context().Done():
			return fmt.Errorf("the service goes on with it; see: ullage device changes")
		case <-time.After(100 * time.Millisecond):
		}
		if j, err = cl.DeviceJob(c.Context(), j.ID); err != nil {
			return err
		}
	}
	bar.set(j.Done, j.Devices)
	bar.finish()
	return show(c, j, func(w io.Writer) {
		fmt.Fprintf(w, "%s changed: %s.\n", plural(j.Done-j.Failed, "device"), j.Says)
		if j.Failed > 0 {
			fmt.Fprintf(w, "%d could not be changed any more.\n", j.Failed)
		}
		if j.Undoes == "" && !strings.Contains(j.Says, "retired") {
			fmt.Fprintf(w, "Take it back with: ullage device undo %s\n", j.ID)
		}
	})
}

var deviceChanges = []column[client.DeviceJob]{
	{"change", func(j client.DeviceJob) string { return j.ID }},
	{"what", func(j client.DeviceJob) string { return j.Says }},
	{"devices", func(j client.DeviceJob) string {
		if j.EndedAt == nil {
			return fmt.Sprintf("%d of %d", j.Done, j.Devices)
		}
		return fmt.Sprint(j.Devices)
	}},
	{"by", func(j client.DeviceJob) string { return j.By }},
	{"when", func(j client.DeviceJob) string { return ago(j.At) }},
	{"undone", func(j client.DeviceJob) string { return yesNo(j.UndoneBy != "") }},
}

func deviceChangesList() *cobra.Command {
	return &cobra.Command{
		Use: "changes", Short: "List the latest changes of many devices, to undo one", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			js, err := cl.DeviceJobs(c.Context())
			if err != nil {
				return err
			}
			return list(c, js, "Many devices were not changed at once yet. It is done with: ullage device label --where CONDITION KEY=VALUE", deviceChanges...)
		},
	}
}

func deviceUndo() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "undo CHANGE", Short: "Take a change of many devices back, but for what was changed again since", Args: exactly(1, "one change; see: ullage device changes"),
		ValidArgsFunction: complete(func(c *cobra.Command, cl *client.Client) (out []string, err error) {
			js, err := cl.DeviceJobs(c.Context())
			for _, j := range js {
				if j.UndoneBy == "" {
					out = append(out, j.ID+"\t"+j.Says)
				}
			}
			return out, err
		}),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			was, err := cl.DeviceJob(c.Context(), args[0])
			if err != nil {
				return err
			}
			if !yes && was.Devices > 1 {
				if err := confirm(c, fmt.Sprintf("%s get back what they had before: %s. Go on?", plural(was.Devices, "device"), was.Says)); err != nil {
					return err
				}
			}
			j, err := cl.UndoDevices(c.Context(), args[0])
			if err != nil {
				return err
			}
			return followed(c, cl, j)
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
