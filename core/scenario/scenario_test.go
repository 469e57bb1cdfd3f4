package scenario_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/scenario"
)

// The sites are clean but for the planted mistakes and networks meant to be so.
func TestPlantedMistakes(t *testing.T) {
	want := map[string][]string{
		"kelder-bridge": {"address-two-owners", "reverse-two-names"},
		"hallin-road":   {"pool-off", "reverse-differs"},
		"moss-end":      {"relay-missing"},
		"quill-street":  {"network-at-no-port", "alias-target-missing", "ddns-key-too-wide"},
		"the-garret":    {"short-names-leak"},
		"the-yard":      {"dns-outside-first"},
		"the-hut":       {"mtu-above-uplink"},

		"windmill-studio": {"pool-holds-fixed-device", "pool-holds-fixed-device"},
	}
	for _, name := range scenario.Names {
		var got []string
		for _, f := range check.Site(scenario.Site(name)) {
			got = append(got, f.Rule)
		}
		assert.Equal(t, want[name], got, name)
	}
}

func TestClientsAreDistinct(t *testing.T) {
	seen := map[address.MAC]string{}
	for _, name := range scenario.Names {
		for _, c := range scenario.Clients(scenario.Site(name)) {
			if c.Name != "workbench" { // the cloned one
				assert.Empty(t, seen[c.MAC], "%s twice", c.MAC)
			}
			seen[c.MAC] = c.Name
		}
	}
}
