// Package fault holds the errors that use cases give: a code for programs, a
// sentence for people, and what to do next. Doors turn them into the problem
// details of RFC 9457 or into the reason codes of their protocol.
package fault

import (
	"errors"
	"fmt"

	"ullage/core/model"
)

// Code says what kind of failure it is.
type Code string

// The codes.
const (
	Invalid         Code = "invalid"
	Unauthenticated Code = "unauthenticated"
	NotAllowed      Code = "not-allowed"
	NotFound        Code = "not-found"
	NoMethod        Code = "method-not-allowed" // of HTTP, at an address that has others
	Conflict        Code = "conflict"
	Unmet           Code = "condition-not-met" // it was changed meanwhile
	Gone            Code = "gone"              // it was there and is not kept any more
	TooLarge        Code = "too-large"
	TooMany         Code = "too-many"
	Full            Code = "disk-full"
	Overload        Code = "overload"
	Stopping        Code = "stopping"
	Internal        Code = "internal"
)

// Ours reports whether the failure is the service's, so that a device must
// keep its copy and try again.
func (c Code) Ours() bool {
	switch c {
	case Full, Overload, Stopping, Internal:
		return true
	}
	return false
}

// Error is a failure with its sentence.
type Error struct {
	Code     Code
	Sentence string // what failed and why, without a final stop
	Next     string // what to do about it; may be empty
	Findings []model.Finding
	Ref      string // what a stranger is told instead of the sentence
	About    string // the noun that it is about, such as device; may be empty
	Cause    error  // never shown to people
}

// Error returns the sentence and what to do next.
func (e *Error) Error() string {
	if e.Next == "" {
		return e.Sentence
	}
	return e.Sentence + "; " + e.Next
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Cause }

// New returns an Error whose sentence is formatted.
func New(c Code, format string, args ...any) *Error {
	return &Error{Code: c, Sentence: fmt.Sprintf(format, args...)}
}

// Then adds what to do next.
func (e *Error) Then(format string, args ...any) *Error {
	e.Next = fmt.Sprintf(format, args...)
	return e
}

// On says which noun the failure is about, so that whoever shows it can say how
// to go on in its own words.
func (e *Error) On(noun string) *Error {
	e.About = noun
	return e
}

// From returns err as an *Error. Findings of a model become Invalid; anything
// unknown becomes Internal, with its cause kept from people.
func From(err error) *Error {
	if err == nil {
		return nil
	}
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	var p *model.Problem
	if errors.As(err, &p) {
		return &Error{Code: Invalid, Sentence: p.Sentence, Findings: []model.Finding{p.Finding}}
	}
	var f model.Findings
	if errors.As(err, &f) {
		return &Error{Code: Invalid, Sentence: f.Error(), Findings: f}
	}
	return &Error{Code: Internal, Sentence: "something in the service failed", Next: "see its log for the cause",
		Cause: err}
}

// Is reports whether err is an *Error of code c.
func Is(err error, c Code) bool {
	var e *Error
	return errors.As(err, &e) && e.Code == c
}

// Panicked returns the fault of a failure that nobody foresaw.
func Panicked(r any) *Error {
	return &Error{Code: Internal, Sentence: "something in the service failed", Next: "see its log for the cause",
		Cause: fmt.Errorf("panic: %v", r)}
}
