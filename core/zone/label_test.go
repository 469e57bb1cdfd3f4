package zone

import (
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Labels of any octets: what a name is made of comes apart again, and only at the dots between labels.
func Test23LabelsOfAnyOctets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		label := rapid.SliceOfN(rapid.Byte(), 1, 20)
		labels := rapid.SliceOfN(label, 1, 5).Draw(t, "labels")
		var wire []byte
		for _, l := range labels {
			wire = append(append(wire, byte(len(l))), l...)
		}
		text, _, err := dns.UnpackDomainName(append(wire, 0), 0)
		require.NoError(t, err)
		name := strings.TrimSuffix(text, ".")
		assert.Equal(t, len(labels), Labels(name))
		for at, i := name, 0; at != ""; at, i = Above(at), i+1 {
			assert.Equal(t, string(labels[i]), Octets(dns.SplitDomainName(at)[0]))
			assert.True(t, Within(name, at), "%q in %q", name, at)
		}
	})
	assert.False(t, Within(`x\.localhost`, "localhost"))
	assert.True(t, Within(`x\\.localhost`, "localhost"))
	assert.Equal(t, 0, Labels(""))
	_, in := Relative(`a\.example`, "example")
	assert.False(t, in)
}
