package work

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
)

// MeantSo is somebody's word that a finding is meant so.
type MeantSo struct {
	Finding string `json:"finding" maxLength:"400" doc:"id of the finding"`
	Reason  string `json:"reason" maxLength:"300" doc:"why it is meant so"`
	Until   string `json:"until,omitempty" maxLength:"10" doc:"the last day on which that holds, for example 2027-03-31; as long as nothing changes when empty"`
	Order   int64  `json:"order,omitempty" doc:"the work order whose draft has the finding; none: the site as it stands"`
}

// MeanSo notes that a finding is meant so: it is counted, and not shown among those that want something done, until its
// facts change or the last day has passed. What blocks a push cannot be.
func (s *Service) MeanSo(ctx context.Context, by actor.Technician, code string, m MeantSo) error {
	page, err := s.Page(ctx, code, m.Order)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(page.Judgement.Findings, func(f check.Finding) bool { return f.ID == m.Finding })
	if i < 0 {
		return actor.Refuse(actor.Missing, "That finding is gone: something has changed meanwhile.")
	}
	f := page.Judgement.Findings[i]
	var wrong site.FieldErrors
	reason := strings.TrimSpace(m.Reason)
	if err := site.CheckText(reason); err != nil || reason == "" {
		wrong = append(wrong, site.FieldError{Field: "reason", Says: "Type why it is meant so, for example: shut off " +
			"until the room is let."})
	}
	var until *time.Time
	if text := strings.TrimSpace(m.Until); text != "" {
		d, err := site.ParseDate(text)
		if err != nil {
			wrong = append(wrong, site.FieldError{Field: "until", Says: err.Error()})
		} else {
			at := time.Date(d.Year, d.Month, d.Day, 0, 0, 0, 0, time.UTC)
			until = &at
			if at.Format(time.DateOnly) < time.Now().In(page.Site.Location()).Format(time.DateOnly) {
				wrong = append(wrong, site.FieldError{Field: "until", Says: "that day has passed; type one to come"})
			}
		}
	}
	switch {
	case f.Severity == check.Blocks:
		return actor.Refuse(actor.Conflict, "It keeps a push back, so that it cannot be meant. Fix it.")
	case len(wrong) > 0:
		return actor.RefuseFields("Nothing was noted", wrong)
	}
	return s.noteMeant(ctx, by, page.Site, f, reason, until)
}

func (s *Service) noteMeant(
	ctx context.Context, by actor.Technician, doc *site.Site, f check.Finding, reason string, until *time.Time,
) error {
	err := s.Store.KeepMeant(ctx, doc.ID, f.Title,
		order.Meant{Finding: f.ID, Facts: f.Facts(), Reason: reason, Until: until}, by.ID)
	if err != nil {
		return err
	}
	return errors.Join(actor.Record(ctx, s.Store.Queries, by, "finding-meant", doc.Name, f.Title+": "+reason),
		actor.Publish(ctx, s.Store.Queries, actor.Event{Topic: "site", ID: doc.Code}),
		actor.Publish(ctx, s.Store.Queries, actor.RoundsEvent))
}

// MeanNoMore shows a finding again that was meant so.
func (s *Service) MeanNoMore(ctx context.Context, by actor.Technician, code, finding string) error {
	row, err := s.Store.Site(ctx, code)
	if err != nil {
		return err
	}
	title, err := s.Store.ForgetMeant(ctx, row.ID, finding)
	if errors.Is(err, store.ErrNotFound) {
		return actor.Refuse(actor.Missing, "Nobody has said that this finding is meant so.")
	}
	if err != nil {
		return err
	}
	return errors.Join(actor.Record(ctx, s.Store.Queries, by, "finding-meant-no-more", row.Name, title),
		actor.Publish(ctx, s.Store.Queries, actor.Event{Topic: "site", ID: code}),
		actor.Publish(ctx, s.Store.Queries, actor.RoundsEvent))
}
