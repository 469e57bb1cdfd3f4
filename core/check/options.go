package check

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
)

// eachLevel visits the levels of a network that set options, or those above networks
// where n is nil.
func (f *facts) eachLevel(n *site.Network, at func(level site.Ref, network, name string, options []site.Option)) {
	if n == nil {
		at(site.Ref{Kind: site.KindStandard, ID: f.Standard.ID}, "", f.Standard.Name, f.Standard.Options)
		at(site.Ref{Kind: site.KindCustomer, ID: f.Customer.ID}, "", f.Customer.Name, f.Customer.Options)
		at(site.Ref{Kind: site.KindSite, ID: f.ID}, "", f.Name, f.Options)
		for _, k := range f.VendorClasses {
			at(site.Ref{Kind: site.KindVendorClass, ID: k.ID}, "", k.Name, k.Options)
		}
		return
	}
	at(networkRef(n.ID), n.ID, n.Name, n.Options)
	f.eachPool(n, func(p *site.Pool) { at(poolRef(p.ID), n.ID, p.Name, p.Options) })
	for _, r := range f.tuned {
		if r.Network == n.ID {
			at(reservationRef(r.ID), n.ID, r.NameOrAddress(), r.Options)
		}
	}
}

func optionInvalid(f *facts, n *site.Network, report func(Finding)) {
	f.eachLevel(n, func(level site.Ref, network, name string, options []site.Option) {
		for _, o := range options {
			_, err := f.own.Parse(o.Code, o.Value)
			if def, _ := option.Lookup(o.Code); err == nil || def.ServerOnly {
				continue // option-server-only says so
			}
			report(Finding{
				Title: fmt.Sprintf("Option %d of %s cannot be sent", o.Code, name), Network: network,
				Parts: []site.Ref{level, {Kind: site.KindOption, ID: fmt.Sprint(o.Code)}}, Says: err.Error() + ".",
				Value: o.Value,
				Fix: f.unsetting("Stop setting it",
					option.Effective{Code: o.Code, From: option.Source{Kind: level.Kind, ID: level.ID}}),
			})
		}
	})
}

func optionServerOnly(f *facts, n *site.Network, report func(Finding)) {
	f.eachLevel(n, func(at site.Ref, network, name string, options []site.Option) {
		for _, o := range options {
			def, _ := option.Lookup(o.Code)
			if !def.ServerOnly {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("%s sets %s by hand", name, def.InSentence()), Network: network,
				Parts: []site.Ref{at, {Kind: site.KindOption, ID: fmt.Sprint(o.Code)}},
				Value: o.Value,
				Says: fmt.Sprintf("Option %d is made by the server for each client; devices refuse it or send "+
					"clients nonsense.", o.Code),
				Fix: f.unsetting("Stop setting it",
					option.Effective{Code: o.Code, From: option.Source{Kind: at.Kind, ID: at.ID}}),
			})
		}
	})
}

func optionSetTwice(f *facts, n *site.Network, report func(Finding)) {
	f.eachLevel(n, func(at site.Ref, network, name string, options []site.Option) {
		count, last := map[uint8]int{}, map[uint8]string{}
		for _, o := range options {
			count[o.Code]++
			last[o.Code] = o.Value
		}
		for _, code := range slices.Sorted(maps.Keys(count)) {
			if count[code] < 2 {
				continue
			}
			def, _ := f.own.Lookup(code)
			report(Finding{
				Title: fmt.Sprintf("%s sets %s twice", name, def.InSentence()), Network: network,
				Parts: []site.Ref{at, {Kind: site.KindOption, ID: fmt.Sprint(code)}},
				Value: last[code],
				Says: fmt.Sprintf("Option %d is there %d times; clients receive the last, %s.", code, count[code],
					last[code]),
				Fix: f.keepLast(at, code, count[code]),
			})
		}
	})
}

// keepLast is the fix that leaves one of several settings of a code.
func (f *facts) keepLast(at site.Ref, code uint8, times int) *Fix {
	all := f.unsetting("Keep the last", option.Effective{Code: code, From: option.Source{Kind: at.Kind, ID: at.ID}})
	if all == nil || len(all.Edits) < times {
		return nil
	}
	all.Edits = all.Edits[:times-1]
	return all
}

// unsetting is the fix that stops a level from setting an option, where a
// draft may change that level. A level may set a code several times; all go.
func (f *facts) unsetting(title string, t option.Effective) *Fix {
	in := site.Ref{Kind: t.From.Kind, ID: t.From.ID}
	fix := &Fix{Title: title}
	left := f.Site
	for {
		edits, err := edit.Removing(left, site.Ref{Kind: site.KindOption, ID: fmt.Sprint(t.Code)}, in)
		if err != nil {
			break
		}
		fix.Edits = append(fix.Edits, edits...)
		if left, err = edit.Apply(left, edits...); err != nil {
			return nil
		}
	}
	if len(fix.Edits) == 0 {
		return nil
	}
	return fix
}

// retell is the fix that gives an option another value where it is set; none
// where a draft may not change that level.
func (f *facts) retell(title string, t option.Effective, value string) *Fix {
	fix := f.unsetting(title, t)
	if fix == nil || len(fix.Edits) != 1 {
		return nil
	}
	was, now := site.Option{Code: t.Code, Value: t.Value}, site.Option{Code: t.Code, Value: value}
	return change(title, site.KindOption, fmt.Sprint(t.Code), level(t), was, now)
}

// setOption is the fix that sets an option on a pool, in place of what it sets.
func setOption(title string, p *site.Pool, code uint8, value string) *Fix {
	now := site.Option{Code: code, Value: value}
	id, in := fmt.Sprint(code), poolRef(p.ID)
	if i := slices.IndexFunc(p.Options, func(o site.Option) bool { return o.Code == code }); i >= 0 {
		return change(title, site.KindOption, id, in, p.Options[i], now)
	}
	return &Fix{title, []edit.Edit{edit.Adding(site.KindOption, id, in, now)}}
}

// optionOverSize packs what a client that asks for everything would be told.
func optionOverSize(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		list := f.toldIn(p)
		size := 0
		for _, t := range list {
			size += 2 + len(t.Value)
		}
		if size < 150 {
			return // short texts are short octets
		}
		m := &dhcpv4.DHCPv4{Options: dhcpv4.Options{
			option.MessageType: {2}, option.ServerID: make([]byte, 4), option.SubnetMask: make([]byte, 4),
			option.Broadcast: make([]byte, 4), option.LeaseTime: make([]byte, 4),
		}}
		for _, t := range list {
			if wire, err := f.own.Parse(t.Code, t.Value); err == nil {
				m.Options[t.Code] = wire
			}
		}
		_, left := dhcp.Pack(m, nil, dhcp.MinAccepted-28)
		if len(left) == 0 {
			return
		}
		var names []string
		for _, code := range left {
			def, _ := f.own.Lookup(code)
			names = append(names, fmt.Sprintf("%d (%s)", code, def.InSentence()))
		}
		report(Finding{
			Title: fmt.Sprintf("What %s tells does not fit", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Says: fmt.Sprintf("A client that asks for everything and takes no more than %d octets is not told "+
				"option %s.", dhcp.MinAccepted, strings.Join(names, ", ")),
		})
	})
}

func bootPairIncomplete(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		list := f.toldIn(p)
		_, file := compile.Value(list, option.BootFile)
		_, name := compile.Value(list, option.BootServer)
		_, server := compile.Value(list, option.BootServers)
		switch {
		case file && !name && !server:
			report(Finding{
				Title: fmt.Sprintf("Clients of %s are told a boot file and no server", p.Name), Network: n.ID,
				Parts: []site.Ref{poolRef(p.ID)},
				Says: "They look for the file on the DHCP server, which most likely has none. Set option 66 or 150 " +
					"beside 67.",
			})
		case name && !file:
			report(Finding{
				Title: fmt.Sprintf("Clients of %s are told a TFTP server and no boot file", p.Name), Network: n.ID,
				Parts: []site.Ref{poolRef(p.ID)},
				Says: "A machine that boots from the network knows where to ask and not for what. Set option 67 " +
					"beside 66.",
			})
		}
	})
}

func vendorInvalid(f *facts, report func(Finding)) {
	for i := range f.VendorClasses {
		k := &f.VendorClasses[i]
		_, err := compile.SubOptions(k)
		if k.Match == "" && err == nil {
			err = fmt.Errorf("it does not say how option 60 of its clients begins, so it is for nobody")
		}
		if err != nil {
			report(Finding{
				Title: fmt.Sprintf("Vendor class %s cannot be told", k.Name),
				Parts: []site.Ref{{Kind: site.KindVendorClass, ID: k.ID}}, Says: err.Error() + ".",
				Value: err.Error(),
			})
		}
	}
}

func routerMissing(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if _, told := compile.Value(f.toldIn(p), option.Router); !told { // what cannot be read is for option-invalid
			report(Finding{
				Title: fmt.Sprintf("Clients of %s are told no router", p.Name), Network: n.ID,
				Parts: []site.Ref{poolRef(p.ID), networkRef(n.ID)}, Fix: f.setGateway(n),
				Says: fmt.Sprintf("They get an address and stay shut in %s: nothing says where other networks are.",
					n.Prefix),
			})
		}
	})
}
