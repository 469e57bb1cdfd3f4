package browser

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/standin"
	"lithos/web"
)

// colleague is another technician of the same office.
func (a *app) colleague(t *testing.T) actor.Technician {
	t.Helper()
	_, err := a.Work.Accounts.PutTechnician(t.Context(), "a test", "jo", "Jo Arden", "thistle-canal-lantern")
	require.NoError(t, err)
	who, _, err := a.Work.Accounts.SignIn(t.Context(),
		accounts.Attempt{Name: "jo", Password: "thistle-canal-lantern", Source: "test"})
	require.NoError(t, err)
	return who
}

// rename is an edit of a network's name by somebody else.
func (a *app) rename(t *testing.T, who actor.Technician, order int64, network, name string) {
	t.Helper()
	d, err := a.Work.Drafts.Draft(t.Context(), order)
	require.NoError(t, err)
	_, err = a.Work.Drafts.Edit(t.Context(), who, order, draft.Change{Version: d.Order.Version, Entries: []edit.Entry{
		{Kind: "network", ID: network, Fields: map[string]string{"name": name}},
	}}, nil)
	require.NoError(t, err)
}

// What a page does not say, or says and does not do: one Lithos, a browser each.
//
//revive:disable-next-line:function-length one Lithos serves all of its parts
func TestAttackPages(t *testing.T) {
	a := startApp(t)
	jo := a.colleague(t)

	// A fix clicked without a work order is done in the one that is opened for it.
	t.Run("a fix without a work order", func(t *testing.T) {
		b := a.at(t, 1280, 800, "/sites/hallin-road?network=net-hallin-waiting")
		b.see("Pool Waiting room is switched off")
		b.click("aside button", "^Switch it on$")
		b.see("Open a work order")
		b.fill("Title", "Switch it on")
		b.click("button", "^Open$")
		b.see("1 edit")
		b.gone("Pool Waiting room is switched off")
	})

	// A newer revision, somebody else's step and somebody else's drop are told.
	t.Run("what somebody else does", func(t *testing.T) {
		b := a.in(t, "quill-street", "network=net-quill-lab")
		order := b.order()
		a.rename(t, jo, order, "net-quill-lab", "Bench lab")
		b.see("1 edit")
		b.press(input.ControlLeft, input.KeyZ)
		b.see("The last step is Jo Arden's (Change network Lab: name Bench lab, was Lab). Undo it all the same?")
		b.axe("undoing another's step")
		b.click("[role=dialog] button", "^Undo it$")
		b.see("0 edits")
		b.click("button", "^Redo$")
		b.see("1 edit")

		newer := scenario.Site("quill-street")
		n, ok := newer.Network("net-quill-lab")
		require.True(t, ok)
		n.Name = "Workshop"
		_, err := a.Work.Sites.Import(t.Context(), newer, 0, "from a file")
		require.NoError(t, err)
		b.click("footer button", "^Move to the newest revision$")
		b.see("1 edit no longer applies: decide")
		b.visit(a.URL + fmt.Sprintf("/sites/quill-street?order=%d", order))
		b.see("1 edit no longer applies: decide")
		b.click("footer a", "decide$")
		b.see("This edit does not apply here")
		b.see(`Network Bench lab: name is now "Workshop", and was "Lab" when it was changed here.`)
		b.see("by Jo Arden")
		b.axe("an edit that no longer applies")
		b.click("button", "^Type another value$")
		b.axe("another value")
		b.fill("Name", "")
		b.click("button", "^Take this value$")
		b.see("a network needs a name")
		b.fill("Name", "Bench workshop")
		b.click("button", "^Take this value$")
		b.gone("This edit does not apply here")
		b.see("Bench workshop")

		d, err := a.Work.Drafts.Draft(t.Context(), order)
		require.NoError(t, err)
		b.click("section[aria-label=Steps] p a", "Quill Street")
		b.see("Bench workshop")
		require.NoError(t, a.Work.Drafts.Drop(t.Context(), jo, order, d.Order.Version))
		b.see("Work was dropped by Jo Arden: sites are shown as they stand.")
		b.axe("a dropped order")
		b.click("footer button", "^Take it up again$")
		b.see("1 edit")
		b.see("Bench workshop")
	})

	// A device that Lithos does not reach: what was not verified is asked for.
	t.Run("not verified", func(t *testing.T) {
		_, err := a.Store.Pool.Exec(t.Context(), "DELETE FROM device_access WHERE site_id = 'site-the-yard'")
		require.NoError(t, err)
		order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "the-yard", "Slip", "")
		require.NoError(t, err)
		doc := scenario.Site("the-yard")
		d, err := a.Work.Drafts.Edit(t.Context(), a.technician(t), order, draft.Change{Entries: []edit.Entry{
			{Kind: "pool", ID: doc.Pools[0].ID, Fields: map[string]string{"note": "seen to"}},
			{Kind: "option", ID: "51", In: "pool:" + doc.Pools[0].ID, Fields: map[string]string{"value": "3 hours"}},
		}}, nil)
		require.NoError(t, err)
		_, err = a.Work.Pushes.Rehearse(t.Context(), a.technician(t), order, d.After.Order.Version)
		require.NoError(t, err)
		b := a.at(t, 1280, 800, fmt.Sprintf("/orders/%d", order))
		b.click("footer button", "^Push")
		b.see("Waiting for the steps that are done by hand")
		for {
			lines, err := a.Work.Order(t.Context(), order)
			require.NoError(t, err)
			if lines.Push == nil || lines.Push.State != "byhand" {
				break
			}
			for _, l := range lines.Push.Hand {
				if l.At == nil {
					require.NoError(t, a.Work.Pushes.Tick(t.Context(), a.technician(t), order, l.Seq, l.Expect))
				}
			}
		}
		b.see("Done by hand and landed, not all of it verified")
		b.see("Not verified by Lithos")
		b.axe("not verified")
		b.visit(a.URL + "/sites/the-yard?select=site:site-the-yard")
		b.see("not verified")
		b.visit(a.URL + fmt.Sprintf("/orders/%d", order))
		b.see("Not verified by Lithos")
		b.click("section[aria-label='Not verified'] button", "^Verified by hand$")
		b.see("Done and verified by hand, and landed")
		b.see("by hand, Maren Kolb")
	})

	// A device that goes silent at its confirm holds the site, and a person ends that.
	t.Run("a silent device", func(t *testing.T) {
		order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "the-garret", "Silence", "")
		require.NoError(t, err)
		d, err := a.Work.Drafts.Edit(t.Context(), a.technician(t), order, draft.Change{Entries: []edit.Entry{
			{Kind: "pool", ID: "pool-garret", Fields: map[string]string{"ranges": "192.168.211.100 - 192.168.211.170"}},
		}}, nil)
		require.NoError(t, err)
		_, err = a.Work.Pushes.Rehearse(t.Context(), a.technician(t), order, d.After.Order.Version)
		require.NoError(t, err)
		rt := a.Devices.ByID["dev-garret-rt"]
		rt.Inject(standin.Faults{SilentAt: "confirm"})
		b := a.at(t, 1280, 800, fmt.Sprintf("/orders/%d", order))
		b.click("footer button", "^Push to rt-garret")
		b.see("rt-garret does not answer")
		b.axe("a silent device")
		b.click("button", "^Stop waiting$")
		b.see("The push ends as failed.")
		b.click("[role=dialog] button", "^Stop waiting$")
		b.see("The push failed")
		b.see("Ended by Maren Kolb while it waited for rt-garret")
		rt.Inject(standin.Faults{})
	})

	// Work that is held says so on every page.
	t.Run("held", func(t *testing.T) {
		b := a.at(t, 1280, 800, "/rounds")
		b.see("Kelder Bridge surgery")
		require.NoError(t, a.Work.Accounts.HoldWork(t.Context(), "a test", "This database was restored"))
		b.see("Pushes and readings of devices are held")
		b.axe("held")
		_, err := a.Work.Accounts.ReleaseWork(t.Context(), "a test")
		require.NoError(t, err)
		b.gone("Pushes and readings of devices are held")
	})
}

// The README's own tour, then everything stopped and started again, as after Ctrl-C:
// the devices start with what they kept, and the work goes on.
//
//revive:disable-next-line:function-length it is one tour, step by step
func TestAttackTourAndRestart(t *testing.T) {
	o := demotest.Options{
		Files: web.Files(), Pace: 10 * time.Millisecond, Poll: time.Second, State: t.TempDir(),
		Database: pgtest.Database(t), Vault: demotest.Vault(t),
	}
	a := serve(t, o)
	b := a.at(t, 1280, 800, "/sites/kelder-bridge?network=net-clinic")
	b.see("Two owners of 10.84.18.57")
	b.click("button", "^Open a work order$")
	b.fill("Title", "Recovery ward")
	b.click("button", "^Open$")
	b.see("WO-0001")
	b.click("tr button", `\.18\.57`)
	b.click("aside[aria-label=Inspector] button", "^Move the reservation to ")
	b.gone("Two owners of 10.84.18.57")
	b.click("aside button", "^Add a network$")
	b.fill("Name", "Recovery")
	b.choose("Size", "^/26")
	b.until("the proposal", `() => document.querySelector('input[name=vlan]')?.value === '91'`)
	b.click("button", "^Add$")
	b.click("button", "Give gw-1 an interface")
	b.click("button", "^Add$")
	b.see("lan.91 on gw-1")
	b.see("1 finding blocks the push")
	b.click("aside[aria-label=Section] button", "Recovery")
	b.click("aside[aria-label=Inspector] button", "^Carry VLAN 91 on uplink1 of sw-core too$")
	b.gone("finding blocks the push")
	b.click("aside[aria-label=Inspector] button", "^Translate it on wan of gw-1$")
	b.gone("is translated by no uplink")
	b.dragRuler(0, 64, 16, 55)
	b.click("button", "^Pool")
	b.fill("Name", "Ward")
	b.click("button", "^Add$")
	b.see("0 of 40 pool addresses in use")
	b.dragRuler(0, 64, 36, 39)
	b.click("button", "^Exclude")
	b.fill("Reason", "Monitors, set by their maker")
	b.click("button", "^Add$")
	b.see("0 of 36 pool addresses in use")
	b.press(input.KeyF)
	b.see("Record a fixed device")
	b.fill("Address", ".90")
	b.fill("Host name", "infusion-1")
	b.click("button", "^Add$")
	b.see("1 finding blocks the push")
	b.press(input.ControlLeft, input.KeyZ)
	b.gone("finding blocks the push")
	b.press(input.ControlLeft, input.Enter)
	b.see("known clients")
	b.click("footer button", "^Push to sw-core and gw-1")
	b.see("Pushed, verified and landed")
	b.click("section[aria-label=Steps] p a", "Kelder Bridge surgery")
	b.click("aside[aria-label=Section] button", "Recovery")
	b.click("[role=tab]", "^Try a client$")
	b.fill("MAC", "00:00:5e:00:53:fe")
	b.choose("Against", "the real device")
	b.click("form button", "Try a client")
	b.see("00:00:5e:00:53:fe was given 10.84.20.")
	b.click("[role=tab]", "^Observed$")
	b.until("the lease under Seen",
		`() => [...document.querySelectorAll('tbody tr')].some(r => r.innerText.includes('00:00:5e:00:53:fe'))`)
	b.visit(a.URL + "/sites/moss-end?network=net-moss-kennels&tab=devices")
	b.see("Nothing relays Kennels")
	b.click("[role=tab]", "^Options$")
	b.see("The reply as a client sees it")
	b.click("[role=tab]", "^Forecast$")
	b.see("A day of the pool")
	held := a.Devices.ByID["dev-gw-1"].Running()
	a.Stop()

	a = serve(t, o)
	assert.True(t, a.Devices.ByID["dev-gw-1"].Running().Equal(held), "it starts with what it kept")
	b = a.at(t, 1280, 800, "/sites/kelder-bridge?network=net-clinic")
	b.see("Recovery")
	b.click("button", "^Open a work order$")
	b.fill("Title", "And on")
	b.click("button", "^Open$")
	b.see("WO-0002")
	b.click("aside button", "Recovery")
	b.click("tr button", `\.80`)
	b.click("aside button", "^Switch off$")
	b.see("1 edit")
	b.press(input.ControlLeft, input.Enter)
	b.see("known clients")
	b.click("footer button", "^Push to gw-1")
	b.see("Pushed, verified and landed")
	doc, err := a.Work.Sites.Export(t.Context(), "kelder-bridge")
	require.NoError(t, err)
	n, ok := doc.NetworkOf(netip.MustParseAddr("10.84.20.80"))
	require.True(t, ok)
	assert.Equal(t, "Recovery", n.Name)
	assert.Contains(t, poolNames(doc), "Ward")
}

func poolNames(doc *site.Site) []string {
	var out []string
	for _, p := range doc.Pools {
		out = append(out, p.Name)
	}
	return out
}
