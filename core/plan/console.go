package plan

import (
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/option"
	"lithos/core/yang"
)

// Value is something to be typed in at a console, or seen there.
type Value struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Question is asked of somebody at a console when the steps are done.
type Question struct {
	Says   string `json:"says"`   // in backquotes what the device calls the thing
	Expect string `json:"expect"` // what should be seen
}

// ipv4Part ends the paths of the addresses of interfaces.
var ipv4Part = strings.TrimPrefix(yang.IPv4Path(""), yang.InterfacePath(""))

// values collects what a step sets, in the order in which it is typed.
type values struct {
	list []Value
	own  option.Own
}

func (v *values) add(name, text string) {
	if text != "" {
		v.list = append(v.list, Value{name, text})
	}
}

// Values is what a step sets, for somebody who types it in. Options are written as own says; addresses have their mask
// beside them, as many consoles ask for it. A step that takes something away has none.
func Values(own option.Own, s Step) []Value {
	if s.Method == "PATCH" {
		p, err := yang.ReadPatch(s.Body)
		if err != nil {
			return nil
		}
		var out []Value
		for _, e := range p.Doc.Edit {
			out = append(out, Values(own, Step{Method: "PUT", Path: e.Target, Body: e.Value})...)
		}
		return out
	}
	var one yang.Config
	v := &values{own: own}
	if strings.HasSuffix(s.Path, ipv4Part) {
		var doc map[string]*yang.IPv4
		if json.Unmarshal(s.Body, &doc) == nil {
			for _, ip := range doc {
				v.addresses(ip)
			}
		}
		return v.list
	}
	if len(s.Body) == 0 || one.Put(s.Path, s.Body) != nil {
		return nil
	}
	for _, i := range one.Interfaces.Interface {
		v.iface(i)
	}
	for _, p := range one.DHCP.Pool {
		v.pool(p)
	}
	for _, r := range one.DHCP.Reservation {
		v.add("Address", r.Address.String())
		if !r.MAC.IsZero() {
			v.add("MAC", r.MAC.String())
		}
		if len(r.Client) > 0 {
			v.add("Client identifier", option.FormatIdentifier(r.Client))
		}
		v.add("Name", r.Name)
		v.options(r.Option)
	}
	for _, k := range one.DHCP.Class {
		v.add("Class", k.Name)
		v.add("Option 60 begins", k.Match)
		v.options(k.Option)
	}
	for _, r := range one.Relays.Relay {
		v.add("Interface", r.Interface)
		v.add("DHCP servers", joined(r.Server))
	}
	v.names(one)
	return v.list
}

func joined[T fmt.Stringer](list []T) string {
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return strings.Join(out, ", ")
}

func (v *values) addresses(ip *yang.IPv4) {
	if ip == nil {
		return
	}
	for _, a := range ip.Address {
		v.add("Address", a.Prefix().String())
		v.add("Mask", net.IP(net.CIDRMask(a.PrefixLength, 32)).String())
	}
}

func (v *values) iface(i yang.Interface) {
	v.add("Interface", i.Name)
	if i.VLAN != nil {
		v.add("VLAN", strconv.Itoa(i.VLAN.ID))
		v.add("On", i.VLAN.Parent)
	}
	if p := i.Switchport; p != nil {
		if p.Untagged != 0 {
			v.add("VLAN without a tag", strconv.Itoa(p.Untagged))
		}
		v.add("VLANs with a tag", strings.Trim(strings.ReplaceAll(fmt.Sprint(p.Tagged), " ", ","), "[]"))
	}
	v.add("Ports", strings.Join(i.Member, ", "))
	v.add("Accepts", strings.Join(i.Permit, ", "))
	v.addresses(i.IPv4)
	if u := i.Uplink; u != nil {
		v.add("Address", methodWords[u.Method])
		if u.Gateway.IsValid() {
			v.add("Gateway", u.Gateway.String())
		}
		v.add("Account", u.Account)
		v.add("MTU", strconv.Itoa(u.MTU))
		v.add("Translates (NAT)", joined(u.Translate))
	}
}

func (v *values) pool(p yang.Pool) {
	v.add("Pool", p.Name)
	v.add("Interface", p.Interface)
	v.add("Subnet", p.Subnet.String())
	for _, r := range p.Range {
		v.add("First address", r.Start.String())
		v.add("Last address", r.End.String())
	}
	for _, x := range p.Exclusion {
		v.add("Exclude", x.AddressRange().String())
	}
	v.add("On", map[bool]string{true: "yes", false: "no"}[p.Enabled])
	v.options(p.Option)
}

func (v *values) options(list []yang.Option) {
	for _, o := range list {
		name := fmt.Sprintf("Option %d", o.Code)
		if d, known := v.own.Lookup(o.Code); known {
			name += " (" + d.Name + ")"
		}
		v.add(name, v.own.Format(o.Code, o.Value))
	}
}

func (v *values) names(c yang.Config) {
	if s := c.Resolver.Settings; s != nil {
		v.add("Answers on", strings.Join(s.Interface, ", "))
		v.add("Who may ask", joined(s.Asker))
		v.add("Asks", asked(s.Forwarder))
		for _, d := range s.Domain {
			v.add("Asks for "+d.Name, asked(d.Server))
		}
		var all map[string]any
		_ = json.Unmarshal(inJSON(s), &all)
		for _, name := range slices.Sorted(maps.Keys(all)) {
			if !slices.Contains([]string{"interface", "asker", "forwarder", "domain", "stop-others"}, name) {
				v.add("Setting "+name, setting(all[name]))
			}
		}
	}
	for _, z := range c.Resolver.Zone {
		v.add("Zone", z.Name)
		v.seconds("TTL", z.TTL)
		v.add("Primary", z.Primary)
		v.add("Contact", z.Contact)
		v.seconds("Refresh", z.Refresh)
		v.seconds("Retry", z.Retry)
		v.seconds("Expire", z.Expire)
		v.seconds("Negative", z.Negative)
		if z.Partial {
			v.add("Names it does not have", "are asked of the forwarders")
		}
		for _, r := range z.Record {
			v.add(r.Type, r.Owner+" "+inWords(r))
		}
	}
	for _, n := range c.Outside.Name {
		v.add("Name", n.Name)
		v.add("Zone", n.Zone)
		v.add("Address of", n.Interface)
		v.add("Types", strings.Join(n.Type, ", "))
		if n.Server.IsValid() {
			v.add("Server", netip.AddrPortFrom(n.Server, uint16(n.Port)).String())
		}
		v.add("Request to", n.RequestTo)
		v.add("Address is asked of", n.Asks)
		v.add("Key", n.Key)
		v.add("Algorithm", n.Algorithm)
		v.seconds("TTL", n.TTL)
		v.seconds("Checked every", n.Every)
		v.seconds("Between two updates", n.Least)
		v.add("On", yes(n.Enabled))
	}
}

// seconds adds a time, where one is said.
func (v *values) seconds(name string, n int) {
	if n != 0 {
		v.add(name, fmt.Sprintf("%d s", n))
	}
}

// asked is servers with their ports, and the name that those must have that are asked over TLS.
func asked(list []yang.NameServer) string {
	var out []string
	for _, f := range list {
		one := f.AddrPort().String()
		if f.TLSName != "" {
			one += " over TLS as " + f.TLSName
		}
		out = append(out, one)
	}
	return strings.Join(out, ", ")
}

func bare(ip *yang.IPv4) string {
	if ip == nil {
		return ""
	}
	var list []netip.Prefix
	for _, a := range ip.Address {
		list = append(list, a.Prefix())
	}
	return joined(list)
}

func ranges(p yang.Pool) string {
	var out []string
	for _, r := range p.Range {
		out = append(out, r.AddressRange().String())
	}
	return orNone(strings.Join(out, ", "))
}

// SameAnswer reports whether what somebody saw at a console is what should be seen. Case, spaces and the
// dash between two addresses do not matter.
func SameAnswer(seen, expect string) bool {
	plain := strings.NewReplacer(" ", "", "–", "-", "—", "-", "`", "", "to", "-")
	return plain.Replace(strings.ToLower(seen)) == plain.Replace(strings.ToLower(expect))
}
