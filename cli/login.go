package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
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

func loginCommand() *cobra.Command {
	var person string
	var stdin bool
	c := &cobra.Command{
		Use:     "login [URL]",
		Short:   "Sign in to a service",
		GroupID: groupService,
		Args:    between(0, 1, "one name at most"),
		Example: "  ullage login http://127.0.0.1:8460 --person engineer\n  ullage login --password-stdin < password.txt",
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
			if !strings.Contains(url, "://") {
				url = "http://" + url
			}
			passwords, err := askPasswords(c, stdin, "Password")
			if err != nil {
				return err
			}
			cl := client.New(url, "")
			s, err := cl.SignIn(c.Context(), person, passwords[0])
			if err != nil {
				return err
			}
			if err := writeLogin(login{url, s.Person, s.Token}); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Signed in to %s as %s (%s) until %s\n", url, s.Person, s.Role,
				s.ExpiresAt.Local().Format("2 January 2006"))
			return nil
		},
	}
	c.Flags().StringVar(&person, "person", "engineer", "name to sign in with")
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read the password from standard input")
	return c
}

// askPasswords asks for passwords by what they are, or reads a line each of standard
// input.
func askPasswords(c *cobra.Command, stdin bool, what ...string) ([]string, error) {
	f, ok := c.InOrStdin().(*os.File)
	terminal := ok && term.IsTerminal(int(f.Fd()))
	if !stdin && !terminal {
		return nil,
			usageError{errors.New("there is no terminal to ask for the password; pipe it in with --password-stdin")}
	}
	in := bufio.NewReader(c.InOrStdin())
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
		line, err := in.ReadString('\n')
		if line == "" && err != nil {
			return nil, usageError{fmt.Errorf("no %s came on standard input", strings.ToLower(w))}
		}
		out[i] = strings.TrimRight(line, "\r\n")
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
