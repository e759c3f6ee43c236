package sim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"ullage/client"
)

// Credentials are what a fleet needs to get in, as one would flash it.
type Credentials struct {
	MQTT   string            `json:"mqtt"`
	HTTP   string            `json:"http"`
	Tokens map[string]string `json:"tokens"`
}

// ReadCredentials reads a file that WriteCredentials wrote. A file that does
// not exist gives empty credentials.
func ReadCredentials(path string) (Credentials, error) {
	c := Credentials{Tokens: map[string]string{}}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &c)
	}
	if err != nil {
		return c, fmt.Errorf("the credentials in %s cannot be read: %w", path, err)
	}
	if c.Tokens == nil {
		c.Tokens = map[string]string{}
	}
	return c, nil
}

// WriteCredentials writes a file that only its owner can read.
func WriteCredentials(path string, c Credentials) error {
	b, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return os.WriteFile(path, append(b, '\n'), 0o600)
}

// Onboard makes those of the units that do not exist yet, and gives a new token
// to those that exist but whose token is not in c. Step is called after each.
func Onboard(ctx context.Context, cl *client.Client, units []Unit, c *Credentials, step func()) error {
	known, err := cl.Devices(ctx)
	if err != nil {
		return err
	}
	exists := map[string]bool{}
	for _, d := range known {
		exists[d.ID] = true
	}
	if c.Tokens == nil {
		c.Tokens = map[string]string{}
	}
	for _, u := range units {
		var o client.Onboarded
		switch {
		case !exists[u.ID]:
			o, err = cl.CreateDevice(ctx, client.NewDevice{ID: u.ID, Name: u.Name, Hub: u.Hub, Model: u.Model,
				Labels: u.Labels})
		case c.Tokens[u.ID] == "":
			o, err = cl.NewToken(ctx, u.ID, false)
		}
		if err != nil {
			return err
		}
		if o.Token != "" {
			c.Tokens[u.ID], c.MQTT, c.HTTP = o.Token, o.MQTT, o.HTTP
		}
		step()
	}
	return nil
}
