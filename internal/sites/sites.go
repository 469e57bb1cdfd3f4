package sites

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// SiteRow is one site on Rounds.
type SiteRow struct {
	Code     string       `json:"code"`
	Name     string       `json:"name"`
	Customer string       `json:"customer"`
	Block    string       `json:"block"`
	Networks int          `json:"networks"`
	Revision int32        `json:"revision"`
	Changed  time.Time    `json:"changed"`
	By       string       `json:"by,omitempty"`
	Orders   int          `json:"orders"` // open work orders
	Blocks   int          `json:"blocks"` // findings by severity
	Warns    int          `json:"warns"`
	Findings int          `json:"findings"`
	Meant    int          `json:"meant" doc:"findings that somebody has said are meant so"`
	Worst    *order.Brief `json:"worst,omitempty"` // the gravest
}

// Sites lists every site with what is wrong there, the gravest first; or those that were put away.
func (s *Service) Sites(ctx context.Context, archived bool) ([]SiteRow, error) {
	rows, err := s.store.ListSites(ctx, gen.ListSitesParams{Rules: rules, Archived: archived})
	if err != nil {
		return nil, err
	}
	out := []SiteRow{}
	for _, r := range rows {
		sum := summary{block: r.Block}
		if r.Summarised {
			err = json.Unmarshal(r.Findings, &sum.findings)
		} else {
			sum, err = s.summarise(ctx, r.ID, r.Head)
		}
		if err != nil {
			return nil, fmt.Errorf("what was found at %s: %w", r.Code, err)
		}
		row := SiteRow{
			Code: r.Code, Name: r.Name, Customer: r.Customer, Block: sum.block, Networks: int(r.Networks),
			Revision: r.Head, Changed: r.MadeAt,
			By: r.MadeBy, Orders: int(r.OpenOrders),
		}
		said, err := meantOf(r.Meant)
		if err != nil {
			return nil, fmt.Errorf("what is meant so at %s: %w", r.Code, err)
		}
		row.Meant = len(said)
		row.count(order.Unanswered(sum.findings, said, time.Now()))
		if len(r.Around) > len("[]") {
			var around []order.Brief
			if err := json.Unmarshal(r.Around, &around); err != nil {
				return nil, fmt.Errorf("what was found around %s: %w", r.Code, err)
			}
			row.count(order.Unanswered(around, said, time.Now()))
		}
		out = append(out, row)
	}
	// What is worst comes first; the rest stays by customer and name.
	slices.SortStableFunc(out,
		func(a, b SiteRow) int { return cmp.Or(b.Blocks-a.Blocks, b.Warns-a.Warns, b.Findings-a.Findings) })
	return out, nil
}

// meantOf is what is said of findings at a site.
func meantOf(raw []byte) ([]order.Meant, error) {
	var rows []struct {
		Finding, Facts string
		Until          string
	}
	if err := json.Unmarshal(raw, &rows); err != nil {
		return nil, err
	}
	var out []order.Meant
	for _, r := range rows {
		m := order.Meant{Finding: r.Finding, Facts: r.Facts}
		if at, err := time.Parse(time.DateOnly, r.Until); err == nil {
			m.Until = &at
		}
		out = append(out, m)
	}
	return out, nil
}

// count adds findings, gravest first, to what Rounds says of a site.
func (r *SiteRow) count(found []order.Brief) {
	r.Findings += len(found)
	for _, f := range found {
		switch f.Severity {
		case check.Blocks:
			r.Blocks++
		case check.Warns:
			r.Warns++
		}
	}
	if len(found) > 0 && (r.Worst == nil || found[0].Before(*r.Worst)) {
		r.Worst = &found[0]
	}
}

// summary is what Rounds says of one revision of a site.
type summary struct {
	block    string
	findings []order.Brief // of the document, gravest first
}

// rules names the rules that summaries are made with: those of this build, or of this
// process where the build does not say which it is.
var rules = func() string {
	revision, modified := "", true
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, set := range info.Settings {
			switch set.Key {
			case "vcs.revision":
				revision = set.Value
			case "vcs.modified":
				modified = set.Value == "true"
			}
		}
	}
	if revision == "" || modified {
		return rand.Text()
	}
	return revision
}()

// summarise works out what Rounds says of a revision, and keeps it beside the site.
func (s *Service) summarise(ctx context.Context, siteID string, number int32) (summary, error) {
	head, err := s.sites.Head(ctx, siteID, number)
	if err != nil {
		return summary{}, err
	}
	sum := summary{joined(head.Block), order.InBrief(head.Findings)}
	raw, err := json.Marshal(sum.findings)
	if err != nil {
		return summary{}, err
	}
	return sum, s.store.PutSummary(ctx,
		gen.PutSummaryParams{SiteID: siteID, Revision: number, Rules: rules, Block: sum.block, Findings: raw})
}

// Revision is one entry of a site's history.
type Revision struct {
	Revision int32     `json:"revision"`
	Note     string    `json:"note"`
	Order    string    `json:"order,omitempty"`
	OrderID  int64     `json:"orderId,omitempty"`
	By       string    `json:"by,omitempty"`
	At       time.Time `json:"at"`
	// Unverified says what its push did not prove, and who has seen to it since.
	Unverified []string `json:"unverified"`
}

// History lists the revisions of a site, newest first.
func (s *Service) History(ctx context.Context, code string) ([]Revision, error) {
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return nil, err
	}
	rows, err1 := s.store.ListRevisions(ctx, row.ID)
	gaps, err2 := s.store.UnverifiedOfSite(ctx, row.ID)
	out := []Revision{}
	for _, r := range rows {
		v := Revision{Revision: r.Revision, Note: r.Note, By: r.MadeBy, At: r.MadeAt, Unverified: []string{}}
		if r.OrderID != nil {
			v.Order, v.OrderID = order.Name(*r.OrderID), *r.OrderID
		}
		for _, u := range gaps {
			switch {
			case u.OrderID != v.OrderID:
			case u.VerifiedAt == nil:
				v.Unverified = append(v.Unverified, u.Name+" not verified")
			default:
				v.Unverified = append(v.Unverified, u.Name+" verified by hand by "+u.Verifier)
			}
		}
		out = append(out, v)
	}
	return out, errors.Join(err1, err2)
}

// Export reads a site's newest revision.
// The document is shared by all who read it, and is not to be changed.
func (s *Service) Export(ctx context.Context, code string) (*site.Site, error) {
	sc, _, _, err := s.sites.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	return sc.Site, nil
}

// ExportFor is Export for somebody who takes the file away, which is audited.
func (s *Service) ExportFor(ctx context.Context, by actor.Technician, code string) (*site.Site, error) {
	doc, err := s.Export(ctx, code)
	if err != nil {
		return nil, err
	}
	return doc, actor.Record(ctx, s.store.Queries, by, "site-exported", code, "The site file of "+doc.Name)
}

// Import makes a site file the newest revision of its site, or adds the site.
// by is 0 for the command line. A file equal to the newest revision changes
// nothing; it returns the revision that holds the file.
func (s *Service) Import(ctx context.Context, doc *site.Site, by int64, note string) (revision int32, err error) {
	revision, err = s.take(ctx, doc, by, note)
	if err == nil {
		_, err = s.summarise(ctx, doc.ID, revision)
	}
	return revision, err
}

func (s *Service) take(ctx context.Context, doc *site.Site, by int64, note string) (revision int32, err error) {
	row, err := store.Found(s.store.SiteByID(ctx, doc.ID))
	if errors.Is(err, store.ErrNotFound) {
		if _, err := s.store.SiteByCode(ctx, doc.Code); err == nil {
			return 0, actor.Refuse(actor.Conflict,
				"the code %q belongs to another site; give the file's site another code",
				doc.Code)
		}
		return 1, s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
			if err := store.AddSite(ctx, q, doc, store.Author{Note: note, By: by}); err != nil {
				return err
			}
			if err := actor.Record(ctx, q, actor.Technician{ID: by, FullName: note}, "site-imported", doc.Code,
				"Added "+doc.Name); err != nil {
				return err
			}
			return actor.Publish(ctx, q, actor.Event{Topic: "site", ID: doc.Code})
		})
	}
	if err != nil {
		return 0, err
	}
	head, err := s.sites.Head(ctx, row.ID, row.Head)
	if err != nil {
		return 0, err
	}
	was, err1 := site.Encode(head.Site)
	now, err2 := site.Encode(doc)
	if err := errors.Join(err1, err2); err != nil || bytes.Equal(was, now) {
		return row.Head, err
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		// A push that starts now waits, and finds the new head.
		if _, err := store.LockSite(ctx, tx, doc.ID); err != nil {
			return err
		}
		var pushing bool
		if err := tx.QueryRow(ctx,
			"SELECT EXISTS (SELECT FROM push WHERE site_id = $1 AND state NOT IN ('landed', 'failed'))", doc.ID).
			Scan(&pushing); err != nil {
			return err
		}
		if pushing {
			return actor.Refuse(actor.Conflict, "a push to %s is under way; import when it has ended", row.Name)
		}
		if err := store.AddRevision(ctx, q, doc, row.Head, store.Author{Note: note, By: by}); err != nil {
			return err
		}
		if err := actor.Record(ctx, q, actor.Technician{ID: by, FullName: note}, "site-imported", doc.Code,
			fmt.Sprintf("Revision %d of %s", row.Head+1, doc.Name)); err != nil {
			return err
		}
		return actor.Publish(ctx, q, actor.Event{Topic: "site", ID: doc.Code})
	})
	return row.Head + 1, err
}
