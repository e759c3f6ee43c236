package cli

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

// credentialFlags say which credential a device gets, and where its bundle goes.
type credentialFlags struct {
	token, certificate bool
	csr, out           string
}

func (f *credentialFlags) add(c *cobra.Command) {
	c.Flags().BoolVar(&f.token, "token", false, "let it in by a token, which is what it gets if nothing is said")
	c.Flags().BoolVar(&f.certificate, "cert", false, "let it in by a certificate of a new key, both in the bundle")
	c.Flags().StringVar(&f.csr, "csr", "", "let it in by a certificate of the key in this request (PKCS #10); - for standard input")
	c.Flags().StringVar(&f.out, "out", "", "folder, or file that ends with .zip, for the bundle: all that the device needs, with samples that work")
	c.MarkFlagsMutuallyExclusive("token", "cert", "csr")
}

// wanted is what was asked for.
func (f *credentialFlags) wanted(c *cobra.Command) (client.NewCredential, error) {
	switch {
	case f.csr != "":
		b, err := readFileOr(c, f.csr, 64<<10)
		if err != nil {
			return client.NewCredential{}, fmt.Errorf("the request for a certificate cannot be read: %w", err)
		}
		return client.NewCredential{Credential: "certificate", CSR: string(b)}, nil
	case f.certificate:
		return client.NewCredential{Credential: "certificate"}, nil
	}
	return client.NewCredential{}, nil
}

// readFileOr reads a file of at most so many bytes, or standard input for -. One that has
// more is refused, and not cut.
func readFileOr(c *cobra.Command, path string, most int64) ([]byte, error) {
	in := c.InOrStdin()
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	b, err := io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && int64(len(b)) > most {
		return nil, fmt.Errorf("it has more than %s; cut it into several", size(most))
	}
	return b, err
}

// place is where the bundle of a device goes: a key has to go somewhere.
func (f *credentialFlags) place(c *cobra.Command, id string) string {
	format, _ := c.Flags().GetString("output")
	if f.out == "" && format == "table" && (f.certificate || f.csr != "") {
		return id
	}
	return f.out
}

// free refuses a place where something is already, before anything is made that would
// be lost for want of it.
func free(place string) error {
	if place == "" {
		return nil
	}
	if strings.HasSuffix(place, ".zip") {
		if _, err := os.Stat(place); err == nil {
			return fmt.Errorf("there is a file %s already; take it away, or name another with --out", place)
		}
		return nil
	}
	entries, err := os.ReadDir(place)
	switch {
	case errors.Is(err, os.ErrNotExist), err == nil && len(entries) == 0:
		return nil
	case err == nil:
		return fmt.Errorf("the folder %s is not empty; take it away, or name another with --out", place)
	}
	return fmt.Errorf("%s cannot be used for the bundle: %w", place, err)
}

// ready connects, and returns what was asked for and a place for the bundle that is free.
func (f *credentialFlags) ready(c *cobra.Command, id string) (cl *client.Client, n client.NewCredential, place string, err error) {
	if cl, err = connect(c); err != nil {
		return
	}
	if n, err = f.wanted(c); err != nil {
		return
	}
	place = f.place(c, id)
	return cl, n, place, free(place)
}

// maxBundle is the largest bundle that is unpacked, in bytes.
const maxBundle = 1 << 20

// writeBundle writes a bundle as a file, or unpacked into a folder.
func writeBundle(place string, b []byte) error {
	if strings.HasSuffix(place, ".zip") {
		return os.WriteFile(place, b, 0o600)
	}
	r, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return fmt.Errorf("the service gave no bundle that can be read: %w", err)
	}
	if err := os.MkdirAll(place, 0o700); err != nil {
		return err
	}
	for _, f := range r.File {
		name := filepath.Base(filepath.FromSlash(f.Name))
		in, err := f.Open()
		if err != nil {
			return err
		}
		data, err := io.ReadAll(io.LimitReader(in, maxBundle))
		in.Close()
		if err == nil {
			err = os.WriteFile(filepath.Join(place, name), data, f.Mode().Perm())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// handedOver prints a credential as people read it, or where its bundle is.
func handedOver(c *cobra.Command, o client.Onboarded, place string) error {
	if place != "" {
		if err := writeBundle(place, o.Bundle); err != nil {
			return fmt.Errorf("%s has its credential, and the bundle could not be written: %w; make another one with: ullage device renew %s", o.ID, err, o.ID)
		}
	}
	if host, _, err := net.SplitHostPort(o.HTTPTLS); err == nil && place != "" {
		if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
			fmt.Fprintf(c.ErrOrStderr(), "The bundle leads to %s, which is this machine alone. For devices elsewhere let the service listen for them, with --names, before you flash it.\n", host)
		}
	}
	return show(c, o, func(w io.Writer) {
		if place == "" {
			printOnboarded(w, o)
			return
		}
		fmt.Fprintf(w, "%s is onboarded as %s. Its bundle is in %s:\n", o.ID, o.Model, place)
		if o.ExpiresAt != nil {
			fmt.Fprintf(w, "a certificate until %s", o.ExpiresAt.Local().Format("2006-01-02"))
		} else {
			fmt.Fprint(w, "a token")
		}
		fmt.Fprintf(w, ", whom to trust, where to connect, and samples.\n\nSend a first reading:  sh %s\nSee it come:           ullage traffic %s\n",
			filepath.Join(place, "send.sh"), o.ID)
	})
}

func deviceRenew() *cobra.Command {
	var f credentialFlags
	var keep, tell bool
	var many change
	c := &cobra.Command{
		Use:   "renew DEVICE",
		Short: "Give a device another credential; the old ones stop at once, or work on",
		Long:  "Gives a device a new token or certificate. With --keep the ones before work on, so\nthat the device can be changed over without a gap; end them then with\n\"ullage device revoke\". With --where every device for which the condition is true now\ngets one; their bundles go into the folder of --out, with a manifest, and where it was\ninterrupted the same command goes on. With --tell the devices are given the command of\ntheir model that has them renew it by themselves (ullage:renews), and nobody sees it.",
		Example: "  ullage device renew tank-fennimore-07\n  ullage device renew hub-fennimore --cert --keep --out hub-fennimore.zip\n" +
			"  ullage device renew --where 'label.site == \"Saltmarsh\"' --cert --keep --out saltmarsh\n" +
			"  ullage device renew --where 'label.site == \"Saltmarsh\"' --tell",
		Args:              many.orOne(),
		ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			if tell && (keep || f.certificate || f.csr != "" || f.out != "") {
				return usageError{errors.New("with --tell the device makes and keeps it by itself; leave --keep, --cert, --csr and --out out")}
			}
			switch {
			case tell && *many.where != "":
				return many.tellRenew(c)
			case tell:
				return tellRenew(c, args[0])
			case *many.where != "":
				return many.renew(c, &f, keep)
			}
			cl, n, place, err := f.ready(c, args[0])
			if err != nil {
				return err
			}
			o, err := cl.Renew(c.Context(), args[0], n, keep)
			if err != nil {
				return err
			}
			return handedOver(c, o, place)
		},
	}
	f.add(c)
	c.Flags().BoolVar(&keep, "keep", false, "let the old credentials work on")
	c.Flags().BoolVar(&tell, "tell", false, "have the device renew it by itself, by a command of its model")
	many.flags(c)
	return c
}

// renew gives many devices other credentials, part by part.
func (m *change) renew(c *cobra.Command, f *credentialFlags, keep bool) error {
	if f.csr != "" {
		return usageError{errors.New("--csr is for one device, whose key it is for; leave it out, or leave --where out")}
	}
	if f.out == "" || strings.HasSuffix(f.out, ".zip") {
		return usageError{errors.New("say with --out into which folder the bundles go")}
	}
	cl, err := connect(c)
	if err != nil {
		return err
	}
	ds, err := cl.DevicesWhere(c.Context(), *m.where)
	if err != nil {
		return err
	}
	done, err := readManifest(f.out)
	if err != nil {
		return err
	}
	r := client.RenewMany{Keep: keep}
	if f.certificate {
		r.Credential = "certificate"
	}
	var ids []string
	for _, d := range ds {
		if !done[d.ID] && d.Status != "retired" {
			ids = append(ids, d.ID)
		}
	}
	if m.dryRun || len(ids) == 0 {
		return show(c, ids, func(w io.Writer) {
			fmt.Fprintf(w, "%s would get another credential; %d stand in the manifest already.\n", plural(len(ids), "device"), len(ds)-len(ids))
		})
	}
	old := "their old ones stop at once"
	if keep {
		old = "their old ones work on"
	}
	if !m.yes {
		if err := confirm(c, fmt.Sprintf("%s get another credential, and %s. Go on?", plural(len(ids), "device"), old)); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(f.out, 0o700); err != nil {
		return err
	}
	bar := newProgress(c.ErrOrStderr(), "renewing", "devices")
	defer bar.finish()
	var failed []string
	renew := func(ctx context.Context, part []string) (client.BatchMade, error) {
		r := r
		r.Devices = part
		return cl.RenewDevices(ctx, r)
	}
	if err := inParts(c.Context(), ids, renew, func(made client.BatchMade, done int) error {
		if err := unpack(f.out, made.Bundles); err != nil {
			return fmt.Errorf("%d devices have other credentials and their bundles could not be written: %w; renew them again", len(made.Devices), err)
		}
		for _, x := range made.Failed {
			failed = append(failed, x.Sentence)
		}
		bar.set(done, len(ids))
		return nil
	}); err != nil {
		return fmt.Errorf("%w; go on with the same command", err)
	}
	w := c.OutOrStdout()
	for _, x := range failed {
		fmt.Fprintln(w, x)
	}
	fmt.Fprintf(w, "%s renewed, and %s. Bundles and manifest.csv are in %s\n", plural(len(ids)-len(failed), "device"), old, f.out)
	if len(failed) > 0 {
		return findings{fmt.Errorf("%s stayed as they were", plural(len(failed), "device"))}
	}
	return nil
}

func deviceCredentials() *cobra.Command {
	return &cobra.Command{
		Use: "credentials DEVICE", Short: "List by what a device is let in, the newest first",
		Example: "  ullage device credentials hub-fennimore",
		Args:    exactly(1, "one device"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			cs, err := cl.Credentials(c.Context(), args[0])
			if err != nil {
				return err
			}
			when := func(t *time.Time) string {
				if t == nil {
					return ""
				}
				return t.Local().Format("2006-01-02 15:04")
			}
			return list(c, cs, "It has no credential. Give it one with: ullage device renew "+args[0],
				column[client.Credential]{"credential", func(x client.Credential) string { return x.ID }},
				column[client.Credential]{"kind", func(x client.Credential) string { return x.Kind }},
				column[client.Credential]{"made", func(x client.Credential) string { return when(&x.CreatedAt) }},
				column[client.Credential]{"until", func(x client.Credential) string {
					if x.ExpiresAt == nil {
						return "no end"
					}
					return when(x.ExpiresAt)
				}},
				column[client.Credential]{"revoked", func(x client.Credential) string { return when(x.RevokedAt) }},
				column[client.Credential]{"last used", func(x client.Credential) string {
					switch {
					case x.UsedAt == nil:
						return "never"
					case x.SharedAt != nil && time.Since(*x.SharedAt) < time.Hour:
						return fmt.Sprintf("%s from %s and %s at once", ago(x.UsedAt), x.UsedFrom, x.SharedWith)
					}
					return fmt.Sprintf("%s from %s over %s", ago(x.UsedAt), x.UsedFrom, x.UsedOver)
				}})
		},
	}
}

func deviceReplace() *cobra.Command {
	var f credentialFlags
	var serial string
	var yes bool
	c := &cobra.Command{
		Use:     "replace DEVICE",
		Short:   "Put other hardware behind the id of a device; its history and settings stay",
		Long:    "Gives the new hardware a credential of its own, and ends all that the old one was let\nin by at once. Id, history, labels and settings stay, and the journal tells of it.",
		Example: "  ullage device replace tank-fennimore-07 --serial TP-30412 --out tank-fennimore-07",
		Args:    exactly(1, "one device"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, n, place, err := f.ready(c, args[0])
			if err != nil {
				return err
			}
			if !yes {
				if err := confirm(c, fmt.Sprintf("The hardware that is %s now is out at once. Go on?", args[0])); err != nil {
					return err
				}
			}
			o, err := cl.Replace(c.Context(), args[0], serial, n)
			if err != nil {
				return err
			}
			return handedOver(c, o, place)
		},
	}
	f.add(c)
	c.Flags().StringVar(&serial, "serial", "", "serial number of the new hardware, for the journal")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func deviceRevoke() *cobra.Command {
	return &cobra.Command{
		Use: "revoke DEVICE CREDENTIAL", Short: "End a credential of a device at once, open connections too",
		Example: "  ullage device revoke hub-fennimore crt-52d1a0c94a6e0f11",
		Args:    exactly(2, "a device and one of its credentials"),
		ValidArgsFunction: func(c *cobra.Command, args []string, p string) ([]string, cobra.ShellCompDirective) {
			if len(args) != 1 {
				return deviceNames(c, args, p)
			}
			return complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
				cs, err := cl.Credentials(c.Context(), args[0])
				var out []string
				for _, x := range cs {
					if x.RevokedAt == nil {
						out = append(out, x.ID+"\t"+x.Kind)
					}
				}
				return out, err
			})(c, nil, p)
		},
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if err := cl.Revoke(c.Context(), args[0], args[1]); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s of %s lets nobody in any more\n", args[1], args[0])
			return nil
		},
	}
}
