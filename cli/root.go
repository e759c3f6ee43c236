// Package cli is the command line. Each command has a file of its own and
// works through package client, except those that run something here.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ullage/client"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/server"
)

// Exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitFindings    = 3
	exitRefused     = 4
	exitUnreachable = 5
)

// usageError is a mistake in how a command was called.
type usageError struct{ error }

// findings is the error of a check that found problems; they are printed.
type findings struct{ error }

// Run runs one command and returns its exit code.
func Run(args []string, in io.Reader, out, errs io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := newRoot()
	root.SetArgs(expressionLast(root, args))
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	var astray error
	helpFor(root, &astray)
	err := root.ExecuteContext(ctx)
	if err == nil {
		err = astray
	}
	if err == nil {
		return exitDone
	}
	fmt.Fprintln(errs, "ullage: "+explain(err))
	return codeOf(err)
}

// helpFor refuses to help with a command that there is not: the help of the one above it would look
// as if all were well. Help ends without an error, so this leaves one at astray.
func helpFor(root *cobra.Command, astray *error) {
	usual := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		if given := c.Flags().Args(); c.HasSubCommands() && len(given) > 0 {
			*astray = usageError{noCommand(c, given[0])}
			return
		}
		usual(c, args)
	})
	root.InitDefaultHelpCmd()
	for _, c := range root.Commands() {
		if c.Name() == "help" {
			c.PreRunE = func(_ *cobra.Command, args []string) error {
				if of, rest, err := root.Find(args); err == nil && of.HasSubCommands() && len(rest) > 0 {
					return usageError{noCommand(of, rest[0])}
				}
				return nil
			}
		}
	}
}

// expressionLast moves an expression that begins with a minus, such as -c > 3,
// behind everything else and a --, or it would be taken for a flag.
func expressionLast(root *cobra.Command, args []string) []string {
	c, rest, err := root.Find(args)
	if err != nil || c.Parent() == nil || c.Parent().Name() != "expr" || slices.Contains(args, "--") {
		return args
	}
	for i, a := range rest {
		if len(a) < 2 || a[0] != '-' || a[1] == '-' || i > 0 && takesValue(c, rest[i-1]) {
			continue
		}
		if name := a[1:]; len(name) == 1 && c.Flags().ShorthandLookup(name) != nil || c.InheritedFlags().ShorthandLookup(a[1:2]) != nil ||
			a == "-h" {
			continue
		}
		at := len(args) - len(rest) + i
		out := append(slices.Clone(args[:at]), args[at+1:]...)
		return append(out, "--", a)
	}
	return args
}

// takesValue reports whether what follows an argument is the value of a flag.
func takesValue(c *cobra.Command, arg string) bool {
	name, ok := strings.CutPrefix(arg, "--")
	if !ok || strings.Contains(name, "=") {
		return arg == "-o"
	}
	f := c.Flags().Lookup(name)
	if f == nil {
		f = c.InheritedFlags().Lookup(name)
	}
	return f != nil && f.NoOptDefVal == ""
}

// explain says what failed, why, and what to do next.
func explain(err error) string {
	var u *client.Unreachable
	var p *client.Problem
	switch {
	case errors.As(err, &p) && strings.Contains(p.Detail, "devices use POST /device/v1/"):
		return "this is the address for devices; name that of the console and the API with --url, such as http://127.0.0.1:8460"
	case errors.As(err, &u) && strings.Contains(u.Error(), "malformed HTTP"):
		return "what answers there speaks no HTTP, so it may be the address for devices over MQTT; name that of the console and the API with --url, such as http://127.0.0.1:8460"
	case errors.As(err, &u):
		return u.Error() + "; start one with ullage serve, or name another with --url or ULLAGE_URL"
	case errors.As(err, &p) && p.Code == "unauthenticated" && p.About != "password":
		return p.Error() + ", with: ullage login URL"
	case errors.As(err, &p) && hints[p.Code+" "+p.About] != "":
		return p.Error() + "; " + hints[p.Code+" "+p.About]
	case errors.As(err, &p) && p.Code == "not-found" && slices.Contains(nouns, p.About):
		return p.Error() + "; see: ullage " + strings.ReplaceAll(p.About, " ", "-") + " list"
	case errors.Is(err, context.Canceled):
		return "interrupted; what was done until then stays done"
	}
	return err.Error()
}

// hints say in commands how to go on, by the code of a problem and the noun that
// it is about.
var hints = map[string]string{
	"conflict device": "give it a new token with: ullage device renew", "not-found model": "see: ullage model list, or publish one with: ullage model publish FILE",
	"invalid model": "see what it has with: ullage model show MODEL", "too-many command": "see them with: ullage command list DEVICE",
}

// nouns are those whose lists say which there are.
var nouns = []string{"device", "alarm", "rule", "site", "layer", "rollout", "board", "person", "team", "key", "join key", "join request", "maintenance"}

func codeOf(err error) int {
	var u *client.Unreachable
	var p *client.Problem
	var usage usageError
	var found findings
	switch {
	case errors.As(err, &usage):
		return exitUsage
	case errors.As(err, &found):
		return exitFindings
	case errors.As(err, &u):
		return exitUnreachable
	case errors.As(err, &p) && (p.Status == 401 || p.Status == 403):
		return exitRefused
	}
	return exitFailed
}

// The groups stand in the order of the work.
const (
	groupModel    = "1"
	groupJoin     = "2"
	groupConnect  = "3"
	groupAlarm    = "4"
	groupSettings = "5"
	groupSee      = "6"
	groupService  = "9"
)

func newRoot() *cobra.Command {
	root := &cobra.Command{
		Use:   "ullage",
		Short: "Models, onboards, watches and configures a fleet of devices",
		Long: `Ullage models device types, onboards devices with credentials, takes their
readings over MQTT and HTTP, raises alarms, and sends settings out and sees
them confirmed.

Start a service with "ullage serve", sign in with "ullage login", and go on
from top to bottom; or see it all at once with "ullage demo".`,
		Version:       server.Version,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          cobra.NoArgs,
		RunE:          func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	root.SetVersionTemplate("ullage {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return usageError{unknownFlag(c, err)} })
	root.AddGroup(
		&cobra.Group{ID: groupModel, Title: "Model a device type:"},
		&cobra.Group{ID: groupJoin, Title: "Onboard devices:"},
		&cobra.Group{ID: groupConnect, Title: "Connect and see readings:"},
		&cobra.Group{ID: groupAlarm, Title: "Alarm on them:"},
		&cobra.Group{ID: groupSettings, Title: "Configure over the air:"},
		&cobra.Group{ID: groupSee, Title: "See how the fleet is:"},
		&cobra.Group{ID: groupService, Title: "The service itself:"},
	)
	root.SetHelpCommandGroupID(groupService)
	root.SetCompletionCommandGroupID(groupService)
	flags := root.PersistentFlags()
	flags.String("url", "", "address of the service [ULLAGE_URL]")
	flags.StringP("output", "o", "table", "table, json, yaml or csv")
	flags.String("units", "", "units of numbers: own for those that you prefer, model for those of the models; own in tables and model elsewhere if not given")
	root.RegisterFlagCompletionFunc("units", cobra.FixedCompletions([]string{"own", "model"}, cobra.ShellCompDirectiveNoFileComp))
	flags.Bool("raw", false, "print what devices wrote as it is: control characters in tables, formulas in CSV")
	root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml", "csv"},
		cobra.ShellCompDirectiveNoFileComp))
	root.AddCommand(modelCommand(), schemaCommand(), compareCommand(), loadCommand(), deviceCommand(), trafficCommand(), doctorCommand(),
		queryCommand(), importCommand(), readingCommand(), checkCommand(), ruleCommand(), siteCommand(), maintenanceCommand(), joinKeyCommand(), joinRequestCommand(), personCommand(), teamCommand(), keyCommand(), accessCommand(), alarmCommand(), responseCommand(), watchCommand(), exprCommand(),
		settingCommand(), causeCommand(), boardCommand(), layerCommand(), rolloutCommand(), commandCommand(), journalCommand(), serveCommand(), storeCommand(), authorityCommand(), configCommand(), demoCommand(), simCommand(), loginCommand(), logoutCommand(), openapiCommand(), exitCodes(), hashCommand())
	usage(root)
	return root
}

// usage makes a wrong use of whatever a command says of its arguments and of
// flags that it needs.
func usage(c *cobra.Command) {
	if args := c.Args; args != nil {
		c.Args = func(c *cobra.Command, given []string) error {
			var known usageError
			err := args(c, given)
			if err == nil || errors.As(err, &known) {
				return err
			}
			if c.HasSubCommands() && len(given) > 0 {
				return usageError{noCommand(c, given[0])}
			}
			return usageError{err}
		}
	}
	for _, sub := range c.Commands() {
		usage(sub)
	}
}

// alike are verbs that people try for one another.
var alike = [][]string{
	{"invite", "save", "set", "change", "create", "make", "publish", "load", "add", "new", "edit", "update", "put"},
	{"remove", "retire", "revoke", "delete", "rm", "del", "drop", "destroy"},
	{"stop", "undo", "withdraw", "cancel", "abort", "end"},
	{"list", "ls", "all"},
	{"show", "get", "describe", "info", "view", "cat"},
}

// flagsAlike are names that people try for a flag.
var flagsAlike = map[string][]string{
	"span":      {"from", "since", "start", "to", "until", "end", "last", "range", "time"},
	"where":     {"filter", "selector", "query", "if", "only"},
	"output":    {"format", "json", "yaml", "csv"},
	"group-by":  {"group", "by", "per"},
	"aggregate": {"function", "agg", "fn"},
	"limit":     {"max", "top", "count", "n", "head"},
	"order":     {"sort", "sort-by"},
	"step":      {"interval", "resolution", "every", "bucket"},
	"label":     {"tag", "labels"},
	"yes":       {"force", "y", "f", "no-confirm"},
}

// meant returns the commands of another that may be meant by a word that is none: those
// that are spelled so, and those that do such a thing.
func meant(c *cobra.Command, given string) []string {
	c.SuggestionsMinimumDistance = 2
	near := c.SuggestionsFor(given)
	for _, verbs := range alike {
		if !slices.Contains(verbs, given) {
			continue
		}
		near = nil
		for _, v := range verbs {
			if slices.ContainsFunc(c.Commands(), func(sub *cobra.Command) bool { return sub.Name() == v }) {
				near = append(near, v)
			}
		}
	}
	return near[:min(len(near), 3)]
}

// noCommand says that a command does not have another, and which was meant.
func noCommand(c *cobra.Command, given string) error {
	text := fmt.Sprintf("%s has no command %q", c.CommandPath(), given)
	if near := meant(c, given); len(near) > 0 {
		return errors.New(text + "; did you mean " + strings.Join(near, " or ") + "?")
	}
	return fmt.Errorf("%s; see: %s --help", text, c.CommandPath())
}

// needed says that a flag has to be given; whoever leaves it out is told so as a
// wrong use.
func needed(c *cobra.Command, flag string) {
	before := c.PreRunE
	c.PreRunE = func(c *cobra.Command, args []string) error {
		if !c.Flags().Changed(flag) {
			line := strings.TrimSuffix(c.UseLine(), " [flags]")
			if !strings.Contains(line, "--"+flag) {
				line += " --" + flag + " …"
			}
			return usageError{fmt.Errorf("--%s is needed; write: %s", flag, line)}
		}
		if before != nil {
			return before(c, args)
		}
		return nil
	}
}

// unknownFlag adds to the error of a flag that does not exist the nearest that does, or
// where to find them.
func unknownFlag(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if !errors.As(err, &unknown) {
		return err
	}
	// Behind a command that does not exist, no flag can be right.
	if given := c.Flags().Args(); c.HasSubCommands() && len(given) > 0 {
		return noCommand(c, given[0])
	}
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			names = append(names, f.Name)
		}
	})
	given := unknown.GetSpecifiedName()
	near := value.Nearest(given, names)
	for name, others := range flagsAlike {
		if slices.Contains(names, name) && slices.Contains(others, given) {
			near = name
		}
	}
	if near != "" {
		return fmt.Errorf("%w; did you mean --%s? See: %s --help", err, near, c.CommandPath())
	}
	return fmt.Errorf("%w; see: %s --help", err, c.CommandPath())
}

// noun returns a command that only holds verbs.
func noun(group, use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, GroupID: group, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return c.Help()
		}}
	c.AddCommand(verbs...)
	return c
}

// exactly wants n arguments and says which.
func exactly(n int, words string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) == n {
			return nil
		}
		return usageError{fmt.Errorf("%s takes %s; write: %s", c.CommandPath(), words, c.UseLine())}
	}
}

// between wants some arguments and says which.
func between(least, most int, words string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) >= least && len(args) <= most {
			return nil
		}
		return usageError{fmt.Errorf("%s takes %s; write: %s", c.CommandPath(), words, c.UseLine())}
	}
}

func atLeast(n int, words string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) >= n {
			return nil
		}
		return usageError{fmt.Errorf("%s takes %s; write: %s", c.CommandPath(), words, c.UseLine())}
	}
}

// connect returns a client of the service the person is signed in to.
func connect(c *cobra.Command) (*client.Client, error) {
	l, err := readLogin()
	if err != nil {
		return nil, err
	}
	u, _ := c.Flags().GetString("url")
	if u = cmp.Or(u, os.Getenv("ULLAGE_URL")); u != "" && addressOf(u) != l.URL {
		l = login{URL: addressOf(u)}
	}
	if f := os.Getenv("ULLAGE_FINGERPRINT"); f != "" {
		l.Fingerprint = f
	}
	if t := os.Getenv("ULLAGE_TOKEN"); t != "" {
		l.Token = t
	}
	if l.URL == "" {
		l.URL = "http://127.0.0.1:8460"
	}
	cl, err := l.client()
	if err != nil {
		return nil, err
	}
	format, _ := c.Flags().GetString("output")
	switch units, _ := c.Flags().GetString("units"); {
	case units == "own" || units == "" && format == "table":
		return cl.InOwnUnits(), nil
	case units != "" && units != "model":
		return nil, usageError{fmt.Errorf("--units is %q; it is own or model", units)}
	}
	return cl, nil
}

// complete turns a list of names from the service into shell completion.
func complete(names func(*cobra.Command, *client.Client) ([]string, error)) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, prefix string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		cl, err := connect(c)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		all, err := names(c, cl)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var out []string
		for _, n := range all {
			if strings.HasPrefix(n, prefix) {
				out = append(out, n)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

var deviceNames = complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
	ds, err := cl.DevicesLike(c.Context(), client.DeviceFilter{Brief: true})
	var out []string
	for _, d := range ds {
		out = append(out, d.ID+"\t"+d.Model+", "+d.Health)
	}
	return out, err
})

var modelNames = complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
	ms, err := cl.Models().List(c.Context(), client.ListOptions{})
	var out []string
	for _, m := range ms {
		out = append(out, m.Name+"\t"+m.Title)
	}
	return out, err
})

var alarmNames = complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
	as, err := cl.Alarms(c.Context(), client.AlarmFilter{LogFilter: client.LogFilter{Limit: 100}})
	var out []string
	for _, a := range as.Items {
		out = append(out, a.ID+"\t"+a.Message)
	}
	return out, err
})

// wrong is a mistake in what a person gave.
func wrong(format string, args ...any) error { return fault.New(fault.Invalid, format, args...) }

// boardsOf completes the names of what boards are made of.
func boardsOf() map[string]cobra.CompletionFunc {
	return map[string]cobra.CompletionFunc{"model": modelThings.names(), "site": siteThings.names()}
}
