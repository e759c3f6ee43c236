package api

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/expr"
	"ullage/core/record"
	"ullage/core/value"
	"ullage/fleet/expressions"
	"ullage/fleet/fault"
)

func (s *server) expressionRoutes() {
	type check struct{ Body client.ExpressionCheck }
	huma.Post(s.api, "/api/v1/expressions/check", func(ctx context.Context, in *check) (*body[client.ExpressionReport], error) {
		purpose, err := expr.PurposeOf(in.Body.Purpose)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "%s", err))
		}
		if in.Body.Of != "" {
			out, err := s.checkFields(in.Body)
			if err != nil {
				return nil, s.failed(err)
			}
			return &body[client.ExpressionReport]{out}, nil
		}
		r, err := s.Fleet.Expressions(caller(ctx)).Check(in.Body.Source, in.Body.Model, purpose)
		if err != nil {
			return nil, s.failed(err)
		}
		out := reportOf(r)
		if in.Body.Cursor != nil {
			cs, err := s.Fleet.Expressions(caller(ctx)).Complete(in.Body.Source, *in.Body.Cursor, in.Body.Model, purpose)
			if err != nil {
				return nil, s.failed(err)
			}
			for _, c := range cs {
				out.Candidates = append(out.Candidates, candidateOf(c))
			}
		}
		return &body[client.ExpressionReport]{out}, nil
	}, describe("check-expression", "Check an expression, and complete it at a cursor", "Expressions"))
	type explain struct{ Body client.ExpressionExplain }
	huma.Post(s.api, "/api/v1/expressions/explain", func(ctx context.Context, in *explain) (*body[client.ExpressionExplained], error) {
		var at time.Time
		if in.Body.At != nil {
			at = *in.Body.At
		}
		c := caller(ctx)
		if err := s.Fleet.Exists(c, in.Body.Device); err != nil {
			return nil, s.failed(err)
		}
		x, err := s.Fleet.Expressions(c).Explain(ctx, in.Body.Source, in.Body.Device, at, in.Body.Given)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.ExpressionExplained]{client.ExpressionExplained{Report: reportOf(x.Report), Device: x.Device, At: x.At, Part: x.Part}}, nil
	}, describe("explain-expression", "Work out an expression for one device, part by part, now or at a time",
		"Expressions"), notFound)
	huma.Get(s.api, "/api/v1/expressions/matching", func(ctx context.Context, w *Where) (*body[client.Matching], error) {
		out := client.Matching{IDs: []string{}}
		c := caller(ctx)
		_, ids, err := s.Fleet.Among(c, w.Where)
		if err != nil {
			return nil, s.failed(err)
		}
		if strings.TrimSpace(w.Where) != "" {
			out.IDs = append(out.IDs, ids...)
		}
		return &body[client.Matching]{out}, nil
	}, describe("matching-devices", "The ids of the devices for which a condition is true now", "Expressions"))
	huma.Get(s.api, "/api/v1/expressions/help", func(context.Context, *struct{}) (*body[client.ExpressionHelp], error) {
		return &body[client.ExpressionHelp]{client.HelpOnExpressions()}, nil
	}, describe("expression-help", "Every function, and worked examples", "Expressions"))
}

// checkFields checks and completes a condition over the fields of a noun.
func (s *server) checkFields(in client.ExpressionCheck) (client.ExpressionReport, error) {
	fields, ok := s.nouns[in.Of]
	if !ok {
		return client.ExpressionReport{}, fault.New(fault.Invalid, "there are no lists of %q", value.Clip(in.Of, 60)).
			Then("there are %s", strings.Join(slices.Sorted(maps.Keys(s.nouns)), ", "))
	}
	schema := record.Schema(in.Of, fields)
	p, found := expr.Compile(in.Source, schema, expr.ForFilter)
	r := expressions.Report{Findings: found}
	if p != nil {
		r.Canonical, r.Type, r.Cost = p.Source, p.Type, p.Cost
	}
	out := reportOf(r)
	if in.Cursor != nil {
		for _, c := range expr.Complete(in.Source, *in.Cursor, schema, expr.ForFilter) {
			out.Candidates = append(out.Candidates, candidateOf(c))
		}
	}
	return out, nil
}

func candidateOf(c expr.Candidate) client.Candidate {
	return client.Candidate{Text: c.Text, Kind: c.Kind, Detail: c.Detail, Start: c.Span.Start, End: c.Span.End,
		Back: c.Back}
}

func reportOf(r expressions.Report) client.ExpressionReport {
	out := client.ExpressionReport{Canonical: r.Canonical, Models: r.Models, Cost: r.Cost,
		Findings: []client.ExpressionFinding{}, Candidates: []client.Candidate{}}
	if r.Canonical != "" {
		out.Type = r.Type.String()
	}
	if out.Models == nil {
		out.Models = []string{}
	}
	for _, f := range r.Findings {
		out.Findings = append(out.Findings, findingOf(f))
	}
	return out
}

func findingOf(f expr.Finding) client.ExpressionFinding {
	return client.ExpressionFinding{Start: f.Span.Start, End: f.Span.End, Line: f.Line, Column: f.Column,
		Sentence: f.Sentence, Suggest: f.Suggest, Warning: f.Warning}
}
