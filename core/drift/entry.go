package drift

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

// entry is one entry of a configuration, such as a pool, with its members in JSON. Options of an entry, and the
// records of a zone by owner and type, are members of their own.
type entry struct {
	path    string // RESTCONF path
	kind    string
	name    string
	part    site.Ref
	whole   any // as package yang has it
	members map[string]json.RawMessage
}

// The kinds of entries, as they are called on screen.
const (
	kindInterface   = "interface"
	kindPool        = "pool"
	kindReservation = "reservation"
	kindClass       = "vendor class"
	kindRelay       = "relay"
	kindZone        = "zone"
	kindSettings    = "resolver"
	kindOutside     = "outside name"
)

const (
	optionMember = "option="
	recordMember = "record="
)

// entries are those of a configuration by their paths, and the paths in the order in which they are read. Programs
// beside a resolver are not Lithos's: rule port-taken tells of them.
func entries(c yang.Config) (map[string]*entry, []string) {
	all := map[string]*entry{}
	var order []string
	add := func(e entry) {
		e.members = membersOf(e.whole)
		all[e.path] = &e
		order = append(order, e.path)
	}
	for _, i := range c.Interfaces.Interface {
		add(entry{path: yang.InterfacePath(i.Name), kind: kindInterface, name: i.Name, whole: i})
	}
	for _, p := range c.DHCP.Pool {
		add(entry{path: yang.PoolPath(p.ID), kind: kindPool, name: cmp.Or(p.Name, p.ID), whole: p,
			part: site.Ref{Kind: site.KindPool, ID: p.ID}})
	}
	for _, r := range c.DHCP.Reservation {
		add(entry{path: yang.ReservationPath(r.ID), kind: kindReservation, name: cmp.Or(r.Name, r.Address.String()),
			whole: r, part: site.Ref{Kind: site.KindReservation, ID: r.ID}})
	}
	for _, k := range c.DHCP.Class {
		add(entry{path: yang.ClassPath(k.ID), kind: kindClass, name: cmp.Or(k.Name, k.Match), whole: k,
			part: site.Ref{Kind: site.KindVendorClass, ID: k.ID}})
	}
	for _, r := range c.Relays.Relay {
		add(entry{path: yang.RelayPath(r.Interface), kind: kindRelay, name: r.Interface, whole: r})
	}
	if c.Resolver.Settings != nil {
		add(entry{path: yang.SettingsPath(), kind: kindSettings, name: "settings", whole: c.Resolver.Settings})
	}
	for _, z := range c.Resolver.Zone {
		add(entry{path: yang.ZonePath(z.Name), kind: kindZone, name: z.Name, whole: z})
	}
	for _, n := range c.Outside.Name {
		add(entry{path: yang.OutsidePath(n.ID), kind: kindOutside, name: n.Name, whole: n,
			part: site.Ref{Kind: site.KindFollowing, ID: n.ID}})
	}
	return all, order
}

// membersOf are the members of an entry. Those that are not there, or say nothing, are left out.
func membersOf(whole any) map[string]json.RawMessage {
	out := map[string]json.RawMessage{}
	_ = json.Unmarshal(marshal(whole), &out) // it was made from the same
	switch e := whole.(type) {
	case yang.Pool:
		split(out, e.Option)
	case yang.Reservation:
		split(out, e.Option)
	case yang.Class:
		split(out, e.Option)
	case yang.Zone:
		delete(out, "record")
		values := map[string][]string{}
		for _, r := range e.Record {
			key := recordMember + r.Owner + " " + r.Type
			text := r.Data
			if r.TTL != 0 {
				text += fmt.Sprintf(" for %d s", r.TTL)
			}
			values[key] = append(values[key], text)
		}
		for key, list := range values {
			slices.Sort(list)
			out[key] = marshal(list)
		}
	}
	delete(out, "id")
	return out
}

func split(members map[string]json.RawMessage, options []yang.Option) {
	delete(members, "option")
	for _, o := range options {
		members[fmt.Sprintf("%s%d", optionMember, o.Code)] = marshal(o)
	}
}

func marshal(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic("a part of a configuration always marshals: " + err.Error())
	}
	return raw
}

// with is the entry with members of another one: those that it does not have go.
func (e *entry) with(held *entry, members []string) json.RawMessage {
	var out map[string]json.RawMessage
	_ = json.Unmarshal(marshal(e.whole), &out)
	var codes, records []string
	for _, m := range members {
		switch {
		case strings.HasPrefix(m, optionMember):
			codes = append(codes, m)
		case strings.HasPrefix(m, recordMember):
			records = append(records, m)
		default:
			if delete(out, m); held.members[m] != nil {
				out[m] = held.members[m]
			}
		}
	}
	if len(codes) > 0 {
		merged := maps.Clone(e.members)
		for _, m := range codes {
			if delete(merged, m); held.members[m] != nil {
				merged[m] = held.members[m]
			}
		}
		var list []json.RawMessage
		for _, m := range slices.Sorted(maps.Keys(merged)) {
			if strings.HasPrefix(m, optionMember) {
				list = append(list, merged[m])
			}
		}
		out["option"] = marshal(list)
	}
	if len(records) > 0 {
		out["record"] = marshal(mergedRecords(e.whole.(yang.Zone), held.whole.(yang.Zone), records))
	}
	return marshal(out)
}

// mergedRecords are the records of a zone with those of some owners and types as another has them.
func mergedRecords(z, held yang.Zone, members []string) []yang.Record {
	of := func(r yang.Record) bool { return slices.Contains(members, recordMember+r.Owner+" "+r.Type) }
	out := slices.DeleteFunc(slices.Clone(z.Record), of)
	for _, r := range held.Record {
		if of(r) {
			out = append(out, r)
		}
	}
	return out
}

// body is what RESTCONF's PUT takes for an entry at a path.
func body(path string, raw json.RawMessage) []byte {
	module, rest, _ := strings.Cut(strings.TrimPrefix(path, "/"), ":")
	_, member, _ := strings.Cut(rest, "/")
	member, _, listed := strings.Cut(member, "=")
	if !listed {
		return marshal(map[string]json.RawMessage{module + ":" + member: raw})
	}
	return marshal(map[string][]json.RawMessage{module + ":" + member: {raw}})
}

// labels are what members are called where the modules' own names do not read as the trade's words.
var labels = map[string]string{
	"type": "kind", "enabled": "switched on", "lithos-interfaces:vlan": "VLAN", "ietf-ip:ipv4": "addresses",
	"lithos-interfaces:switchport": "VLANs", "lithos-interfaces:member": "ports",
	"lithos-interfaces:permit": "permits", "lithos-interfaces:uplink": "uplink", "exclusion": "exclusions",
	"hw-address": "MAC", "client-id": "client identifier", "for-class": "vendor class",
	"for-client": "client identifiers", "ttl": "TTL", "tls-port": "TLS port", "tls-name": "TLS name",
	"asker": "who may ask", "forwarder": "forwarders", "domain": "servers for domains", "server": "servers",
	"interface": "interfaces", "cache-entries": "answers kept", "least-ttl": "least TTL",
	"greatest-ttl": "greatest TTL", "local-ttl": "TTL of lease names", "negative-ttl": "negative TTL",
	"validate": "DNSSEC validation",
}

// what is a member in words: "pool Chart room, range".
func (e *entry) what(own option.Own, member string) string {
	says := e.kind + " " + e.name
	switch {
	case member == "":
		return says
	case strings.HasPrefix(member, optionMember):
		var code uint8
		_, _ = fmt.Sscanf(member, optionMember+"%d", &code)
		if def, ok := own.Lookup(code); ok {
			return fmt.Sprintf("%s, %s (option %d)", says, def.InSentence(), code)
		}
		return fmt.Sprintf("%s, option %d", says, code)
	case strings.HasPrefix(member, recordMember):
		return says + ", " + strings.TrimPrefix(member, recordMember)
	}
	if label := labels[member]; label != "" && (e.kind != kindPool || member != "interface") {
		return says + ", " + label
	}
	return says + ", " + strings.ReplaceAll(member, "-", " ")
}

const none = "none"

// text is the value of a member in words; with no member the entry in short.
func (e *entry) text(own option.Own, member string) string {
	switch {
	case e == nil:
		return none
	case member == "":
		return e.short()
	}
	raw := e.members[member]
	if raw == nil {
		return none
	}
	if strings.HasPrefix(member, optionMember) {
		var o yang.Option
		_ = json.Unmarshal(raw, &o)
		says := own.Format(o.Code, o.Value)
		if o.Learnt != "" {
			says += ", or what " + o.Learnt + " learns"
		}
		return says
	}
	switch whole := e.whole.(type) {
	case yang.Pool:
		switch member {
		case "range":
			return spans(whole)
		case "exclusion":
			var out []string
			for _, x := range whole.Exclusion {
				out = append(out, x.AddressRange().Short(whole.Subnet))
			}
			return strings.Join(out, ", ")
		case "for-client":
			return option.FormatIdentifier(whole.ForClient)
		}
	case yang.Reservation:
		if member == "client-id" {
			return option.FormatIdentifier(whole.Client)
		}
	case yang.Interface:
		if member == "ietf-ip:ipv4" {
			return addresses(whole)
		}
	}
	return plain(raw)
}

func spans(p yang.Pool) string {
	var out []string
	for _, r := range p.Range {
		out = append(out, r.AddressRange().Short(p.Subnet))
	}
	return cmp.Or(strings.Join(out, ", "), none)
}

func addresses(i yang.Interface) string {
	var out []string
	if i.IPv4 != nil {
		for _, a := range i.IPv4.Address {
			out = append(out, a.Prefix().String())
		}
	}
	return cmp.Or(strings.Join(out, ", "), none)
}

// short is what an entry comes to, in a word or two.
func (e *entry) short() string {
	switch whole := e.whole.(type) {
	case yang.Pool:
		return spans(whole)
	case yang.Reservation:
		return whole.Address.String()
	case yang.Interface:
		return cmp.Or(addresses(whole), "there")
	case yang.Class:
		return whole.Match
	case yang.Relay:
		return plain(e.members["server"])
	case yang.Zone:
		return site.Counted(len(whole.Record), "record")
	}
	return "there"
}

// plain is JSON as people read it: lists with commas, what is inside with its names.
func plain(raw json.RawMessage) string {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var v any
	_ = dec.Decode(&v)
	return site.Printable(words(v), mostText)
}

// always says whether an option is sent unasked, where that is what differs.
func (e *entry) always(member string) string {
	var o yang.Option
	if e == nil || json.Unmarshal(e.members[member], &o) != nil || !o.Always {
		return ""
	}
	return ", sent unasked"
}

// mostText bounds what is shown of a value, in characters.
const mostText = 400

func words(v any) string {
	switch v := v.(type) {
	case nil:
		return none
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case []any:
		var out []string
		for _, one := range v {
			out = append(out, words(one))
		}
		return cmp.Or(strings.Join(out, ", "), none)
	case map[string]any:
		var out []string
		for _, name := range slices.Sorted(maps.Keys(v)) {
			out = append(out, strings.ReplaceAll(name, "-", " ")+" "+words(v[name]))
		}
		return strings.Join(out, " ")
	}
	return cmp.Or(fmt.Sprint(v), none)
}
