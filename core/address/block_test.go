package address

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func blocks(list ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

func TestNextBlock(t *testing.T) {
	for _, c := range []struct {
		what        string
		own, others []netip.Prefix
		want        string
	}{
		{"nobody has any", nil, nil, "10.0.0.0/20"},
		{"behind the last, as large as most", blocks("10.84.16.0/20", "10.84.32.0/20", "10.84.48.0/20",
			"10.84.64.0/24"),
			nil, "10.84.80.0/20"},
		{"another customer is there", blocks("10.84.16.0/20"), blocks("10.84.32.0/19"), "10.84.64.0/20"},
		{"in the block that the customer is in", blocks("172.27.0.0/21", "172.27.8.0/22", "172.27.12.0/22"), nil,
			"172.27.16.0/22"},
		{"at the end of it, before the first", blocks("192.168.252.0/22"), nil, "192.168.0.0/22"},
		{"the others have all", blocks("10.0.0.0/20"), blocks("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"),
			"10.0.16.0/20"},
	} {
		got, ok := NextBlock(c.own, c.others)
		assert.True(t, ok, c.what)
		assert.Equal(t, c.want, got.String(), c.what)
	}
	_, ok := NextBlock(private, nil)
	assert.False(t, ok)
}

// What is proposed overlaps no block of the customer, is private, and as large as said.
func TestNextBlockIsFree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var own []netip.Prefix
		for range rapid.IntRange(0, 20).Draw(t, "blocks") {
			bits := rapid.IntRange(12, 26).Draw(t, "bits")
			at := rapid.Uint32Range(0x0a000000, 0x0a0fffff).Draw(t, "at")
			own = append(own, netip.PrefixFrom(FromUint(at), bits).Masked())
		}
		got, ok := NextBlock(own, nil)
		if !ok {
			t.Fatal("there is room")
		}
		if got != got.Masked() || !got.Addr().IsPrivate() || got.Bits() != commonest(own) {
			t.Fatalf("%s is no block", got)
		}
		for _, p := range own {
			if p.Overlaps(got) {
				t.Fatalf("%s overlaps %s", got, p)
			}
		}
	})
}
