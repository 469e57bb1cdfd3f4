// Package moves is moves of networks: planned, cut into work orders, carried on as each lands, and taken back.
package moves

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"time"

	"github.com/riverqueue/river"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/move"
	"lithos/core/observed"
	"lithos/core/sequence"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Drafts are the sites and work orders that moves are made of.
type Drafts interface {
	Head(ctx context.Context, siteID string, revision int32) (*check.Scene, error)
	At(ctx context.Context, code string, order int64) (*check.Scene, *order.Draft, int32, error)
	Draft(ctx context.Context, id int64) (*order.Draft, error)
	Fill(ctx context.Context, by actor.Technician, id int64, edits []edit.Edit) error
	Rebase(ctx context.Context, id int64, version int32) (*order.Draft, error)
	Drop(ctx context.Context, by actor.Technician, id int64, version int32) error
	// DropIn is Drop within a transaction.
	DropIn(ctx context.Context, q *gen.Queries, by actor.Technician, id int64, version int32, title string) error
}

// Accounts are the technicians.
type Accounts interface {
	// Acting is who something is done for; it is refused where their account is switched off.
	Acting(ctx context.Context, id int64) (actor.Technician, error)
}

// Service is the use cases of moves. It is safe for concurrent use, and any number of processes may run one on the
// same database.
type Service struct {
	store    *store.Store
	drafts   Drafts
	accounts Accounts
	log      *slog.Logger
}

// New makes the use cases on a migrated database.
func New(s *store.Store, drafts Drafts, accounts Accounts, log *slog.Logger) *Service {
	return &Service{store: s, drafts: drafts, accounts: accounts, log: log}
}

// MovePlan is a move as it would be: nothing of it is kept.
type MovePlan struct {
	Site      string         `json:"site"` // code
	SiteName  string         `json:"siteName"`
	Zone      string         `json:"zone" doc:"the site's time zone"`
	Title     string         `json:"title"`
	Says      string         `json:"says" doc:"what moves where"`
	Request   move.Request   `json:"request"`
	Networks  []MovedNetwork `json:"networks"`
	Threads   []move.Thread  `json:"threads"`
	Bands     []move.Band    `json:"bands"`
	Rows      []move.Moved   `json:"rows"`
	Notes     []move.Mention `json:"notes" doc:"free text that mentions an old address, for the eye"`
	Phases    []MovePhase    `json:"phases"`
	Elsewhere []Elsewhere    `json:"elsewhere" doc:"the customer's other sites that point at what moves"`
	Visits    []MoveVisit    `json:"visits"`
	Night     move.Night     `json:"night"`
	Findings  []MoveFinding  `json:"findings" doc:"what is wrong with the move, and what it would bring into the site"`
}

// MovedNetwork is a network before and after.
type MovedNetwork struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Was      string `json:"was" doc:"subnet; empty for a new network"`
	Will     string `json:"will" doc:"subnet; empty for one that joins another"`
	WasVLAN  int    `json:"wasVlan"`
	WillVLAN int    `json:"willVlan"`
	Into     string `json:"into,omitempty" doc:"id of the network it joins, or is split from"`
	WasEnds  Ends   `json:"wasEnds"`
	WillEnds Ends   `json:"willEnds"`
}

// Ends are how a network is labelled on a ruler.
type Ends struct {
	First string `json:"first"`
	Last  string `json:"last" doc:"as much of it as differs"`
	Size  int    `json:"size" doc:"addresses; 0 for no network"`
}

func endsOf(p netip.Prefix) Ends {
	all := address.Of(p)
	return Ends{all.From.String(), address.Short(all.To, p), all.Size()}
}

// Movable is what of a site can be moved.
type Movable struct {
	Name     string           `json:"name"` // of the site
	Zone     string           `json:"zone"`
	Block    string           `json:"block"`
	Standard string           `json:"standard,omitempty" doc:"name of the standard, where it sets windows aside"`
	Night    string           `json:"night" doc:"when a swap could begin, on the clock at the site"`
	Networks []MovableNetwork `json:"networks"`
	Ports    []MovablePort    `json:"ports"`
	Devices  []MovableDevice  `json:"devices" doc:"that can route a network"`
}

// MovableNetwork is a network as it is.
type MovableNetwork struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Prefix  string `json:"prefix"`
	VLAN    int    `json:"vlan"`
	Gateway string `json:"gateway"`
	Owners  int    `json:"owners" doc:"reservations and fixed devices"`
	Free    string `json:"free,omitempty" doc:"the next free subnet of its size in the site's block"`
}

// MovablePort is a port with its untagged VLAN.
type MovablePort struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Untagged int    `json:"untagged"`
	Access   bool   `json:"access" doc:"a client may be plugged in: it has no cable to another device, and no tagged VLANs"`
}

// MovableDevice is a device with what can carry a VLAN interface.
type MovableDevice struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Parents []string `json:"parents"`
}

// nightHour is the hour at which a swap is proposed, in the site's zone.
const nightHour = 22

// Movable lists what of a site can be moved.
func (s *Service) Movable(ctx context.Context, code string) (*Movable, error) {
	sc, _, _, err := s.drafts.At(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	at := time.Now().In(sc.Location()).AddDate(0, 0, 3)
	out := &Movable{Name: sc.Name, Zone: sc.TimeZone, Networks: []MovableNetwork{}, Ports: []MovablePort{},
		Devices: []MovableDevice{}, Night: time.Date(at.Year(), at.Month(), at.Day(), nightHour, 0, 0, 0,
			at.Location()).Format(site.Clock)}
	if len(sc.Block) > 0 {
		out.Block = sc.Block[0].String()
	}
	if len(sc.Standard.Windows) > 0 {
		out.Standard = sc.Standard.Name
	}
	owners := map[string]int{}
	for _, r := range sc.Reservations {
		owners[r.Network]++
	}
	for _, x := range sc.FixedDevices {
		owners[x.Network]++
	}
	var used []netip.Prefix
	for _, n := range sc.Networks {
		used = append(used, n.Prefix)
	}
	for _, n := range sc.Networks {
		one := MovableNetwork{ID: n.ID, Name: n.Name, Prefix: n.Prefix.String(), VLAN: n.VLAN, Owners: owners[n.ID]}
		if n.Gateway.IsValid() {
			one.Gateway = n.Gateway.String()
		}
		if p, ok := address.NextPrefix(sc.Block, used, n.Prefix.Bits()); ok {
			one.Free = p.String()
		}
		out.Networks = append(out.Networks, one)
	}
	cabled := map[string]bool{}
	for _, d := range sc.Devices {
		for _, i := range d.Interfaces {
			if i.Peer != "" {
				cabled[i.ID], cabled[i.Peer] = true, true
			}
		}
	}
	for _, d := range sc.Devices {
		routes := MovableDevice{ID: d.ID, Name: d.Name, Parents: []string{}}
		for _, i := range d.Interfaces {
			if i.Kind == site.Port || i.Kind == site.PortGroup {
				out.Ports = append(out.Ports, MovablePort{i.ID, d.Name + " " + i.Name, i.Untagged,
					i.Kind == site.Port && len(i.Tagged) == 0 && !cabled[i.ID] && d.Kind != site.Server})
				routes.Parents = append(routes.Parents, i.Name)
			}
		}
		if d.Kind != site.L2Switch && d.Kind != site.Server {
			out.Devices = append(out.Devices, routes)
		}
	}
	return out, nil
}

// MovePhase is a phase with its work order, once that is open.
type MovePhase struct {
	Seq       int         `json:"seq"`
	Kind      string      `json:"kind" enum:"shorten,beside,swap,follow,elsewhere,back"`
	Title     string      `json:"title"`
	Says      string      `json:"says"`
	NotBefore time.Time   `json:"notBefore"`
	NotAfter  time.Time   `json:"notAfter"`
	Edits     int         `json:"edits"`
	Proof     *move.Proof `json:"proof,omitempty"`
	Site      string      `json:"site,omitempty" doc:"code of another site, of a phase there"`
	Order     int64       `json:"order,omitempty"`
	Name      string      `json:"name,omitempty" doc:"of the work order"`
	Stage     string      `json:"stage,omitempty" enum:"later,drafted,rehearsed,waiting,pushing,landed,returned,dropped"`
	LandedAt  *time.Time  `json:"landedAt,omitempty"`
	Overdue   bool        `json:"overdue,omitempty"`
}

// Elsewhere is what changes at another site, or of what is kept for all sites.
type Elsewhere struct {
	Site string       `json:"site,omitempty" doc:"code; none for what is kept for all sites"`
	Name string       `json:"name"`
	Rows []move.Moved `json:"rows"`
}

// MoveVisit is a device to be visited by hand, who has been there, and where it is seen.
type MoveVisit struct {
	move.Visit
	Seq    int        `json:"seq"`
	DoneBy string     `json:"doneBy,omitempty"`
	DoneAt *time.Time `json:"doneAt,omitempty"`
	ToUndo bool       `json:"toUndo,omitempty" doc:"the move was taken back, and this was done: it is to have its old address again"`
	Seen   string     `json:"seen,omitempty" enum:"new,old" doc:"where it was seen last, since the swap"`
	SeenAt *time.Time `json:"seenAt,omitempty"`
}

// MoveFinding is a finding about a move, or one that it would bring into the site.
type MoveFinding struct {
	Rule     string `json:"rule"`
	Severity string `json:"severity" enum:"blocks,warns,notes"`
	Title    string `json:"title"`
	Says     string `json:"says"`
}

// usualPace is how long a step takes at a site that was never pushed to.
const usualPace = time.Second

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
	sc, _, _, err := s.drafts.At(ctx, code, 0)
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
	sc, _, _, err := s.drafts.At(ctx, code, 0)
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

// BeginMove opens the work orders of a move, each with its window, and fills the draft of each that can be drafted now.
func (s *Service) BeginMove(ctx context.Context, by actor.Technician, code string, r move.Request) (int64, error) {
	sc, _, revision, err := s.drafts.At(ctx, code, 0)
	if err != nil {
		return 0, err
	}
	if err := checkTitle(r); err != nil {
		return 0, err
	}
	p, err := s.plan(ctx, sc, r)
	if err != nil {
		return 0, err
	}
	if len(p.Rows) == 0 {
		return 0, actor.RefuseFields("The move was not begun", site.FieldErrors{{Field: "shifts",
			Says: "Nothing would change. Type a new subnet, VLAN id or gateway, or choose how host numbers are kept."}})
	}
	id, err := s.keep(ctx, by, p, revision)
	if err != nil {
		return 0, err
	}
	return id, s.fill(ctx, id)
}

func checkTitle(r move.Request) error {
	var wrong site.FieldErrors
	if r.Title == "" {
		wrong = append(wrong, site.FieldError{Field: "title", Says: "Type what the move is called, for example " +
			"Handsets to VLAN 131."})
	}
	for field, text := range map[string]string{"title": r.Title, "ticket": r.Ticket} {
		if err := site.CheckText(text); err != nil {
			wrong = append(wrong, site.FieldError{Field: field, Says: err.Error()})
		}
	}
	if len(wrong) > 0 {
		return actor.RefuseFields("The move was not begun", wrong)
	}
	return nil
}

// fill puts the edits of phases into the drafts of their orders: of those that apply to the site as it is, and where
// every phase before has landed. What a landed phase leaves is the base of the next.
func (s *Service) fill(ctx context.Context, id int64) error {
	m, err := s.store.MoveByID(ctx, id)
	if err != nil {
		return err
	}
	by, err := s.accounts.Acting(ctx, m.OpenedBy)
	if err != nil {
		return settled(err) // its page says why it waits
	}
	phases, err := s.store.PhasesOf(ctx, id)
	if err != nil {
		return err
	}
	ready := true
	for _, p := range phases {
		if err := s.fillOne(ctx, by, p, ready); err != nil {
			return err
		}
		if p.Kind != kindElsewhere {
			ready = ready && p.State == "landed"
		}
	}
	if err := s.carryLevels(ctx, by, m, phases); err != nil {
		return err
	}
	return s.end(ctx, m, phases)
}

const (
	kindElsewhere = "elsewhere"
	kindBack      = "back"
)

func (s *Service) fillOne(ctx context.Context, by actor.Technician, p gen.PhasesOfRow, ready bool) error {
	if p.State != "open" {
		return nil
	}
	if p.Filled {
		if !ready || p.BaseRevision == p.Head || p.Waits {
			return nil
		}
		_, err := s.drafts.Rebase(ctx, p.OrderID, p.Version)
		return settled(err)
	}
	var edits []edit.Edit
	if err := json.Unmarshal(p.Edits, &edits); err != nil {
		return err
	}
	head, err := s.drafts.Head(ctx, p.SiteID, p.Head)
	if err != nil {
		return err
	}
	_, conflicts := edit.Replay(head.Site, edits)
	if early := p.Kind != move.Follow && len(conflicts) == 0; !early && !ready && p.Kind != kindElsewhere {
		return nil
	}
	d, err := s.drafts.Draft(ctx, p.OrderID)
	if err == nil && len(d.Steps)+d.Order.Lost == 0 {
		err = s.drafts.Fill(ctx, by, p.OrderID, edits)
	}
	if err != nil {
		return settled(err) // another fills it at the same time, or it is looked at again
	}
	// A process that is killed before this finds the draft filled.
	_, err = s.store.PhaseFilled(ctx, gen.PhaseFilledParams{MoveID: p.MoveID, Seq: p.Seq})
	return err
}

// settled forgives what another did at the same time, and what waits.
func settled(err error) error {
	if errors.As(err, new(*actor.Refusal)) {
		return nil
	}
	return err
}

// end closes a move none of whose orders is open any more.
func (s *Service) end(ctx context.Context, m gen.MoveByIDRow, phases []gen.PhasesOfRow) error {
	if m.State != "open" || slices.ContainsFunc(phases, func(p gen.PhasesOfRow) bool {
		return p.State == "open" || p.State == "pushing"
	}) {
		return nil
	}
	state := "dropped"
	for _, p := range phases {
		if p.State == "landed" && p.Kind != kindElsewhere {
			state = "done"
			if p.Kind == kindBack {
				state = "back"
			}
		}
	}
	_, err := s.store.EndMove(ctx, gen.EndMoveParams{ID: m.ID, State: state})
	return errors.Join(err, actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "site", ID: m.Code}))
}

// carryArgs is the job that carries moves on.
type carryArgs struct{}

// Kind implements river.JobArgs.
func (carryArgs) Kind() string { return "carry-moves-on" }

type carryWorker struct {
	river.WorkerDefaults[carryArgs]
	*Service
}

// Work implements river.Worker.
func (w carryWorker) Work(ctx context.Context, _ *river.Job[carryArgs]) error {
	return w.CarryMovesOn(ctx)
}

// Work adds the worker that carries moves on.
func (s *Service) Work(workers *river.Workers) { river.AddWorker(workers, &carryWorker{Service: s}) }

// InsertOpts implements river.JobArgsWithInsertOpts: one is waiting or running at a time, over all processes.
func (carryArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByState: store.Unfinished}}
}

// Due is the job of what can be drafted now; nil for nothing.
func (s *Service) Due(ctx context.Context) (river.JobArgs, error) {
	moves, err := s.store.PhasesToFill(ctx)
	if err != nil || len(moves) == 0 {
		return nil, err
	}
	return carryArgs{}, nil
}

// CarryMovesOn fills the drafts that can be filled by now, and closes the moves that have ended.
func (s *Service) CarryMovesOn(ctx context.Context) error {
	ids, err := s.store.PhasesToFill(ctx)
	for _, id := range ids {
		err = errors.Join(err, s.fill(ctx, id))
	}
	return err
}
