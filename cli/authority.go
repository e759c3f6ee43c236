package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ullage/server"
)

func authorityCommand() *cobra.Command {
	return noun(groupService, "authority", "Look after the keys with which certificates and join keys are made", authorityShow(), authorityExport(), authorityRestore(), authorityDrill(), authorityRenew())
}

// passphraseOf asks for a passphrase, or reads it from standard input.
func passphraseOf(c *cobra.Command, what string, stdin bool) (string, error) {
	if !stdin {
		in, ok := c.InOrStdin().(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return "", usageError{fmt.Errorf("the passphrase of %s is needed and nobody is there to type it; give it with --passphrase-stdin", what)}
		}
		fmt.Fprintf(c.ErrOrStderr(), "Passphrase of %s: ", what)
		b, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(c.ErrOrStderr())
		return string(b), err
	}
	b, err := io.ReadAll(io.LimitReader(c.InOrStdin(), 1000))
	return strings.TrimRight(string(b), "\r\n"), err
}

func authorityShow() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use: "show --data FOLDER", Short: "Show the certificates of the authority, and when its keys were exported", Args: cobra.NoArgs,
		Example: "  ullage authority show --data ullage-data",
		RunE: func(c *cobra.Command, _ []string) error {
			a, err := server.AuthorityOf(data)
			if err != nil {
				return err
			}
			return show(c, a, func(w io.Writer) {
				exported := "never; do it with: ullage authority export"
				if a.ExportedAt != nil {
					exported = a.ExportedAt.Local().Format(time.DateTime)
				}
				table(w, [][]string{{"root", a.Root}, {"", "until " + a.RootUntil.Local().Format(time.DateOnly)}, {"issuing", a.Issuing},
					{"", "until " + a.IssuingEnds.Local().Format(time.DateOnly)}, {"of before", fmt.Sprint(a.Former)}, {"exported", exported}})
			})
		},
	}
	c.Flags().StringVar(&data, "data", "", "data folder of the service")
	needed(c, "data")
	return c
}

func authorityExport() *cobra.Command {
	var data string
	var stdin bool
	c := &cobra.Command{
		Use: "export FILE --data FOLDER", Short: "Write the keys into an encrypted file, which no backup holds otherwise", Args: exactly(1, "the file to write"),
		Long: `Writes the root and issuing certificates, their keys and the master key into one file: a
tar file, encrypted with a passphrase in the format of age (age-encryption.org/v1).
The passphrase is made up and printed, or read with --passphrase-stdin. Keep both, in
two places: with them and a backup a service goes on anywhere. The service may run.`,
		Example: "  ullage authority export ullage-keys.age --data ullage-data",
		RunE: func(c *cobra.Command, args []string) error {
			passphrase := ""
			if stdin {
				var err error
				if passphrase, err = passphraseOf(c, "the export", true); err != nil {
					return err
				}
				if len(passphrase) < 12 {
					return usageError{fmt.Errorf("the passphrase has %d characters; 12 are the least", len(passphrase))}
				}
			}
			said, err := server.ExportKeys(data, args[0], passphrase)
			if err != nil {
				return err
			}
			w := c.OutOrStdout()
			fmt.Fprintf(w, "The keys are in %s.\n", args[0])
			if passphrase == "" {
				fmt.Fprintf(w, "Passphrase (shown this once): %s\n", said)
			}
			fmt.Fprintf(w, "See whether a backup comes back with them: ullage authority drill BACKUP %s\n", args[0])
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "", "data folder of the service")
	c.Flags().BoolVar(&stdin, "passphrase-stdin", false, "read the passphrase from standard input")
	needed(c, "data")
	return c
}

func authorityRestore() *cobra.Command {
	var data string
	var stdin bool
	c := &cobra.Command{
		Use: "restore FILE --data FOLDER", Short: "Put exported keys into a data folder that has none", Args: exactly(1, "the export"),
		Example: "  ullage store restore ullage.tar --data again && ullage authority restore ullage-keys.age --data again",
		RunE: func(c *cobra.Command, args []string) error {
			passphrase, err := passphraseOf(c, args[0], stdin)
			if err != nil {
				return err
			}
			if err := server.ImportKeys(data, args[0], passphrase); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "The keys are in %s; start a service on it with: ullage serve --data %s\n", data, data)
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "", "data folder to put them into")
	c.Flags().BoolVar(&stdin, "passphrase-stdin", false, "read the passphrase from standard input")
	needed(c, "data")
	return c
}

func authorityDrill() *cobra.Command {
	var stdin bool
	c := &cobra.Command{
		Use: "drill BACKUP KEYS", Short: "See whether a service would come back from a backup and an export of keys", Args: exactly(2, "a backup and an export"),
		Long: `Restores both into a folder of its own, opens them as a service would, makes a
certificate and the secrets of the join keys, and takes the folder away again. No
service is touched. It exits with 1 where something is missing.`,
		Example: "  ullage authority drill ullage.tar ullage-keys.age",
		RunE: func(c *cobra.Command, args []string) error {
			passphrase, err := passphraseOf(c, args[1], stdin)
			if err != nil {
				return err
			}
			d, err := server.Drill(c.Context(), args[0], args[1], passphrase)
			if err != nil {
				return fmt.Errorf("a service would not come back: %w", err)
			}
			return show(c, d, func(w io.Writer) {
				fmt.Fprintf(w, "A service would come back as it was on %s: %s, %s readings, %d certificates of devices, %s.\nIts devices trust the root %s\n",
					d.MadeAt.Local().Format(time.DateTime), plural(d.Devices, "device"), count(d.Readings), d.Certificates, plural(d.JoinKeys, "join key"), d.Root)
			})
		},
	}
	c.Flags().BoolVar(&stdin, "passphrase-stdin", false, "read the passphrase from standard input")
	return c
}

func authorityRenew() *cobra.Command {
	var data string
	var stdin, root bool
	c := &cobra.Command{
		Use: "renew --data FOLDER", Short: "Make another issuing certificate, and with --root another root; those of before stay trusted", Args: cobra.NoArgs,
		Long: `Makes another issuing certificate, signed by the root key, whose passphrase is needed.
With --root it makes another root too. What was before overlaps: certificates of devices
hold to their end, and devices that trust the root of before alone go on, since that has
signed the new one; bundles from then on hold both. Restart the
service afterwards, and export the keys again.`,
		Example: "  ullage authority renew --data ullage-data --root",
		RunE: func(c *cobra.Command, _ []string) error {
			passphrase, err := passphraseOf(c, "the root key", stdin)
			if err != nil {
				return err
			}
			r, err := server.RenewKeys(data, passphrase, root)
			if err != nil {
				return err
			}
			w := c.OutOrStdout()
			fmt.Fprintf(w, "The issuing certificate holds until %s.\n", r.Issuing.NotAfter.Local().Format(time.DateOnly))
			if r.Passphrase != "" {
				fmt.Fprintf(w, "The root holds until %s. Passphrase of its key (shown this once): %s\n", r.Root.NotAfter.Local().Format(time.DateOnly), r.Passphrase)
			}
			fmt.Fprintf(w, "Restart the service, and export the keys: ullage authority export FILE --data %s\n", data)
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "", "data folder of the service")
	c.Flags().BoolVar(&root, "root", false, "another root too")
	c.Flags().BoolVar(&stdin, "passphrase-stdin", false, "read the passphrase from standard input")
	needed(c, "data")
	return c
}
