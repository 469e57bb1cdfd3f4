package work

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/seen"
	"lithos/core/site"
	"lithos/core/survey"
)

// Inspection is what the inspector shows of one selected part.
type Inspection struct {
	Ref      string            `json:"ref"`
	In       string            `json:"in,omitempty"`
	Kind     string            `json:"kind"` // in words: Reservation, Fixed device
	Title    string            `json:"title"`
	Facts    []Fact            `json:"facts"`
	Fields   map[string]string `json:"fields"` // the form's, as text; empty when the part cannot be edited
	Findings []string          `json:"findings"`
	Told     []Told            `json:"told"`           // what a client there will be told
	Levels   []Level           `json:"levels"`         // whose options can be set from here
	For      string            `json:"for,omitempty"`  // whom the told options are for
	Prefill  *Proposal         `json:"next,omitempty"` // for an unrecorded device: the form that records it
}

// Fact is one line of the inspector.
type Fact struct {
	Label string `json:"label"`
	Value string `json:"value"`
	Mono  bool   `json:"mono"` // an address, MAC or name
}

// Level is a level whose options can be set.
type Level struct {
	Ref  string `json:"ref"`
	Name string `json:"name"`
}

// inspect describes the selected part, or the network n when there is none such.
// n is nil at a site without networks, which is then described itself.
func (sc scene) inspect(n *site.Network, ref site.Ref) *Inspection {
	if n == nil && ref.Kind != site.KindDevice && ref.Kind != site.KindInterface {
		ref = site.Ref{Kind: site.KindSite, ID: sc.doc.ID}
	}
	in := &Inspection{Ref: ref.String(), Facts: []Fact{}, Fields: map[string]string{}, Findings: []string{}, Told: []Told{}, Levels: []Level{}}
	mono := func(label, value string) {
		if value != "" {
			in.Facts = append(in.Facts, Fact{label, value, true})
		}
	}
	plain := func(label, value string) {
		if value != "" {
			in.Facts = append(in.Facts, Fact{label, value, false})
		}
	}
	doc := sc.doc
	switch ref.Kind {
	case site.KindReservation:
		if r, ok := doc.Reservation(ref.ID); ok {
			in.Kind, in.Title = "Reservation", r.Name
			mono("Address", r.Address.String())
			mono("MAC", r.MAC.String())
			mono("Client identifier", r.Client)
			mono("Name", full(doc, r.Name))
			in.Fields = map[string]string{"network": r.Network, "address": r.Address.String(), "mac": r.MAC.String(), "name": r.Name, "clientId": r.Client}
			p, _ := compile.PoolOf(doc, r)
			sc.tell(in, n, p, r)
		}
	case site.KindFixedDevice:
		if f, ok := doc.FixedDevice(ref.ID); ok {
			in.Kind, in.Title = "Fixed device", f.Name
			mono("Address", f.Address.String())
			mono("MAC", f.MAC.String())
			mono("Name", full(doc, f.Name))
			plain("Note", f.Note)
			in.Fields = map[string]string{"network": f.Network, "address": f.Address.String(), "mac": f.MAC.String(), "name": f.Name, "note": f.Note}
		}
	case site.KindPool:
		if p, ok := doc.Pool(ref.ID); ok {
			in.Kind, in.Title = "Pool", p.Name
			for _, r := range p.Ranges {
				mono("Range", r.String())
			}
			plain("Switched", onOff(p.Enabled))
			plain("Hands out", fmt.Sprintf("%d addresses", address.Count(survey.Offered(doc, p))))
			if d, ok := doc.Device(p.Server); ok {
				mono("Served by", d.Name)
			}
			if k, ok := doc.VendorClass(p.ForClass); ok {
				plain("Only for", k.Name)
			}
			mono("Only for clients", p.ForClient)
			plain("Note", p.Note)
			in.Fields = map[string]string{"forClass": p.ForClass, "forClient": p.ForClient, "network": p.Network, "name": p.Name, "ranges": words(p.Ranges), "enabled": strconv.FormatBool(p.Enabled), "note": p.Note, "server": p.Server}
			sc.tell(in, n, p, nil)
		}
	case site.KindExclusion:
		for _, p := range doc.Pools {
			for _, x := range p.Exclusions {
				if x.ID == ref.ID {
					in.Kind, in.Title, in.In = "Exclusion", x.Reason, site.KindPool+":"+p.ID
					mono("Range", x.Range.String())
					plain("Addresses", strconv.Itoa(x.Range.Size()))
					plain("In pool", p.Name)
					plain("Until", x.Until.String())
					in.Fields = map[string]string{"range": x.Range.String(), "reason": x.Reason, "until": x.Until.String()}
				}
			}
		}
	case site.KindInterface:
		if d, i, ok := doc.Interface(ref.ID); ok {
			in.Kind, in.Title, in.In = "Interface", i.Name, site.KindDevice+":"+d.ID
			v := inWords(i, farEnds(doc))
			mono("Device", d.Name)
			plain("Kind", i.Kind)
			mono("On", i.Parent)
			plain("VLAN", number(i.VLAN))
			for _, a := range i.Addresses {
				mono("Address", a.String())
			}
			plain("Carries", v.Carries)
			plain("Permits", v.Permits)
			plain("Leads to", v.Leads)
			in.Fields = interfaceFields(i)
		}
	case site.KindDevice:
		if d, ok := doc.Device(ref.ID); ok {
			in.Kind, in.Title = "Device", d.Name
			plain("Kind", d.Kind)
			plain("Interfaces", strconv.Itoa(len(d.Interfaces)))
			in.Fields = map[string]string{"name": d.Name, "kind": d.Kind}
		}
	case site.KindSite:
		if ref.ID == doc.ID {
			sc.inspectSite(in, mono, plain)
		}
	case site.KindVendorClass:
		if k, ok := doc.VendorClass(ref.ID); ok {
			in.Kind, in.Title = "Vendor class", k.Name
			mono("Option 60 begins", k.Match)
			plain("Enterprise", number(k.Enterprise))
			for _, o := range k.SubOptions {
				mono(fmt.Sprintf("%d %s", o.Code, o.Name), o.Value)
			}
			in.Fields = classFields(k)
			in.Told = told(doc.Own(), compile.Told(doc, compile.For{Network: n, Class: k}), ref)
			in.For = "A client of this class"
			in.Levels = []Level{{ref.String(), "the vendor class " + k.Name}}
		}
	case site.KindDefinition:
		for _, d := range doc.OptionDefinitions {
			if d.ID == ref.ID {
				in.Kind, in.Title = "Own option", d.Name
				plain("Code", strconv.Itoa(int(d.Code)))
				plain("Type", d.Type)
				plain("Meaning", d.Meaning)
				in.Fields = definitionFields(d)
			}
		}
	case "seen":
		sc.inspectSeen(in, n, ref.ID, mono, plain)
	}
	if in.Title == "" && in.Kind == "" {
		sc.inspectNetwork(in, n, mono, plain)
	}
	if in.Title == "" {
		in.Title = in.Facts[0].Value
	}
	for _, f := range sc.findings {
		concerns := slices.ContainsFunc(f.Parts, func(p site.Ref) bool { return p.String() == in.Ref })
		if concerns || in.Ref == site.KindNetwork+":"+f.Network || ref.Kind == site.KindSite && f.Network == "" {
			in.Findings = append(in.Findings, f.ID)
		}
	}
	return in
}

// inspectSite shows what holds for the whole site, and what every client of it is
// told whatever its network.
func (sc scene) inspectSite(in *Inspection, mono, plain func(label, value string)) {
	doc := sc.doc
	in.Kind, in.Title = "Site", doc.Name
	plain("Customer", doc.Customer.Name)
	plain("Standard", doc.Standard.Name)
	for _, b := range doc.Block {
		mono("Block", b.String())
	}
	mono("Domain", doc.Domain)
	plain("Time zone", doc.TimeZone)
	in.Fields = map[string]string{"name": doc.Name, "domain": doc.Domain, "timeZone": doc.TimeZone, "block": words(doc.Block)}
	in.Told = told(doc.Own(), compile.Common(doc), site.Ref{Kind: site.KindSite, ID: doc.ID})
	in.For = "Every client of the site"
	in.Levels = sc.wideLevels()
	slices.Reverse(in.Levels)
}

// wideLevels are the levels above networks, farthest first.
func (sc scene) wideLevels() []Level {
	var out []Level
	if std := sc.doc.Standard; std.ID != "" {
		out = append(out, Level{site.KindStandard + ":" + std.ID, "the standard " + std.Name + ", at this site alone"})
	}
	return append(out, Level{site.KindCustomer + ":" + sc.doc.Customer.ID, "the customer " + sc.doc.Customer.Name + ", at this site alone"},
		Level{site.KindSite + ":" + sc.doc.ID, "the site " + sc.doc.Name})
}

func (sc scene) inspectNetwork(in *Inspection, n *site.Network, mono, plain func(label, value string)) {
	in.Ref, in.Kind, in.Title = site.KindNetwork+":"+n.ID, "Network", n.Name
	mono("Prefix", n.Prefix.String())
	mono("Mask", address.Mask(n.Prefix.Bits()).String())
	plain("VLAN", number(n.VLAN))
	if n.Gateway.IsValid() {
		mono("Gateway", n.Gateway.String())
	}
	mono("Lives on", compile.Where(sc.doc, n))
	plain("Purpose", n.Purpose)
	gateway := ""
	if n.Gateway.IsValid() {
		gateway = n.Gateway.String()
	}
	in.Fields = map[string]string{"name": n.Name, "purpose": n.Purpose, "prefix": n.Prefix.String(), "vlan": number(n.VLAN), "gateway": gateway}
	var p *site.Pool
	for i := range sc.doc.Pools {
		if sc.doc.Pools[i].Network == n.ID && p == nil {
			p = &sc.doc.Pools[i]
		}
	}
	sc.tell(in, n, p, nil)
}

func (sc scene) inspectSeen(in *Inspection, n *site.Network, id string, mono, plain func(label, value string)) {
	i := slices.IndexFunc(sc.seen, func(v seen.Sighting) bool { return v.Address.String() == id })
	if i < 0 {
		return
	}
	v := sc.seen[i]
	in.Kind, in.Title = "Seen", v.Name
	mono("Address", v.Address.String())
	mono("MAC", v.MAC.String())
	plain("Heard by", v.Device)
	plain("As", map[string]string{"lease": "a lease", "neighbour": "a neighbour with its own address"}[v.Source])
	name := strings.Map(func(r rune) rune {
		if option.CheckLabel(string(r)+"x") == nil {
			return r
		}
		return -1
	}, v.Name)
	in.Prefill = &Proposal{Fields: map[string]string{"network": n.ID, "address": v.Address.String(), "mac": v.MAC.String(), "name": name}}
}

// tell fills in what a client is told, and whose options can be set.
func (sc scene) tell(in *Inspection, n *site.Network, p *site.Pool, r *site.Reservation) {
	own := site.ParseRef(in.Ref)
	list := compile.Told(sc.doc, compile.For{Network: n, Pool: p, Reservation: r})
	in.Told = told(sc.doc.Own(), list, own)
	in.Levels = append(sc.wideLevels(), Level{site.KindNetwork + ":" + n.ID, "the network " + n.Name})
	in.For = "A client of " + n.Name
	if p != nil {
		in.Levels = append(in.Levels, Level{site.KindPool + ":" + p.ID, "the pool " + p.Name})
	}
	if r != nil {
		in.Levels = append(in.Levels, Level{in.Ref, "this reservation"})
		in.For = "This client"
	}
	slices.Reverse(in.Levels) // nearest first
	// What the server works out by itself stands beside what is set.
	mask := Told{Code: option.SubnetMask, Name: "Subnet mask", Value: address.Mask(n.Prefix.Bits()).String(), From: "from the network's prefix"}
	in.Told = slices.Insert(in.Told, 0, mask)
}

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off: no client is answered from it"
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// full is a host's name in the site's domain.
func full(s *site.Site, host string) string {
	if host == "" || s.Domain == "" {
		return host
	}
	return host + "." + s.Domain
}

// OptionChoice is an option people may set, for forms.
type OptionChoice struct {
	Code      uint8  `json:"code"`
	Name      string `json:"name"`
	Meaning   string `json:"meaning"`
	Type      string `json:"type"`
	Example   string `json:"example"`
	Reference string `json:"reference"`
}

// Options lists the options people may set. What the server sets by itself is
// not among them.
func Options() []OptionChoice {
	var out []OptionChoice
	for _, d := range option.Registry() {
		if !d.ServerOnly {
			out = append(out, choice(d))
		}
	}
	return out
}

func choice(d option.Definition) OptionChoice {
	return OptionChoice{d.Code, d.Name, d.Meaning, d.Type.String(), d.Example, d.Reference}
}

// ownOptions lists the options a site defined for itself.
func ownOptions(doc *site.Site) []OptionChoice {
	out := []OptionChoice{}
	for _, d := range doc.Own() {
		out = append(out, choice(d))
	}
	return out
}

// PartView is a part that is listed by itself, with its form.
type PartView struct {
	Ref    string            `json:"ref"`
	Name   string            `json:"name"`
	Detail string            `json:"detail"`
	Fields map[string]string `json:"fields"`
}

func (sc scene) classes() []PartView {
	out := []PartView{}
	for i := range sc.doc.VendorClasses {
		k := &sc.doc.VendorClasses[i]
		out = append(out, PartView{site.KindVendorClass + ":" + k.ID, k.Name, fmt.Sprintf("option 60 begins %s, %d sub-options", k.Match, len(k.SubOptions)), classFields(k)})
	}
	return out
}

func (sc scene) definitions() []PartView {
	out := []PartView{}
	for _, d := range sc.doc.OptionDefinitions {
		out = append(out, PartView{site.KindDefinition + ":" + d.ID, d.Name, fmt.Sprintf("option %d, %s", d.Code, d.Type), definitionFields(d)})
	}
	return out
}

func classFields(k *site.VendorClass) map[string]string {
	var subs []string
	for _, o := range k.SubOptions {
		subs = append(subs, fmt.Sprintf("%d | %s | %s | %s", o.Code, o.Name, o.Type, o.Value))
	}
	return map[string]string{"name": k.Name, "match": k.Match, "enterprise": number(k.Enterprise), "subOptions": strings.Join(subs, "\n")}
}

func definitionFields(d site.OptionDefinition) map[string]string {
	return map[string]string{"code": strconv.Itoa(int(d.Code)), "name": d.Name, "type": d.Type, "meaning": d.Meaning}
}

// inWords is an interface as it is listed. ends are the site's farEnds.
func inWords(i *site.Interface, ends map[string]string) InterfaceView {
	far := ends[i.ID]
	v := InterfaceView{ID: i.ID, Name: i.Name, Kind: i.Kind, VLAN: i.VLAN, Addresses: words(i.Addresses), Permits: strings.Join(i.Permits, ", "), Cabled: far != ""}
	var carries, leads []string
	if len(i.Members) > 0 {
		carries = append(carries, "ports "+strings.Join(i.Members, ", "))
	}
	if i.Untagged != 0 {
		carries = append(carries, number(i.Untagged)+" untagged")
	}
	if len(i.Tagged) > 0 {
		carries = append(carries, numbers(i.Tagged)+" tagged")
	}
	if far != "" {
		leads = append(leads, far)
	}
	if len(i.RelayTo) > 0 {
		leads = append(leads, "relays to "+words(i.RelayTo))
	}
	if u := i.Uplink; u != nil {
		leads = append(leads, fmt.Sprintf("the internet by %s, translates %d networks", u.Method, len(u.Translates)))
	}
	v.Carries, v.Leads = strings.Join(carries, "; "), strings.Join(leads, "; ")
	return v
}

// interfaceFields is an interface's form.
func interfaceFields(i *site.Interface) map[string]string {
	fields := map[string]string{
		"name": i.Name, "kind": i.Kind, "parent": i.Parent, "vlan": number(i.VLAN), "addresses": words(i.Addresses), "members": strings.Join(i.Members, ", "),
		"untaggedVLAN": number(i.Untagged), "taggedVLANs": numbers(i.Tagged), "peer": i.Peer, "permits": strings.Join(i.Permits, ", "), "relayTo": words(i.RelayTo),
	}
	if u := i.Uplink; u != nil {
		fields["method"], fields["uplinkGateway"], fields["account"], fields["mtu"] = u.Method, words(valid(u.Gateway)), u.Account, number(u.MTU)
		fields["translates"] = strings.Join(u.Translates, ", ")
	}
	return fields
}

// farEnds is the other end of each cabled interface, by the interface's id,
// whichever end the cable is written on.
func farEnds(doc *site.Site) map[string]string {
	cables := map[string]string{} // from the interface that a cable is written on
	for _, d := range doc.Devices {
		for _, i := range d.Interfaces {
			if i.Peer != "" {
				cables[i.ID] = i.Peer
			}
		}
	}
	if len(cables) == 0 {
		return nil
	}
	names := map[string]string{}
	for _, d := range doc.Devices {
		for _, i := range d.Interfaces {
			names[i.ID] = i.Name + " of " + d.Name
		}
	}
	out := map[string]string{}
	for from, to := range cables {
		out[from] = names[to]
	}
	for from, to := range cables {
		if out[to] == "" {
			out[to] = names[from]
		}
	}
	return out
}

func numbers(list []int) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = strconv.Itoa(n)
	}
	return strings.Join(out, ", ")
}

// valid is the address alone, or nothing.
func valid(a netip.Addr) []netip.Addr {
	if !a.IsValid() {
		return nil
	}
	return []netip.Addr{a}
}

// RuleView is one rule for the documentation of findings.
type RuleView struct {
	Slug     string `json:"slug"`
	Family   string `json:"family"`
	Severity string `json:"severity"`
	Promise  string `json:"promise"`
}

// Rules lists the rules Lithos checks.
func Rules() []RuleView {
	var out []RuleView
	for _, r := range check.Rules() {
		out = append(out, RuleView{r.Slug, r.Family, string(r.Severity), r.Promise})
	}
	return out
}

// standardOptions lists the options a standard sets.
func standardOptions(std site.Standard) []Told {
	doc := &site.Site{Standard: std}
	return told(nil, compile.Told(doc, compile.For{}), site.Ref{Kind: site.KindStandard, ID: std.ID})
}
