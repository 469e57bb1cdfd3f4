package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"lithos/internal/report"
)

// printed answers with a page as a file of the wanted kind.
func (s *server) printed(name, as string, p *report.Page, err error) (*fileAnswer, error) {
	if err != nil {
		return nil, s.problem(err)
	}
	if as == "markdown" {
		return &fileAnswer{"text/markdown; charset=utf-8", `attachment; filename="` + name + `.md"`, []byte(
			p.Markdown())}, nil
	}
	raw, err := p.PDF()
	if err != nil {
		return nil, s.problem(err)
	}
	return &fileAnswer{"application/pdf", `attachment; filename="` + name + `.pdf"`, raw}, nil
}

// paperOperations are pages to print.
func (s *server) paperOperations(api huma.API) {
	huma.Register(api, op(http.MethodGet, "/api/orders/{order}/record", "record",
		"A work order on one page, as Markdown or PDF"),
		func(ctx context.Context, in *struct {
			OrderInput
			As string `query:"as" enum:"markdown,pdf" default:"markdown"`
		}) (*fileAnswer, error) {
			p, err := s.work.Record(ctx, in.Order)
			name := "record"
			if p != nil {
				name = p.Title[:min(len(p.Title), len("WO-0000"))]
			}
			return s.printed(name, in.As, p, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/card", "card",
		"A site on one sheet: whom to ask, devices, networks, pools, addresses and names"),
		func(ctx context.Context, in *SiteInput) (*body[*report.Page], error) {
			p, err := s.work.Card(ctx, in.Site)
			return answer(s, p, err)
		})
	huma.Register(api, op(http.MethodGet, "/api/sites/{site}/card/file", "card-file",
		"A site on one sheet, as Markdown or PDF"),
		func(ctx context.Context, in *struct {
			SiteInput
			As string `query:"as" enum:"markdown,pdf" default:"pdf"`
		}) (*fileAnswer, error) {
			p, err := s.work.Card(ctx, in.Site)
			return s.printed(in.Site+"-sheet", in.As, p, err)
		})
}
