package internet

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/standin/resolve"
)

// Names are found from the root down, whoever holds them, and what a site tells the world is told.
func TestNamesAreFoundFromTheRoot(t *testing.T) {
	n, err := Start()
	require.NoError(t, err)
	t.Cleanup(n.Close)
	require.NoError(t, n.Hold(compile.Names(scenario.Site("kelder-bridge"))))
	for _, c := range []struct {
		name, typ, want string
		code            int
	}{
		{"www.out.example", "A", "203.0.113.90", dns.RcodeSuccess},
		{"shop.out.example", "A", "www.out.example 203.0.113.90", dns.RcodeSuccess},
		{"records.kelder.larkrise.example", "A", "edge.kelder.larkrise.example 203.0.113.44", dns.RcodeSuccess},
		{"larkrise.example", "MX", "10 mail.provider.example", dns.RcodeSuccess},
		{"dns.provider.example", "A", "198.51.100.53", dns.RcodeSuccess},
		{"nothing.out.example", "A", "", dns.RcodeNameError},
		{"nothing.demo", "A", "", dns.RcodeNameError},
		{"nothing", "A", "", dns.RcodeNameError},
		{"www.out.example", "MX", "", dns.RcodeSuccess},
	} {
		for _, resolver := range []netip.Addr{Resolver1, Resolver2} {
			at, ok := n.Endpoint(resolver)
			require.True(t, ok)
			q := new(dns.Msg)
			q.SetQuestion(dns.Fqdn(c.name), dns.StringToType[c.typ])
			m, _, err := resolve.Ask(netip.Addr{}, yang.NameServer{Address: resolver, Port: 53}, at, q)
			require.NoError(t, err)
			var got []string
			for _, rr := range m.Answer {
				got = append(got, zone.DataOf(rr, ""))
			}
			assert.Equal(t, c.want, strings.Join(got, " "), c.name)
			assert.Equal(t, dns.RcodeToString[c.code], dns.RcodeToString[m.Rcode], c.name)
		}
	}
}
