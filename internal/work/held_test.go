package work_test

import (
	"testing"

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
	r, err := o.Rehearse(t.Context(), o.mk, id, o.version(id))
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
	_, err = o.Push(t.Context(), o.mk, id, o.version(id))
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
