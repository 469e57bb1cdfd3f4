package view_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/edit/edittest"
	"lithos/core/observed"
	"lithos/core/option"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/view"
)

func pageOf(name string) *view.Page {
	return view.Of(check.Of(scenario.Site(name)), nil, 1, order.Beside{})
}

// everyPart runs f for every part of the made-up sites that can be selected.
func everyPart(t *testing.T, f func(t *testing.T, p *view.Page, ref, owner site.Ref)) {
	t.Helper()
	for _, name := range scenario.Names {
		p := pageOf(name)
		for _, k := range site.Kinds() {
			if k.Name == site.KindOption {
				continue // options are listed with the part they are set on
			}
			k.Each(p.Site, func(owner site.Ref, list site.List, i int) bool {
				ref := site.Ref{Kind: k.Name, ID: list.ID(i)}
				t.Run(name+"/"+ref.String(), func(t *testing.T) { f(t, p, ref, owner) })
				return true
			})
		}
	}
}

func TestCountsAgree(t *testing.T) {
	facts := func(ref string) string {
		return fmt.Sprint(pageOf("kelder-bridge").Part(view.Look{Select: ref}).Facts)
	}
	assert.Contains(t, facts("pool:pool-clinic"), "312 addresses")
	assert.Equal(t, "1 address", site.Counted(1, "address"))
	place := pageOf("kelder-bridge").OptionAt(view.Look{Select: "reservation:res-xray-plate"}, 51)
	require.GreaterOrEqual(t, len(place.Levels), 4)
	assert.Equal(t, "8 hours", place.Value)
	assert.Equal(t, "from the pool Clinic PCs", place.From)
	assert.Equal(t, "this client alone", place.Levels[0].Touches)
	assert.False(t, place.Levels[0].Set)
	assert.True(t, place.Levels[1].Set)
	assert.Contains(t, place.Levels[1].Touches, "312 pool addresses, ")
	assert.Contains(t, place.Levels[3].Touches, " networks", "the site reaches all of them")
}

// Whatever is selected is inspected: it has a title, facts with words in them, and each
// form that is offered opens.
func TestEveryPartIsInspected(t *testing.T) {
	everyPart(t, func(t *testing.T, p *view.Page, ref, _ site.Ref) {
		if ref.ID == "" {
			return // a site that follows no standard
		}
		in := p.Part(view.Look{Select: ref.String()})
		require.Equal(t, ref.String(), in.Ref)
		assert.NotEmpty(t, in.Kind)
		assert.NotEmpty(t, in.Title)
		assert.NotEmpty(t, in.Levels, "options can be set from everywhere")
		for _, fact := range in.Facts {
			assert.NotEmpty(t, fact.Label)
			assert.NotEmpty(t, fact.Value, fact.Label)
		}
		for _, e := range in.Effective {
			assert.NotEmpty(t, e.Name, "option %d", e.Code)
			assert.NotEmpty(t, e.From, "option %d", e.Code)
			assert.NotEmpty(t, in.For)
		}
		for _, a := range in.Actions {
			if a.Form == nil {
				assert.True(t, a.Remove || a.Entry != nil, "%s does nothing", a.Label)
				continue
			}
			form, err := p.Form(*a.Form, site.NetworkOfPart(p.Site, ref))
			require.NoError(t, err, a.Label)
			for name := range a.Form.Values {
				found := slices.ContainsFunc(form.Fields, func(f edit.FormField) bool { return f.Name == name })
				assert.True(t, found, "%s fills in %q, which the form has not", a.Label, name)
			}
		}
	})
}

// The form of a part, sent back untouched, changes nothing.
func TestFormsSentBackUntouched(t *testing.T) {
	everyPart(t, func(t *testing.T, p *view.Page, ref, owner site.Ref) {
		k, _ := site.KindNamed(ref.Kind)
		if len(k.Fields) == 0 {
			t.Skip("nothing of it can be edited")
		}
		opens := view.Opens{Kind: ref.Kind, ID: ref.ID}
		if owner.ID != "" {
			opens.In = owner.String()
		}
		form, err := p.Form(opens, "")
		require.NoError(t, err)
		entry := edit.Entry{Kind: opens.Kind, ID: opens.ID, In: opens.In, Fields: map[string]string{}}
		for _, f := range form.Fields {
			entry.Fields[f.Name] = f.Value
		}
		edits, err := edit.Read(p.Site, entry)
		require.NoError(t, err)
		after, err := edit.Apply(p.Site, edits...)
		require.NoError(t, err)
		was, err := json.Marshal(p.Site)
		require.NoError(t, err)
		is, err := json.Marshal(after)
		require.NoError(t, err)
		assert.JSONEq(t, string(was), string(is))
	})
}

// Every finding leads to the part it is about, and stands in that part's inspector.
func TestFindingsLeadToTheirPart(t *testing.T) {
	seen := 0
	for _, name := range scenario.Names {
		p := pageOf(name)
		for _, f := range p.Judgement.Findings {
			network, part, ok := p.Target(f.ID)
			require.True(t, ok, f.ID)
			in := p.Part(view.Look{Network: network, Select: part})
			assert.Equal(t, part, in.Ref, f.Title)
			listed := slices.ContainsFunc(in.Findings, func(l view.Finding) bool { return l.ID == f.ID })
			assert.True(t, listed || in.More > 0, "%s is not listed at %s", f.Title, part)
			seen++
		}
		_, _, ok := p.Target("gone")
		assert.False(t, ok)
	}
	assert.Positive(t, seen)
}

// A look at something that is not there falls back to the network, and to the site
// where there is no network.
func TestALookAtNothing(t *testing.T) {
	p := pageOf("kelder-bridge")
	for _, look := range []view.Look{{}, {Network: "none"}, {Select: "reservation:none"}, {Select: "nonsense"},
		{Network: "none", Select: "seen:none"}} {
		in := p.Part(look)
		assert.Equal(t, "network:"+p.Networks[0].ID, in.Ref, "%+v", look)
		assert.Equal(t, p.Networks[0].ID, p.Network(look).ID, "%+v", look)
	}
	_, err := p.Form(view.Opens{Kind: "planet"}, "")
	assert.Error(t, err)
	_, err = p.Form(view.Opens{Kind: site.KindPool, ID: "none"}, "")
	assert.Error(t, err)

	bare := *p.Site
	bare.Networks = nil
	empty := view.Of(check.Of(site.Normal(&bare)), nil, 1, order.Beside{})
	assert.Nil(t, empty.Network(view.Look{}))
	assert.Equal(t, "site:"+p.ID, empty.Part(view.Look{}).Ref)
	assert.Empty(t, empty.Topology("").Devices[0].Name == "", "the devices are still drawn")
}

// The room proposed for another network breaks no rule, until there is none left.
func TestRoomForMore(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	for i := 0; ; i++ {
		p := view.Of(check.Of(doc), nil, 1, order.Beside{})
		fields, err := p.Room(24)
		if err != nil {
			assert.ErrorContains(t, err, "No /24 is free")
			assert.Positive(t, i)
			return
		}
		fields["name"] = fmt.Sprintf("Room %d", i)
		edits, err := edit.Read(doc,
			edit.Entry{Kind: site.KindNetwork, ID: fmt.Sprintf("net-room-%d", i), New: true, Fields: fields})
		require.NoError(t, err)
		doc, err = edit.Apply(doc, edits...)
		require.NoError(t, err)
		for _, f := range check.Of(doc).Findings {
			assert.NotContains(t, []string{"networks-overlap", "vlan-id-reused"}, f.Rule, f.Says)
		}
		require.Less(t, i, 64)
	}
}

// A browser that lays the answer to an edit over the frame it has shows what it would
// show after asking for everything again.
func TestTheAnswerToAnEditIsTheWholePage(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		base := check.Of(scenario.Site(rapid.SampledFrom(scenario.Names).Draw(t, "site")))
		d, err := order.New(order.Order{ID: 1}, nil, base)
		require.NoError(t, err)
		look := view.Look{Order: 1}
		page := view.Of(d.Scene, d, 1, order.Beside{})
		look.Network = rapid.SampledFrom(page.Networks).Draw(t, "network").ID
		shown := view.NewShown()
		frame, first := page.Frame(), shown.Answer(page.Network(look), "")
		network := first.Network
		look.Have = first.Stamp
		for i := range rapid.IntRange(1, 6).Draw(t, "edits") {
			edits := edittest.Some(t, d.Scene, i)
			doc, err := edit.Apply(d.Doc(), edits...)
			if err != nil || len(edits) == 0 {
				continue
			}
			before := d
			d = d.With(append(d.Standing(), d.NextStep(actor.Technician{}, doc, edits)), doc, edits)
			p := view.Of(d.Scene, d, 1, order.Beside{})
			changed := p.After(before, look, shown)
			frame = laidOver(frame, changed)
			require.Equal(t, asJSON(t, p.Frame()), asJSON(t, frame))
			network = networkAfter(network, changed.Network)
			require.Equal(t, asJSON(t, p.Network(look)), asJSON(t, network))
			look.Have = changed.Network.Stamp
		}
	})
}

// A pool that reaches into another network's pool is a finding there, and the answer
// says so.
func TestAnEditMarksAnotherNetwork(t *testing.T) {
	d, err := order.New(order.Order{ID: 1}, nil, check.Of(scenario.Site("kelder-bridge")))
	require.NoError(t, err)
	entry := edit.Entry{Kind: site.KindPool, ID: "pool-bench",
		Fields: map[string]string{"ranges": "10.84.16.80 - 10.84.16.94"}}
	edits, err := edit.Read(d.Doc(), entry)
	require.NoError(t, err)
	doc, err := edit.Apply(d.Doc(), edits...)
	require.NoError(t, err)
	after := d.With([]order.Step{d.NextStep(actor.Technician{}, doc, edits)}, doc, edits)
	changed := view.Of(after.Scene, after, 1, order.Beside{}).After(d, view.Look{Order: 1}, view.NewShown())
	require.Nil(t, changed.Frame)
	marks := map[string]check.Severity{}
	for _, l := range changed.Layers {
		marks[l.ID] = l.Severity
	}
	assert.Equal(t, map[string]check.Severity{"net-bench": check.Blocks, "net-cameras": check.Blocks}, marks)
}

// laidOver does what a browser does with the answer.
func laidOver(was *view.Frame, c *view.Changed) *view.Frame {
	if c.Frame != nil {
		return c.Frame
	}
	now := *was
	now.Order, now.Wide, now.Layers = c.Order, c.Wide, slices.Clone(was.Layers)
	for i, l := range now.Layers {
		for _, changed := range c.Layers {
			if l.ID != "" && l.ID == changed.ID {
				changed.Overlaps = l.Overlaps
				now.Layers[i] = changed
			}
		}
	}
	return &now
}

// networkAfter does what a browser does with the answer about a network.
func networkAfter(was *view.NetworkView, a *view.NetworkAnswer) *view.NetworkView {
	c := a.Changed
	if c == nil {
		return a.Network
	}
	now := *was
	if c.Head != nil {
		now.NetworkHead = *c.Head
	}
	if c.Ruler != nil {
		now.Ruler.RulerHead = *c.Ruler
	}
	now.Rows, now.Seen = spliced(was.Rows, c.Rows), spliced(was.Seen, c.Seen)
	now.Ruler.Courses = slices.Clone(was.Ruler.Courses)
	for _, one := range c.Courses {
		course := &now.Ruler.Courses[one.Course]
		course.Spans, course.Conflicts = one.Spans, one.Conflicts
		course.Pins, course.Names, course.Seen = spliced(course.Pins, one.Pins), spliced(course.Names, one.Names),
			spliced(course.Seen, one.Seen)
	}
	return &now
}

func spliced[T any](list []T, splices []view.Splice[T]) []T {
	out := slices.Clone(list)
	for _, s := range splices {
		out = slices.Replace(out, s.At, s.At+s.Remove, s.Put...)
	}
	return out
}

func asJSON(t *rapid.T, v any) string {
	out, err := json.MarshalIndent(v, "", " ")
	require.NoError(t, err)
	return string(out)
}

// An interface on which two cables are recorded says both, in the same order each time.
func TestTwoCablesOnOneInterface(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	entry := edit.Entry{Kind: site.KindInterface, ID: "if-sw-core-5", In: "device:dev-sw-core",
		Fields: map[string]string{"peer": "if-sw-ward-uplink"}}
	edits, err := edit.Read(doc, entry)
	require.NoError(t, err)
	doc, err = edit.Apply(doc, edits...)
	require.NoError(t, err)
	p := view.Of(check.Of(doc), nil, 1, order.Beside{})
	for range 20 {
		for _, d := range p.Frame().Devices {
			i := slices.IndexFunc(d.Interfaces, func(v view.InterfaceView) bool { return v.ID == "if-sw-ward-uplink" })
			if i >= 0 {
				require.Equal(t, "port5 of sw-core and port8 of sw-core", d.Interfaces[i].Leads)
			}
		}
	}
}

// A device that Lithos reads has the ports that it has: none is offered to be added. One that it
// does not read is described by hand, ports and all.
func TestPortsAreTheDevices(t *testing.T) {
	sc := check.Of(scenario.Site("kelder-bridge"))
	kinds := func(b order.Beside) (out []string, chosen string) {
		form, err := view.Of(sc, nil, 1, b).Form(view.Opens{Kind: site.KindInterface, In: "device:dev-gw-1"}, "")
		require.NoError(t, err)
		i := slices.IndexFunc(form.Fields, func(f edit.FormField) bool { return f.Name == "kind" })
		for _, c := range form.Fields[i].Choices {
			out = append(out, c.Value)
		}
		return out, form.Fields[i].Value
	}
	read, chosen := kinds(order.Beside{Access: []order.Access{{DeviceID: "dev-gw-1"}}})
	assert.NotContains(t, read, site.Port)
	assert.NotContains(t, read, site.Uplink)
	assert.Contains(t, read, chosen)
	byHand, _ := kinds(order.Beside{})
	assert.Contains(t, byHand, site.Port)
	assert.Contains(t, byHand, site.Uplink)
}

// Number 18: every place that speaks of a network gives one answer of what its clients are told, and says for whom
// another holds.
func Test18OneAnswerOfWhatClientsAreTold(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	pool, _ := doc.Pool("pool-imaging")
	pool.Options = append(pool.Options, site.Option{Code: option.LeaseTime, Value: "2 hours"})
	other := *pool
	other.ID, other.Name, other.Options = "pool-second", "Carts", []site.Option{{Code: option.LeaseTime,
		Value: "5 minutes"}}
	doc.Pools = append(doc.Pools, other)
	p := view.Of(check.Of(site.Normal(doc)), nil, 1, order.Beside{})
	look := view.Look{Network: "net-imaging", Select: "network:net-imaging"}
	lease := func(list []view.Effective) view.Effective {
		i := slices.IndexFunc(list, func(e view.Effective) bool { return e.Code == option.LeaseTime })
		require.GreaterOrEqual(t, i, 0)
		return list[i]
	}
	listed, inspected := lease(p.Network(look).Effective), lease(p.Part(look).Effective)
	assert.Equal(t, listed, inspected)
	both := listed.Value + " " + listed.Otherwise
	assert.Contains(t, both, "2 hours")
	assert.Contains(t, both, "5 minutes")
	assert.Contains(t, listed.Otherwise, "for clients of ")
}

// A new interface is proposed with the name, the parent, the VLAN and the address that the network lacks, and a new
// pool with the server that its neighbours have.
func Test44WhatIsNewIsProposed(t *testing.T) {
	doc := scenario.Site("moss-end")
	doc.Networks = append(doc.Networks, site.Network{ID: "net-new", Name: "Recovery", VLAN: 77,
		Prefix: netip.MustParsePrefix("10.84.60.0/24"), Gateway: netip.MustParseAddr("10.84.60.1")})
	p := view.Of(check.Of(site.Normal(doc)), nil, 1, order.Beside{})
	values := func(kind, in, network string) map[string]string {
		form, err := p.Form(view.Opens{Kind: kind, In: in}, network)
		require.NoError(t, err)
		out := map[string]string{}
		for _, f := range form.Fields {
			out[f.Name] = f.Value
		}
		return out
	}
	v := values(site.KindInterface, "device:dev-moss-sw", "net-new")
	assert.Equal(t, []string{"vlan77", site.VLAN, "77", "10.84.60.1/24"},
		[]string{v["name"], v["kind"], v["vlan"], v["addresses"]})
	v = values(site.KindInterface, "device:dev-moss-sw", "net-moss-ward")
	assert.Equal(t, "vlan77", v["name"], "the network that lacks one, where the one that is looked at does not")
	ward, _ := doc.Pool("pool-moss-ward")
	assert.Equal(t, ward.Server, values(site.KindPool, "", "net-moss-kennels")["server"],
		"behind the relay as the others are")
}

// A forecast gives no verdict on fewer than two days of readings, and is not below what is leased now.
func Test46AForecastIsNotAboveItsReadings(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	pool, _ := doc.Pool("pool-imaging")
	forecast := func(clients int, ago time.Duration) *view.ForecastView {
		var heard []observed.Heard
		for i := range clients {
			heard = append(heard, observed.Heard{Source: observed.Lease, Address: address.FromUint(address.Uint(
				pool.Ranges[0].From) + uint32(i)), MAC: address.MAC{0, 0, 94, 9, 9, byte(i)}, Device: "dev-gw-1",
				Pool: pool.ID, First: time.Now().Add(-ago), Last: time.Now(), Bound: true,
				Expires: time.Now().Add(time.Hour)})
		}
		v, err := view.Of(check.Of(doc), nil, 1,
			order.Beside{Seen: heard}).Forecast(view.ForecastRequest{Pool: pool.ID})
		require.NoError(t, err)
		return v
	}
	v := forecast(20, 3*time.Hour)
	assert.True(t, v.TooFew)
	assert.Equal(t, []int{20, 20, 3}, []int{v.Seen, v.Leased, v.Hours})
	v = forecast(20, 50*time.Hour)
	assert.False(t, v.TooFew)
	assert.Equal(t, 100, v.Returning, "they are there day after day")
	assert.GreaterOrEqual(t, v.SizeDoes, 20)
	assert.False(t, v.Low)
	none := forecast(0, 0)
	assert.True(t, none.TooFew)
	assert.Zero(t, none.Seen)
}
