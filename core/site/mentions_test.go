package site_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lithos/core/site"
)

var (
	was = netip.MustParseAddr("10.84.18.5")
	now = netip.MustParseAddr("10.84.22.5")
)

func moved(a netip.Addr) netip.Addr {
	if a == was {
		return now
	}
	return a
}

func TestInOctets(t *testing.T) {
	cases := []struct{ name, key, text, want string }{
		{"alone", "value", "0a541205", "0a541605"},
		{"in a sub-option", "value", "f1040a541205", "f1040a541605"},
		{"two, with colons", "value", "0a:54:12:05:0a:54:12:05", "0a:54:16:05:0a:54:16:05"},
		{"with the mark of hexadecimal", "value", "0x0A541205", "0x0a541605"},
		{"another address", "value", "0a541206", "0a541206"},
		{"half an octet off", "value", "00a5412050", "00a5412050"},
		{"too short", "value", "0a5412", "0a5412"},
		{"a hardware address", "mac", "0a:54:12:05:00:01", "0a:54:12:05:00:01"},
		{"words", "value", "10.84.18.5", "10.84.18.5"},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, site.InOctets(c.key, c.text, moved), c.name)
	}
}

// What is not an address that moves keeps its octets, and there and back is where it was.
func TestInOctetsThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`([0-9a-f]{2}[ :-]?){0,5}(0a541205)?([0-9a-f]{2}){0,6}`).Draw(t, "value")
		if site.InOctets("value", text, func(a netip.Addr) netip.Addr {
			if a == now {
				return was
			}
			return a
		}) != text {
			t.Skip("it names the new address already")
		}
		there := site.InOctets("value", text, moved)
		back := site.InOctets("value", there, func(a netip.Addr) netip.Addr {
			if a == now {
				return was
			}
			return a
		})
		assert.Equal(t, text, back)
		assert.Len(t, there, len(text))
	})
}

func TestMentionedInOctets(t *testing.T) {
	s := &site.Site{ID: "s", Options: []site.Option{{Code: 43, Value: "01040a541205"}},
		Networks: []site.Network{{ID: "n", Options: []site.Option{{Code: 43, Value: "0a541205"}}}}}
	parts := map[site.Ref]bool{}
	for m := range site.Mentioned(s) {
		if m.Address == was {
			parts[m.Part] = true
			assert.Equal(t, 32, m.Bits)
		}
	}
	assert.Len(t, parts, 2)
}
