package sites

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lithos/core/address"
)

// What somebody types into Find may be part of an address, of a MAC, or of a name, and
// sometimes of two of them.
func TestPatternsOfAQuery(t *testing.T) {
	for _, c := range []struct{ text, address, mac string }{
		{"10.84.18", "10.84.18%", ""},
		{"10.84.18.", "10.84.18.%", ""},
		{"10.84.18.57", "10.84.18.57%", ""},
		{".18.57", "%.18.57%", ""},
		{".57", "%.57%", ""},
		{"10", "", ""},      // a VLAN id, or part of a name
		{"10.", "10.%", ""}, // the first octet
		{"5e00.531c", "", "%5e00531c%"},
		{"00:00:5E:00:53:1c", "", "%00005e00531c%"},
		{"00-00-5e", "", "%00005e%"},
		{"face", "", "%face%"}, // a name as well
		{"5e", "", ""},         // too little to tell
		{"00:00:5e:00:53:1c:99", "", ""},
		{"x-ray", "", ""},
	} {
		p := patternsOf(c.text)
		assert.Equal(t, c.address, p.address, c.text)
		assert.Equal(t, c.mac, p.mac, c.text)
		assert.Contains(t, p.name, c.text)
	}
	assert.Equal(t, `%50\%\_a\\b%`, patternsOf(`50%_a\b`).name, "what LIKE gives a meaning has none here")
}

// Any part of a MAC of two octets or more is found in any notation.
func TestAnyPartOfAMACIsFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var m address.MAC
		for i := range m {
			m[i] = rapid.Byte().Draw(t, "octet")
		}
		plain := strings.ReplaceAll(m.String(), ":", "")
		from := 2 * rapid.IntRange(0, 4).Draw(t, "from")
		to := from + 2*rapid.IntRange(2, 6-from/2).Draw(t, "octets")
		part := plain[from:to]
		colon := m.String()[from/2*3 : to/2*3-1]
		for _, typed := range []string{part, strings.ToUpper(part), colon, strings.ReplaceAll(colon, ":", "-")} {
			mac := patternsOf(typed).mac
			if mac == "" {
				t.Fatalf("%q is not taken for part of %s", typed, m)
			}
			if !strings.Contains(plain, strings.Trim(mac, "%")) {
				t.Fatalf("%q becomes %s, which is not in %s", typed, mac, plain)
			}
		}
	})
}

func FuzzPatternsOf(f *testing.F) {
	for _, text := range []string{"", ".", "10.84", "wo-1", "%", `\`, "00:00", strings.Repeat("9", maxQuery)} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if text == "" {
			return // Find does not ask for nothing
		}
		p := patternsOf(text)
		if !strings.HasPrefix(p.name, "%") || !strings.HasSuffix(p.name, "%") {
			t.Fatalf("%q becomes %q", text, p.name)
		}
		for _, narrow := range []string{p.address, p.mac} {
			if strings.ContainsAny(strings.Trim(narrow, "%"), `%_\`) {
				t.Fatalf("%q becomes %q, which matches more than it says", text, narrow)
			}
		}
	})
}
