package option

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// near are octets that differ little from these: cut short anywhere, with more behind, with one octet counted up or
// down, at its ends, or doubled.
func near(wire []byte) [][]byte {
	out := [][]byte{wire, {}, append(slices.Clone(wire), 0), append(slices.Clone(wire), wire...)}
	for i := range wire {
		out = append(out, wire[:i])
		for _, b := range []byte{wire[i] + 1, wire[i] - 1, 0, 1, 8, 32, 33, 63, 64, 128, 255, ' ', '~'} {
			changed := slices.Clone(wire)
			changed[i] = b
			out = append(out, changed)
		}
	}
	return out
}

// Whatever octets a device holds: they are read without a panic, what is shown of them can be typed in again, and says
// the same. Octets that differ are not shown alike, unless what they mean is the same.
func TestNearlyRightOctets(t *testing.T) {
	for _, d := range registry {
		if d.ServerOnly || d.Type == Text || d.Type == Domain { // these are shown as they came
			continue
		}
		wire, err := d.Type.Parse(d.Example, d.Example)
		require.NoError(t, err, d.Name)
		shown := map[string]string{}
		for _, w := range near(wire) {
			text, ok := d.Type.Format(w)
			if !ok {
				continue
			}
			again, err := d.Type.Parse(text, d.Example)
			if err != nil {
				continue // it can be shown, and is nothing that Lithos would set: no time at all, for example
			}
			back, ok := d.Type.Format(again)
			assert.True(t, ok, "option %d: % x", d.Code, again)
			assert.Equal(t, text, back, "option %d: % x", d.Code, w)
			if other, has := shown[text]; has && other != string(w) && d.Code != 79 { // its text may end with a NUL
				t.Errorf("option %d: % x and % x are both shown as %q", d.Code, other, w, text)
			}
			shown[text] = string(w)
		}
	}
}

// What has a name of its own in the field keeps its capitals within a sentence; other names begin small.
func TestNamesInSentences(t *testing.T) {
	for name, in := range map[string]string{"NTP servers": "NTP servers", "Lease time": "lease time", "X": "x",
		"": "", "AZ": "AZ", "AA": "AA", "A1": "a1"} {
		assert.Equal(t, in, Definition{Name: name}.InSentence(), name)
	}
}

// The types that an option of the site's own may have are found by their names; no other word is one.
func TestTypesByName(t *testing.T) {
	for _, typ := range Choosable {
		found, ok := TypeNamed(typ.String())
		assert.True(t, ok)
		assert.Equal(t, typ, found)
	}
	_, ok := TypeNamed("colour")
	assert.False(t, ok)
}

// Of several classes that what a client says begins with, the longest is its own (it says more).
func TestTheLongestClassMatches(t *testing.T) {
	classes := []string{"", "ph", "phone", "pho", "camera"}
	match := func(c *string) string { return *c }
	assert.Equal(t, &classes[2], MatchClass(classes, "phone 7", match))
	assert.Equal(t, &classes[2], MatchClass(classes, "phone", match))
	assert.Equal(t, &classes[3], MatchClass(classes, "phon", match))
	assert.Nil(t, MatchClass(classes, "printer", match))
	assert.Nil(t, MatchClass(classes, "", match))
}

// An identifier is octets as most clients send them, or words; a hardware type of 0 has words behind it.
func TestIdentifiersOfEachForm(t *testing.T) {
	for _, text := range []string{"01:00:00:5e:00:53:01", "ward-tablet-3", "ff:00:00:00:01:00:01"} {
		wire, err := ParseIdentifier(text)
		require.NoError(t, err, text)
		for _, w := range near(wire) {
			if len(w) < 2 {
				continue
			}
			again, err := ParseIdentifier(FormatIdentifier(w))
			require.NoError(t, err, "% x", w)
			assert.Equal(t, w, again, "% x is shown as %q", w, FormatIdentifier(w))
		}
	}
}

// RFC 3925 section 3: each enterprise number is followed by as many octets as it says.
func TestClassesByEnterprise(t *testing.T) {
	of := func(octets ...byte) []byte { return octets }
	assert.Nil(t, ClassesSaid(nil, nil))
	assert.Equal(t, []string{"a"}, ClassesSaid(of('a'), nil))
	assert.Equal(t, []string{"b"}, ClassesSaid(nil, of(0, 0, 0, 9, 2, 1, 'b')))
	assert.Equal(t, []string{"a", "b", "c"}, ClassesSaid(of('a'), of(0, 0, 0, 9, 2, 1, 'b', 0, 0, 0, 10, 2, 1, 'c')))
	assert.Nil(t, ClassesSaid(nil, of(0, 0, 0, 9, 3, 1, 'b')), "one that is cut short says nothing")
	assert.Nil(t, ClassesSaid(nil, of(0, 0, 0, 9)))
}
