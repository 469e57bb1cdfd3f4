package work

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"lithos/internal/draft"
	"lithos/internal/moves"
	"lithos/internal/order"
	"lithos/internal/push"
	"lithos/internal/view"
)

// Page is what the pages of a site are computed from.
func (s *Service) Page(ctx context.Context, code string, orderID int64) (*view.Page, error) {
	sc, d, revision, err := s.Drafts.SceneOf(ctx, code, orderID)
	if err != nil {
		return nil, err
	}
	b, err := s.Store.Beside(ctx, sc.Site.ID, sc.Site.Customer.Name)
	if err != nil {
		return nil, err
	}
	return view.Of(sc, d, revision, b), nil
}

// Followings are the dynamic names of all sites as they stand: one pass over what is known of them.
func (s *Service) Followings(ctx context.Context) ([]view.Following, error) {
	rows, err := s.Store.Followed(ctx)
	if err != nil {
		return nil, err
	}
	sites, err := rows.Sites(s.Store.Documents)
	if err != nil {
		return nil, err
	}
	return view.Followed(sites, time.Now()), nil
}

// OrderView is a work order as its page shows it.
type OrderView struct {
	// AsOf is when it was read, in microseconds since 1970: of two views the one with
	// the greater is the newer, whichever arrives first.
	AsOf      int64             `json:"asOf"`
	Head      order.Head        `json:"head"`
	SiteName  string            `json:"siteName"`
	Zone      string            `json:"zone" doc:"the site's time zone"`
	OpenedAt  time.Time         `json:"openedAt"`
	Steps     []StepView        `json:"steps"`
	Plans     []push.DevicePlan `json:"plans"`
	Gaps      []push.Gap        `json:"gaps"`     // what is not so in between
	Findings  []view.Finding    `json:"findings"` // that the draft brings in
	Causes    []view.Finding    `json:"causes" doc:"after a push that failed: what is found of the device or the network at which it did"`
	Networks  []string          `json:"networks"` // ids of those the draft touches
	Rehearsal *push.Rehearsed   `json:"rehearsal,omitempty"`
	Push      *push.PushView    `json:"push,omitempty"`
	Others    []OtherOrder      `json:"others" doc:"other open orders of the site"`
	Waves     *push.Waves       `json:"waves,omitempty" doc:"of an order over several sites"`
	Move      *moves.MoveOf     `json:"move,omitempty" doc:"the move of networks that it is a phase of"`
	Lost      []draft.Lost      `json:"lost"` // edits that no longer applied on a newer revision
}

// StepView is one step of a draft.
type StepView struct {
	Seq    int32     `json:"seq" doc:"what says, in taking one back, which it is"`
	Says   string    `json:"says"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Undone bool      `json:"undone"`
	// UndoneBy is who took it back.
	UndoneBy string `json:"undoneBy,omitempty"`
}

// Order shows a work order.
func (s *Service) Order(ctx context.Context, id int64) (*OrderView, error) {
	asOf := time.Now().UnixMicro()
	d, err := s.Drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	v := &OrderView{AsOf: asOf, SiteName: d.Doc().Name, Zone: d.Doc().TimeZone, OpenedAt: d.Order.OpenedAt,
		Steps: []StepView{}}
	var b order.Beside
	var reads errgroup.Group
	reads.Go(func() (err error) {
		b, err = s.Store.Beside(ctx, d.Order.SiteID, d.Doc().Customer.Name)
		return err
	})
	reads.Go(func() (err error) {
		v.Lost, err = s.Drafts.Lost(ctx, d)
		return err
	})
	reads.Go(func() (err error) {
		v.Rehearsal, err = s.Pushes.Rehearsal(ctx, id)
		return err
	})
	reads.Go(func() (err error) {
		v.Push, err = s.Pushes.Latest(ctx, id)
		return err
	})
	reads.Go(func() (err error) {
		v.Others, err = s.others(ctx, d)
		return err
	})
	reads.Go(func() (err error) {
		v.Waves, err = s.Pushes.TogetherWith(ctx, &d.Order)
		return err
	})
	reads.Go(func() (err error) {
		v.Move, err = s.Moves.MoveOfOrder(ctx, id)
		return err
	})
	if err := reads.Wait(); err != nil {
		return nil, err
	}
	page := view.Of(d.Scene, d, d.Order.BaseRevision, b)
	planned, err := s.Pushes.Planned(ctx, d, b.Access)
	if err != nil {
		return nil, err
	}
	v.Head, v.Plans, v.Gaps = *page.Head(), planned.Parts, planned.Gaps
	v.Findings, v.Networks = page.AddedFindings(), d.Networks(order.Configurations(b.Access))
	v.Causes = []view.Finding{}
	if v.Push != nil && v.Head.State == "open" {
		v.Causes = page.CausesOf(v.Push.FailedAt())
	}
	if v.Head.State != "open" {
		// What was carried out is what its push was planned to do, whatever devices hold by now.
		kept, err := s.Pushes.PlanOfPush(ctx, id)
		if err != nil {
			return nil, err
		}
		if kept != nil {
			v.Plans, v.Gaps, v.Networks = kept.Parts, kept.Gaps, kept.Networks
		}
	}
	for _, st := range d.Steps {
		v.Steps = append(v.Steps, StepView{st.Seq, st.Says, st.By, st.At, st.Undone, st.UndoneBy})
	}
	return v, nil
}
