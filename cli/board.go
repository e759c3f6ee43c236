package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/board"
)

var boardThings = things[client.Board]{
	group: groupSee, word: "board", words: "boards", short: "Pages of instruments, made from the models or your own",
	of: (*client.Client).Boards, name: func(b client.Board) string { return b.Name },
	columns: []column[client.Board]{
		{"board", func(b client.Board) string { return b.Name }},
		{"title", func(b client.Board) string { return b.Title }},
		{"instruments", func(b client.Board) string { return fmt.Sprint(len(b.Instruments)) }},
		{"chosen at the top", func(b client.Board) string { return strings.Join(b.Parameters, ", ") }},
		{"devices", func(b client.Board) string { return b.Devices }},
	},
	none: "There is no board of your own. Make one from what is there with: ullage board make site Fennimore > boards/fennimore.yaml",
	read: board.Parse, yaml: func(b client.Board) []byte { return b.YAML() },
	removed: "those who look at it have it no more", example: "fennimore-hall", folder: "boards",
}

func boardCommand() *cobra.Command {
	c := boardThings.command()
	c.AddCommand(boardMake(), boardCheck(), boardHistory())
	return c
}

func boardHistory() *cobra.Command {
	return &cobra.Command{Use: "history BOARD", Short: "List the versions of a board: who has changed what, and when",
		Long: "Lists the versions of a board, the newest first; 100 are kept. With -o json each comes\nwhole; the console goes back to one.",
		Args: exactly(1, "one board"), ValidArgsFunction: boardThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			vs, err := cl.BoardVersions(c.Context(), args[0])
			if err != nil {
				return err
			}
			return list(c, vs, "It has no versions.",
				column[client.BoardVersion]{"when", func(v client.BoardVersion) string { return v.At.Local().Format(time.DateTime) }},
				column[client.BoardVersion]{"by", func(v client.BoardVersion) string { return v.By }},
				column[client.BoardVersion]{"what", func(v client.BoardVersion) string { return v.Verb }},
				column[client.BoardVersion]{"difference", func(v client.BoardVersion) string { return strings.Join(v.Changed, "; ") }})
		}}
}

func boardMake() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use: "make device|model|site|fleet [NAME]", Short: "Print the board that exists by itself as a file of your own",
		Long: `Prints the board of a device, a model, a site or the whole fleet, as it is made from
the models, as a file. Change it and load it with: ullage board load FILE`,
		Example: "  ullage board make site Fennimore --name fennimore-hall > fennimore-hall.yaml\n  ullage board make fleet",
		Args:    between(1, 2, "what it is of: device, model, site or fleet, and which"),
		ValidArgsFunction: func(c *cobra.Command, args []string, prefix string) ([]string, cobra.ShellCompDirective) {
			switch {
			case len(args) == 0:
				return []string{"device", "model", "site", "fleet"}, cobra.ShellCompDirectiveNoFileComp
			case args[0] == "device":
				return deviceNames(c, nil, prefix)
			case boardsOf()[args[0]] != nil:
				return boardsOf()[args[0]](c, nil, prefix)
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			of := ""
			if len(args) > 1 {
				of = args[1]
			} else if args[0] != "fleet" {
				return usageError{fmt.Errorf("say which %s; write: ullage board make %s NAME", args[0], args[0])}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			b, err := cl.MadeBoard(c.Context(), args[0], of)
			if err != nil {
				return err
			}
			if b.Made = false; name != "" {
				b.Name = name
			}
			return show(c, b, func(w io.Writer) { w.Write(b.YAML()) })
		},
	}
	c.Flags().StringVar(&name, "name", "", "what the board is called then")
	return c
}

func boardCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check NAME", Short: "Say what of a board no model has any more", Args: exactly(1, "one board"), ValidArgsFunction: boardThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			lacks, err := cl.BoardLacks(c.Context(), args[0])
			if err != nil {
				return err
			}
			if err := list(c, lacks, "Everything on it is still there.",
				column[client.BoardLack]{"instrument", func(l client.BoardLack) string { return fmt.Sprint(l.Instrument + 1) }},
				column[client.BoardLack]{"what", func(l client.BoardLack) string { return l.Sentence }}); err != nil {
				return err
			}
			if len(lacks) > 0 {
				return findings{fmt.Errorf("%s", plural(len(lacks), "mistake"))}
			}
			return nil
		},
	}
}
