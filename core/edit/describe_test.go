package edit_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// A relay that is taken away reads as a sentence.
func Test62ARelayToNothing(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	var was, in site.Ref
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			if len(i.Addresses) > 0 && len(i.RelayTo) == 0 {
				was, in = site.Ref{Kind: site.KindInterface, ID: i.ID}, site.Ref{Kind: site.KindDevice, ID: d.ID}
			}
		}
	}
	field := edit.Field{Name: "relayTo", From: json.RawMessage(`null`), To: json.RawMessage(`["10.84.16.10"]`)}
	there := edit.Edit{Op: edit.Change, Part: was, In: in, Fields: []edit.Field{field}}
	assert.Contains(t, edit.Describe(s, there), "relays to 10.84.16.10, was nothing")
	now, err := edit.Apply(s, there)
	require.NoError(t, err)
	field.From, field.To = field.To, field.From
	away := edit.Edit{Op: edit.Change, Part: was, In: in, Fields: []edit.Field{field}}
	assert.Contains(t, edit.Describe(now, away), "relays to nothing, was 10.84.16.10")
}
