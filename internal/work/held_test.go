package work_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/option"
	"lithos/core/yang"
	"lithos/internal/push"
	"lithos/internal/work"
)

// tellsOthers has somebody write another name server for the clinic on gw-1.
func tellsOthers(c *yang.Config) {
	for i := range c.DHCP.Pool {
		p := &c.DHCP.Pool[i]
		if p.Name != "Clinic PCs" {
			continue
		}
		for k := range p.Option {
			if p.Option[k].Code == option.NameServers {
				p.Option[k].Value = []byte{192, 0, 2, 53}
			}
		}
	}
}

// What is put back is rehearsed against what the device tells now, and proved on its network like an edit. The order's
// page shows for ever what was carried out.
func Test11And12WhatIsPutBackIsRehearsedProvedAndKept(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	o.byHand("dev-gw-1", tellsOthers)
	d := o.drift(0)
	require.Len(t, d.Differences, 1)
	id := o.at("kelder-bridge")
	_, err := o.DecideDrift(t.Context(), o.mk, "kelder-bridge", "dev-gw-1",
		work.Decision{Order: id, Version: o.version(id), PutBack: []string{d.Differences[0].ID}})
	require.NoError(t, err)
	r, err := o.Pushes.Rehearse(t.Context(), o.mk, id, o.version(id))
	require.NoError(t, err)
	require.Positive(t, r.Report.Moving, "it is compared with what the device tells now")
	require.Len(t, r.Report.Known, 1)
	assert.Equal(t, "name servers", r.Report.Known[0].What)
	before, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, []string{"net-clinic"}, before.Networks)
	steps := func(plans []push.DevicePlan) (out []string) {
		for _, p := range plans {
			for _, s := range p.Steps {
				out = append(out, p.Device+" "+s.Verb+" "+s.Text)
			}
		}
		return out
	}
	require.NotEmpty(t, steps(before.Plans))
	_, err = o.Pushes.Push(t.Context(), o.mk, id, o.version(id))
	require.NoError(t, err)
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	climbed := ""
	for _, line := range v.Push.Journal {
		climbed += line.Stage + " " + line.Says + "\n"
	}
	assert.Contains(t, climbed, "Clinic floor", "its ladder is climbed")
	assert.Equal(t, steps(before.Plans), steps(v.Plans))
	o.byHand("dev-gw-1", widen)
	later, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, steps(before.Plans), steps(later.Plans), "whatever devices hold by then")
	assert.Equal(t, []string{"net-clinic"}, later.Networks)
}

// Who had an address is answered from leases and neighbours too, with from when to when, and kept when the sightings
// themselves are forgotten.
func Test19WhoHadAnAddressIsKnownFromWhatWasSeen(t *testing.T) {
	o := open(t)
	ctx := t.Context()
	put := func(mac, state, from, until string) {
		o.exec(`INSERT INTO sighting (site_id, device_id, source, address, mac, client_id, name, vendor_class, pool,
				state, port, first, last, expires)
			VALUES ('site-kelder-bridge', 'dev-gw-1', 'lease', '10.84.18.150', $1::macaddr, '', 'tablet', '', 'p',
				$2, '', now() + $3::interval, now() + $3::interval, now() + $4::interval)
			ON CONFLICT (site_id, device_id, source, address, mac) DO UPDATE SET state = excluded.state,
				last = excluded.last, expires = excluded.expires`, mac, state, from, until)
	}
	const first, second = "02:00:5e:00:00:01", "02:00:5e:00:00:02"
	put(first, "bound", "-10 days", "-9 days")
	put(first, "bound", "-9 days -12 hours", "-8 days -12 hours") // renewed
	put(first, "released", "-8 days -20 hours", "-8 days -20 hours")
	put(second, "offered", "-2 hours", "-1 hour")
	put(second, "bound", "-2 hours", "2 hours")
	o.exec("DELETE FROM sighting")
	h, err := o.Sites.Ownership(ctx, "kelder-bridge", "10.84.18.150")
	require.NoError(t, err)
	require.Len(t, h.Seen, 2)
	assert.Equal(t, second, h.Seen[0].MAC)
	assert.Nil(t, h.Seen[0].Until, "it has it")
	assert.Equal(t, "leased by gw-1", h.Seen[0].Sure)
	gone := h.Seen[1]
	assert.Equal(t, first, gone.MAC)
	require.NotNil(t, gone.Until)
	assert.InDelta(t, 28, gone.Until.Sub(gone.From).Hours(), 0.1, "from the first lease until it was given back")
	named, err := o.Sites.Ownership(ctx, "kelder-bridge", "tablet")
	require.NoError(t, err)
	assert.Len(t, named.Seen, 2)
	require.NoError(t, o.Store.ForgetPastSightings(ctx, (24*time.Hour).Seconds()))
	h, err = o.Sites.Ownership(ctx, "kelder-bridge", "10.84.18.150")
	require.NoError(t, err)
	assert.Len(t, h.Seen, 1, "what is older is forgotten")
}

// Find for an address shows what is wrong with it; for a complaint, what may be why.
func Test20FindShowsFindings(t *testing.T) {
	o := open(t)
	of := func(text string) (rules []string) {
		hits, err := o.Sites.Find(t.Context(), text)
		require.NoError(t, err)
		for _, h := range hits {
			if h.Kind == "finding" {
				rules = append(rules, h.Code+" "+strings.Split(h.Finding, ".")[0])
			}
		}
		return rules
	}
	assert.Contains(t, of("10.84.18.57"), "kelder-bridge address-two-owners")
	assert.NotContains(t, of("10.84.18.5"), "kelder-bridge address-two-owners", "another address is not that one")
	assert.Contains(t, of("no address"), "hallin-road pool-off")
}
