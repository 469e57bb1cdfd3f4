package sites

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"lithos/core/observed"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Happened is what happened at a site.
type Happened struct {
	Looked time.Time `json:"looked" doc:"until when the technician has looked before"`
	Items  []Item    `json:"items" doc:"the newest first"`
}

// Item is one thing that happened at a site.
type Item struct {
	ID       string    `json:"id"`
	Kind     string    `json:"kind" enum:"revision,returned,drifted,holds,unread,read,server,seen"`
	At       time.Time `json:"at"`
	Title    string    `json:"title"`
	Says     string    `json:"says,omitempty"`
	By       string    `json:"by,omitempty"`
	Revision int32     `json:"revision,omitempty"`
	OrderID  int64     `json:"orderId,omitempty"`
	Device   string    `json:"device,omitempty" doc:"id of the device that it is about"`
	Now      bool      `json:"now" doc:"of what a device holds: whether it still does"`
	Fresh    bool      `json:"fresh" doc:"whether it happened since the technician looked"`
}

// mostItems is how many things are told of a site.
const mostItems = 500

// Happened lists what happened at a site: revisions with their work orders, pushes that were returned, and what was
// noticed. With look it is noted that the technician looks now.
func (s *Service) Happened(ctx context.Context, by actor.Technician, code string, look bool) (*Happened, error) {
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return nil, err
	}
	revisions, err1 := s.History(ctx, code)
	pushes, err2 := s.store.FailedPushesOfSite(ctx, row.ID)
	events, err3 := s.store.EventsOfSite(ctx, row.ID)
	access, err4 := s.store.Access(ctx, row.ID)
	looked, err5 := s.store.Looked(ctx, gen.LookedParams{TechnicianID: by.ID, SiteID: row.ID})
	if err := errors.Join(err1, err2, err3, err4, err5); err != nil {
		return nil, err
	}
	out := &Happened{Looked: looked, Items: []Item{}}
	for _, r := range revisions {
		out.Items = append(out.Items, revised(r))
	}
	for _, p := range pushes {
		at := p.StartedAt
		if p.FinishedAt != nil {
			at = *p.FinishedAt
		}
		out.Items = append(out.Items, Item{ID: "push:" + strconv.FormatInt(p.ID, 10), Kind: "returned", At: at,
			Title: fmt.Sprintf("%s was returned", order.Name(p.OrderID)), By: p.Starter, OrderID: p.OrderID,
			Says: strings.TrimSpace(p.Title + " " + p.Ticket + ": " + p.Problem)})
	}
	told := map[string]bool{}
	for _, e := range events { // the newest first
		_, device, _ := strings.Cut(e.About, ":")
		i := Item{ID: "event:" + strconv.FormatInt(e.ID, 10), Kind: e.Kind, At: e.At, Title: e.Says, Device: device}
		if head, says, ok := strings.Cut(e.Says, ": "); ok {
			i.Title, i.Says = head, says
		}
		if a := order.On(access, device); e.Kind == "drifted" && !told[device] {
			i.Now, told[device] = a != nil && a.Drifted > 0, true
		}
		out.Items = append(out.Items, i)
	}
	fresh, err := s.newcomers(ctx, row, latest(looked, time.Now().Add(-newcomersFor)))
	if err != nil {
		return nil, err
	}
	out.Items = append(out.Items, fresh...)
	slices.SortStableFunc(out.Items, func(a, b Item) int { return cmp.Or(b.At.Compare(a.At), cmp.Compare(b.ID, a.ID)) })
	out.Items = out.Items[:min(len(out.Items), mostItems)]
	for i := range out.Items {
		// To somebody who looks for the first time nothing is newer than the rest.
		out.Items[i].Fresh = looked.Unix() > 0 && out.Items[i].At.After(looked) && out.Items[i].By != by.FullName
	}
	if look {
		err = s.store.NoteLook(ctx, gen.NoteLookParams{TechnicianID: by.ID, SiteID: row.ID})
	}
	return out, err
}

// newcomersFor is for how long a machine that nobody recorded is told as new at most.
const newcomersFor = 24 * time.Hour

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// revised is a revision as something that happened.
func revised(r Revision) Item {
	says := r.Order
	if len(r.Unverified) > 0 {
		says = strings.Join(append([]string{says}, r.Unverified...), "; ")
	}
	return Item{ID: "revision:" + strconv.Itoa(int(r.Revision)), Kind: "revision", At: r.At,
		Title: fmt.Sprintf("Revision %d · %s", r.Revision, cmp.Or(r.Note, "Taken in")),
		Says:  strings.TrimPrefix(says, "; "),
		By:    r.By, Revision: r.Revision, OrderID: r.OrderID}
}

// newcomers are the machines that nobody recorded and that were seen for the first time since somebody looked, by
// network.
func (s *Service) newcomers(ctx context.Context, row store.Site, looked time.Time) ([]Item, error) {
	head, err := s.sites.Head(ctx, row.ID, row.Head)
	if err != nil {
		return nil, err
	}
	heard, err := s.store.Heard(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	by := map[string][]observed.One{}
	for _, o := range observed.Look(head.Site, observed.Sightings(head.Site, heard, time.Now())) {
		unrecorded := slices.ContainsFunc(o.Remarks,
			func(r observed.Remark) bool { return r.Kind == observed.Unrecorded })
		if unrecorded && o.First.After(looked) {
			by[o.Network] = append(by[o.Network], o)
		}
	}
	var out []Item
	for _, n := range head.Networks {
		list := by[n.ID]
		if len(list) == 0 {
			continue
		}
		last := slices.MaxFunc(list, func(a, b observed.One) int { return a.First.Compare(b.First) })
		item := Item{ID: "seen:" + n.ID, Kind: "seen", At: last.First,
			Title: fmt.Sprintf("%s nobody recorded, new on %s", site.Counted(len(list), "machine"), n.Name)}
		var at []string
		for _, o := range list[:min(len(list), 3)] {
			at = append(at, o.Address.String())
		}
		if more := len(list) - len(at); more > 0 {
			at = append(at, fmt.Sprintf("%d more", more))
		}
		item.Says = strings.Join(at, ", ")
		out = append(out, item)
	}
	return out, nil
}
