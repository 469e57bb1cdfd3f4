package plan

import (
	"bytes"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"lithos/core/option"
	"lithos/core/yang"
)

// markPools finds the pools that go, for good or until their interface is ready.
func (p *planner) markPools() {
	// A pool for relayed clients needs an address to answer from, whichever.
	stand := slices.ContainsFunc(p.was.Interfaces.Interface,
		func(i yang.Interface) bool { return i.IPv4 != nil && !p.readdress[i.Name] })
	for _, q := range p.was.DHCP.Pool {
		r, stays := p.now.pools[q.ID]
		if !stays || p.readdress[q.Interface] || q.Interface == "" && !stand || q.Interface != r.Interface ||
			q.Subnet != r.Subnet {
			p.withdraw[q.ID] = true
		}
	}
}

// markRanges finds the pools whose addresses another pool takes: they keep until then only what
// they have before and after. One of which nothing is left is withdrawn.
func (p *planner) markRanges() {
	for _, q := range p.was.DHCP.Pool {
		now, stays := p.now.pools[q.ID]
		if !stays || p.withdraw[q.ID] || reflect.DeepEqual(q.Range, now.Range) {
			continue
		}
		taken := slices.ContainsFunc(p.now.DHCP.Pool, func(o yang.Pool) bool {
			return o.ID != q.ID &&
				slices.ContainsFunc(o.Range, func(r yang.Span) bool { return overlaps(q.Range, r) })
		})
		if !taken {
			continue
		}
		var kept []yang.Span
		for _, was := range q.Range {
			for _, is := range now.Range {
				if part, ok := was.AddressRange().Intersect(is.AddressRange()); ok {
					kept = append(kept, yang.Span{Start: part.From, End: part.To})
				}
			}
		}
		if len(kept) == 0 {
			p.withdraw[q.ID] = true
			continue
		}
		p.narrow[q.ID] = kept
	}
}

func overlaps(spans []yang.Span, r yang.Span) bool {
	return slices.ContainsFunc(spans, func(s yang.Span) bool { return s.AddressRange().Overlaps(r.AddressRange()) })
}

// narrowPools takes from pools what others are about to hand out.
func (p *planner) narrowPools() (steps []Step) {
	for _, q := range p.was.DHCP.Pool {
		kept, ok := p.narrow[q.ID]
		if !ok || slices.Equal(kept, q.Range) {
			continue
		}
		now := p.now.pools[q.ID]
		rest := now
		if rest.Range, rest.Exclusion = q.Range, q.Exclusion; slices.Equal(kept, now.Range) &&
			reflect.DeepEqual(rest, q) {
			p.settled[q.ID] = true // it only shrinks, and is then what it shall be
			steps = append(steps, changed(q, now))
			continue
		}
		q.Range = kept
		q.Exclusion = slices.DeleteFunc(slices.Clone(q.Exclusion),
			func(x yang.Exclusion) bool { return !overlaps(kept, x.Span) })
		steps = append(steps, put("Narrow", fmt.Sprintf("pool %s to %s for now", q.Name, runs(q)),
			"Another pool is about to hand out the rest", yang.PoolPath(q.ID), q))
	}
	return steps
}

// runs is the ranges of a pool in words.
func runs(q yang.Pool) string {
	var out []string
	for _, r := range q.Range {
		out = append(out, "`"+r.AddressRange().Short(q.Subnet)+"`")
	}
	return strings.Join(out, ", ")
}

func (p *planner) dropPools() (steps []Step) {
	for _, q := range p.was.DHCP.Pool {
		if !p.withdraw[q.ID] {
			continue
		}
		why := "Its interface is about to change"
		if _, stays := p.now.pools[q.ID]; !stays {
			why = "It is no longer wanted; clients keep their addresses until their leases end"
		}
		steps = append(steps, drop("Withdraw", "pool "+q.Name+from(q), why, yang.PoolPath(q.ID)))
	}
	return steps
}

func from(q yang.Pool) string {
	if q.Interface == "" {
		return ""
	}
	return " from `" + q.Interface + "`"
}

func (p *planner) servePools() (steps []Step) {
	for _, q := range p.now.DHCP.Pool {
		was, had := p.was.pools[q.ID]
		if p.settled[q.ID] || had && !p.withdraw[q.ID] && reflect.DeepEqual(was, q) {
			continue
		}
		if had && !p.withdraw[q.ID] {
			steps = append(steps, changed(was, q))
		} else {
			steps = append(steps, serve(q))
		}
	}
	return steps
}

// poolChanges says what of a pool changes that stays where it is.
func poolChanges(was, now yang.Pool) []string {
	var out []string
	add := func(so bool, format string, args ...any) {
		if so {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	add(now.Enabled && !was.Enabled, "switched on")
	add(was.Enabled && !now.Enabled, "switched off: no client is answered from it")
	add(was.Name != now.Name, "it was called %s", was.Name)
	add(!slices.Equal(was.Range, now.Range), "it handed out %s", runs(was))
	only := func(of, beside []yang.Exclusion) []string { // those of one list that the other has not
		var names []string
		for _, x := range of {
			if !slices.ContainsFunc(beside, func(o yang.Exclusion) bool { return o.Span == x.Span }) {
				names = append(names, "`"+x.AddressRange().Short(now.Subnet)+"`")
			}
		}
		return names
	}
	more, fewer := only(now.Exclusion, was.Exclusion), only(was.Exclusion, now.Exclusion)
	add(more != nil, "excludes %s", strings.Join(more, ", "))
	add(fewer != nil, "no longer excludes %s", strings.Join(fewer, ", "))
	add(more == nil && fewer == nil && !slices.Equal(was.Exclusion, now.Exclusion), "another reason of an exclusion")
	add(was.ForClass != now.ForClass || !bytes.Equal(was.ForClient, now.ForClient), "it is for other clients")
	out = append(out, optionChanges(was, now)...)
	add(!now.Enabled && !was.Enabled, "it stays switched off")
	return out
}

// changed is the step that gives a pool that stays where it is what it shall have.
func changed(was, now yang.Pool) Step {
	step := serve(now)
	if why := strings.Join(poolChanges(was, now), "; "); why != "" {
		step.Why = strings.ToUpper(why[:1]) + why[1:]
	}
	return step
}

// optionChanges says which options of a pool change.
func optionChanges(was, now yang.Pool) []string {
	var tells, other, ends []string
	name := func(code uint8) string {
		d, known := option.Own(nil).Lookup(code)
		if !known {
			return fmt.Sprintf("option %d", code)
		}
		return d.InSentence()
	}
	before := by(was.Option, func(o yang.Option) uint8 { return o.Code })
	after := by(now.Option, func(o yang.Option) uint8 { return o.Code })
	for _, o := range now.Option {
		switch old, had := before[o.Code]; {
		case !had:
			tells = append(tells, name(o.Code))
		case !reflect.DeepEqual(old, o):
			other = append(other, name(o.Code))
		}
	}
	for _, o := range was.Option {
		if _, stays := after[o.Code]; !stays {
			ends = append(ends, name(o.Code))
		}
	}
	var out []string
	for _, part := range []struct {
		words string
		names []string
	}{{"now tells ", tells}, {"tells another value of ", other}, {"no longer tells ", ends}} {
		if len(part.names) > 0 {
			out = append(out, part.words+strings.Join(part.names, ", "))
		}
	}
	return out
}

func serve(q yang.Pool) Step {
	verb, why := "Serve", "Switched on"
	if !q.Enabled {
		verb, why = "Store", "Switched off: no client is answered from it"
	}
	for _, x := range q.Exclusion {
		why += ", excludes " + x.AddressRange().Short(q.Subnet)
	}
	where := "on `" + q.Interface + "`"
	if q.Interface == "" {
		where = "through a relay"
	}
	return put(verb, fmt.Sprintf("pool %s %s %s", q.Name, runs(q), where), why, yang.PoolPath(q.ID), q)
}
