package api

import (
	"net/url"

	"github.com/danielgtaylor/huma/v2"
)

// Paging cuts pages out of what only grows, the newest first: journal, alarms,
// commands. The place on it is the number or id of the last entry, since what
// is new stands before it and moves nothing.
type Paging struct {
	Limit int `query:"limit" default:"100" minimum:"1" maximum:"1000" doc:"At most this many"`
	at    url.URL
}

// Resolve implements huma.Resolver.
func (p *Paging) Resolve(ctx huma.Context) []error {
	p.at = ctx.URL()
	return nil
}

// ask is how many entries are to be read: one more than are shown tells whether
// there is another page.
func (p Paging) ask() int { return p.Limit + 1 }

type logged[T any] struct {
	Link string `header:"Link" doc:"Address of the next page (RFC 8288), if there is one"`
	Body []T
}

// newest returns the first page of what was read, with the address of the next.
func newest[T any](all []T, p Paging, id func(T) string) *logged[T] {
	if len(all) < p.ask() {
		return &logged[T]{Body: all}
	}
	q := p.at.Query()
	q.Set("before", id(all[p.Limit-1]))
	return &logged[T]{"<" + p.at.Path + "?" + q.Encode() + `>; rel="next"`, all[:p.Limit]}
}
