package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"ullage/client"
)

// A narrow terminal keeps what something is and what it says.
func TestNarrowTables(t *testing.T) {
	cells := [][]string{
		{"ALARM", "PRIORITY", "STATE", "RAISED", "TIMES", "ON", "MESSAGE"},
		{"01M8F4QS70PRDBEX4PYSYJ84BP", "medium", "unacknowledged", "2min ago", "2", "air-alder-bank-1", "Alder Bank: CO₂ at 1539 ppm"},
	}
	for width, want := range map[int]string{
		200: "ALARM PRIORITY STATE RAISED TIMES ON MESSAGE",
		100: "PRIORITY STATE RAISED TIMES ON MESSAGE",
		80:  "PRIORITY RAISED ON MESSAGE",
		60:  "PRIORITY RAISED ON MESSAGE",
	} {
		got := fitted(cells, width)
		if s := strings.Join(got[0], " "); s != want || len(got[1]) != len(got[0]) || got[1][len(got[1])-1] != cells[1][6] {
			t.Errorf("at %d columns it has %s and %q, want %s and the message", width, s, got[1], want)
		}
	}
}

// Whoever calls a command wrongly is told what would be right, and it counts as
// wrongly called.
func TestWrongUse(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("ULLAGE_URL", "http://127.0.0.1:1") // nobody is asked
	for args, says := range map[string]string{
		"device lst": "did you mean list", "model compare": "one or two names", "device list --health bad": "sound, awaited, watch, poor or dark",
		"device list --health sond": "did you mean sound?", "alarm list --limit -5": "0 or more", "store stats --by x": "model, metric or device",
		"query a b --step 0s": "has some width", "device create x1": "--model is needed", "rule remove": "one rule", "expr eval": "one expression",
		"expr eval must_temp": "--device is needed", "sim --count -3": "a whole number, 1 or more", "query a b --steps 0": "1 or more",
		"query a b --spam 5min": "did you mean --span?", "device list --zzzzzz": "see: ullage device list --help", "frobnicate": "has no command",
		"frobnicate --help": "has no command", "device lst --help": "did you mean list", "device lst -h": "did you mean list", "help frobnicate": "has no command",
		"help device lst": "did you mean list", "-o json frobnicate --help": "has no command",
		"rollout start x a=1 --wave 0": "a share such as 10%", "rollout start x a=1 --wave 2.5": "that is no wave", "rollout start x a=1 --wave 101%": "that is no wave",
		"rollout start x a=1 --wave a=b": "two signs: ==", "rollout start x a=1 --reached 0": "above 0", "rollout start x a=1 --broken stp": "did you mean stop?",
		"layer save x": "did you mean set or load?", "rollout cancel x": "did you mean stop or undo?", "key new": "did you mean make?", "layer rmove": "move or remove?",
		"query a b --from 2026-03-01": "did you mean --span?", "device list --filter x": "did you mean --where?", "device list --json": "did you mean --output?",
		"rule remove x --force": "did you mean --yes?", "device list --sort id": "did you mean --order?", "query a b --interval 1h": "did you mean --step?",
	} {
		var out, errs bytes.Buffer
		if code := Run(strings.Fields(args), strings.NewReader(""), &out, &errs); code != exitUsage || !strings.Contains(errs.String(), says) {
			t.Errorf("ullage %s ends with %d and says %q, want %d and %q", args, code, errs.String(), exitUsage, says)
		}
	}
	var out, errs bytes.Buffer
	if code := Run([]string{"help", "exit-codes"}, nil, &out, &errs); code != 0 || !strings.Contains(out.String(), "could not be reached") {
		t.Errorf("the help of exit codes is %q, %d", out.String(), code)
	}
	for _, args := range []string{"--help", "help", "", "device", "device --help", "help device", "help device list", "device list x --help", "-o json --help", "expr eval -h"} {
		var out, errs bytes.Buffer
		if code := Run(strings.Fields(args), nil, &out, &errs); code != 0 || !strings.Contains(out.String(), "Usage:") || errs.Len() > 0 {
			t.Errorf("ullage %s ends with %d, %q, and says %q", args, code, errs.String(), out.String())
		}
	}
}

// Whoever asks for something that is not there is led to the list of all of its kind, which
// is there.
func TestAbsentThings(t *testing.T) {
	root := newRoot()
	for _, noun := range nouns {
		says := explain(fmt.Errorf("asked: %w", &client.Problem{Code: "not-found", About: noun, Detail: "there is none"}))
		_, line, ok := strings.Cut(says, "; see: ullage ")
		c, rest, err := root.Find(strings.Fields(line))
		if !ok || err != nil || len(rest) > 0 || c.Name() != "list" {
			t.Errorf("of a %s that is not there it says %q, which finds %v, %v, %v", noun, says, c.CommandPath(), rest, err)
		}
	}
	if says := explain(&client.Problem{Code: "not-found", About: "session", Detail: "it may have ended"}); strings.Contains(says, "list") {
		t.Errorf("sessions have no list, and it says %q", says)
	}
}

// Every command says what it is for, and those with verbs have some.
func TestHelp(t *testing.T) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Short == "" || strings.HasSuffix(c.Short, ".") {
			t.Errorf("%s says of itself %q, want a phrase without a stop", c.CommandPath(), c.Short)
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(newRoot())
}
