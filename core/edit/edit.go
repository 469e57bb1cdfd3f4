// Package edit is the typed edits a draft is made of. A draft is a list of
// edits; the proposed site is the base with the edits applied in order, undo is
// replay without the last, and a draft follows a newer base by replaying its
// edits there.
//
// An edit remembers the value it replaces. Applied to a document where that
// value is another, it is refused instead of overwriting somebody's work.
package edit

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strconv"

	"lithos/core/site"
)

// KindOption is the part kind of a DHCP option; its id is the code and Edit.In
// names the level that sets it.
const KindOption = "option"

// Op is what an edit does to its part.
type Op string

// The operations.
const (
	Add    Op = "add"
	Change Op = "change"
	Remove Op = "remove"
)

// Edit is one change to one part of a site.
type Edit struct {
	Op   Op       `json:"op"`
	Part site.Ref `json:"part"`
	// In names the owner of a part that lives inside another: the pool of an
	// exclusion, the device of an interface, the level of an option.
	In site.Ref `json:"in,omitzero"`
	// Value is the whole part: what is added, or what was removed.
	Value json.RawMessage `json:"value,omitempty"`
	// Fields are what a change replaces.
	Fields []Field `json:"fields,omitempty"`
}

// Field is one key of a part before and after. A null is an absent key.
type Field struct {
	Name string          `json:"name"`
	From json.RawMessage `json:"from"`
	To   json.RawMessage `json:"to"`
}

// Conflict says why an edit does not apply.
type Conflict struct {
	Edit Edit   `json:"edit"`
	Says string `json:"says"`
	At   int    `json:"at"` // its place among the edits that were replayed
}

func (c *Conflict) Error() string { return c.Says }

// Apply returns base with the edits applied in order, in normal form. base is
// not changed; the result shares with it what no edit touched. The first edit
// that does not apply ends it with a *Conflict.
func Apply(base *site.Site, edits ...Edit) (*site.Site, error) {
	a := applier{site: *base}
	for i, e := range edits {
		if err := a.apply(e); err != nil {
			err.At = i
			return nil, err
		}
	}
	return site.Normal(&a.site), nil
}

// Replay applies what still applies and reports the rest, in order.
func Replay(base *site.Site, edits []Edit) (*site.Site, []Conflict) {
	a := applier{site: *base}
	var lost []Conflict
	for i, e := range edits {
		if err := a.apply(e); err != nil {
			err.At = i
			lost = append(lost, *err)
		}
	}
	return site.Normal(&a.site), lost
}

// applier applies edits one after another. The list that the last one was about is
// kept, so that thousands about one list copy it once and find their parts at once.
type applier struct {
	site site.Site
	kind string
	in   site.Ref
	list list // nil for none
}

func (a *applier) listOf(kind string, in site.Ref) (list, bool) {
	if a.list != nil && a.kind == kind && a.in == in {
		return a.list, true
	}
	l, ok := listOf(&a.site, kind, in)
	a.kind, a.in, a.list = kind, in, l
	return l, ok
}

func (a *applier) apply(e Edit) *Conflict {
	refuse := func(format string, args ...any) *Conflict {
		return &Conflict{Edit: e, Says: fmt.Sprintf(format, args...)}
	}
	if e.Part.Kind == site.KindSite && e.Op == Change {
		return changeIdentity(&a.site, e)
	}
	list, ok := a.listOf(e.Part.Kind, e.In)
	if !ok {
		return refuse("%s is no longer there", e.In)
	}
	at, found := list.find(e.Part.ID)
	switch e.Op {
	case Add:
		if found {
			return refuse("%s is already there", e.Part)
		}
		if err := list.insert(e.Value); err != nil {
			return refuse("%s: %v", e.Part, err)
		}
	case Remove:
		if !found {
			return refuse("%s is no longer there", e.Part)
		}
		if e.Value != nil && !equal(list.value(at), e.Value) {
			return refuse("%s was changed since it was removed here", e.Part)
		}
		list.remove(at)
	case Change:
		if !found {
			return refuse("%s is no longer there", e.Part)
		}
		merged, err := merge(list.value(at), e)
		if err != nil {
			return err
		}
		if err := list.replace(at, merged); err != nil {
			return refuse("%s: %v", e.Part, err)
		}
	default:
		return refuse("%q is not an operation; use add, change or remove", e.Op)
	}
	return nil
}

// merge sets the fields of a change in the JSON of its part.
func merge(was json.RawMessage, e Edit) (json.RawMessage, *Conflict) {
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(was, &keys); err != nil {
		return nil, &Conflict{Edit: e, Says: err.Error()}
	}
	for _, f := range e.Fields {
		if !equal(keys[f.Name], f.From) {
			return nil, &Conflict{Edit: e, Says: fmt.Sprintf("%s: %s is now %s, and was %s when it was changed here", e.Part, f.Name, orNone(keys[f.Name]), orNone(f.From))}
		}
		if isNull(f.To) {
			delete(keys, f.Name)
		} else {
			keys[f.Name] = f.To
		}
	}
	merged, err := json.Marshal(keys)
	if err != nil {
		return nil, &Conflict{Edit: e, Says: err.Error()}
	}
	return merged, nil
}

func isNull(raw json.RawMessage) bool { return len(raw) == 0 || string(raw) == "null" }

func orNone(raw json.RawMessage) string {
	if isNull(raw) {
		return "not set"
	}
	return string(raw)
}

// equal compares JSON values; the order of keys and white space do not count.
func equal(a, b json.RawMessage) bool {
	if isNull(a) || isNull(b) {
		return isNull(a) == isNull(b)
	}
	if bytes.Equal(a, b) {
		return true
	}
	var x, y any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && reflect.DeepEqual(x, y)
}

// identity is what of the site itself a draft may change.
type identity struct {
	Name     string         `json:"name"`
	Domain   string         `json:"domain,omitempty"`
	TimeZone string         `json:"timeZone,omitempty"`
	Block    []netip.Prefix `json:"block"`
}

func identityOf(s *site.Site) identity { return identity{s.Name, s.Domain, s.TimeZone, s.Block} }

func changeIdentity(s *site.Site, e Edit) *Conflict {
	one := []identity{identityOf(s)}
	list := &parts[identity]{at: &one, id: func(*identity) string { return s.ID }}
	merged, conflict := merge(list.value(0), e)
	if conflict != nil {
		return conflict
	}
	if err := list.replace(0, merged); err != nil {
		return &Conflict{Edit: e, Says: err.Error()}
	}
	s.Name, s.Domain, s.TimeZone, s.Block = one[0].Name, one[0].Domain, one[0].TimeZone, one[0].Block
	return nil
}

// list is one list of parts of a document, whatever their type.
type list interface {
	find(id string) (int, bool)
	value(i int) json.RawMessage
	insert(json.RawMessage) error
	replace(i int, value json.RawMessage) error
	remove(i int)
}

type parts[T any] struct {
	at    *[]T
	id    func(*T) string
	mine  bool           // the list was copied, and may be changed
	finds int            // how often a part was looked for
	index map[string]int // places by id, once it is worth it
}

// worthAnIndex is after how many look-ups a list is indexed: a draft's edit makes
// one or two, a paste thousands.
const worthAnIndex = 8

func (p *parts[T]) find(id string) (int, bool) {
	if p.finds++; p.finds == worthAnIndex {
		p.index = make(map[string]int, len(*p.at))
		for i := range *p.at {
			p.index[p.id(&(*p.at)[i])] = i
		}
	}
	if p.index != nil {
		i, ok := p.index[id]
		return i, ok
	}
	i := slices.IndexFunc(*p.at, func(t T) bool { return p.id(&t) == id })
	return i, i >= 0
}

func (p *parts[T]) value(i int) json.RawMessage {
	raw, err := json.Marshal((*p.at)[i])
	if err != nil {
		panic("a part of a site always marshals: " + err.Error())
	}
	return raw
}

// own copies the list, so that the document it comes from stays as it was.
func (p *parts[T]) own() {
	if !p.mine {
		*p.at, p.mine = slices.Clone(*p.at), true
	}
}

func (p *parts[T]) insert(raw json.RawMessage) error {
	v, err := strict[T](raw)
	if err != nil {
		return err
	}
	p.own()
	if p.index != nil {
		p.index[p.id(&v)] = len(*p.at)
	}
	*p.at = append(*p.at, v)
	return nil
}

func (p *parts[T]) replace(i int, raw json.RawMessage) error {
	v, err := strict[T](raw)
	if err == nil {
		p.own()
		(*p.at)[i] = v
	}
	return err
}

func (p *parts[T]) remove(i int) {
	p.own()
	*p.at = slices.Delete(*p.at, i, i+1)
	p.finds, p.index = 0, nil
}

func strict[T any](raw json.RawMessage) (T, error) {
	var v T
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	err := dec.Decode(&v)
	return v, err
}

// listOf finds the list a part lives in. Lists on the way are cloned, so that
// writing to the result leaves the document s was copied from as it was.
func listOf(s *site.Site, kind string, in site.Ref) (list, bool) {
	switch kind {
	case site.KindDevice:
		return &parts[site.Device]{at: &s.Devices, id: func(d *site.Device) string { return d.ID }}, true
	case site.KindNetwork:
		return &parts[site.Network]{at: &s.Networks, id: func(n *site.Network) string { return n.ID }}, true
	case site.KindPool:
		return &parts[site.Pool]{at: &s.Pools, id: func(p *site.Pool) string { return p.ID }}, true
	case site.KindReservation:
		return &parts[site.Reservation]{at: &s.Reservations, id: func(r *site.Reservation) string { return r.ID }}, true
	case site.KindFixedDevice:
		return &parts[site.FixedDevice]{at: &s.FixedDevices, id: func(f *site.FixedDevice) string { return f.ID }}, true
	case site.KindVendorClass:
		return &parts[site.VendorClass]{at: &s.VendorClasses, id: func(c *site.VendorClass) string { return c.ID }}, true
	case site.KindDefinition:
		return &parts[site.OptionDefinition]{at: &s.OptionDefinitions, id: func(d *site.OptionDefinition) string { return d.ID }}, true
	case site.KindKnownClient:
		return &parts[site.KnownClient]{at: &s.KnownClients, id: func(k *site.KnownClient) string { return k.ID }}, true
	case site.KindInterface:
		s.Devices = slices.Clone(s.Devices)
		if d, ok := s.Device(in.ID); ok {
			return &parts[site.Interface]{at: &d.Interfaces, id: func(i *site.Interface) string { return i.ID }}, true
		}
	case site.KindExclusion:
		s.Pools = slices.Clone(s.Pools)
		if p, ok := s.Pool(in.ID); ok {
			return &parts[site.Exclusion]{at: &p.Exclusions, id: func(x *site.Exclusion) string { return x.ID }}, true
		}
	case KindOption:
		if options, ok := optionsOf(s, in); ok {
			return &parts[site.Option]{at: options, id: func(o *site.Option) string { return strconv.Itoa(int(o.Code)) }}, true
		}
	}
	return nil, false
}

// optionsOf finds the options of a level. A customer's and a standard's are this
// site's copy of them: the other sites keep theirs.
func optionsOf(s *site.Site, level site.Ref) (*[]site.Option, bool) {
	switch level.Kind {
	case site.KindStandard:
		return &s.Standard.Options, level.ID == s.Standard.ID
	case site.KindCustomer:
		return &s.Customer.Options, level.ID == s.Customer.ID
	case site.KindSite:
		return &s.Options, true
	case site.KindNetwork:
		s.Networks = slices.Clone(s.Networks)
		if n, ok := s.Network(level.ID); ok {
			return &n.Options, true
		}
	case site.KindPool:
		s.Pools = slices.Clone(s.Pools)
		if p, ok := s.Pool(level.ID); ok {
			return &p.Options, true
		}
	case site.KindVendorClass:
		s.VendorClasses = slices.Clone(s.VendorClasses)
		if c, ok := s.VendorClass(level.ID); ok {
			return &c.Options, true
		}
	case site.KindReservation:
		s.Reservations = slices.Clone(s.Reservations)
		if r, ok := s.Reservation(level.ID); ok {
			return &r.Options, true
		}
	}
	return nil, false
}

// Adding is the edit that adds a part. value is the part's struct of package site.
func Adding(kind, id string, in site.Ref, value any) Edit {
	return Edit{Op: Add, Part: site.Ref{Kind: kind, ID: id}, In: in, Value: mustMarshal(value)}
}

// Changing is the edit that turns one value of a part into another, key by key;
// ok is false when they are equal.
func Changing(kind, id string, in site.Ref, was, now any) (e Edit, ok bool) {
	var before, after map[string]json.RawMessage
	if json.Unmarshal(mustMarshal(was), &before) != nil || json.Unmarshal(mustMarshal(now), &after) != nil {
		panic("a part of a site is always a JSON object")
	}
	names := map[string]bool{}
	for k := range before {
		names[k] = true
	}
	for k := range after {
		names[k] = true
	}
	e = Edit{Op: Change, Part: site.Ref{Kind: kind, ID: id}, In: in}
	for k := range names {
		if !equal(before[k], after[k]) {
			e.Fields = append(e.Fields, Field{k, orNull(before[k]), orNull(after[k])})
		}
	}
	slices.SortFunc(e.Fields, func(a, b Field) int { return bytes.Compare([]byte(a.Name), []byte(b.Name)) })
	return e, len(e.Fields) > 0
}

func orNull(raw json.RawMessage) json.RawMessage {
	if raw == nil {
		return json.RawMessage("null")
	}
	return raw
}

func mustMarshal(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic("a part of a site always marshals: " + err.Error())
	}
	return raw
}

// Removing lists the edits that remove a part with everything that lives on it:
// a network goes with its reservations, fixed devices and pools, and uplinks
// stop translating it; pools kept for a vendor class that goes are for anyone;
// pools that a device served are served by none, and cables to its interfaces, or
// to one interface that goes, are unplugged.
func Removing(s *site.Site, part, in site.Ref) ([]Edit, error) {
	r := remover{site: s}
	switch part.Kind {
	case site.KindNetwork:
		r.livingOn(part.ID)
		r.untranslate(part.ID)
	case site.KindVendorClass:
		for _, p := range s.Pools {
			if now := p; p.ForClass == part.ID {
				now.ForClass = ""
				r.change(site.KindPool, p.ID, site.Ref{}, p, now)
			}
		}
	case site.KindDevice:
		for _, p := range s.Pools {
			if now := p; p.Server == part.ID {
				now.Server = ""
				r.change(site.KindPool, p.ID, site.Ref{}, p, now)
			}
		}
		if d, ok := s.Device(part.ID); ok {
			for _, i := range d.Interfaces {
				r.unplug(i.ID, d.ID)
			}
		}
	case site.KindInterface:
		r.unplug(part.ID, "")
	}
	err := r.remove(part.Kind, part.ID, in)
	return r.edits, err
}

type remover struct {
	site  *site.Site
	edits []Edit
}

func (r *remover) remove(kind, id string, in site.Ref) error {
	scratch := *r.site
	list, ok := listOf(&scratch, kind, in)
	if !ok {
		return fmt.Errorf("%s is not at this site", in)
	}
	i, ok := list.find(id)
	if !ok {
		return fmt.Errorf("%s:%s is not at this site", kind, id)
	}
	r.edits = append(r.edits, Edit{Op: Remove, Part: site.Ref{Kind: kind, ID: id}, In: in, Value: list.value(i)})
	return nil
}

func (r *remover) change(kind, id string, in site.Ref, was, now any) {
	if e, ok := Changing(kind, id, in, was, now); ok {
		r.edits = append(r.edits, e)
	}
}

func (r *remover) livingOn(network string) {
	for _, v := range r.site.Reservations {
		if v.Network == network {
			_ = r.remove(site.KindReservation, v.ID, site.Ref{})
		}
	}
	for _, f := range r.site.FixedDevices {
		if f.Network == network {
			_ = r.remove(site.KindFixedDevice, f.ID, site.Ref{})
		}
	}
	for _, p := range r.site.Pools {
		if p.Network == network {
			_ = r.remove(site.KindPool, p.ID, site.Ref{})
		}
	}
}

// unplug takes the cables out that are written on other interfaces than the one
// they lead to, but for those of a device that goes itself.
func (r *remover) unplug(id, gone string) {
	for _, d := range r.site.Devices {
		for _, i := range d.Interfaces {
			if now := i; i.Peer == id && d.ID != gone {
				now.Peer = ""
				r.change(site.KindInterface, i.ID, site.Ref{Kind: site.KindDevice, ID: d.ID}, i, now)
			}
		}
	}
}

func (r *remover) untranslate(network string) {
	for _, d := range r.site.Devices {
		for _, i := range d.Interfaces {
			if i.Uplink == nil || !slices.Contains(i.Uplink.Translates, network) {
				continue
			}
			now, facts := i, *i.Uplink
			facts.Translates = slices.DeleteFunc(slices.Clone(facts.Translates), func(id string) bool { return id == network })
			now.Uplink = &facts
			r.change(site.KindInterface, i.ID, site.Ref{Kind: site.KindDevice, ID: d.ID}, i, now)
		}
	}
}
