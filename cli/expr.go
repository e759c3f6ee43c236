package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/value"
)

func exprCommand() *cobra.Command {
	return noun(groupAlarm, "expr", "Check, work out and explain expressions", exprCheck(), exprEval(), exprExplain(),
		exprFormat(), exprFunctions())
}

func exprCheck() *cobra.Command {
	var modelName, file, purpose string
	c := &cobra.Command{
		Use:   "check EXPRESSION",
		Short: "Say everything that is wrong with an expression",
		Long: `Checks an expression against the models, labels and rules of the service, or,
with --file, against one Thing Model without a service. The exit code is 3 if
something is wrong.`,
		Example: "  ullage expr check 'must_temp > set.max_temp - 3'\n  ullage expr check --for rule --model cellar-air 'mean(co2 over 10min) > 2000'\n  ullage expr check --file examples/cellars/models/tank-probe.tm.json 'must_tmp > 30'",
		Args:    exactly(1, "one expression, in quotes"),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := expr.PurposeOf(purpose)
			if err != nil {
				return usageError{fmt.Errorf("--for: %w", err)}
			}
			var r client.ExpressionReport
			if file != "" {
				if r, err = checkOffline(file, args[0], p); err != nil {
					return err
				}
			} else {
				cl, err := connect(c)
				if err != nil {
					return err
				}
				if r, err = cl.CheckExpression(c.Context(), client.ExpressionCheck{Source: args[0], Purpose: purpose,
					Model: modelName}); err != nil {
					return err
				}
			}
			if err := show(c, r, func(w io.Writer) { printReport(w, args[0], r) }); err != nil {
				return err
			}
			if r.Canonical == "" {
				return findings{fmt.Errorf("the expression cannot be used as it is; mend what is marked")}
			}
			return nil
		},
	}
	c.Flags().StringVar(&modelName, "model", "", "only for devices of this model")
	c.Flags().StringVar(&file, "file", "", "a Thing Model to check against, without a service")
	c.Flags().StringVar(&purpose, "for", "filter", "what it is for: filter, rule, group, target, reach or value")
	c.RegisterFlagCompletionFunc("model", func(c *cobra.Command, _ []string, p string) ([]string, cobra.ShellCompDirective) {
		return modelNames(c, nil, p)
	})
	c.RegisterFlagCompletionFunc("for",
		cobra.FixedCompletions([]string{"filter", "rule", "group", "target", "layer", "access", "value"},
			cobra.ShellCompDirectiveNoFileComp))
	return c
}

func checkOffline(file, src string, p expr.Purpose) (client.ExpressionReport, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return client.ExpressionReport{}, err
	}
	m, err := model.Parse(b)
	if err != nil {
		return client.ExpressionReport{}, fmt.Errorf("%s: %w", file, err)
	}
	program, found := expr.Compile(src, check.Schema(m), p)
	r := client.ExpressionReport{Findings: []client.ExpressionFinding{}, Candidates: []client.Candidate{},
		Models: []string{}}
	if program != nil {
		r.Canonical, r.Type, r.Cost, r.Models = program.Source, program.Type.String(), program.Cost, []string{m.Name}
	}
	for _, f := range found {
		r.Findings = append(r.Findings, client.ExpressionFinding{Start: f.Span.Start, End: f.Span.End, Line: f.Line,
			Column: f.Column, Sentence: f.Sentence, Suggest: f.Suggest, Warning: f.Warning})
	}
	return r, nil
}

// printReport shows each finding under the part it is about.
func printReport(w io.Writer, src string, r client.ExpressionReport) {
	for _, f := range r.Findings {
		line := src
		if lines := strings.Split(src, "\n"); f.Line >= 1 && f.Line <= len(lines) {
			line = lines[f.Line-1]
		}
		start, end := min(f.Start, len(src)), min(f.End, len(src))
		marks := max(1, min(utf8.RuneCountInString(src[start:end]), utf8.RuneCountInString(line)-f.Column+1))
		word := ""
		if f.Warning {
			word = "warning: "
		}
		indent := max(0, f.Column-1)
		if indent > 60 { // the marked part is moved into sight
			runes := []rune(line)
			line, indent = "…"+string(runes[min(len(runes), f.Column-41):]), 41
		}
		fmt.Fprintf(w, "  %s\n  %s%s\n  %scolumn %d: %s\n", line, strings.Repeat(" ", indent),
			strings.Repeat("^", min(marks, 80)), word, f.Column, f.Sentence)
		if f.Suggest != "" {
			fmt.Fprintf(w, "  write: %s\n", src[:start]+f.Suggest+src[end:])
		}
		fmt.Fprintln(w)
	}
	if r.Canonical == "" {
		return
	}
	fmt.Fprintf(w, "%s\n  gives    %s\n  for      %s\n  cost     %d steps", r.Canonical, r.Type,
		strings.Join(r.Models, ", "), r.Cost.Steps)
	if r.Cost.Windows > 0 {
		windows := "windows"
		if r.Cost.Windows == 1 {
			windows = "window"
		}
		fmt.Fprintf(w, ", %d %s, about %.1f kB a device", r.Cost.Windows, windows, float64(r.Cost.Bytes)/1000)
	}
	fmt.Fprintln(w)
}

// about makes c work out its expression for one device at a time, and print it.
func about(c *cobra.Command, print func(io.Writer, client.ExpressionExplained)) {
	device := c.Flags().String("device", "", "the device it is worked out for")
	at := c.Flags().String("at", "", "at what time: RFC 3339, or how long ago, such as 2h; now where not given")
	needed(c, "device")
	c.RegisterFlagCompletionFunc("device", func(c *cobra.Command, _ []string, p string) ([]string, cobra.ShellCompDirective) {
		return deviceNames(c, nil, p)
	})
	c.RunE = func(c *cobra.Command, args []string) error {
		x, err := explained(c, args[0], *device, *at)
		if err != nil {
			return err
		}
		return show(c, x, func(w io.Writer) { print(w, x) })
	}
}

func explained(c *cobra.Command, src, device, at string) (client.ExpressionExplained, error) {
	in := client.ExpressionExplain{Source: src, Device: device}
	if at != "" {
		t, err := parseMoment(at, time.Now())
		if err != nil {
			return client.ExpressionExplained{}, usageError{fmt.Errorf("--at: %w", err)}
		}
		in.At = &t
	}
	cl, err := connect(c)
	if err != nil {
		return client.ExpressionExplained{}, err
	}
	x, err := cl.ExplainExpression(c.Context(), in)
	var p *client.Problem
	if errors.As(err, &p) && p.Status == 422 && len(p.Findings) > 0 {
		// What is wrong is shown under the part it is about, as check does.
		if r, cerr := cl.CheckExpression(c.Context(), client.ExpressionCheck{Source: src, Purpose: "value"}); cerr == nil && r.Canonical == "" {
			printReport(c.ErrOrStderr(), src, r)
			return x, findings{fmt.Errorf("the expression cannot be used as it is; mend what is marked")}
		}
	}
	return x, err
}

func exprEval() *cobra.Command {
	c := &cobra.Command{
		Use: "eval EXPRESSION --device DEVICE", Short: "Work out an expression for a device, now or at a time",
		Example: "  ullage expr eval --device tank-fennimore-07 'set.max_temp - must_temp'\n  ullage expr eval --device tank-fennimore-07 --at 2h 'mean(must_temp over 30min)'",
		Args:    exactly(1, "one expression, in quotes"),
	}
	about(c, func(w io.Writer, x client.ExpressionExplained) {
		fmt.Fprint(w, x.Part.Value)
		if x.Part.Headspace != nil {
			fmt.Fprintf(w, "   headspace %.0f %%", *x.Part.Headspace*100)
		}
		if note := noteOf(x.Part); note != "" {
			fmt.Fprintf(w, "   (%s)", note)
		}
		fmt.Fprintln(w)
	})
	return c
}

// noteOf returns what there is to say about a part, or about the first part of
// it that keeps it from being known.
func noteOf(p expr.Part) string {
	if p.Note != "" || p.Known {
		return p.Note
	}
	for _, k := range p.Parts {
		if note := noteOf(k); !k.Known && note != "" {
			if len(k.Parts) > 0 {
				return note
			}
			return k.Text + ": " + note
		}
	}
	return ""
}

func exprExplain() *cobra.Command {
	c := &cobra.Command{
		Use: "explain EXPRESSION --device DEVICE", Short: "Show what each part of an expression is for a device",
		Example: "  ullage expr explain --device tank-fennimore-07 'must_temp > set.max_temp and label.stage == \"fermenting\"'",
		Args:    exactly(1, "one expression, in quotes"),
	}
	about(c, printExplained)
	return c
}

// printExplained shows an expression part by part.
func printExplained(w io.Writer, x client.ExpressionExplained) {
	fmt.Fprintf(w, "%s at %s\n\n", x.Device, x.At.Local().Format("2006-01-02 15:04:05 MST"))
	cells := [][]string{{"PART", "VALUE", "HEADSPACE", "NOTE"}}
	var walk func(p expr.Part, before, own string)
	walk = func(p expr.Part, before, own string) {
		h := ""
		if p.Headspace != nil {
			h = fmt.Sprintf("%.0f %%", *p.Headspace*100)
		}
		value := p.Value
		if p.Truth != "" {
			value = p.Truth
		}
		cells = append(cells, []string{own + p.Text, value, h, p.Note})
		for i, k := range p.Parts {
			if i == len(p.Parts)-1 {
				walk(k, before+"   ", before+"└─ ")
			} else {
				walk(k, before+"│  ", before+"├─ ")
			}
		}
	}
	walk(x.Part, "", "")
	table(w, cells)
}

func exprFormat() *cobra.Command {
	return &cobra.Command{
		Use: "format EXPRESSION", Short: "Write an expression in its one canonical form", Args: exactly(1,
			"one expression, in quotes; - for standard input"),
		Example: "  ullage expr format 'must_temp>(set.max_temp)'",
		RunE: func(c *cobra.Command, args []string) error {
			src := args[0]
			if src == "-" {
				b, err := io.ReadAll(io.LimitReader(c.InOrStdin(), expr.MaxSource+1))
				if err != nil {
					return err
				}
				src = strings.TrimSuffix(string(b), "\n")
			}
			text, err := expr.Format(src)
			if err != nil {
				return findings{err}
			}
			fmt.Fprintln(c.OutOrStdout(), text)
			return nil
		},
	}
}

func exprFunctions() *cobra.Command {
	return &cobra.Command{
		Use: "functions [FUNCTION]", Short: "List the functions of the language, or describe one", Args: between(0, 1, "one name at most"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var out []string
			for _, f := range expr.Functions {
				out = append(out, f.Name)
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			all := client.HelpOnExpressions().Functions
			if len(args) == 0 {
				return list(c, all, "",
					column[client.FunctionHelp]{"function", func(f client.FunctionHelp) string { return f.Form }},
					column[client.FunctionHelp]{"gives", func(f client.FunctionHelp) string { return f.Gives }},
					column[client.FunctionHelp]{"what", func(f client.FunctionHelp) string { return f.Doc }})
			}
			for _, f := range all {
				if f.Name == strings.TrimSuffix(args[0], "()") {
					return show(c, f, func(w io.Writer) {
						fmt.Fprintf(w, "%s gives %s.\n%s\n\n  %s\n", f.Form, f.Gives, f.Doc, f.Example)
					})
				}
			}
			return usageError{fmt.Errorf("there is no function %q; see: ullage expr functions", args[0])}
		},
	}
}

// whereFlag adds --where with completion from the service.
func whereFlag(c *cobra.Command) *string {
	where := new(string)
	whereInto(c, where)
	return where
}

func whereInto(c *cobra.Command, where *string) {
	c.Flags().StringVar(where, "where", "",
		`only of devices for which this is true now, such as 'label.site == "Fennimore" and must_temp > 25'`)
	c.RegisterFlagCompletionFunc("where", func(c *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		return completeWhere(c, typed)
	})
}

func completeWhere(c *cobra.Command, typed string) ([]string, cobra.ShellCompDirective) {
	const quiet = cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	cl, err := connect(c)
	if err != nil {
		return nil, quiet
	}
	cursor := len(typed)
	r, err := cl.CheckExpression(c.Context(), client.ExpressionCheck{Source: typed, Cursor: &cursor})
	if err != nil {
		return nil, quiet
	}
	var out []string
	for _, x := range r.Candidates {
		out = append(out, typed[:x.Start]+x.Text+"\t"+x.Detail)
	}
	return out, quiet
}

// parseMoment reads a time as RFC 3339, or how long ago it was.
func parseMoment(s string, now time.Time) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	d, err := value.ParseDuration(s)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is neither a time as in RFC 3339 nor how long ago, such as 2h", s)
	}
	return now.Add(-d.Std()), nil
}
