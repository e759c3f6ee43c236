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
			password, err := askPassword(c, stdin)
			if err != nil {
				return err
			}
			cl := client.New(url, "")
			s, err := cl.SignIn(c.Context(), person, password)
			if err != nil {
				return err
			}
			if err := writeLogin(login{url, s.Person, s.Token}); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Signed in to %s as %s until %s\n", url, s.Person,
				s.ExpiresAt.Local().Format("2 January 2006"))
			return nil
		},
	}
	c.Flags().StringVar(&person, "person", "engineer", "name to sign in with")
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read the password from standard input")
	return c
}

func askPassword(c *cobra.Command, stdin bool) (string, error) {
	f, ok := c.InOrStdin().(*os.File)
	if !stdin && ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(c.ErrOrStderr(), "Password: ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(c.ErrOrStderr())
		return string(b), err
	}
	if !stdin {
		return "",
			usageError{errors.New("there is no terminal to ask for the password; pipe it in with --password-stdin")}
	}
	line, err := bufio.NewReader(c.InOrStdin()).ReadString('\n')
	if line == "" && err != nil {
		return "", usageError{errors.New("no password came on standard input")}
	}
	return strings.TrimRight(line, "\r\n"), nil
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
