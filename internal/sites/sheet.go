package sites

import (
	"context"
	"slices"

	"lithos/core/sheet"
	"lithos/core/site"
	"lithos/internal/actor"
)

// Sheet is the addresses, names or options of a site as a table for a spreadsheet, or of all sites of its customer. Who
// takes it away is written down. As a workbook it is XLSX, else CSV.
func (s *Service) Sheet(
	ctx context.Context, by actor.Technician, code, of string, customer, workbook bool,
) ([]byte, error) {
	doc, err := s.Export(ctx, code)
	if err != nil {
		return nil, err
	}
	sites := []*site.Site{doc}
	if customer {
		all, err := s.allSites(ctx)
		if err != nil {
			return nil, err
		}
		sites = slices.DeleteFunc(all, func(o *site.Site) bool { return o.Customer.Name != doc.Customer.Name })
	}
	raw, err := sheet.Write(of, sites)
	if workbook && err == nil {
		var rows [][]string
		if rows, err = sheet.Rows(of, sites); err == nil {
			raw, err = book(of, rows)
		}
	}
	if err != nil {
		return nil, actor.Refuse(actor.Invalid, "%s", err)
	}
	says := "The " + of + " of " + doc.Name
	if customer {
		says = "The " + of + " of all sites of " + doc.Customer.Name
	}
	return raw, actor.Record(ctx, s.store.Queries, by, "site-exported", code, says)
}
