// Package problem turns faults into the problem details of RFC 9457, for every
// door that speaks HTTP.
package problem

import (
	"encoding/json"
	"net/http"

	"ullage/core/model"
	"ullage/fleet/fault"
)

// Details is the body of a refusal.
type Details struct {
	Type     string          `json:"type" doc:"Always about:blank; the code tells the kind" example:"about:blank"`
	Title    string          `json:"title" doc:"Words of the HTTP status" example:"Unprocessable Entity"`
	Status   int             `json:"status" doc:"HTTP status" example:"422"`
	Code     fault.Code      `json:"code" doc:"Kind of failure, for programs" example:"invalid"`
	Detail   string          `json:"detail" doc:"What failed, why, and what to do next"`
	Findings []model.Finding `json:"findings,omitempty" doc:"Every place that is wrong"`
	About    string          `json:"about,omitempty" doc:"The noun that it is about" example:"device"`
	Ref      string          `json:"ref,omitempty" doc:"Quote this to the engineer, who can see the reason in the traffic"`
}

// Of returns the details of a fault.
func Of(e *fault.Error) *Details {
	status := Status(e.Code)
	d := &Details{Type: "about:blank", Title: http.StatusText(status), Status: status, Code: e.Code, Detail: e.Error(),
		Findings: e.Findings, About: e.About, Ref: e.Ref}
	if e.Ref != "" {
		d.Detail = "not authorised, ref " + e.Ref
	}
	return d
}

// JSON returns d as it is sent.
func (d *Details) JSON() []byte {
	b, err := json.Marshal(d)
	if err != nil {
		return []byte(`{}`)
	}
	return b
}

// Error returns the detail.
func (d *Details) Error() string { return d.Detail }

// GetStatus returns the HTTP status.
func (d *Details) GetStatus() int { return d.Status }

// ContentType returns the media type of problem details.
func (*Details) ContentType(string) string { return "application/problem+json" }

// Status returns the HTTP status of a kind of fault.
func Status(c fault.Code) int {
	switch c {
	case fault.Invalid:
		return http.StatusUnprocessableEntity
	case fault.Unauthenticated:
		return http.StatusUnauthorized
	case fault.NotAllowed:
		return http.StatusForbidden
	case fault.NotFound:
		return http.StatusNotFound
	case fault.NoMethod:
		return http.StatusMethodNotAllowed
	case fault.Gone:
		return http.StatusGone
	case fault.Unmet:
		return http.StatusPreconditionFailed
	case fault.Conflict:
		return http.StatusConflict
	case fault.TooLarge:
		return http.StatusRequestEntityTooLarge
	case fault.TooMany:
		return http.StatusTooManyRequests
	case fault.Full:
		return http.StatusInsufficientStorage
	case fault.Overload, fault.Stopping:
		return http.StatusServiceUnavailable
	}
	return http.StatusInternalServerError
}
