package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/site"
)

var siteThings = things[client.Site]{
	group: groupJoin, word: "site", words: "sites", short: "The places where devices are",
	of: (*client.Client).Sites, name: func(s client.Site) string { return s.Name },
	columns: []column[client.Site]{
		{"site", func(s client.Site) string { return s.Name }},
		{"devices", func(s client.Site) string { return fmt.Sprint(s.Devices) }},
		{"zone", func(s client.Site) string { return s.Zone }},
		{"position", position},
		{"plan", func(s client.Site) string { return yesNo(s.Plan != "") }},
		{"address", func(s client.Site) string { return s.Address }},
	},
	none: "There is no site yet. Make one with: ullage site save NAME zone=Europe/Berlin",
	read: site.Parse,
	yaml: func(s client.Site) []byte {
		if s.Plan != "" {
			s.Plan = "" // the picture is no part of the text; it is at …/plan
		}
		return s.YAML()
	},
	loaded: func(c *cobra.Command, cl *client.Client, s client.Site, folder string) error {
		if s.Plan == "" {
			return nil
		}
		return sendPlan(c, cl, s.Name, filepath.Join(folder, s.Plan))
	},
	removed: "its devices keep their label", example: "High Orchard", folder: "examples/cellars/sites", set: "zone=UTC latitude=47.701 longitude=8.198",
}

var siteNames = siteThings.names()

func siteCommand() *cobra.Command {
	c := siteThings.command()
	c.AddCommand(sitePlan())
	return c
}

func position(s client.Site) string {
	if s.Latitude == nil || s.Longitude == nil {
		return ""
	}
	return fmt.Sprintf("%.3f %.3f", *s.Latitude, *s.Longitude)
}

func sitePlan() *cobra.Command {
	var remove bool
	c := &cobra.Command{
		Use:     "plan NAME [PICTURE]",
		Short:   "Give a site its plan picture: an SVG that only draws, a PNG or a JPEG",
		Example: "  ullage site plan Fennimore examples/cellars/sites/fennimore.svg",
		Args:    between(1, 2, "one or two names"),
		ValidArgsFunction: func(c *cobra.Command, args []string, p string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return siteNames(c, args, p)
			}
			return []string{"svg", "png", "jpg", "jpeg"}, cobra.ShellCompDirectiveFilterFileExt
		},
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) == 2) == remove {
				return usageError{fmt.Errorf("name a picture, or take the plan away with --remove")}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if remove {
				if err := cl.PutPlan(c.Context(), args[0], nil); err != nil {
					return err
				}
				fmt.Fprintf(c.OutOrStdout(), "%s has no plan any more.\n", args[0])
				return nil
			}
			if err := sendPlan(c, cl, args[0], args[1]); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s has a plan.\n", args[0])
			return nil
		},
	}
	c.Flags().BoolVar(&remove, "remove", false, "take the plan away")
	return c
}

func sendPlan(c *cobra.Command, cl *client.Client, name, path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return wrong("the plan %s cannot be read: there is no such file", path)
	}
	if info.Size() > site.MaxPlan {
		return wrong("the plan %s has %d bytes; a plan may have %d", path, info.Size(), site.MaxPlan)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if _, err := site.CheckPlan(b); err != nil {
		return wrong("the plan %s cannot be taken: %s", path, err)
	}
	return cl.PutPlan(c.Context(), name, b)
}
