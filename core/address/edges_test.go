package address_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
)

var (
	addr   = netip.MustParseAddr
	prefix = netip.MustParsePrefix
)

// What can be checked by head.
func TestByHead(t *testing.T) {
	assert.Equal(t, ".1.2.3", address.Short(addr("10.1.2.3"), prefix("10.0.0.0/8")))
	assert.Equal(t, "10.1.2.3", address.Short(addr("10.1.2.3"), prefix("0.0.0.0/7")))
	assert.Equal(t, 5, address.Offset(prefix("10.0.0.0/24"), addr("10.0.0.5")))
	assert.Equal(t, -1, address.Offset(prefix("10.0.1.0/24"), addr("10.0.0.255")))
	assert.Equal(t, 256, address.Offset(prefix("10.0.0.77/24"), addr("10.0.1.0")), "from the first of the prefix")
	for bits, mask := range map[int]string{-3: "0.0.0.0", 0: "0.0.0.0", 1: "128.0.0.0", 26: "255.255.255.192",
		32: "255.255.255.255", 33: "0.0.0.0"} {
		assert.Equal(t, mask, address.Mask(bits).String(), bits)
	}
}

// A prefix is cut from the smallest piece that holds it, of equal ones from the first; none longer than an address.
func TestNextPrefixKeepsLargePiecesWhole(t *testing.T) {
	block := []netip.Prefix{prefix("10.0.0.0/24")}
	used := []netip.Prefix{prefix("10.0.0.128/26"), prefix("10.0.0.0/27"), prefix("10.0.0.64/27")}
	// Free are .32/27, .96/27 and .192/26.
	got, ok := address.NextPrefix(block, used, 28)
	assert.True(t, ok)
	assert.Equal(t, prefix("10.0.0.32/28"), got)
	got, ok = address.NextPrefix(block, used, 26)
	assert.True(t, ok)
	assert.Equal(t, prefix("10.0.0.192/26"), got)
	_, ok = address.NextPrefix(block, used, 25)
	assert.False(t, ok)
	got, ok = address.NextPrefix(block, used, 32)
	assert.True(t, ok)
	assert.Equal(t, prefix("10.0.0.32/32"), got)
	_, ok = address.NextPrefix(block, used, 33)
	assert.False(t, ok)
}

// One more site gets a block like most of the customer's; of two sizes that are as common the larger.
func TestNextBlockIsLikeMost(t *testing.T) {
	for want, own := range map[string]string{
		"10.0.0.0/20": "",
		"10.1.0.0/20": "10.0.16.0/20 10.0.32.0/20 10.0.64.0/18 10.0.128.0/17",
		"10.2.0.0/16": "10.0.0.0/16 10.1.0.0/16 10.1.0.0/24 10.1.1.0/24",
		"10.1.2.0/24": "10.0.0.0/16 10.1.0.0/24 10.1.1.0/24",
	} {
		var list []netip.Prefix
		for p := range strings.FieldsSeq(own) {
			list = append(list, prefix(p))
		}
		got, ok := address.NextBlock(list, nil)
		require.True(t, ok, own)
		assert.Equal(t, want, got.String(), own)
	}
	got, ok := address.NextBlock([]netip.Prefix{prefix("192.168.0.0/16"), prefix("192.168.0.0/16")},
		[]netip.Prefix{prefix("10.0.0.0/8"), prefix("172.16.0.0/12")})
	assert.True(t, ok, "others' are taken before nothing is")
	assert.Equal(t, "10.0.0.0/16", got.String())
}

// Several ranges are read in their order; what is empty between them is no range, and one wrong one is named.
func TestParseRanges(t *testing.T) {
	within := prefix("10.84.18.0/24")
	for _, text := range []string{"10-19, 30", "10-19;30", "10-19\n30", " 10-19 ,, ;\n 30 ,"} {
		got, err := address.ParseRanges(text, within)
		require.NoError(t, err, text)
		assert.Equal(t, []address.Range{{From: addr("10.84.18.10"), To: addr("10.84.18.19")},
			address.Single(addr("10.84.18.30"))}, got, text)
	}
	_, err := address.ParseRanges(" , ;", within)
	assert.ErrorContains(t, err, "a range is missing")
	_, err = address.ParseRanges("10-19, x", within)
	assert.ErrorContains(t, err, `"x" is not an IPv4 address`)
	many := strings.Repeat("7,", 256)
	got, err := address.ParseRanges(many, within)
	require.NoError(t, err)
	assert.Len(t, got, 256)
	_, err = address.ParseRanges(many+"7", within)
	assert.ErrorContains(t, err, "at most 256")
}

// Texts of 200 octets are read, longer ones are not, and no more than 40 are said back.
func TestLongTexts(t *testing.T) {
	long := func(n int) string { return "10.84.18.7" + strings.Repeat("7", n-len("10.84.18.7")) }
	for n, echoed := range map[int]int{40: 40, 41: 40, 200: 40} {
		_, err := address.ParseAddr(long(n), netip.Prefix{})
		require.Error(t, err)
		assert.Equal(t, echoed < n, strings.Contains(err.Error(), "…"), n)
		assert.Contains(t, err.Error(), long(n)[:echoed])
	}
	mac := "02-00-5e-00-00-01" + strings.Repeat("-", 200-17)
	_, err := address.ParseMAC(mac)
	require.NoError(t, err)
	_, err = address.ParseMAC(mac + "-")
	require.Error(t, err)
	r := "10.84.18.1" + strings.Repeat(" ", 200-len("10.84.18.1-3")) + "-3"
	require.Len(t, r, 200)
	_, err = address.ParseRange(r, netip.Prefix{})
	require.NoError(t, err)
	_, err = address.ParseRange(strings.Replace(r, " ", "  ", 1), netip.Prefix{})
	require.Error(t, err)
}

// Lengths of prefixes go from 1 to 32, as numbers and as masks.
func TestPrefixLengths(t *testing.T) {
	for text, want := range map[string]string{"10.0.0.0/1": "10.0.0.0/1", "10.0.0.0/32": "10.0.0.0/32",
		"10.0.0.0 128.0.0.0": "10.0.0.0/1", "10.0.0.0 255.255.255.255": "10.0.0.0/32"} {
		got, err := address.ParsePrefix(text)
		require.NoError(t, err)
		assert.Equal(t, want, got.String())
	}
	for text, says := range map[string]string{"10.0.0.0/0": "not a prefix length", "10.0.0.0/33": "not a prefix length",
		"10.0.0.0 0.0.0.63":    "is a wildcard mask; type the mask 255.255.255.192, or /26",
		"10.0.0.0 255.0.255.0": "its ones are not together"} {
		_, err := address.ParsePrefix(text)
		assert.ErrorContains(t, err, says, text)
	}
	_, err := address.ParseAddr("1.2.3", prefix("10.84.18.0/24"))
	require.NoError(t, err, "three numbers are completed")
}
