// Package view computes the pages of a site from its scene and what is known beside
// it: the frame around everything, one network, the inspected part, forms, and the
// day of a pool. It asks no database.
package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/drawing"
	"lithos/core/observed"
	"lithos/core/site"
	"lithos/internal/order"
)

// Look says what of a site is on the screen.
type Look struct {
	Order   int64  `json:"order,omitempty" doc:"work order whose draft is shown; 0 for the site as it is"`
	Network string `json:"network,omitempty" doc:"id of the selected network; the first when empty or unknown"`
	Select  string `json:"select,omitempty" doc:"kind:id of the selected part"`
	Have    string `json:"have,omitempty" doc:"stamp of the network that the browser has, to be told only what changed in it"`
	From    int    `json:"from,omitempty" doc:"offset of the first address on the ruler, for large networks"`
}

// Page is what the pages of a site are computed from.
type Page struct {
	*check.Scene
	order.Judgement
	draft    *order.Draft // nil for the site as it is
	revision int32
	beside   order.Beside
	added    map[string]bool // ids of findings
	alike    map[string]int  // findings of a rule that have a fix
}

// Of is the page of a site, as it stands at a revision, or as a draft proposes it.
func Of(sc *check.Scene, d *order.Draft, revision int32, b order.Beside) *Page {
	p := &Page{Scene: sc, draft: d, revision: revision, beside: b, added: map[string]bool{}, alike: map[string]int{}}
	if d == nil {
		p.Judgement = order.Judge(sc, b)
	} else {
		p.Judgement = d.Judge(b)
	}
	for _, f := range p.Added {
		p.added[f.ID] = true
	}
	for _, f := range p.Judgement.Findings {
		if f.Fix != nil {
			p.alike[f.Rule]++
		}
	}
	return p
}

// Frame is what stands around a network and a part: it changes with the networks and
// devices of a site, and is asked for once.
type Frame struct {
	Site     SiteHead        `json:"site"`
	Order    *order.Head     `json:"order,omitempty"`
	Orders   []order.Opened  `json:"orders"` // open work orders of the site
	Layers   []drawing.Layer `json:"layers"`
	Wide     drawing.Marks   `json:"wide"` // findings of no network in particular
	Devices  []DeviceView    `json:"devices"`
	Classes  []PartView      `json:"classes"` // vendor classes
	Own      []OptionChoice  `json:"ownOptions"`
	OwnParts []PartView      `json:"ownParts"` // the definitions of those, as parts
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
	Fix       string   `json:"fix,omitempty"`   // the fix in words; empty when there is none
	Other     string   `json:"other,omitempty"` // another fix in words
	// Remedy is what helps and is done at once, whatever is drafted.
	Remedy *check.Remedy `json:"remedy,omitempty"`
	// Device is the device whose configuration is to be looked at, of what was changed there by hand.
	Device string `json:"device,omitempty"`
	Added  bool   `json:"added"` // by the draft
	Alike  int    `json:"alike"` // findings of this kind with a fix, this one included
}

// Changed is what an edit changed of what a browser shows.
type Changed struct {
	Order   *order.Head     `json:"order,omitempty"`
	Layers  []drawing.Layer `json:"layers"`          // of the networks that were touched
	Wide    drawing.Marks   `json:"wide"`            // as in the frame
	Frame   *Frame          `json:"frame,omitempty"` // where more of it changed than that
	Network *NetworkAnswer  `json:"network"`
	Part    *Inspection     `json:"part"`
	Made    string          `json:"made,omitempty"` // kind:id of the part an edit just made
}

// Head is what the tray says of the draft; nil without one.
func (p *Page) Head() *order.Head {
	if p.draft == nil {
		return nil
	}
	return p.draft.Head(p.beside.Access, p.Added)
}

// Version is the draft's version; 0 without one.
func (p *Page) Version() int32 {
	if p.draft == nil {
		return 0
	}
	return p.draft.Order.Version
}

// Frame is what stands around a network and a part.
func (p *Page) Frame() *Frame {
	doc := p.Site
	f := &Frame{
		Site: SiteHead{doc.ID, doc.Code, doc.Name, doc.Customer.Name, words(doc.Block), doc.Domain, doc.Standard.Name,
			doc.TimeZone, p.revision},
		Order: p.Head(), Orders: p.beside.Orders, Layers: drawing.Section(p.Scene, p.Judgement.Findings, p.Seen),
		Wide:    p.wide(),
		Devices: p.devices(), Classes: p.parts(site.KindVendorClass), Own: ownOptions(doc),
		OwnParts: p.parts(site.KindDefinition),
	}
	if f.Orders == nil {
		f.Orders = []order.Opened{}
	}
	return f
}

func (p *Page) wide() drawing.Marks { return drawing.ByNetwork(p.Judgement.Findings)[""] }

// After is what a step changed of what a browser shows. before is the draft it was made
// in, and shown what browsers have been told.
func (p *Page) After(before *order.Draft, look Look, shown *Shown) *Changed {
	out := &Changed{
		Order: p.Head(), Layers: []drawing.Layer{}, Wide: p.wide(),
		Network: shown.Answer(p.Network(look), look.Have), Part: p.Part(look),
	}
	if before.Scene == p.Scene {
		return out
	}
	renewed := p.Renewed()
	if renewed.All {
		out.Frame = p.Frame()
		return out
	}
	// An edit in one network can be a finding in another, such as a pool that now overlaps.
	was, now := drawing.ByNetwork(before.Scene.Findings), drawing.ByNetwork(p.Scene.Findings)
	marks := drawing.ByNetwork(p.Judgement.Findings)
	for i := range p.Networks {
		n := &p.Networks[i]
		if slices.Contains(renewed.Networks, n.ID) || was[n.ID] != now[n.ID] {
			out.Layers = append(out.Layers, drawing.LayerOf(p.Scene, n, marks[n.ID], drawing.Live(p.Seen, n)))
		}
	}
	return out
}

// chosen is the network that a look is at, and the selected part; the network is nil at
// a site without any.
func (p *Page) chosen(look Look) (*site.Network, site.Ref) {
	ref := site.ParseRef(look.Select)
	if in := site.NetworkOfPart(p.Site, ref); in != "" && look.Network == "" {
		look.Network = in
	}
	n, ok := p.Scene.Network(look.Network)
	if !ok && len(p.Networks) > 0 {
		n = &p.Networks[0]
	}
	return n, ref
}

func (p *Page) finding(f check.Finding) Finding {
	out := Finding{
		ID: f.ID, Rule: f.Rule, Severity: string(f.Severity), Title: f.Title, Says: f.Says, Network: f.Network,
		Addresses: words(f.Addresses),
		Added:     p.added[f.ID], Alike: p.alike[f.Rule], Parts: []string{},
	}
	for _, part := range f.Parts {
		out.Parts = append(out.Parts, part.String())
	}
	if f.Fix != nil {
		out.Fix = f.Fix.Title
	}
	if f.Other != nil {
		out.Other = f.Other.Title
	}
	out.Remedy = f.Remedy
	if f.Rule == check.Drifted {
		out.Device = f.Value
	}
	return out
}

// Target is what a finding is about: the network and part to look at. ok is false when
// the finding is gone.
func (p *Page) Target(finding string) (network, part string, ok bool) {
	i := slices.IndexFunc(p.Judgement.Findings, func(f check.Finding) bool { return f.ID == finding })
	if i < 0 {
		return "", "", false
	}
	f := p.Judgement.Findings[i]
	if f.Network == "" || len(f.Parts) == 0 {
		return "", site.Ref{Kind: site.KindSite, ID: p.Site.ID}.String(), true
	}
	return f.Network, f.Parts[0].String(), true
}

// AddedFindings lists what the draft brings in.
func (p *Page) AddedFindings() []Finding {
	out := []Finding{}
	for _, f := range p.Added {
		out = append(out, p.finding(f))
	}
	return out
}

// mostCauses is how many findings are offered as what a push may have failed for.
const mostCauses = 5

// CausesOf lists what is found of a device, by its name, and of the network that a sentence names, gravest first, where
// there is something to be done about it.
func (p *Page) CausesOf(device, says string) []Finding {
	out := []Finding{}
	if device == "" && says == "" {
		return out
	}
	for _, f := range p.Judgement.Findings {
		n, on := p.Scene.Network(f.Network)
		about := on && strings.Contains(says, n.Name) ||
			slices.ContainsFunc(f.Parts, func(r site.Ref) bool { return p.deviceOf(r) == device })
		if about && (f.Fix != nil || f.Remedy != nil || f.Rule == check.Drifted) && len(out) < mostCauses &&
			f.Severity != check.Notes {
			out = append(out, p.finding(f))
		}
	}
	return out
}

// deviceOf is the name of the device that a part is on; empty where it is on none.
func (p *Page) deviceOf(part site.Ref) string {
	id := part.ID
	switch part.Kind {
	case site.KindDevice:
	case site.KindInterface:
		d, _, ok := p.Interface(id)
		if !ok {
			return ""
		}
		return d.Name
	case site.KindResolver:
		r, ok := p.Resolver(id)
		if !ok {
			return ""
		}
		id = r.Device
	case site.KindPool:
		q, ok := p.Pool(id)
		if !ok {
			return ""
		}
		id = q.Server
	default:
		return ""
	}
	d, _ := p.Device(id)
	if d == nil {
		return ""
	}
	return d.Name
}

func words[T fmt.Stringer](list []T) string {
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return strings.Join(out, ", ")
}

// DeviceView is a device of the site with its interfaces.
type DeviceView struct {
	ID         string          `json:"id"`
	Name       string          `json:"name"`
	Kind       string          `json:"kind"`
	Reached    bool            `json:"reached"`       // Lithos can push to it
	URL        string          `json:"url,omitempty"` // where
	ReadAt     *time.Time      `json:"readAt,omitempty"`
	Problem    string          `json:"problem,omitempty"`
	Drifted    int             `json:"drifted" doc:"how many things it holds otherwise than it was last given"`
	Interfaces []InterfaceView `json:"interfaces"`
}

// readAt is when a device was read last; nil for one that was not, or is not reached.
func readAt(a *order.Access) *time.Time {
	if a == nil || a.ReadAt == nil {
		return nil
	}
	at := a.ReadAt.Truncate(observed.Grain)
	return &at
}

func (p *Page) devices() []DeviceView {
	out := []DeviceView{}
	ends := farEnds(p.Site)
	for _, d := range p.Devices {
		v := DeviceView{ID: d.ID, Name: d.Name, Kind: d.Kind, Interfaces: []InterfaceView{}}
		if a := order.On(p.beside.Access, d.ID); a != nil {
			v.Reached, v.URL, v.Problem, v.ReadAt, v.Drifted = true, a.URL, a.Problem, readAt(a), a.Drifted
		}
		for i := range d.Interfaces {
			v.Interfaces = append(v.Interfaces, inWords(&d.Interfaces[i], ends))
		}
		out = append(out, v)
	}
	return out
}
