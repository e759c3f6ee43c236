package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/person"
	"ullage/core/unit"
)

var personThings = things[client.Person]{
	group: groupService, word: "person", words: "people", short: "Who may sign in, and what they may do",
	of: (*client.Client).People, name: func(p client.Person) string { return p.Name },
	columns: []column[client.Person]{
		{"person", func(p client.Person) string { return p.Name }},
		{"role", func(p client.Person) string { return roleOr(p.Role) }},
		{"for", func(p client.Person) string {
			switch {
			case p.Role == "":
				return "nothing"
			case p.Limited:
				return "some devices"
			}
			return "all devices"
		}},
		{"teams", func(p client.Person) string { return strings.Join(p.Teams, ", ") }},
		{"sign-ins", func(p client.Person) string {
			if p.Invited {
				return "invited"
			}
			return fmt.Sprint(p.Sessions)
		}},
		{"since", func(p client.Person) string {
			if p.JoinedAt == nil {
				return ""
			}
			return p.JoinedAt.Local().Format("2006-01-02")
		}},
		{"note", func(p client.Person) string { return p.Note }},
	},
	none:    "There is nobody.",
	read:    person.Parse,
	yaml:    func(p client.Person) []byte { return p.YAML() },
	removed: "what they have open ends within a second", example: "night-duty", folder: "people", set: "note='At night'",
}

func personCommand() *cobra.Command {
	c := personThings.command()
	c.Long = `A person has grants, their own and those of their teams. A grant is a role, for
all devices or for those of an access; each role may do what those before it may:

  viewer    looks
  operator  acknowledges alarms, gives commands, changes settings of devices
  engineer  onboards devices, makes models, rules, layers and sites, deletes readings
  owner     lets people in, and backs the service up

What somebody does not reach does not exist for them. Whoever is new gets in by a
link, on which they choose a password.`
	giving, taking := granting("person", personThings.names(), changePerson)
	c.AddCommand(personInvite(), giving, taking, starting("person", personThings.names(), startPerson), personPassword(), personPrefer(), personFactor(), personSessions(), personEnd())
	return c
}

func startPerson(ctx context.Context, cl *client.Client, name string, s *person.Start) error {
	p, tag, err := cl.People().Get(ctx, name)
	if err == nil {
		p.Start = s
		_, err = cl.People().Put(ctx, p, tag)
	}
	return err
}

func personInvite() *cobra.Command {
	var role, access, note string
	var yes bool
	c := &cobra.Command{
		Use:   "invite NAME",
		Short: "Let somebody in: a link on which they choose a password, once",
		Long: `Prints a link on which somebody chooses a password. It may be used once, within
seven days, and replaces one of before. With --role the person is made first if
there is none of that name. For somebody who has lost their password it is the
way to another one.`,
		Example: "  ullage person invite night-duty --role operator\n" +
			"  ullage person invite cellar-master --role operator --access 'label.site == \"Fennimore\"'\n  ullage person invite engineer",
		Args:              exactly(1, "a name"),
		ValidArgsFunction: personThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if role != "" {
				p, tag, err := cl.People().Get(c.Context(), args[0])
				if err != nil && !client.IsNotFound(err) {
					return err
				}
				wanted := client.Grant{Role: person.Role(role), Access: access}
				switch {
				case err != nil: // they are new
					if err := reaches(c, cl, access, yes); err != nil {
						return err
					}
					p = client.Person{Name: args[0], Grants: []client.Grant{wanted}, Note: note}
					if _, err := cl.People().Put(c.Context(), p, tag); err != nil {
						return err
					}
				case len(p.Grants) != 1 || p.Grants[0] != wanted:
					return fmt.Errorf("%s exists already, and may do something else; for another link leave --role out, and change what they may do with: ullage person grant", args[0])
				}
			}
			i, err := cl.Invite(c.Context(), args[0])
			if client.IsNotFound(err) {
				return fmt.Errorf("%w; with --role they are made first", err)
			}
			if err != nil {
				return err
			}
			i.Path = cl.Base() + i.Path
			return show(c, i, func(w io.Writer) {
				fmt.Fprintf(w, "Give this link to %s. It may be used once, until %s:\n%s\n", i.Person,
					i.ExpiresAt.Local().Format("2 January 2006 15:04"), i.Path)
			})
		},
	}
	wordFlag(c, &role, "role", "", "make them first, with this role", "viewer", "operator", "engineer", "owner")
	c.Flags().StringVar(&access, "access", "", "only for these devices, as in label.site == \"Fennimore\"; with --role")
	c.Flags().StringVar(&note, "note", "", "who they are, for other people; with --role")
	c.Flags().BoolVar(&yes, "yes", false, "also where the access reaches no device, or all of them")
	return c
}

func personPassword() *cobra.Command {
	stdin := false
	c := &cobra.Command{
		Use:   "password",
		Short: "Choose another password for yourself",
		Long: `Asks for the password until now and for another one; your other sign-ins end.
With --password-stdin both come on standard input, a line each.`,
		Example: "  ullage person password",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			p, err := askPasswords(c, stdin, "Password until now", "Another password")
			if err != nil {
				return err
			}
			if err := cl.ChangePassword(c.Context(), p[0], p[1]); err != nil {
				return err
			}
			fmt.Fprintln(c.OutOrStdout(), "The password is changed; other sign-ins have ended.")
			return nil
		},
	}
	c.Flags().BoolVar(&stdin, "password-stdin", false, "read both passwords from standard input")
	return c
}

func personSessions() *cobra.Command {
	c := &cobra.Command{
		Use:               "sessions [NAME]",
		Short:             "List sign-ins that hold: your own, those of one person, or with --all everybody's",
		Example:           "  ullage person sessions\n  ullage person sessions --all -o json",
		Args:              between(0, 1, "one name at most"),
		ValidArgsFunction: personThings.names(),
	}
	all := c.Flags().Bool("all", false, "everybody's")
	c.RunE = func(c *cobra.Command, args []string) error {
		cl, err := connect(c)
		if err != nil {
			return err
		}
		name := strings.Join(args, "")
		if *all {
			name = "*"
		}
		xs, err := cl.Sessions(c.Context(), name)
		if err != nil {
			return err
		}
		return list(c, xs, "Nobody is signed in.",
			column[client.Session]{"session", func(s client.Session) string { return s.ID }},
			column[client.Session]{"person", func(s client.Session) string { return s.Person }},
			column[client.Session]{"with", func(s client.Session) string { return s.With }},
			column[client.Session]{"signed in", func(s client.Session) string { return s.SignedInAt.Local().Format("2006-01-02 15:04") }},
			column[client.Session]{"until", func(s client.Session) string { return s.ExpiresAt.Local().Format("2006-01-02 15:04") }},
			column[client.Session]{"this one", func(s client.Session) string { return yesNo(s.This) }})
	}
	return c
}

func personEnd() *cobra.Command {
	return &cobra.Command{
		Use:     "sign-out SESSION…",
		Short:   "End sign-ins; what is open with them ends within a second",
		Example: "  ullage person sign-out 3f1c0a9be27d4410",
		Args:    atLeast(1, "ids of sessions"),
		ValidArgsFunction: complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
			xs, err := cl.Sessions(c.Context(), "")
			var out []string
			for _, x := range xs {
				out = append(out, x.ID)
			}
			return out, err
		}),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			for _, id := range args {
				if err := cl.EndSession(c.Context(), id); err != nil {
					return err
				}
			}
			fmt.Fprintf(c.OutOrStdout(), "%s ended.\n", plural(len(args), "sign-in"))
			return nil
		},
	}
}

func personPrefer() *cobra.Command {
	return &cobra.Command{
		Use:   "prefer [KEY=VALUE…]",
		Short: "Show and choose in which units, time zone and colours you are shown things",
		Long: `Shows how you want things shown, or changes it. A key is theme, zone, week, or a
dimension such as temperature, with a unit of it; without a value it is as it comes
again. Tables of the command line and every page of the console follow; files, rules,
what is stored and what devices are sent stay as they are.`,
		Example: "  ullage person prefer temperature=degF 'pressure=[psi]'\n  ullage person prefer zone=site week=sunday\n  ullage person prefer temperature=",
		ValidArgsFunction: func(c *cobra.Command, _ []string, prefix string) ([]string, cobra.ShellCompDirective) {
			cl, err := connect(c)
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			now, err := cl.Preferences(c.Context())
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			words := []string{"zone=site", "zone=own"}
			for _, t := range person.Themes {
				words = append(words, "theme="+t)
			}
			for _, w := range person.Weeks {
				words = append(words, "week="+w)
			}
			for _, x := range now.Choices {
				for _, u := range x.Units {
					words = append(words, x.Dimension+"="+u.Symbol)
				}
			}
			return slices.DeleteFunc(words, func(w string) bool { return !strings.HasPrefix(w, prefix) }), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			now, err := cl.Preferences(c.Context())
			if err != nil {
				return err
			}
			p := now.Preferences
			if p.Units == nil {
				p.Units = unit.Preferred{}
			}
			for _, a := range args {
				key, val, ok := strings.Cut(a, "=")
				if !ok {
					return usageError{fmt.Errorf("%q is no choice; write it like temperature=degF", a)}
				}
				switch key {
				case "theme":
					p.Theme = val
				case "zone":
					p.Zone = val
				case "week":
					p.Week = val
				default:
					if p.Units[key] = val; val == "" {
						delete(p.Units, key)
					}
				}
			}
			if len(args) > 0 {
				if now, err = cl.SetPreferences(c.Context(), p); err != nil {
					return err
				}
			}
			return show(c, now.Preferences, func(w io.Writer) {
				p := now.Preferences
				fmt.Fprintf(w, "theme  %s\nzone   %s\nweek   begins on %s\n", cmp.Or(p.Theme, "system"), cmp.Or(p.Zone, "own"), cmp.Or(p.Week, "monday"))
				for _, d := range slices.Sorted(maps.Keys(p.Units)) {
					fmt.Fprintf(w, "%s in %s\n", d, unit.Display(p.Units[d]))
				}
				if len(p.Units) == 0 {
					fmt.Fprintln(w, "units  those of the models")
				}
			})
		},
	}
}
