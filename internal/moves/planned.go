package moves

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"lithos/core/check"
	"lithos/core/move"
	"lithos/core/observed"
	"lithos/core/sequence"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// planned is a plan with what it was made from.
type planned struct {
	*move.Plan
	phases []move.Phase
	proofs []move.Proof
	others []other
	above  []Elsewhere // what changes of what is kept for all sites
	facts  check.Moving
	view   *MovePlan
}

// other is another site of the customer that points at what moves.
type other struct {
	was, will *site.Site
	rows      []move.Moved
}

// ReadMove reads a move as it is typed. Fields that cannot be read are refused with what to type instead.
func (s *Service) ReadMove(ctx context.Context, code string, t move.Asked) (move.Request, error) {
	sc, _, _, err := s.drafts.SceneOf(ctx, code, 0)
	if err != nil {
		return move.Request{}, err
	}
	r, err := t.Read(sc.Site, time.Now())
	var wrong site.FieldErrors
	if errors.As(err, &wrong) {
		err = actor.RefuseFields("The move cannot be planned", wrong)
	}
	return r, err
}

// PlanMove works out a move of a site's networks. A field that cannot be is refused with what to type instead.
func (s *Service) PlanMove(ctx context.Context, code string, r move.Request) (*MovePlan, error) {
	sc, _, _, err := s.drafts.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	p, err := s.plan(ctx, sc, r)
	if err != nil {
		return nil, err
	}
	return p.view, nil
}

func (s *Service) plan(ctx context.Context, sc *check.Scene, r move.Request) (*planned, error) {
	levels, err := levelsAt(ctx, s.store.Queries, sc.Site)
	if err != nil {
		return nil, err
	}
	return s.planWith(ctx, sc, r, levels)
}

// planWith is plan where what is kept for all sites is known.
func (s *Service) planWith(
	ctx context.Context, sc *check.Scene, r move.Request, levels []keptLevel,
) (*planned, error) {
	if r.Night.IsZero() {
		r.Night = time.Now().Add(48 * time.Hour).Truncate(time.Hour)
	}
	m, err := move.Of(sc.Site, r)
	var wrong *move.Wrong
	switch {
	case errors.As(err, &wrong):
		return nil, actor.RefuseFields("The move cannot be planned", site.FieldErrors{{Field: wrong.Field,
			Says: wrong.Says}})
	case err != nil:
		return nil, err
	}
	b, err1 := s.store.Beside(ctx, sc.ID, sc.Customer.Name)
	ms, err2 := s.store.Pace(ctx, sc.ID)
	out := &planned{Plan: m, phases: inTime(m.Phases(), r.Night, time.Now())}
	var err3, err4 error
	out.others, err3 = s.others(ctx, m)
	out.above, err4 = above(m, levels)
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		return nil, err
	}
	reached := map[string]bool{}
	for _, a := range b.Access {
		reached[a.DeviceID] = true
	}
	for _, ph := range out.phases {
		out.proofs = append(out.proofs, ph.Prove(func(id string) bool { return reached[id] }))
	}
	pace := time.Duration(ms * float64(time.Millisecond))
	if pace == 0 {
		pace = usualPace
	}
	night := move.Simulate(sc.Site, Clients(sc.Site, b.Seen, r.Night), out.acts(pace))
	out.facts = out.factsOf(night)
	out.view = out.shown(sc, b, night)
	return out, nil
}

// inTime gives a shortening that is late the time that is left.
func inTime(phases []move.Phase, night, now time.Time) []move.Phase {
	for i := range phases {
		if ph := &phases[i]; ph.Kind == move.Shorten && ph.NotAfter.Before(now) && night.After(now) {
			ph.Says += fmt.Sprintf(" That is late: by %s everybody awake would have known.",
				ph.NotAfter.Format("2 January 15:04 MST"))
			ph.NotBefore, ph.NotAfter = now, night
		}
	}
	return phases
}

// others are the customer's other sites that name what moves.
func (s *Service) others(ctx context.Context, m *move.Plan) ([]other, error) {
	rows, err := s.store.SitesOfCustomer(ctx, gen.SitesOfCustomerParams{Customer: m.Was.Customer.Name, But: m.Was.ID})
	if err != nil {
		return nil, err
	}
	var out []other
	for _, r := range rows {
		head, err := s.drafts.Head(ctx, r.ID, r.Head)
		if err != nil {
			return nil, err
		}
		will, changes, err := m.Elsewhere(head.Site)
		if err != nil {
			return nil, err
		}
		if len(changes) > 0 {
			out = append(out, other{head.Site, will, changes})
		}
	}
	return out, nil
}

// acts is the phases as the simulated night plays them.
func (p *planned) acts(pace time.Duration) []move.Act {
	var out []move.Act
	for i, ph := range p.phases {
		a := move.Act{At: ph.NotBefore, Doc: ph.Doc, Takes: time.Duration(p.proofs[i].Steps) * pace,
			Downs: p.proofs[i].Downs(pace)}
		if ph.Kind == move.Shorten {
			a.At = ph.NotAfter // the latest that does
		}
		if ph.Kind == move.Swap {
			a.Into = p.Joined()
		}
		out = append(out, a)
	}
	return out
}

// Clients are the known DHCP clients of a site: those with a lease, and those with a reservation. One that has missed
// its renewal is asleep, until eight in the morning after the night.
func Clients(doc *site.Site, heard []observed.Heard, night time.Time) []move.Client {
	wake := night.In(doc.Location())
	wake = time.Date(wake.Year(), wake.Month(), wake.Day(), 8, 0, 0, 0, wake.Location())
	if wake.Before(night) {
		wake = wake.AddDate(0, 0, 1)
	}
	var out []move.Client
	known := map[string]bool{}
	for _, h := range heard {
		n, ok := doc.NetworkOf(h.Address)
		if h.Source != observed.Lease || !h.Bound || h.MAC.IsZero() || !ok || known[h.MAC.String()+n.ID] {
			continue
		}
		known[h.MAC.String()+n.ID] = true
		c := move.Client{Name: h.Name, MAC: h.MAC, ID: h.ClientID, Class: h.Class, Network: n.ID, Address: h.Address}
		if p, ok := doc.Pool(h.Pool); ok {
			lease := move.LeaseTime(doc, n, p)
			c.Renewed = h.Expires.Add(-lease)
			if h.Last.Sub(c.Renewed) > lease*3/4 {
				c.Wakes = wake
			}
		}
		out = append(out, c)
	}
	for _, r := range doc.Reservations {
		if !r.MAC.IsZero() && !known[r.MAC.String()+r.Network] {
			out = append(out, move.Client{Name: r.NameOrAddress(), MAC: r.MAC, Network: r.Network, Address: r.Address})
		}
	}
	return out
}

func (p *planned) factsOf(night move.Night) check.Moving {
	m := check.Moving{Site: p.Was.ID, Title: cmp.Or(p.Request.Title, "The move"), Old: p.Old(),
		Stranded: night.Stranded}
	for _, sh := range p.Request.Shifts {
		m.Networks = append(m.Networks, sh.Network)
		if n, ok := p.Will.Network(sh.Network); ok {
			if was, _ := p.Was.Network(sh.Network); was.Prefix != n.Prefix {
				m.New = append(m.New, n.Prefix)
			}
		}
	}
	for i, proof := range p.proofs {
		for _, g := range proof.Gaps {
			if g.Kind == sequence.Collides {
				m.Collides = append(m.Collides, fmt.Sprintf("after step %d of %q %s", g.After, p.phases[i].Title,
					g.Says))
			}
		}
		if m.Console == "" && proof.Console != "" {
			m.Console = proof.Console
		}
	}
	return m
}

func (p *planned) shown(sc *check.Scene, b order.Beside, night move.Night) *MovePlan {
	night.Fates = night.Fates[:min(len(night.Fates), mostFates)]
	out := &MovePlan{Site: sc.Code, SiteName: sc.Name, Zone: sc.TimeZone, Title: p.Request.Title, Request: p.Request,
		Networks: p.networks(), Threads: p.Threads, Bands: p.Bands, Rows: p.Rows, Notes: p.Notes, Phases: []MovePhase{},
		Elsewhere: []Elsewhere{}, Visits: []MoveVisit{}, Night: night, Findings: []MoveFinding{}}
	out.Says = saysOf(out.Networks)
	for i, ph := range p.phases {
		out.Phases = append(out.Phases, MovePhase{Seq: i + 1, Kind: ph.Kind, Title: ph.Title, Says: ph.Says,
			NotBefore: ph.NotBefore, NotAfter: ph.NotAfter, Edits: len(ph.Edits), Proof: &p.proofs[i]})
	}
	for _, o := range p.others {
		out.Elsewhere = append(out.Elsewhere, Elsewhere{o.was.Code, o.was.Name, o.rows})
	}
	out.Elsewhere = append(out.Elsewhere, p.above...)
	for i, v := range p.Visits() {
		out.Visits = append(out.Visits, MoveVisit{Visit: v, Seq: i + 1})
	}
	with := b.Around(sc.Site)
	with.Moves = append(with.Moves, p.facts)
	var found []check.Finding
	for _, f := range check.Around(sc, with) {
		if check.AboutMoves(f.Rule) {
			found = append(found, f)
		}
	}
	after := check.Of(p.Will)
	for _, f := range move.BroughtIn(sc.Findings, after.Findings) {
		if f.Severity != check.Notes {
			found = append(found, f)
		}
	}
	check.Sort(found)
	for _, f := range found {
		out.Findings = append(out.Findings, MoveFinding{f.Rule, string(f.Severity), f.Title, f.Says})
	}
	return out
}

// mostFates is how many clients a page lists.
const mostFates = 200

func (p *planned) networks() []MovedNetwork {
	out := []MovedNetwork{}
	for _, sh := range p.Request.Shifts {
		was, _ := p.Was.Network(sh.Network)
		n := MovedNetwork{ID: was.ID, Name: was.Name, Was: was.Prefix.String(), WasVLAN: was.VLAN, Into: sh.Into,
			WasEnds: endsOf(was.Prefix)}
		if will, ok := p.Will.Network(sh.Network); ok {
			n.Will, n.WillVLAN, n.WillEnds = will.Prefix.String(), will.VLAN, endsOf(will.Prefix)
		}
		out = append(out, n)
		for k := range sh.Pieces {
			if will, ok := p.Will.Network(fmt.Sprintf("%s-%d", sh.Network, k+2)); ok {
				out = append(out, MovedNetwork{ID: will.ID, Name: will.Name, Will: will.Prefix.String(),
					WillVLAN: will.VLAN,
					Into:     was.ID, WillEnds: endsOf(will.Prefix)})
			}
		}
	}
	return out
}

func saysOf(networks []MovedNetwork) string {
	if len(networks) == 0 {
		return "Untagged VLANs of ports"
	}
	n := networks[0]
	says := ""
	switch {
	case n.Will == "":
		says = n.Name + ", " + n.Was + ", becomes part of another network"
	case n.Was != n.Will:
		says = fmt.Sprintf("%s out of %s into %s", n.Name, n.Was, n.Will)
	default:
		says = n.Name + " stays in " + n.Was
	}
	if n.WasVLAN != n.WillVLAN && n.Will != "" {
		says += fmt.Sprintf(", VLAN %d to %d", n.WasVLAN, n.WillVLAN)
	}
	if more := len(networks) - 1; more > 0 {
		says += fmt.Sprintf(", and %s more", site.Counted(more, "network"))
	}
	return says
}
