package work_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/poll"
	"lithos/internal/push"
	"lithos/internal/view"
	"lithos/internal/work"
)

func TestTwoTechniciansNeverLoseAnEditSilently(t *testing.T) {
	o := open(t)
	other, _ := o.another()
	id := o.order()
	change := func(name string) draft.Change { return entry("network", "net-imaging", "name", name) }

	// Both saw version 0; each works in a process of their own.
	_, err := o.Drafts.Edit(t.Context(), o.mk, id, change("Scans"), nil)
	require.NoError(t, err)
	_, err = other.Drafts.Edit(t.Context(), o.jo, id, change("Pictures"), nil)
	refusal(t, err, actor.Conflict,
		"Maren Kolb made another edit (Change network Imaging: name Scans, was Imaging) meanwhile")

	// At once, many times: every edit that was accepted is there.
	var wg sync.WaitGroup
	var accepted sync.Map
	for i := range 8 {
		for n, s := range []*work.Service{o.Service, other} {
			wg.Go(func() {
				c := entry("fixed", "", "network", "net-bench", "address", fmt.Sprintf("10.84.16.%d", 21+i*2+n), "name",
					fmt.Sprintf("dev-%d-%d", i, n))
				for {
					d, err := s.Drafts.Draft(t.Context(), id)
					if !assert.NoError(t, err) {
						return
					}
					c.Version = d.Order.Version
					if _, err = s.Drafts.Edit(t.Context(), o.jo, id, c, nil); err == nil {
						accepted.Store(c.Entries[0].Fields["name"], true)
						return
					}
					if !assert.ErrorContains(t, err, "meanwhile") {
						return
					}
				}
			})
		}
	}
	wg.Wait()
	fresh, _ := o.another()
	d, err := fresh.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, d.Steps, 17)
	accepted.Range(func(name, _ any) bool {
		assert.True(t, containsDevice(d.Doc(), name.(string)), "%s", name)
		return true
	})
	assert.Equal(t, "Jo Arden", d.Steps[16].By)
}

func containsDevice(s *site.Site, name string) bool {
	for _, f := range s.FixedDevices {
		if f.Name == name {
			return true
		}
	}
	return false
}

func TestBadInputChangesNothing(t *testing.T) {
	o := open(t)
	id := o.order()
	var r *actor.Refusal
	_, err := o.Drafts.Edit(t.Context(), o.mk, id,
		entry("reservation", "", "network", "net-clinic", "address", "300", "mac", "zz"), nil)
	require.ErrorAs(t, err, &r)
	assert.Equal(t, "entries[0].fields.address", r.Fields[0].Field)
	assert.Len(t, r.Fields, 2)
	_, err = o.Drafts.Edit(t.Context(), o.mk, id, draft.Change{Fix: "pool-off.gone"}, nil)
	refusal(t, err, actor.Conflict, "gone already")
	_, err = o.Drafts.Edit(t.Context(), o.mk, id, draft.Change{Remove: "pool:gone"}, nil)
	refusal(t, err, actor.Conflict, "cannot be removed")
	assert.Zero(t, o.version(id))
	_, err = o.Drafts.OpenOrder(t.Context(), o.mk, "kelder-bridge", "", strings.Repeat("9", 200))
	require.ErrorAs(t, err, &r)
	assert.Len(t, r.Fields, 2)
	_, err = o.Drafts.OpenOrder(t.Context(), o.mk, "nowhere", "T", "")
	refusal(t, err, actor.Missing, "no site")
	_, err = o.Drafts.Draft(t.Context(), 99)
	refusal(t, err, actor.Missing, "no work order WO-0099")
}

// The last rung is climbed where somebody said what to reach, and nowhere else.
func TestInternetRungNeedsAnAddress(t *testing.T) {
	for _, outside := range []netip.Addr{scenario.Outside, {}} {
		o := open(t)
		o.Pushes.Outside = outside
		run(t, o.Service)
		id := o.order()
		o.bigger(id)
		require.NoError(t, o.pushAll(o.Service, id))
		v := o.waitPush(o.Service, id)
		require.Equal(t, "landed", v.Push.State, v.Push.Problem)
		tried := slices.ContainsFunc(v.Push.Journal,
			func(l push.JournalEntry) bool { return strings.HasPrefix(l.Says, "Internet from ") })
		assert.Equal(t, outside.IsValid(), tried)
	}
}

func TestDraftFollowsANewerRevision(t *testing.T) {
	o := openAll(t)
	run(t, o.Service)
	id := o.order()
	o.edit(id, entry("network", "net-imaging", "name", "Scans"))
	o.edit(id, entry("network", "net-imaging", "vlan", "49"))

	newer := scenario.Site("kelder-bridge")
	n, _ := newer.Network("net-imaging")
	n.VLAN = 50
	revision, err := o.Sites.Import(t.Context(), newer, o.jo.ID, "from a file")
	require.NoError(t, err)
	assert.Equal(t, int32(2), revision)
	revision, err = o.Sites.Import(t.Context(), newer, o.jo.ID, "again")
	require.NoError(t, err)
	assert.Equal(t, int32(2), revision, "an equal file makes no revision")

	_, err = o.Pushes.Rehearse(t.Context(), o.mk, id, o.version(id))
	require.NoError(t, err)
	_, err = o.Pushes.Push(t.Context(), o.mk, id, o.version(id))
	refusal(t, err, actor.Conflict, "newer revision")
	d, err := o.Drafts.Rebase(t.Context(), id, o.version(id))
	require.NoError(t, err)
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, v.Lost, 1)
	assert.Equal(t, "Network Scans: VLAN is now 50, and was 48 when it was changed here", v.Lost[0].Why)
	three := v.Lost[0].Threes[0]
	assert.Equal(t, "VLAN: 48, 50, 49", three.Field+": "+three.Base+", "+three.Theirs+", "+three.Mine)
	assert.Equal(t, "vlan 49", three.Another.Name+" "+three.Another.Value)
	n, _ = d.Doc().Network("net-imaging")
	assert.Equal(t, "Scans 50", fmt.Sprint(n.Name, " ", n.VLAN))
	assert.Equal(t, "Maren Kolb", d.Steps[0].By)

	other := scenario.Site("quill-street")
	other.ID, other.Code = "site-other", "kelder-bridge"
	_, err = o.Sites.Import(t.Context(), other, 0, "")
	refusal(t, err, actor.Conflict, "belongs to another site")
}

func TestSeenTryAndFind(t *testing.T) {
	o := open(t)
	ctx := t.Context()
	r, err := o.Poll.Try(ctx, "kelder-bridge",
		poll.TryRequest{Network: "net-imaging", MAC: "00-00-5E-00-53-FE", HostName: "visitor", Against: "device"})
	require.NoError(t, err)
	assert.Equal(t, "10.84.20.24", r.Address)
	require.Len(t, r.Scenes[0].Messages, 4)
	v := o.page("kelder-bridge", 0).Network(view.Look{Network: "net-imaging"})
	require.Len(t, v.Seen, 1)
	assert.Equal(t, "visitor", v.Seen[0].Name)
	assert.Equal(t, 1, v.Ruler.Used)

	again, err := o.Poll.Try(ctx, "kelder-bridge", poll.TryRequest{Network: "net-imaging", Against: "draft"})
	require.NoError(t, err)
	assert.Equal(t, "10.84.20.25", again.Address, "computed with the lease that stands")
	_, err = o.Poll.Try(ctx, "kelder-bridge",
		poll.TryRequest{Network: "net-imaging", Against: "draft", MAC: "01:00:5e:00:00:01"})
	refusal(t, err, actor.Invalid, "not a group address")
	_, err = o.Poll.Try(ctx, "kelder-bridge", poll.TryRequest{Network: "net-nowhere", Against: "device"})
	refusal(t, err, actor.Conflict, "does not have this network yet")

	_, err = o.Drafts.OpenOrder(ctx, o.mk, "kelder-bridge", "Find me", "LR-77")
	require.NoError(t, err)
	_, err = o.Sites.Sites(ctx, false) // makes the summaries that findings are looked for in
	require.NoError(t, err)
	for query, want := range map[string]string{
		"10.84.18.57": "label-prn", "0000.5e00.531c": "xray-plate", "vlan 48": "Imaging", "90": "Waiting room",
		"vaccine": "vaccine-fridge", "kelder": "Kelder Bridge surgery", "hand": "Handsets", "10.84.20.33": "Imaging",
		"10.84.18.5": "label-prn", ".18.57": "label-prn", "5e00.531c": "xray-plate", "5E-00-53-1C": "xray-plate",
		"00005e00531c": "xray-plate", "5e:00:53:fe": "visitor", "visi": "visitor",
		"two owners": "Two owners of 10.84.18.57",
		"WO-1":       "Find me", "wo-0001": "Find me", "LR-77": "Find me", "maren": "Find me",
	} {
		hits, err := o.Sites.Find(ctx, query)
		require.NoError(t, err)
		titles := []string{}
		for _, h := range hits {
			titles = append(titles, h.Title)
		}
		assert.Contains(t, titles, want, query)
	}
	for _, nothing := range []string{"%", `\_`, "10.84.18.5700", "5e:00:53:1d:9", "wo-999999999999999999999", "9999"} {
		hits, err := o.Sites.Find(ctx, nothing)
		require.NoError(t, err)
		assert.Empty(t, hits, nothing)
	}
	hits, err := o.Sites.Find(ctx, "visitor")
	require.NoError(t, err)
	require.Len(t, hits, 1)
	assert.Equal(t, "lease until", hits[0].WhenSays)
	assert.Equal(t, "net-imaging", hits[0].Network)
	assert.Equal(t, "seen:10.84.20.24", hits[0].Ref)
}

// A program that holds port 53 of a server is found when the device is read, keeps a push out, and is
// stopped first where the fix says so.
func TestTakenPortIsFoundAndFreed(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	server := o.devices.ByID["dev-moss-srv"]
	held := server.Running()
	held.Resolver = yang.Resolver{Program: []yang.Program{{Name: "hostname-cache", Port: 53, Runs: true}}}
	require.NoError(t, server.Set(held))
	o.Poll.Observe(t.Context(), "site-moss-end")

	id, err := o.Drafts.OpenOrder(t.Context(), o.mk, "moss-end", "Names", "")
	require.NoError(t, err)
	found := o.page("moss-end", id).Judgement.Findings
	at := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == "port-taken" })
	require.GreaterOrEqual(t, at, 0)
	assert.Equal(t, "Port 53 of srv-moss is taken", found[at].Title)
	o.edit(id, draft.Change{Fix: found[at].ID})
	require.False(t, slices.ContainsFunc(o.page("moss-end", id).Judgement.Findings,
		func(f check.Finding) bool { return f.Rule == "port-taken" }))

	// The resolver is not there, which nobody has decided about yet.
	require.ErrorContains(t, o.pushAll(o.Service, id), "srv-moss was changed, and not by Lithos")
	missing, err := o.Drift(t.Context(), "moss-end", "dev-moss-srv", id, 0)
	require.NoError(t, err)
	decision := work.Decision{Order: id, Version: o.version(id)}
	for _, d := range missing.Differences {
		decision.PutBack = append(decision.PutBack, d.ID)
	}
	_, err = o.DecideDrift(t.Context(), o.mk, "moss-end", "dev-moss-srv", decision)
	require.NoError(t, err)
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.False(t, server.Running().Resolver.Program[0].Runs)
	assert.True(t, server.Running().Resolver.Settings.Enabled)
	var steps []string
	for _, l := range v.Push.Journal {
		steps = append(steps, l.Says)
	}
	stop, answer := slices.Index(steps, "Stop `hostname-cache`"), slices.IndexFunc(steps, func(says string) bool {
		return strings.HasPrefix(says, "Answer names on")
	})
	assert.GreaterOrEqual(t, stop, 0)
	assert.Less(t, stop, answer)
}

// A finding that was there before is in force again for a draft that does what it speaks of: putting back the resolver
// of a device whose port is taken. It is rehearsed as it would come out, and after a push that failed for it the
// order's page offers the fix.
func Test39AStandingFindingStopsWhatItSpeaksOf(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	server := o.devices.ByID["dev-moss-srv"]
	held := server.Running()
	whole := held
	held.Resolver = yang.Resolver{Program: []yang.Program{{Name: "hostname-cache", Port: 53, Runs: true}}}
	set := func(c yang.Config) {
		require.NoError(t, server.Set(c))
		o.Poll.Observe(t.Context(), "site-moss-end")
	}
	set(held)
	missing, err := o.Drift(t.Context(), "moss-end", "dev-moss-srv", 0, 0)
	require.NoError(t, err)
	decision := work.Decision{}
	for _, d := range missing.Differences {
		decision.PutBack = append(decision.PutBack, d.ID)
	}
	decided, err := o.DecideDrift(t.Context(), o.mk, "moss-end", "dev-moss-srv", decision)
	require.NoError(t, err)
	require.ErrorContains(t, o.pushAll(o.Service, decided.Order), "1 finding of this draft blocks the push")
	v, err := o.Order(t.Context(), decided.Order)
	require.NoError(t, err)
	require.Len(t, v.Findings, 1)
	assert.Equal(t, "Stop it before the resolver listens", v.Findings[0].Fix)
	var local []string
	for _, n := range v.Rehearsal.Report.Networks {
		for _, r := range n.Rungs {
			if r.Name == "local name" && r.Rule == "port-taken" {
				local = append(local, n.Name)
			}
		}
	}
	assert.NotEmpty(t, local, "no local name is found where nobody can answer")

	// Another draft of the site is not kept from its push, and is when the port is taken while it is under way.
	other, err := o.Drafts.OpenOrder(t.Context(), o.mk, "moss-end", "Another cache", "")
	require.NoError(t, err)
	free := whole
	free.Resolver.Program = nil
	set(free)
	doc := o.page("moss-end", other).Site
	o.edit(other, draft.Change{Entries: []edit.Entry{{Kind: site.KindResolver, ID: doc.Resolvers[0].ID,
		Fields: map[string]string{"cacheEntries": "700"}}}})
	rehearsed, err := o.Pushes.Rehearse(t.Context(), o.mk, other, o.version(other))
	require.NoError(t, err)
	require.NotNil(t, rehearsed)
	require.NoError(t, server.Set(held))
	_, err = o.Pushes.Push(t.Context(), o.mk, other, o.version(other))
	require.NoError(t, err)
	pushed := o.waitPush(o.Service, other)
	require.Equal(t, "failed", pushed.Push.State)
	o.Poll.Observe(t.Context(), "site-moss-end")
	pushed, err = o.Order(t.Context(), other)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(pushed.Causes, func(f view.Finding) bool { return f.Rule == "port-taken" }),
		"%s; %v", pushed.Push.Problem, pushed.Causes)
}
