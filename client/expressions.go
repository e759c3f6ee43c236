package client

import (
	"context"
	"net/http"
	"time"

	"ullage/core/expr"
)

// ExpressionCheck asks what is to be said about an expression.
type ExpressionCheck struct {
	Source  string `json:"source" maxLength:"65536" doc:"The expression"`
	Purpose string `json:"purpose,omitempty" enum:"filter,rule,group,target,layer,access,value,derived" doc:"What it is for; filter where not given"`
	Model   string `json:"model,omitempty" doc:"Only for devices of this model; for all models where not given"`
	Of      string `json:"of,omitempty" maxLength:"63" doc:"About the fields of this noun, such as site, instead of devices" example:"site"`
	Cursor  *int   `json:"cursor,omitempty" minimum:"0" doc:"Where to complete it, in bytes of UTF-8 from the start"`
}

// ExpressionReport is what is to be said about an expression.
type ExpressionReport struct {
	Canonical  string              `json:"canonical,omitempty" doc:"Its one canonical form; absent if it is wrong"`
	Type       string              `json:"type,omitempty" doc:"What it gives" example:"true or false"`
	Cost       expr.Cost           `json:"cost"`
	Models     []string            `json:"models" doc:"The models for whose devices it can be answered"`
	Findings   []ExpressionFinding `json:"findings" doc:"Everything that is wrong with it, or worth a warning"`
	Candidates []Candidate         `json:"candidates" doc:"What can stand at the cursor, the likeliest first"`
}

// ExpressionFinding is one mistake or warning.
type ExpressionFinding struct {
	Start    int    `json:"start" doc:"Where it begins, in bytes of UTF-8"`
	End      int    `json:"end" doc:"Where it ends"`
	Line     int    `json:"line"`
	Column   int    `json:"column" doc:"In characters, from 1"`
	Sentence string `json:"sentence" doc:"What is wrong and what would be right"`
	Suggest  string `json:"suggest,omitempty" doc:"What to write there instead"`
	Warning  bool   `json:"warning,omitempty" doc:"Whether it can be used all the same"`
}

// Candidate is one thing that can stand at a cursor.
type Candidate struct {
	Text   string `json:"text" doc:"What to put in place of start to end"`
	Kind   string `json:"kind" doc:"metric, setting, attribute, label, fact, rule, function, operator, value, unit or duration"`
	Detail string `json:"detail,omitempty"`
	Start  int    `json:"start" doc:"In bytes of UTF-8"`
	End    int    `json:"end"`
	Back   int    `json:"back,omitempty" doc:"How far before the end of the text the cursor goes"`
}

// ExpressionExplain asks for an expression to be worked out.
type ExpressionExplain struct {
	Source string         `json:"source" maxLength:"65536" doc:"The expression"`
	Device string         `json:"device" doc:"For which device"`
	At     *time.Time     `json:"at,omitempty" doc:"At what time; now where not given. Settings, labels and attributes are as they are now"`
	Given  map[string]any `json:"given,omitempty" doc:"What stands in for what is so, by the name as it stands in the expression: numbers in its unit, texts, truths"`
}

// ExpressionExplained is an expression worked out.
type ExpressionExplained struct {
	Report ExpressionReport `json:"report"`
	Device string           `json:"device"`
	At     time.Time        `json:"at"`
	Part   expr.Part        `json:"part"`
}

// Matching are the devices for which a condition is true.
type Matching struct {
	IDs []string `json:"ids"`
}

// ExpressionHelp is the help on the language.
type ExpressionHelp struct {
	Functions []FunctionHelp `json:"functions"`
	Examples  []ExampleHelp  `json:"examples"`
}

// FunctionHelp describes one function.
type FunctionHelp struct {
	Name    string `json:"name"`
	Form    string `json:"form" doc:"How it is called"`
	Gives   string `json:"gives"`
	Doc     string `json:"doc"`
	Family  string `json:"family"`
	Example string `json:"example"`
}

// ExampleHelp is a worked example.
type ExampleHelp struct {
	Task    string `json:"task"`
	Source  string `json:"source"`
	Purpose string `json:"purpose" enum:"filter,rule,group"`
	Says    string `json:"says"`
}

// HelpOnExpressions returns the help without a service.
func HelpOnExpressions() ExpressionHelp {
	var out ExpressionHelp
	for _, f := range expr.Functions {
		out.Functions = append(out.Functions, FunctionHelp{f.Name, f.Form, f.Gives, f.Doc, f.Family, f.Example})
	}
	for _, x := range expr.Examples {
		purpose := map[expr.Purpose]string{expr.ForFilter: "filter", expr.ForRule: "rule",
			expr.ForGroup: "group"}[x.Purpose]
		out.Examples = append(out.Examples, ExampleHelp{x.Task, x.Source, purpose, x.Says})
	}
	return out
}

// CheckExpression checks an expression, and completes it at a cursor.
func (c *Client) CheckExpression(ctx context.Context, in ExpressionCheck) (ExpressionReport, error) {
	return send[ExpressionReport](ctx, c, http.MethodPost, "/expressions/check", in)
}

// ExplainExpression works out an expression for one device.
func (c *Client) ExplainExpression(ctx context.Context, in ExpressionExplain) (ExpressionExplained, error) {
	return send[ExpressionExplained](ctx, c, http.MethodPost, "/expressions/explain", in)
}
