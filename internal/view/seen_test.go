package view_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/observed"
	"lithos/core/scenario"
	"lithos/internal/order"
	"lithos/internal/view"
)

// strangers are neighbours nobody recorded, one on each network, with names that no
// host may have.
func strangers(p *view.Page) []observed.Heard {
	now := time.Now()
	var out []observed.Heard
	for i, n := range p.Networks {
		last := address.Usable(n.Prefix).To
		name := []string{"", "Plate Reader 2", "日本", "-", "a.b.c", "\x00"}[i%6]
		out = append(out, observed.Heard{
			Device: p.Devices[0].ID, Source: "neighbour", Address: last, MAC: address.MAC{0, 0, 0x5e, 0, 0x54, byte(i)},
			Name: name, First: now, Last: now,
		})
	}
	return out
}

// Whatever is offered for somebody nobody recorded can be done as it is offered, and
// afterwards the client is known.
func TestWhatIsOfferedForAStrangerCanBeDone(t *testing.T) {
	for _, name := range scenario.Names {
		bare := pageOf(name)
		heard := strangers(bare)
		with := func(doc *check.Scene) *view.Page { return view.Of(doc, nil, 1, order.Beside{Seen: heard}) }
		p := with(bare.Scene)
		rows := p.SeenAt().Seen
		require.Len(t, rows, len(heard))
		for _, row := range rows {
			if row.Ref != "" {
				continue // the last address of this network is recorded
			}
			require.NotEmpty(t, row.Actions, row.Address)
			for _, a := range row.Actions {
				entry := a.Entry
				if a.Form != nil {
					form, err := p.Form(*a.Form, row.Network)
					require.NoError(t, err, a.Label)
					entry = &edit.Entry{Kind: a.Form.Kind, ID: a.Form.ID, In: a.Form.In, New: form.New,
						Fields: map[string]string{}}
					for _, f := range form.Fields {
						entry.Fields[f.Name] = f.Value
					}
					for field, value := range a.Form.Values {
						require.True(t, slices.ContainsFunc(form.Fields,
							func(f edit.FormField) bool { return f.Name == field }), "%s: %s", a.Label, field)
						entry.Fields[field] = value
					}
				}
				if name, asked := entry.Fields["name"]; asked && name == "" && a.Form != nil {
					entry.Fields["name"] = "typed" // a form asks for it where nothing lawful was heard
				}
				if _, asked := entry.Fields["reason"]; asked {
					entry.Fields["reason"] = "typed"
				}
				if entry.New {
					entry.ID = "new-1" // the draft gives one
				}
				edits, err := edit.Read(p.Site, *entry)
				require.NoError(t, err, "%s at %s", a.Label, row.Address)
				doc, err := edit.Apply(p.Site, edits...)
				require.NoError(t, err)
				after := with(check.Of(doc))
				i := slices.IndexFunc(after.SeenAt().Seen, func(r view.SeenRow) bool { return r.MAC == row.MAC })
				require.NotEqual(t, -1, i)
				is := after.SeenAt().Seen[i]
				switch entry.Kind {
				case "reservation", "fixed":
					moves := slices.ContainsFunc(is.Remarks,
						func(r observed.Remark) bool { return r.Kind == "elsewhere" })
					assert.True(t, is.Ref != "" || moves, "%s at %s", a.Label, row.Address)
				case "known":
					assert.NotEmpty(t, is.Known, "%s at %s", a.Label, row.Address)
				}
			}
		}
	}
}

// Somebody seen can be selected on the ruler and is inspected.
func TestSomebodySeenIsInspected(t *testing.T) {
	bare := pageOf("kelder-bridge")
	p := view.Of(bare.Scene, nil, 1, order.Beside{Seen: strangers(bare)})
	at := netip.MustParseAddr("10.84.16.62")
	in := p.Part(view.Look{Network: "net-bench", Select: "seen:" + at.String()})
	assert.Equal(t, "seen:10.84.16.62", in.Ref)
	assert.Equal(t, "Seen", in.Kind)
	assert.NotEmpty(t, in.Actions)
	require.NotEmpty(t, in.Facts)
	assert.Equal(t, at.String(), in.Facts[0].Value)
}
