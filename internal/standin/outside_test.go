package standin

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"lithos/core/yang"
)

func TestAnotherUplinkTakesOverWhenALineDrops(t *testing.T) {
	d := &Device{running: yang.Config{}, lines: map[string]line{}, keeps: newKeeps()}
	inside := netip.MustParseAddr("10.84.18.9")
	for name, prefix := range map[string]string{"wan": "10.84.0.0/16", "mobile": "10.84.18.0/24"} {
		d.running.Interfaces.Interface = append(d.running.Interfaces.Interface, yang.Interface{Name: name,
			Enabled: true,
			Uplink:  &yang.Uplink{Translate: []netip.Prefix{netip.MustParsePrefix(prefix)}}})
	}
	assert.True(t, d.translates(inside))
	d.SetLine("wan", netip.Addr{})
	assert.True(t, d.translates(inside), "the other line is up")
	assert.False(t, d.translates(netip.MustParseAddr("10.84.19.9")), "the other does not translate that network")
	d.SetLine("mobile", netip.Addr{})
	assert.False(t, d.translates(inside))
	d.SetLine("wan", netip.MustParseAddr("203.0.113.7"))
	assert.True(t, d.translates(inside))
}
