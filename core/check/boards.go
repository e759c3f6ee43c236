package check

import (
	"errors"
	"maps"
	"path"
	"slices"
	"strings"

	"ullage/core/board"
)

// IsBoard reports whether a path is that of a board.
func IsBoard(p string) bool {
	return (strings.HasSuffix(p, ".yaml") || strings.HasSuffix(p, ".yml")) && path.Base(path.Dir(p)) == "boards" && !IsModel(p) && !IsExamples(p)
}

type boardFile struct {
	file  File
	doc   document
	board *board.Board
}

func (c *folder) board(f File) {
	c.report.Boards++
	doc := parseYAML(f.Data)
	b, err := board.Parse(f.Data)
	if err != nil {
		at := place{1, 1}
		var of *board.Error
		if errors.As(err, &of) {
			at = doc.place(of.Key)
		}
		sentence, at := takePlace(err.Error(), at)
		c.add(f.Path, at, "error", "board", "", "%s", sentence)
		return
	}
	for _, x := range c.boards {
		if x.board.Name == b.Name {
			c.add(f.Path, doc.place("/board"), "error", "reference", "", "%s is described in %s already; one file a board", b.Name, x.file.Path)
			return
		}
	}
	c.boards = append(c.boards, boardFile{f, doc, b})
}

// boardsAgainst says what of the boards no model of the folder has. Where a model cannot be
// read, or there is none, nothing can be said.
func (c *folder) boardsAgainst() {
	if len(c.models) == 0 || len(c.broken) > 0 {
		return
	}
	models := slices.Collect(maps.Values(c.models))
	for _, x := range c.boards {
		for _, l := range board.Unfit(x.board, models) {
			c.add(x.file.Path, x.doc.place(l.Key), "error", "reference", "", "%s", l.Sentence)
		}
	}
}
