package cli

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/batch"
)

// perBatch is how many devices are made at a time: each part is made whole or not at all.
const perBatch = 250

// atOnce is how many parts are on their way at once: one is waited for, and one is handed over.
const atOnce = 3

func deviceLoad() *cobra.Command {
	var out string
	var certificate, skipBad, dry, yes bool
	c := &cobra.Command{
		Use:   "load FILE",
		Short: "Onboard the devices of a list, with a bundle each and a manifest",
		Long: `Onboards the devices of a list: CSV with the columns id, model, name, hub, credential
and label.NAME, in any order, or JSON Lines with members id, model, name, hub,
credential and labels. The list is looked at as a whole first, and nothing is made
unless all of it is right, or --skip-bad says to leave out what is not.

The bundles go into the folder of --out, a zip file each, and what was made is
written into its manifest.csv as it is made. Where it was interrupted, the same
command goes on: what stands in the manifest is not made again.`,
		Example: "  ullage device load pallet.csv --dry-run\n  ullage device load pallet.csv --cert --out pallet",
		Args:    exactly(1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			b, err := readFileOr(c, args[0], batch.MaxBytes)
			if err != nil {
				return fmt.Errorf("the list cannot be read: %w", err)
			}
			if out == "" {
				out = strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0])) + "-bundles"
			}
			done, err := readManifest(out)
			if err != nil {
				return err
			}
			plan, made, err := planList(c, cl, b, done)
			if err != nil {
				return err
			}
			for i := range plan.Devices {
				if certificate && plan.Devices[i].Credential == "" {
					plan.Devices[i].Credential = "certificate"
				}
			}
			if dry || plan.Bad > 0 && !skipBad {
				return planShown(c, plan, made, dry)
			}
			if len(plan.Devices) > perBatch && !yes {
				if err := confirm(c, fmt.Sprintf("%d devices are onboarded, with their bundles in %s. Go on?", len(plan.Devices), out)); err != nil {
					return err
				}
			}
			if err := loadDevices(c, cl, plan.Devices, out); err != nil {
				return fmt.Errorf("%w; go on with the same command", err)
			}
			return show(c, plan, func(w io.Writer) {
				for _, f := range plan.Findings {
					fmt.Fprintf(w, "line %d: %s\n", f.Line, f.Sentence)
				}
				fmt.Fprintf(w, "%s onboarded, %d left out, %d made before. Bundles and manifest.csv are in %s\n", plural(len(plan.Devices), "device"), plan.Bad, made, out)
			})
		},
	}
	c.Flags().StringVar(&out, "out", "", "folder for the bundles; named after the file if left out")
	c.Flags().BoolVar(&certificate, "cert", false, "certificates, where the list says nothing")
	c.Flags().BoolVar(&skipBad, "skip-bad", false, "onboard the others where some lines are wrong")
	c.Flags().BoolVar(&dry, "dry-run", false, "only say what would be onboarded, and what is wrong")
	c.Flags().BoolVar(&yes, "yes", false, "without asking")
	return c
}

// planList looks at a list: what can be wrong with it by itself here, and the rest at
// the service. What was made before is left out, and counted.
func planList(c *cobra.Command, cl *client.Client, b []byte, done map[string]bool) (plan client.BatchPlan, made int, err error) {
	l, err := batch.Read(b)
	if err != nil {
		return plan, 0, wrong("%s", err)
	}
	var lines []int
	var ask bytes.Buffer
	e := json.NewEncoder(&ask)
	for _, r := range l.Rows {
		if done[r.ID] {
			made++
			continue
		}
		lines = append(lines, r.Line)
		if err := e.Encode(client.NewDevice{ID: r.ID, Model: r.Model, Name: r.Name, Hub: r.Hub, Labels: r.Labels,
			NewCredential: client.NewCredential{Credential: r.Credential}}); err != nil {
			return plan, made, err
		}
	}
	if len(lines) > 0 {
		if plan, err = cl.ReadList(c.Context(), &ask); err != nil {
			return plan, made, err
		}
	}
	for i, f := range plan.Findings {
		plan.Findings[i].Line = lines[min(max(f.Line, 1), len(lines))-1]
	}
	for _, f := range l.Findings {
		plan.Findings = append(plan.Findings, client.ImportFinding(f))
	}
	plan.Bad, plan.More = plan.Bad+l.Bad, plan.More+l.More
	slices.SortStableFunc(plan.Findings, func(a, b client.ImportFinding) int { return a.Line - b.Line })
	return plan, made, nil
}

func planShown(c *cobra.Command, plan client.BatchPlan, made int, dry bool) error {
	if err := show(c, plan, func(w io.Writer) {
		models := map[string]int{}
		for _, d := range plan.Devices {
			models[d.Model]++
		}
		for _, f := range plan.Findings {
			fmt.Fprintf(w, "line %d: %s\n", f.Line, f.Sentence)
		}
		if plan.More > 0 {
			fmt.Fprintf(w, "and %d more\n", plan.More)
		}
		fmt.Fprintf(w, "%s can be onboarded", plural(len(plan.Devices), "device"))
		for _, m := range slices.Sorted(maps.Keys(models)) {
			fmt.Fprintf(w, ", %d of %s", models[m], m)
		}
		fmt.Fprintf(w, "; %s wrong", plural(plan.Bad, "line"))
		if made > 0 {
			fmt.Fprintf(w, "; %d made before", made)
		}
		fmt.Fprintln(w, ". Nothing was made.")
	}); err != nil {
		return err
	}
	if plan.Bad > 0 {
		return findings{fmt.Errorf("%s wrong; mend them, or leave them out with --skip-bad", plural(plan.Bad, "line"))}
	}
	return nil
}

// loadDevices makes devices part by part, and writes down each part before the next.
func loadDevices(c *cobra.Command, cl *client.Client, ds []client.NewDevice, out string) error {
	if len(ds) == 0 {
		return nil
	}
	if err := os.MkdirAll(out, 0o700); err != nil {
		return err
	}
	bar := newProgress(c.ErrOrStderr(), "onboarding", "devices")
	defer bar.finish()
	create := func(ctx context.Context, part []client.NewDevice) (client.BatchMade, error) {
		bundles, err := cl.CreateDevices(ctx, part)
		return client.BatchMade{Bundles: bundles}, err
	}
	return inParts(c.Context(), ds, create, func(made client.BatchMade, done int) error {
		if err := unpack(out, made.Bundles); err != nil {
			return fmt.Errorf("%d devices were onboarded and the bundles of the last of them could not be written: %w; give those new credentials", done, err)
		}
		bar.set(done, len(ds))
		return nil
	})
}

// inParts asks for parts of many devices, and hands over what was made of each, in order. Some
// parts are on their way at once: while keys of one are made another is stored. Whoever breaks
// off gets what is on its way all the same: it holds credentials that are told this once.
func inParts[T any](ctx context.Context, all []T, ask func(context.Context, []T) (client.BatchMade, error), write func(made client.BatchMade, done int) error) error {
	type answer struct {
		made client.BatchMade
		many int
		err  error
	}
	waiting, stop := make(chan chan answer, atOnce-2), make(chan struct{})
	go func() {
		defer close(waiting)
		for part := range slices.Chunk(all, perBatch) {
			if ctx.Err() != nil {
				return
			}
			a := make(chan answer, 1)
			go func() {
				made, err := ask(context.WithoutCancel(ctx), part)
				a <- answer{made, len(part), err}
			}()
			waiting <- a
			select {
			case <-stop:
				return
			default:
			}
		}
	}()
	done := 0
	var failed error
	for next := range waiting {
		a := <-next
		err := a.err
		if done += a.many; err == nil {
			err = write(a.made, done)
		}
		if err != nil && failed == nil {
			failed = err
			close(stop)
		}
	}
	return cmp.Or(failed, ctx.Err())
}

// unpack writes the bundle of each device into a folder, and adds the manifest to the one
// there, last.
func unpack(out string, b []byte) error {
	r, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return err
	}
	var manifest []byte
	var buf bytes.Buffer
	for _, f := range r.File {
		if !filepath.IsLocal(f.Name) || strings.ContainsAny(f.Name, `/\`) || f.UncompressedSize64 > maxBundle {
			return fmt.Errorf("the bundles hold the file %q", f.Name)
		}
		in, err := f.Open()
		if err != nil {
			return err
		}
		buf.Reset()
		_, err = io.Copy(&buf, io.LimitReader(in, maxBundle))
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
		if f.Name == manifestName {
			manifest = bytes.Clone(buf.Bytes())
			continue
		}
		if err := os.WriteFile(filepath.Join(out, f.Name), buf.Bytes(), 0o600); err != nil {
			return err
		}
	}
	return addManifest(filepath.Join(out, manifestName), manifest)
}

const manifestName = "manifest.csv"

// addManifest adds what was made to the manifest, whose first line stands once.
func addManifest(path string, data []byte) error {
	if _, err := os.Stat(path); err == nil {
		_, data, _ = bytes.Cut(data, []byte("\n"))
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close()) // a crash of the machine would take the bundles before it, too
}

// readManifest returns the devices that were made before.
func readManifest(out string) (map[string]bool, error) {
	f, err := os.Open(filepath.Join(out, manifestName))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return nil, fmt.Errorf("the manifest in %s cannot be read: %w", out, err)
	}
	done := map[string]bool{}
	for _, r := range rows {
		done[r[0]] = true
	}
	return done, nil
}
