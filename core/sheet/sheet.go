// Package sheet writes the addresses, names and options of sites as tables for a spreadsheet (CSV, RFC 4180), and reads
// tables.
package sheet

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
)

// What a table is of.
const (
	Addresses = "addresses"
	Names     = "names"
	Options   = "options"
)

// Tables lists what tables there are.
var Tables = []string{Addresses, Names, Options}

// Write is a table of sites in CSV, with a head. No cell of it is run by a spreadsheet: one that begins as a
// formula does has an apostrophe before it.
func Write(of string, sites []*site.Site) ([]byte, error) {
	rows, err := Rows(of, sites)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.UseCRLF = true
	for _, cells := range rows {
		for i := range cells {
			cells[i] = inert(cells[i])
		}
		if err := w.Write(cells); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return out.Bytes(), w.Error()
}

// Rows is a table of sites, its head first.
func Rows(of string, sites []*site.Site) ([][]string, error) {
	head, row := map[string][]string{
		Addresses: {"Site", "Network", "VLAN", "Address", "MAC or identifier", "Name", "Held by", "Note"},
		Names:     {"Site", "Seen from", "Zone", "Name", "Type", "Value", "TTL"},
		Options:   {"Site", "Set by", "Code", "Option", "Value", "Also unasked"},
	}[of], map[string]func(*site.Site) [][]string{Addresses: addresses, Names: names, Options: options}[of]
	if row == nil {
		return nil, fmt.Errorf("%q is no table; choose %s", of, strings.Join(Tables, ", "))
	}
	out := [][]string{head}
	for _, s := range sites {
		out = append(out, row(s)...)
	}
	return out, nil
}

// inert is a cell that a spreadsheet shows and does not run.
func inert(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}

func addresses(s *site.Site) [][]string {
	type owned struct {
		at    netip.Addr // the first
		cells []string
	}
	var list []owned
	networkOf := func(id string) site.Network {
		if n, ok := s.Network(id); ok {
			return *n
		}
		return site.Network{}
	}
	add := func(n site.Network, at netip.Addr, cells ...string) {
		vlan := ""
		if n.VLAN != 0 {
			vlan = strconv.Itoa(n.VLAN)
		}
		list = append(list, owned{at, append([]string{s.Name, n.Name, vlan}, cells...)})
	}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			for _, a := range i.Addresses {
				n := site.Network{}
				for _, one := range s.Networks {
					if one.Prefix.Contains(a.Addr()) {
						n = one
					}
				}
				add(n, a.Addr(), a.Addr().String(), "", d.Name, "interface "+i.Name, "")
			}
		}
	}
	for _, r := range s.Reservations {
		who := r.Client
		if !r.MAC.IsZero() {
			who = r.MAC.String()
		}
		add(networkOf(r.Network), r.Address, r.Address.String(), who, r.Name, "reservation", "")
	}
	for _, f := range s.FixedDevices {
		mac := ""
		if !f.MAC.IsZero() {
			mac = f.MAC.String()
		}
		add(networkOf(f.Network), f.Address, f.Address.String(), mac, f.Name, "fixed device", f.Note)
	}
	for _, p := range s.Pools {
		for _, r := range p.Ranges {
			add(networkOf(p.Network), r.From, r.String(), "", p.Name, "pool", p.Note)
		}
		for _, x := range p.Exclusions {
			add(networkOf(p.Network), x.Range.From, x.Range.String(), "", "", "exclusion of "+p.Name,
				x.Reason)
		}
	}
	slices.SortStableFunc(list, func(a, b owned) int { return a.at.Compare(b.at) })
	out := make([][]string, len(list))
	for i, o := range list {
		out[i] = o.cells
	}
	return out
}

func names(s *site.Site) (out [][]string) {
	book := compile.Names(s)
	for _, p := range slices.Concat(book.Inside, book.Outside) {
		for _, e := range p.Entries {
			out = append(out, []string{s.Name, p.Side, p.Name, p.Whole(e), e.Type, e.Data, strconv.Itoa(p.TTL(e))})
		}
	}
	return out
}

func options(s *site.Site) (out [][]string) {
	own := s.Own()
	add := func(by string, list []site.Option) {
		for _, o := range list {
			name := ""
			if d, ok := own.Lookup(o.Code); ok {
				name = d.Name
			}
			out = append(out, []string{s.Name, by, strconv.Itoa(int(o.Code)), name, o.Value,
				map[bool]string{true: "yes"}[o.Always]})
		}
	}
	add("the standard "+s.Standard.Name, s.Standard.Options)
	add("the customer "+s.Customer.Name, s.Customer.Options)
	add("the site", s.Options)
	for _, n := range s.Networks {
		if n.Gateway.IsValid() {
			add("network "+n.Name, []site.Option{{Code: option.Router, Value: n.Gateway.String()}})
		}
		add("network "+n.Name, n.Options)
	}
	for _, p := range s.Pools {
		add("pool "+p.Name, p.Options)
	}
	for _, k := range s.VendorClasses {
		add("vendor class "+k.Name, compile.ClassOptions(&k))
	}
	for _, r := range s.Reservations {
		add("reservation "+r.NameOrAddress(), r.Options)
	}
	return out
}
