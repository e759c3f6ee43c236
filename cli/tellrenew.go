package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

// renewedWithin is how long a device has to come back with what it has renewed.
const renewedWithin = time.Minute

// renewing returns the command with which devices of a model renew what lets them in.
func renewing(ctx context.Context, cl *client.Client, model string) (string, error) {
	m, err := cl.Model(ctx, model)
	if err != nil {
		return "", err
	}
	for _, a := range m.Actions {
		if a.Renews {
			return a.Name, nil
		}
	}
	return "", fmt.Errorf("no command of %s has a device renew what lets it in; mark one with \"ullage:renews\": true, or leave --tell out and flash a new one", model)
}

// tellRenew has a device renew what lets it in, and waits until it has come back with it.
func tellRenew(c *cobra.Command, id string) error {
	ctx := c.Context()
	cl, err := connect(c)
	if err != nil {
		return err
	}
	d, err := cl.Device(ctx, id)
	if err != nil {
		return err
	}
	name, err := renewing(ctx, cl, d.Model)
	if err != nil {
		return err
	}
	before, err := cl.Credentials(ctx, id)
	if err != nil {
		return err
	}
	end := time.Now().Add(renewedWithin)
	out, err := giveAndWait(ctx, cl, id, client.NewCommand{Name: name}, renewedWithin)
	if err != nil {
		return err
	}
	if out.Phase != "done" {
		return fmt.Errorf("%s has not done %s: it is %s", id, name, out.Phase)
	}
	had := func(x client.Credential) bool {
		return slices.ContainsFunc(before, func(y client.Credential) bool { return y.ID == x.ID })
	}
	for {
		now, err := cl.Credentials(ctx, id)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(now, func(x client.Credential) bool { return !had(x) && x.UsedAt != nil })
		if i >= 0 {
			return show(c, now[i], func(w io.Writer) {
				fmt.Fprintf(w, "%s has renewed its %s and came in with it: %s\n", id, now[i].Kind, now[i].ID)
			})
		}
		if time.Now().After(end) {
			if slices.ContainsFunc(now, func(x client.Credential) bool { return !had(x) }) {
				return fmt.Errorf("%s has another credential and has not come in with it; what it had before works on until it does", id)
			}
			return fmt.Errorf("%s has done %s and has asked for no other credential; see that its firmware sends POST /device/v1/token, or renews by EST", id, name)
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// tellRenew has many devices renew what lets them in, model by model.
func (m *change) tellRenew(c *cobra.Command) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	ds, err := cl.DevicesWhere(c.Context(), *m.where)
	if err != nil {
		return err
	}
	var models []string
	for _, d := range ds {
		if !slices.Contains(models, d.Model) {
			models = append(models, d.Model)
		}
	}
	if len(models) == 0 {
		return fmt.Errorf("the condition is true for no device")
	}
	where := *m.where
	for _, model := range models {
		name, err := renewing(c.Context(), cl, model)
		if err != nil {
			return err
		}
		one := fmt.Sprintf("(%s) and device.model == %q", where, model)
		m.where = &one
		if err := m.giveMany(c, client.NewCommand{Name: name}, 0, renewedWithin); err != nil {
			return err
		}
	}
	return nil
}
