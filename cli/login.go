package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ullage/client"
)

// login is what the command line remembers between commands.
type login struct {
	URL    string `json:"url"`
	Person string `json:"person"`
	Token  string `json:"token"`
	// How the service is known over TLS, as client.Trust has it.
	Fingerprint string `json:"fingerprint,omitempty"`
	Authority   string `json:"authority,omitempty"`
	// Familiar is shown at the next sign-in to the same service.
	Familiar string `json:"familiar,omitempty"`
}

func loginPath() (string, error) {
	if p := os.Getenv("ULLAGE_LOGIN"); p != "" {
		return p, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder to remember the sign-in in (%w); set ULLAGE_LOGIN to a file", err)
	}
	return filepath.Join(dir, "ullage", "login.json"), nil
}

func readLogin() (login, error) {
	var l login
	path, err := loginPath()
	if err != nil {
		return l, nil
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &l)
	}
	if err != nil {
		return l, fmt.Errorf("the sign-in in %s cannot be read; sign in again with ullage login URL", path)
	}
	return l, nil
}

func writeLogin(l login) error {
	path, err := loginPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return os.WriteFile(path, b, 0o600)
}

// addressOf is an address as people write it, whole.
func addressOf(s string) string {
	if !strings.Contains(s, "://") {
		s = "http://" + s
	}
	return strings.TrimRight(s, "/")
}

func loginCommand() *cobra.Command {
	var person, fingerprint, authority string
	var stdin, key bool
	c := &cobra.Command{
		Use:     "login [URL]",
		Short:   "Sign in to a service",
		GroupID: groupService,
		Args:    between(0, 1, "one name at most"),
		Long: `Signs in to a service and remembers it for the commands that follow.

Over TLS the service is known by its certificate. Where no authority that this
machine knows vouches for it, its SHA-256 is shown and remembered once you have
compared it with what the service prints when it starts; give it with
--fingerprint where nobody can be asked. From then on no other certificate is taken.`,
		Example: "  ullage login http://127.0.0.1:8460 --person engineer\n  ullage login https://cellars.example.org:8462\n  ullage login --password-stdin < password.txt",
		RunE: func(c *cobra.Command, args []string) error {
			url := os.Getenv("ULLAGE_URL")
			if len(args) == 1 {
				url = args[0]
			}
			if u, _ := c.Flags().GetString("url"); u != "" {
				url = u
			}
			if url == "" {
				url = "http://127.0.0.1:8460"
			}
			url = addressOf(url)
			if err := client.CheckAddress(url); err != nil {
				return usageError{err}
			}
			l := login{URL: url, Fingerprint: fingerprint}
			if authority != "" {
				b, err := os.ReadFile(authority)
				if err != nil {
					return fmt.Errorf("the authority's certificate cannot be read: %w", err)
				}
				l.Authority = string(b)
			}
			if err := l.know(c, stdin || key); err != nil {
				return err
			}
			if key {
				return l.withKey(c)
			}
			passwords, err := askPasswords(c, stdin, "Password")
			if err != nil {
				return err
			}
			cl, err := l.client()
			if err != nil {
				return err
			}
			if before, err := readLogin(); err == nil && before.URL == l.URL {
				cl.Familiar(before.Familiar)
			}
			s, err := cl.SignIn(c.Context(), person, passwords[0])
			if client.NeedsCode(err) {
				var code []string
				if code, err = askPasswords(c, stdin, "Code of your second factor"); err == nil {
					s, err = cl.SignInWith(c.Context(), person, passwords[0], code[0])
				}
			}
			if err != nil {
				return err
			}
			l.Person, l.Token, l.Familiar = s.Person, s.Token, s.Familiar
			if err := writeLogin(l); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Signed in to %s as %s (%s) until %s\n", url, s.Person, s.Role,
				s.ExpiresAt.Local().Format("2 January 2006"))
			return nil
		},
	}
	c.Flags().StringVar(&person, "person", "engineer", "name to sign in with")
	c.Flags().StringVar(&fingerprint, "fingerprint", "", "SHA-256 of the service's certificate, as it prints it")
	c.Flags().StringVar(&authority, "authority", "", "file with the certificate in PEM of an authority to believe")
	c.MarkFlagsMutuallyExclusive("fingerprint", "authority")
	c.Flags().BoolVar(&key, "key-stdin", false, "use a key instead, whose secret comes on standard input")
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read the password from standard input")
	c.MarkFlagsMutuallyExclusive("key-stdin", "password-stdin")
	c.MarkFlagsMutuallyExclusive("key-stdin", "person")
	return c
}

// client returns a client of the service.
func (l login) client() (*client.Client, error) {
	return client.NewTrusting(l.URL, l.Token, client.Trust{Fingerprint: l.Fingerprint, Authority: []byte(l.Authority)})
}

// know finds out how the service is known over TLS: by an authority, or by its
// certificate, which a person compares.
func (l *login) know(c *cobra.Command, stdin bool) error {
	if !strings.HasPrefix(l.URL, "https://") || l.Fingerprint != "" || l.Authority != "" {
		return nil
	}
	shown, known, err := client.Certificate(c.Context(), l.URL)
	if err != nil || known {
		return err
	}
	if f, ok := c.InOrStdin().(*os.File); stdin || !ok || !term.IsTerminal(int(f.Fd())) {
		return fmt.Errorf("no authority that this machine knows vouches for %s. Its certificate has the SHA-256\n  %s\nIf that is what the service printed when it started, say: --fingerprint %s", l.URL,
			shown, strings.ReplaceAll(shown, ":", ""))
	}
	fmt.Fprintf(c.ErrOrStderr(), "No authority that this machine knows vouches for %s.\nIts certificate has the SHA-256\n  %s\nIs that what the service printed when it started? (yes/no) ", l.URL, shown)
	answer, err := readLine(c.InOrStdin())
	if err != nil || !strings.EqualFold(strings.TrimSpace(answer), "yes") {
		return errors.New("not signed in: the certificate is not the one to expect")
	}
	l.Fingerprint = shown
	return nil
}

// withKey remembers a key that comes on standard input, once the service knows it.
func (l *login) withKey(c *cobra.Command) error {
	secret, err := readLine(io.LimitReader(c.InOrStdin(), 1000))
	if secret == "" && err != nil {
		return usageError{errors.New("no key came on standard input")}
	}
	l.Token = strings.TrimSpace(secret)
	cl, err := l.client()
	if err != nil {
		return err
	}
	me, err := cl.Me(c.Context())
	if err != nil {
		return err
	}
	l.Person = me.Person
	if err := writeLogin(*l); err != nil {
		return err
	}
	fmt.Fprintf(c.OutOrStdout(), "Signed in to %s with the %s (%s)\n", l.URL, me.Person, me.Role)
	return nil
}

// readLine reads one line and nothing behind it.
func readLine(in io.Reader) (string, error) {
	var line []byte
	var b [1]byte
	for {
		n, err := in.Read(b[:])
		if n > 0 && b[0] != '\n' {
			line = append(line, b[0])
		}
		if n > 0 && b[0] == '\n' || err != nil {
			return strings.TrimRight(string(line), "\r"), err
		}
	}
}

// askPasswords asks for passwords by what they are, or reads a line each of standard
// input.
func askPasswords(c *cobra.Command, stdin bool, what ...string) ([]string, error) {
	return askHidden(c, stdin, "--password-stdin", what...)
}

// askHidden asks for what must not be seen, or reads a line each of standard input where
// the flag says so.
func askHidden(c *cobra.Command, stdin bool, flag string, what ...string) ([]string, error) {
	f, ok := c.InOrStdin().(*os.File)
	terminal := ok && term.IsTerminal(int(f.Fd()))
	if !stdin && !terminal {
		return nil,
			usageError{fmt.Errorf("there is no terminal to ask for the %s; pipe it in with %s", strings.ToLower(what[0]), flag)}
	}
	out := make([]string, len(what))
	for i, w := range what {
		if !stdin {
			fmt.Fprint(c.ErrOrStderr(), w+": ")
			b, err := term.ReadPassword(int(f.Fd()))
			fmt.Fprintln(c.ErrOrStderr())
			if err != nil {
				return nil, err
			}
			out[i] = string(b)
			continue
		}
		line, err := readLine(c.InOrStdin())
		if line == "" && err != nil {
			return nil, usageError{fmt.Errorf("no %s came on standard input", strings.ToLower(w))}
		}
		out[i] = line
	}
	return out, nil
}

func logoutCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "logout",
		Short:   "End the sign-in on this machine and in the service",
		GroupID: groupService,
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			err = cl.SignOut(c.Context())
			if path, e := loginPath(); e == nil {
				os.Remove(path)
			}
			if err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), "Signed out")
			return nil
		},
	}
}
