package check

import (
	"fmt"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
)

var optionRules = []Rule{
	{"router-missing", "Options", Warns, "Clients are told a router.", routerMissing},
	{"router-outside-network", "Options", Blocks, "The router clients are told is in their network.", routerOutsideNetwork},
	{"dns-missing", "Options", Warns, "Clients are told a name server.", dnsMissing},
	{"option-invalid", "Options", Blocks, "An option's value fits its type.", optionInvalid},
	{"lease-timers-order", "DHCP", Blocks, "T1 comes before T2, and T2 before the lease ends.", leaseTimersOrder},
}

func routerMissing(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		if _, told := compile.Value(f.toldIn(p, n), option.Router); !told { // what cannot be read is for option-invalid
			report(Finding{
				Title: fmt.Sprintf("Clients of %s are told no router", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID), networkRef(n.ID)}, Fix: f.setGateway(*n),
				Says: fmt.Sprintf("They get an address and stay shut in %s: nothing says where other networks are.", n.Prefix),
			})
		}
	})
}

// unsetting is the fix that stops a level from setting an option, where a
// draft may change that level. A level may set a code several times; all go.
func (f *facts) unsetting(title string, t option.Told) *Fix {
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

func routerOutsideNetwork(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		told := f.toldIn(p, n)
		for _, a := range compile.Addresses(told, option.Router) {
			t, _ := compile.Value(told, option.Router)
			if n.Prefix.Contains(a) || t.From.Kind == site.KindNetwork && a == n.Gateway {
				continue // gateway-outside-network says so already
			}
			report(Finding{
				Title: fmt.Sprintf("The router told to %s is elsewhere", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)}, Addresses: []address.Range{address.Single(a)},
				Says: fmt.Sprintf("%s, set on %s, is not in %s. Clients cannot reach it and have no way out.", a, t.From.Name, n.Prefix),
				Fix:  f.unsetting("Tell them the gateway of "+n.Name+" instead", t),
			})
		}
	})
}

func dnsMissing(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		if _, ok := compile.Value(f.toldIn(p, n), option.NameServers); ok {
			return
		}
		found := Finding{
			Title: fmt.Sprintf("Clients of %s are told no name server", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Says: "They reach addresses and no names; to their users nothing works.",
		}
		if n.Gateway.IsValid() {
			o := site.Option{Code: option.NameServers, Value: n.Gateway.String()}
			found.Fix = &Fix{"Tell them " + o.Value, []edit.Edit{edit.Adding(site.KindOption, fmt.Sprint(o.Code), networkRef(n.ID), o)}}
		}
		report(found)
	})
}

// eachLevel visits every level that sets options.
func (f *facts) eachLevel(at func(level site.Ref, network, name string, options []site.Option)) {
	at(site.Ref{Kind: site.KindStandard, ID: f.Standard.ID}, "", f.Standard.Name, f.Standard.Options)
	at(site.Ref{Kind: site.KindCustomer, ID: f.Customer.ID}, "", f.Customer.Name, f.Customer.Options)
	at(site.Ref{Kind: site.KindSite, ID: f.ID}, "", f.Name, f.Options)
	for _, n := range f.Networks {
		at(networkRef(n.ID), n.ID, n.Name, n.Options)
	}
	for _, p := range f.Pools {
		at(poolRef(p.ID), p.Network, p.Name, p.Options)
	}
	for _, k := range f.VendorClasses {
		at(site.Ref{Kind: site.KindVendorClass, ID: k.ID}, "", k.Name, k.Options)
	}
	for _, r := range f.Reservations {
		at(site.Ref{Kind: site.KindReservation, ID: r.ID}, r.Network, r.Name, r.Options)
	}
}

func optionInvalid(f *facts, report func(Finding)) {
	f.eachLevel(func(level site.Ref, network, name string, options []site.Option) {
		for _, o := range options {
			_, err := f.own.Parse(o.Code, o.Value)
			if def, _ := option.Lookup(o.Code); err == nil || def.ServerOnly {
				continue // option-server-only says so
			}
			report(Finding{
				Title: fmt.Sprintf("Option %d of %s cannot be sent", o.Code, name), Network: network,
				Parts: []site.Ref{level, {Kind: site.KindOption, ID: fmt.Sprint(o.Code)}}, Says: err.Error() + ".",
				Value: o.Value,
				Fix:   f.unsetting("Stop setting it", option.Told{Code: o.Code, From: option.Source{Kind: level.Kind, ID: level.ID}}),
			})
		}
	})
}

func leaseTimersOrder(f *facts, report func(Finding)) {
	f.eachPool(func(p *site.Pool, n *site.Network) {
		t := f.timers(p, n)
		if t.T1 < t.T2 && t.T2 < t.Lease {
			return
		}
		found := Finding{
			Title: fmt.Sprintf("The lease timers of %s are out of order", p.Name), Network: n.ID, Parts: []site.Ref{poolRef(p.ID)},
			Value: fmt.Sprint(t.T1, t.T2, t.Lease),
			Says: fmt.Sprintf("Renewal (T1) is after %s, rebinding (T2) after %s and the lease ends after %s. Clients ignore timers that are not in this order, or lose their address before they renew.",
				option.FormatDuration(t.T1), option.FormatDuration(t.T2), option.FormatDuration(t.Lease)),
		}
		fix := &Fix{Title: "Let T1 and T2 follow the lease time"}
		for _, code := range []uint8{option.RenewalT1, option.RebindingT2} {
			if t, ok := compile.Value(f.toldIn(p, n), code); ok {
				one := f.unsetting("", t)
				if one == nil {
					fix = nil
					break
				}
				fix.Edits = append(fix.Edits, one.Edits...)
			}
		}
		found.Fix = fix
		report(found)
	})
}
