package work

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/seen"
	"lithos/core/site"
	"lithos/core/survey"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Look says what of a site is on the screen.
type Look struct {
	Order   int64  `json:"order,omitempty" doc:"work order whose draft is shown; 0 for the site as it is"`
	Network string `json:"network,omitempty" doc:"id of the selected network; the first when empty or unknown"`
	Select  string `json:"select,omitempty" doc:"kind:id of the selected part"`
	From    int    `json:"from,omitempty" doc:"offset of the first address on the ruler, for large networks"`
}

// View is one site as the site page draws it.
type View struct {
	Site     SiteHead       `json:"site"`
	Order    *OrderHead     `json:"order,omitempty"`
	Orders   []OpenOrder    `json:"orders"` // open work orders of the site
	Layers   []survey.Layer `json:"layers"`
	Findings []Finding      `json:"findings"`
	Network  *NetworkView   `json:"network,omitempty"`
	Inspect  *Inspection    `json:"inspect,omitempty"`
	Devices  []DeviceView   `json:"devices"`
	Classes  []PartView     `json:"classes"` // vendor classes
	Own      []OptionChoice `json:"ownOptions"`
	OwnParts []PartView     `json:"ownParts"`       // the definitions of those, as parts
	Networks []PoolChoice   `json:"networks"`       // all, for forms
	Made     string         `json:"made,omitempty"` // kind:id of the part an edit just made
}

// SiteHead is what of a site stands at the top of its page.
type SiteHead struct {
	ID       string `json:"id"`
	Code     string `json:"code"`
	Name     string `json:"name"`
	Customer string `json:"customer"`
	Block    string `json:"block"`
	Domain   string `json:"domain"`
	Standard string `json:"standard"`
	TimeZone string `json:"timeZone"`
	Revision int32  `json:"revision"`
}

// OrderHead is what the tray says of the open work order.
type OrderHead struct {
	ID        int64    `json:"id"`
	Name      string   `json:"name"`
	Site      string   `json:"site"` // code
	Title     string   `json:"title"`
	Ticket    string   `json:"ticket"`
	State     string   `json:"state" enum:"open,pushing,landed,dropped"`
	OpenedBy  string   `json:"openedBy"`
	Version   int32    `json:"version"`
	Edits     int      `json:"edits"`
	Blocking  int      `json:"blocking"`
	Warning   int      `json:"warning"`
	Undo      string   `json:"undo,omitempty"`   // what undo takes back
	UndoBy    string   `json:"undoBy,omitempty"` // whose step that is
	Redo      string   `json:"redo,omitempty"`
	Lost      int      `json:"lost"`               // edits that no longer apply and wait for a decision
	Refuses   string   `json:"refuses,omitempty"`  // why it cannot be pushed now, in a sentence
	ClosedBy  string   `json:"closedBy,omitempty"` // who dropped it, or whose push landed it
	Behind    bool     `json:"behind"`             // the site has a newer revision than the draft's base
	Rehearsed bool     `json:"rehearsed"`          // this very version was
	Devices   []string `json:"devices"`            // names of those a push reaches
}

// OpenOrder is one of the open work orders of a site.
type OpenOrder struct {
	ID    int64  `json:"id"`
	Name  string `json:"name"`
	Title string `json:"title"`
	By    string `json:"by"`
}

// Finding is a finding for the screen: its fix is carried out by id.
type Finding struct {
	ID        string   `json:"id"`
	Rule      string   `json:"rule"`
	Severity  string   `json:"severity" enum:"blocks,warns,notes"`
	Title     string   `json:"title"`
	Says      string   `json:"says"`
	Network   string   `json:"network,omitempty"`
	Parts     []string `json:"parts"`
	Addresses string   `json:"addresses,omitempty"`
	Fix       string   `json:"fix,omitempty"` // the fix in words; empty when there is none
	Added     bool     `json:"added"`         // by the draft
}

// NetworkView is the selected network.
type NetworkView struct {
	ID        string       `json:"id"`
	Name      string       `json:"name"`
	Purpose   string       `json:"purpose"`
	Prefix    string       `json:"prefix"`
	Mask      string       `json:"mask"`
	VLAN      int          `json:"vlan"`
	Gateway   string       `json:"gateway"`
	Where     string       `json:"where"` // "lan.24 on gw-1", empty when on no interface
	Ruler     survey.Ruler `json:"ruler"`
	Rows      []survey.Row `json:"rows"`
	Seen      []SeenRow    `json:"seen"`
	Told      []Told       `json:"told"`
	NextFree  string       `json:"nextFree"` // for a reservation or fixed device
	Pools     []PoolChoice `json:"pools"`
	Interface *Proposal    `json:"interface,omitempty"` // the VLAN interface it lacks
}

// PoolChoice is a pool of the network, for forms.
type PoolChoice struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Ranges string `json:"ranges"`
}

// Proposal prefills a form.
type Proposal struct {
	In     string            `json:"in,omitempty"`
	InName string            `json:"inName,omitempty"`
	Fields map[string]string `json:"fields"`
}

// Told is one option clients are told, with where it comes from in words.
type Told struct {
	Code  uint8  `json:"code"`
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from"`            // sentence
	Level string `json:"level"`           // kind:id of the level that sets it
	Own   bool   `json:"own"`             // set on the inspected part itself
	Hides string `json:"hides,omitempty"` // sentence
}

// DeviceView is a device of the site with its interfaces, for the forms.
type DeviceView struct {
	ID         string          `json:"id"`
	Name       string          `json:"name"`
	Kind       string          `json:"kind"`
	Reached    bool            `json:"reached"` // Lithos can push to it
	ReadAt     *time.Time      `json:"readAt,omitempty"`
	Problem    string          `json:"problem,omitempty"`
	Interfaces []InterfaceView `json:"interfaces"`
}

// InterfaceView is one interface of a device.
type InterfaceView struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	VLAN      int    `json:"vlan"`
	Addresses string `json:"addresses"`
	Carries   string `json:"carries"` // VLANs or member ports, in words
	Permits   string `json:"permits"`
	Leads     string `json:"leads"` // cable, relay or uplink, in words
	Cabled    bool   `json:"cabled"`
}

// scene is what a view is drawn from.
type scene struct {
	doc      *site.Site
	findings []check.Finding
	added    map[string]bool
	seen     []seen.Sighting
	draft    *Draft // nil for the site as it is
	beside   store.Beside
}

// judged is what the tray says of a draft, and every finding the draft brings in:
// those of its document and those of its surroundings, with how its devices are
// reached. Pages and Push read it alike.
func (s *Service) judged(ctx context.Context, d *Draft) (*OrderHead, []check.Finding, []gen.DeviceAccess, error) {
	b, err := s.store.Beside(ctx, d.Order.SiteID, d.Doc.Customer.Name)
	if err != nil {
		return nil, nil, nil, err
	}
	with := surroundings(d.Doc, b)
	head, added := d.judged(b.Access, check.Around(d.Base, with), check.Around(d.Doc, with))
	return head, added, b.Access, nil
}

// judged counts what a draft brings in. was and found are the findings of the
// surroundings of its base and of itself.
func (d *Draft) judged(access []gen.DeviceAccess, was, found []check.Finding) (*OrderHead, []check.Finding) {
	added := slices.Concat(d.Added(), check.Added(was, found))
	check.Sort(added)
	head := d.head(access)
	for _, f := range added {
		switch f.Severity {
		case check.Blocks:
			head.Blocking++
		case check.Warns:
			head.Warning++
		}
	}
	if err := head.refusesPush(); err != nil {
		head.Refuses = err.Error()
	}
	return head, added
}

// View draws a site. code is the site's; look.Order, when set, must be one of its orders.
func (s *Service) View(ctx context.Context, code string, look Look) (*View, error) {
	if look.Order != 0 {
		d, err := s.Draft(ctx, look.Order)
		if err != nil {
			return nil, err
		}
		if d.Order.Code != code {
			return nil, refuse(Missing, "%s is not an order of this site.", OrderName(look.Order))
		}
		return s.viewDraft(ctx, d, look)
	}
	row, err := s.siteByCode(ctx, code)
	if err != nil {
		return nil, err
	}
	head, err := s.examine(ctx, row.ID, row.Head)
	if err != nil {
		return nil, err
	}
	b, err := s.store.Beside(ctx, head.doc.ID, head.doc.Customer.Name)
	if err != nil {
		return nil, err
	}
	return scene{doc: head.doc, findings: head.findings, beside: b}.draw(row.Head, look), nil
}

// viewDraft draws the site a draft proposes.
func (s *Service) viewDraft(ctx context.Context, d *Draft, look Look) (*View, error) {
	b, err := s.store.Beside(ctx, d.Doc.ID, d.Doc.Customer.Name)
	if err != nil {
		return nil, err
	}
	return d.view(b, look), nil
}

func (d *Draft) view(b store.Beside, look Look) *View {
	return scene{doc: d.Doc, findings: d.Findings, beside: b, draft: d}.draw(d.Order.BaseRevision, look)
}

// EditView is Edit and the view after it, in one go.
func (s *Service) EditView(ctx context.Context, by Technician, id int64, c Change, look Look) (*View, error) {
	before, err := s.toEdit(ctx, id, c)
	if err != nil {
		return nil, err
	}
	// What stands beside the document is read while the edit is made; neither
	// changes the other.
	var b store.Beside
	var read sync.WaitGroup
	var unread error
	read.Go(func() { b, unread = s.store.Beside(ctx, before.Doc.ID, before.Doc.Customer.Name) })
	d, made, err := s.edit(ctx, by, before, c)
	read.Wait()
	if err != nil {
		return nil, err
	}
	if unread != nil {
		return nil, unread
	}
	if ref := site.ParseRef(made); ref.Kind == site.KindNetwork {
		look.Network = ref.ID
	}
	if made != "" && site.ParseRef(made).Kind != site.KindOption {
		look.Select = made
	}
	v := d.view(b, look)
	v.Made = made
	return v, nil
}

// UndoView is Undo with the view after it.
func (s *Service) UndoView(ctx context.Context, by Technician, id int64, version int32, others bool, look Look) (*View, error) {
	d, err := s.Undo(ctx, by, id, version, others)
	if err != nil {
		return nil, err
	}
	return s.viewDraft(ctx, d, look)
}

// RedoView is Redo with the view after it.
func (s *Service) RedoView(ctx context.Context, by Technician, id int64, version int32, look Look) (*View, error) {
	d, err := s.Redo(ctx, by, id, version)
	if err != nil {
		return nil, err
	}
	return s.viewDraft(ctx, d, look)
}

func (sc scene) draw(revision int32, look Look) *View {
	doc := sc.doc
	with := surroundings(doc, sc.beside)
	found := check.Around(doc, with)
	var order *OrderHead
	if sc.draft != nil {
		var was, added []check.Finding
		if len(found) > 0 {
			was = check.Around(sc.draft.Base, with)
		}
		order, added = sc.draft.judged(sc.beside.Access, was, found)
		sc.added = map[string]bool{}
		for _, f := range added {
			sc.added[f.ID] = true
		}
	}
	sc.seen, sc.findings = with.Seen, slices.Concat(sc.findings, found)
	check.Sort(sc.findings)
	v := &View{
		Site:  SiteHead{doc.ID, doc.Code, doc.Name, doc.Customer.Name, words(doc.Block), doc.Domain, doc.Standard.Name, doc.TimeZone, revision},
		Order: order, Layers: survey.Section(doc, sc.findings, sc.seen), Findings: []Finding{}, Orders: []OpenOrder{},
	}
	for _, o := range sc.beside.Orders {
		v.Orders = append(v.Orders, OpenOrder{o.ID, OrderName(o.ID), o.Title, o.Opener})
	}
	for _, f := range sc.findings {
		v.Findings = append(v.Findings, sc.finding(f))
	}
	v.Devices, v.Classes, v.Own, v.OwnParts, v.Networks = sc.devices(), sc.classes(), ownOptions(doc), sc.definitions(), []PoolChoice{}
	for _, n := range doc.Networks {
		v.Networks = append(v.Networks, PoolChoice{n.ID, n.Name, n.Prefix.String()})
	}
	ref := site.ParseRef(look.Select)
	if in := site.NetworkOfPart(doc, ref); in != "" && look.Network == "" {
		look.Network = in
	}
	n, ok := doc.Network(look.Network)
	if !ok && len(doc.Networks) > 0 {
		n = &doc.Networks[0]
	}
	if n != nil {
		v.Network = sc.network(n, look.From)
	}
	v.Inspect = sc.inspect(n, ref)
	return v
}

func words[T fmt.Stringer](list []T) string {
	out := ""
	for i, t := range list {
		if i > 0 {
			out += ", "
		}
		out += t.String()
	}
	return out
}

func (sc scene) finding(f check.Finding) Finding {
	out := Finding{ID: f.ID, Rule: f.Rule, Severity: string(f.Severity), Title: f.Title, Says: f.Says, Network: f.Network, Addresses: words(f.Addresses), Added: sc.added[f.ID]}
	for _, p := range f.Parts {
		out.Parts = append(out.Parts, p.String())
	}
	if f.Fix != nil {
		out.Fix = f.Fix.Title
	}
	return out
}

func (sc scene) network(n *site.Network, from int) *NetworkView {
	v := &NetworkView{
		ID: n.ID, Name: n.Name, Purpose: n.Purpose, Prefix: n.Prefix.String(), Mask: address.Mask(n.Prefix.Bits()).String(), VLAN: n.VLAN,
		Where: compile.Where(sc.doc, n), Ruler: survey.Draw(sc.doc, n, sc.findings, sc.seen, from),
		Rows: survey.Rows(sc.doc, n, sc.findings, sc.seen), Seen: []SeenRow{}, Pools: []PoolChoice{},
		Told: told(sc.doc.Own(), compile.Told(sc.doc, compile.For{Network: n}), site.Ref{Kind: site.KindNetwork, ID: n.ID}),
	}
	if v.Rows == nil {
		v.Rows = []survey.Row{}
	}
	if n.Gateway.IsValid() {
		v.Gateway = n.Gateway.String()
	}
	for _, s := range seenRows(sc.doc, sc.seen) {
		if s.Network == n.ID {
			v.Seen = append(v.Seen, s)
		}
	}
	for _, p := range sc.doc.Pools {
		if p.Network == n.ID {
			v.Pools = append(v.Pools, PoolChoice{p.ID, p.Name, words(p.Ranges)})
		}
	}
	if a, ok := site.NextFree(sc.doc, n); ok {
		v.NextFree = a.String()
	}
	if v.Where == "" {
		if d, i, ok := check.ProposeInterface(sc.doc, n); ok {
			v.Interface = &Proposal{site.KindDevice + ":" + d.ID, d.Name, map[string]string{
				"name": i.Name, "kind": i.Kind, "parent": i.Parent, "vlan": strconv.Itoa(i.VLAN), "addresses": words(i.Addresses),
			}}
		}
	}
	return v
}

// levelNames are the words for levels that set options.
var levelNames = map[string]string{
	site.KindStandard: "standard", site.KindCustomer: "customer", site.KindSite: "site", site.KindNetwork: "network", site.KindPool: "pool",
	site.KindVendorClass: "vendor class", site.KindReservation: "reservation",
}

// told puts where an option comes from in words.
func told(own option.Own, list []option.Told, inspected site.Ref) []Told {
	out := []Told{}
	for _, t := range list {
		def, _ := own.Lookup(t.Code)
		here := t.From.Kind == inspected.Kind && t.From.ID == inspected.ID
		v := Told{Code: t.Code, Name: def.Name, Value: t.Value, Level: t.From.Kind + ":" + t.From.ID, Own: here}
		if here {
			v.From = "set here"
		} else {
			v.From = fmt.Sprintf("from the %s %s", levelNames[t.From.Kind], t.From.Name)
		}
		if len(t.Hides) > 0 {
			h := t.Hides[0]
			v.Hides = fmt.Sprintf("%s says %s", h.Source.Name, h.Value)
		}
		out = append(out, v)
	}
	return out
}

func (sc scene) devices() []DeviceView {
	out := []DeviceView{}
	ends := farEnds(sc.doc)
	for _, d := range sc.doc.Devices {
		v := DeviceView{ID: d.ID, Name: d.Name, Kind: d.Kind, Interfaces: []InterfaceView{}}
		for _, a := range sc.beside.Access {
			if a.DeviceID == d.ID {
				v.Reached, v.ReadAt, v.Problem = true, a.ReadAt, a.Problem
			}
		}
		for i := range d.Interfaces {
			v.Interfaces = append(v.Interfaces, inWords(&d.Interfaces[i], ends))
		}
		out = append(out, v)
	}
	return out
}

// head is what the tray says of a draft.
func (d *Draft) head(access []gen.DeviceAccess) *OrderHead {
	o := d.Order
	h := &OrderHead{
		ID: o.ID, Name: OrderName(o.ID), Site: o.Code, Title: o.Title, Ticket: o.Ticket, State: o.State, OpenedBy: o.Opener, Version: o.Version,
		Lost: int(o.Lost), ClosedBy: o.Closer, Behind: o.State == "open" && o.Head != o.BaseRevision, Rehearsed: o.Rehearsed == o.Version, Devices: []string{},
	}
	for _, st := range d.Steps {
		switch {
		case !st.Undone:
			h.Edits++
			h.Undo, h.UndoBy = st.Says, st.By
		case h.Redo == "":
			h.Redo = st.Says
		}
	}
	for _, t := range d.targets(access) {
		if t.access != nil {
			h.Devices = append(h.Devices, t.name)
		}
	}
	return h
}

// ProposeNetwork finds room for a network of the given prefix length at a site,
// with the VLAN id and gateway it could have.
func (s *Service) ProposeNetwork(ctx context.Context, code string, order int64, bits int) (*Proposal, error) {
	doc, err := s.document(ctx, code, order)
	if err != nil {
		return nil, err
	}
	var used []netip.Prefix
	for _, n := range doc.Networks {
		used = append(used, n.Prefix.Masked())
	}
	p, ok := address.NextPrefix(doc.Block, used, bits)
	if !ok {
		return nil, refuse(Conflict, "No /%d is free in %s. Type a larger number for a smaller network, or give the site another block.", bits, words(doc.Block))
	}
	return &Proposal{Fields: map[string]string{
		"prefix": p.String(), "vlan": strconv.Itoa(check.FreeVLAN(doc)), "gateway": address.Usable(p).From.String(),
	}}, nil
}

// document is a site as it is, or as an order proposes it.
func (s *Service) document(ctx context.Context, code string, order int64) (*site.Site, error) {
	if order != 0 {
		d, err := s.Draft(ctx, order)
		if err != nil {
			return nil, err
		}
		if d.Order.Code != code {
			return nil, refuse(Missing, "%s is not an order of this site.", OrderName(order))
		}
		return d.Doc, nil
	}
	row, err := s.siteByCode(ctx, code)
	if err != nil {
		return nil, err
	}
	head, err := s.examine(ctx, row.ID, row.Head)
	if err != nil {
		return nil, err
	}
	return head.doc, nil
}

// sortedKeys keeps what is shown from a map in one order.
func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
