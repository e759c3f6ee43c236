package cli

import (
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/value"
	"ullage/server"
)

func storeCommand() *cobra.Command {
	return noun(groupService, "store", "Look after the stored readings: size, backup, damage", storeStats(),
		storeBackup(), storeRestore(), storeCheck())
}

func storeStats() *cobra.Command {
	var by string
	var limit int
	c := &cobra.Command{
		Use: "stats", Short: "Show what takes up how much room, how it grows, and when the disk is full", Args: cobra.NoArgs,
		Example: "  ullage store stats\n  ullage store stats --by device --limit 10",
		RunE: func(c *cobra.Command, _ []string) error {
			if by != "model" && by != "metric" && by != "device" {
				return usageError{fmt.Errorf("--by is %q; it is model, metric or device", by)}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			s, err := cl.Store(c.Context(), by)
			if err != nil {
				return err
			}
			return show(c, s, func(w io.Writer) { printStore(w, s, limit) })
		},
	}
	wordFlag(c, &by, "by", "model", "what to sum up by", "model", "metric", "device")
	limitFlag(c, &limit, 20, "list the largest so many")
	return c
}

func printStore(w io.Writer, s client.Store, limit int) {
	for _, d := range s.Damage {
		fmt.Fprintf(w, "damaged: %s (%s): %s\n", d.Place, d.File, d.Sentence)
	}
	if len(s.Damage) > 0 {
		fmt.Fprintln(w)
	}
	cells := [][]string{
		{"WHAT", "HOW MUCH", ""},
		{"readings", count(s.Readings), fmt.Sprintf("%s of them not yet sealed", count(s.Unsealed))},
		{"bytes a reading", perReading(s.Each), "data of chunks and roll-ups, for each reading in chunks"},
		{"chunks", size(s.Chunks), ""},
		{"roll-ups", size(s.Rollups), ""},
		{"not yet sealed", size(s.UnsealedBytes), ""},
		{"file", size(s.File), fmt.Sprintf("%s of it free", size(s.Free))},
		{"records", size(s.Records), "models, devices, alarms, journal"},
		growth(s.Growth),
	}
	if s.DiskFree != nil {
		says := "no end in sight"
		if s.Growth == nil {
			says = "how long that is enough is known after a day"
		}
		if s.FullOn != nil {
			says = "full about " + s.FullOn.Format("2 January 2006") + ", if it goes on like this"
		}
		cells = append(cells, []string{"disk", size(*s.DiskFree) + " free", says})
	}
	table(w, cells)
	if len(s.Shares) == 0 {
		fmt.Fprintln(w, "\nNothing is sealed into chunks yet.")
		return
	}
	fmt.Fprintln(w)
	rows := [][]string{{s.By, "SERIES", "READINGS", "SIZE", "BYTES A READING"}}
	for i, x := range s.Shares {
		if i == limit {
			rows = append(rows, []string{fmt.Sprintf("and %d more", len(s.Shares)-limit+s.LeftOut), "", "", "", ""})
			break
		}
		rows = append(rows, []string{x.Name, fmt.Sprint(x.Series), count(x.Readings), size(x.Bytes),
			perReading(x.Each)})
	}
	rows[0][0] = map[string]string{"model": "MODEL", "metric": "METRIC", "device": "DEVICE"}[s.By]
	table(w, rows)
	if s.Each == nil {
		fmt.Fprintln(w, "\nNothing is sealed into chunks yet.")
	}
}

// perReading writes how many bytes a reading takes.
func perReading(x *float64) string {
	if x == nil {
		return "–"
	}
	return fmt.Sprintf("%.2f", *x)
}

func growth(day *int64) []string {
	if day == nil {
		return []string{"growth", "not known yet", "it takes a day of readings in chunks"}
	}
	return []string{"growth", size(*day) + " a day", "chunks and roll-ups, over the last week"}
}

// size writes bytes as people read them.
func size(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d B", n)
	case n < 10_000_000:
		return fmt.Sprintf("%.0f kB", float64(n)/1e3)
	case n < 2_000_000_000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.1f GB", float64(n)/1e9)
}

// count writes a number as the console does, with thin spaces between thousands.
func count(n int64) string {
	return value.Spaced(fmt.Sprint(n))
}

// counted is plural with groups of three digits.
func counted(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return count(int64(n)) + " " + word + "s"
}

func storeBackup() *cobra.Command {
	return &cobra.Command{
		Use: "backup FILE", Short: "Back a running service up to one file, and verify it", Args: exactly(1,
			"the file to write"),
		Long: `Copies models, devices, alarms, settings, the journal and every reading as they
are at one moment into one tar file, while the service goes on. Before it gets
its name, the file is unpacked and every checksum in it is looked at.

Credentials of devices and people are in it as hashes: keep it as safe as the
data folder.`,
		Example: "  ullage store backup ullage-2026-03-09.tar",
		RunE: func(c *cobra.Command, args []string) error {
			if _, err := os.Stat(args[0]); err == nil {
				return fmt.Errorf("%s is there already and was not touched; choose another name", args[0])
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			part := args[0] + ".part"
			f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("the backup cannot be written: %w", err)
			}
			defer os.Remove(part)
			p := newProgress(c.ErrOrStderr(), "backup", "kB")
			err = cl.Backup(c.Context(), io.MultiWriter(f, (*received)(p)))
			p.finish()
			if err == nil {
				err = f.Sync()
			}
			if e := f.Close(); err == nil {
				err = e
			}
			if err != nil {
				return err
			}
			r, err := server.VerifyBackup(c.Context(), part)
			if err != nil {
				return err
			}
			if err := os.Rename(part, args[0]); err != nil {
				return err
			}
			r.Folder = ""
			info, err := os.Stat(args[0])
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				fmt.Fprintf(w, "%s: %s, %s readings, verified.\nPut it back with: ullage store restore %s --data NEW-FOLDER\n", args[0], size(info.Size()), count(r.Readings), args[0])
			})
		},
	}
}

// received shows how many kB have come; how many there will be nobody knows.
type received progress

// Write implements io.Writer.
func (r *received) Write(b []byte) (int, error) {
	r.bytes += len(b)
	(*progress)(r).set(r.bytes/1000, -1)
	return len(b), nil
}

func storeRestore() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use: "restore FILE --data NEW-FOLDER", Short: "Unpack a backup into a new data folder", Args: exactly(1,
			"the backup"),
		Example: "  ullage store restore ullage-2026-03-09.tar --data again && ullage serve --data again",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := server.Restore(c.Context(), args[0], dir)
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				fmt.Fprintf(w, "%s holds what there was on %s: %s readings, all of it verified.\nStart a service on it with: ullage serve --data %s\n", dir, r.MadeAt.Local().Format(time.DateTime), count(r.Readings), dir)
			})
		},
	}
	c.Flags().StringVar(&dir, "data", "", "folder to make")
	needed(c, "data")
	return c
}

func storeCheck() *cobra.Command {
	var dir string
	var repair bool
	c := &cobra.Command{
		Use: "check --data FOLDER", Short: "Look a data folder through for damage, and repair what can be", Args: cobra.NoArgs,
		Long: `Looks at every checksum in a data folder that no service is running on. With
--repair, chunks that cannot be read are taken out, so that what lies around them
can be, and roll-ups are worked out again. It exits with 3 if there was damage.`,
		Example: "  ullage store check --data ullage-data\n  ullage store check --data ullage-data --repair",
		RunE: func(c *cobra.Command, _ []string) error {
			p := newProgress(c.ErrOrStderr(), "check", "%")
			r, err := server.CheckStore(c.Context(), dir, repair, func(f float64) { p.set(int(f*100), 100) })
			if p.bar != nil {
				p.bar.Finish()
			}
			if err != nil {
				return err
			}
			if err := show(c, r, func(w io.Writer) {
				for _, d := range r.Damage {
					fmt.Fprintf(w, "%s, %s: %s\n", d.File, d.Place, d.Sentence)
					if d.Repaired != "" {
						fmt.Fprintf(w, "  %s\n", d.Repaired)
					}
				}
				fmt.Fprintf(w, "%s, %s chunks, %s blocks of roll-ups and %s records looked at: %s.\n",
					counted(int(r.Readings), "reading"), count(r.Chunks), count(r.Rollups), count(r.Records),
					map[bool]string{true: "all sound", false: plural(len(r.Damage), "damage")}[len(r.Damage) == 0])
			}); err != nil {
				return err
			}
			if len(r.Damage) > 0 {
				return findings{fmt.Errorf("the data folder is damaged in %s", plural(len(r.Damage), "place"))}
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "data", "ullage-data", "data folder")
	c.Flags().BoolVar(&repair, "repair", false, "take out what cannot be read, and work out again what can be")
	return c
}
