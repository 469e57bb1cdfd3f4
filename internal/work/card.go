package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/internal/order"
	"lithos/internal/report"
)

// Card is a site on one sheet, for its cupboard door: whom to ask, its devices, networks, pools, addresses and
// names, as it stands.
func (s *Service) Card(ctx context.Context, code string) (*report.Page, error) {
	sc, _, revision, err := s.Drafts.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	return s.cardOf(ctx, sc.Site, revision)
}

func (s *Service) cardOf(ctx context.Context, doc *site.Site, revision int32) (*report.Page, error) {
	access, err := s.Store.Access(ctx, doc.ID)
	if err != nil {
		return nil, err
	}
	c := card{Site: doc, Page: &report.Page{Title: doc.Name,
		Under: fmt.Sprintf("%s. Revision %d, printed on %s.", doc.Customer.Name, revision,
			time.Now().In(doc.Location()).Format("2 January 2006"))}}
	c.head()
	c.devices(access)
	c.networks()
	c.machines()
	c.names()
	return c.Page, nil
}

type card struct {
	*site.Site
	*report.Page
}

func (c *card) head() {
	var block []string
	for _, p := range c.Site.Block {
		block = append(block, p.String())
	}
	facts := [][]string{{"Block", strings.Join(block, ", ")}, {"Domain", cmp.Or(c.Domain, "none")}}
	if c.Standard.Name != "" {
		facts = append(facts, []string{"Standard", c.Standard.Name})
	}
	c.Add(report.Block{Facts: facts, Text: c.Note})
	people := report.Block{Heading: "Whom to ask"}
	for one := range strings.SplitSeq(c.Contacts, ";") {
		if one = strings.TrimSpace(one); one != "" {
			people.List = append(people.List, one)
		}
	}
	if len(people.List) > 0 {
		c.Add(people)
	}
}

func (c *card) devices(access []order.Access) {
	b := report.Block{Heading: "Devices", Head: []string{"Device", "Kind", "Interface", "Address", "VLAN", "Leads to"}}
	for _, d := range c.Devices {
		name, kind := d.Name, d.Kind
		if order.On(access, d.ID) == nil {
			kind += ", by hand"
		}
		for _, i := range d.Interfaces {
			var at []string
			for _, a := range i.Addresses {
				at = append(at, a.String())
			}
			vlan := ""
			if n := i.VLAN + i.Untagged; n != 0 {
				vlan = strconv.Itoa(n)
			}
			if other, far, ok := c.Interface(i.Peer); ok || len(at) > 0 {
				leads := ""
				if ok {
					leads = far.Name + " of " + other.Name
				}
				b.Rows = append(b.Rows, []string{name, kind, i.Name, strings.Join(at, ", "), vlan, leads})
				name, kind = "", ""
			}
		}
		if name != "" {
			b.Rows = append(b.Rows, []string{name, kind, "", "", "", ""})
		}
	}
	if len(b.Rows) > 0 {
		c.Add(b)
	}
}

func (c *card) networks() {
	b := report.Block{Heading: "Networks", Head: []string{"Network", "VLAN", "Prefix", "Gateway", "Handed out", "Lease",
		"Name servers"}}
	common := compile.Common(c.Site)
	for i := range c.Networks {
		n := &c.Networks[i]
		told := []compile.For{}
		var ranges []string
		for k := range c.Pools {
			p := &c.Pools[k]
			if p.Network != n.ID {
				continue
			}
			told = append(told, compile.For{Network: n, Pool: p})
			for _, r := range p.Ranges {
				ranges = append(ranges, r.Short(n.Prefix))
			}
			for _, x := range p.Exclusions {
				ranges = append(ranges, "not "+x.Range.Short(n.Prefix)+" ("+x.Reason+")")
			}
			if !p.Enabled {
				ranges = append(ranges, "switched off")
			}
		}
		if len(told) == 0 {
			told = append(told, compile.For{Network: n})
		}
		vlan, gateway := "untagged", "none"
		if n.VLAN != 0 {
			vlan = strconv.Itoa(n.VLAN)
		}
		if n.Gateway.IsValid() {
			gateway = n.Gateway.String()
		}
		b.Rows = append(b.Rows, []string{n.Name, vlan, n.Prefix.String(), gateway, strings.Join(ranges, ", "),
			eachTold(common, told, option.LeaseTime), eachTold(common, told, option.NameServers)})
	}
	if len(b.Rows) > 0 {
		c.Add(b)
	}
}

// eachTold is what clients are told as an option by each pool of a network; with the pool's name where they differ.
func eachTold(common compile.Everywhere, told []compile.For, code uint8) string {
	var values, named []string
	for _, f := range told {
		v, _ := compile.Value(common.Effective(f), code)
		if !slices.Contains(values, v.Value) {
			values = append(values, v.Value)
		}
		if f.Pool != nil {
			named = append(named, v.Value+" ("+f.Pool.Name+")")
		}
	}
	if len(values) > 1 {
		return strings.Join(named, ", ")
	}
	return strings.Join(values, "")
}

// mostMachines is how many reservations and fixed devices are on a sheet; a longer list is taken out as a table.
const mostMachines = 400

func (c *card) machines() {
	b := report.Block{Heading: "Addresses of machines", Head: []string{"Address", "Name", "MAC or identifier", "How"}}
	type machine struct {
		at  string
		row []string
	}
	var list []machine
	for _, r := range c.Reservations {
		who := r.Client
		if !r.MAC.IsZero() {
			who = r.MAC.String()
		}
		list = append(list, machine{fmt.Sprintf("%x", r.Address.As4()), []string{r.Address.String(), r.Name, who,
			"reserved"}})
	}
	for _, f := range c.FixedDevices {
		mac := ""
		if !f.MAC.IsZero() {
			mac = f.MAC.String()
		}
		list = append(list, machine{fmt.Sprintf("%x", f.Address.As4()), []string{f.Address.String(), f.Name, mac,
			strings.TrimSuffix("holds it itself, "+f.Note, ", ")}})
	}
	slices.SortStableFunc(list, func(a, b machine) int { return strings.Compare(a.at, b.at) })
	for _, m := range list[:min(len(list), mostMachines)] {
		b.Rows = append(b.Rows, m.row)
	}
	if more := len(list) - len(b.Rows); more > 0 {
		b.Text = fmt.Sprintf("And %d more; take them out as a table.", more)
	}
	if len(b.Rows) > 0 {
		c.Add(b)
	}
}

func (c *card) names() {
	b := report.Block{Heading: "Names written by hand", Head: []string{"Name", "Type", "Value", "Seen from"}}
	for _, z := range c.Zones {
		for _, r := range z.Records {
			name := z.Name
			if r.Owner != "@" {
				name = r.Owner + "." + z.Name
			}
			b.Rows = append(b.Rows, []string{name, r.Type, r.Data, z.Side})
		}
	}
	for _, v := range c.Services {
		b.Rows = append(b.Rows, []string{v.Name, "service", v.Base, ""})
	}
	for _, f := range c.Following {
		b.Rows = append(b.Rows, []string{f.Name, "dynamic", "", site.Outside})
	}
	if len(b.Rows) > 0 {
		c.Add(b)
	}
}
