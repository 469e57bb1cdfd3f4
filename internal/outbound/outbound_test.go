package outbound

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// RFC 6890: what no device and no server has is not connected to; private networks are for devices alone.
func TestAttack03WhereLithosConnectsTo(t *testing.T) {
	for address, who := range map[string]string{
		"192.0.2.7": "both", "8.8.8.8": "both", "2001:db8::1": "both", "10.84.16.1": "devices", "172.16.0.1": "devices",
		"192.168.1.1": "devices", "100.64.0.1": "devices", "fd00::1": "devices", "::ffff:10.0.0.1": "devices",
		"127.0.0.1": "", "127.9.9.9": "", "::1": "", "::ffff:127.0.0.1": "", "0.0.0.0": "", "0.1.2.3": "", "::": "",
		"169.254.169.254": "", "fe80::1": "", "fe80::1%eth0": "", "224.0.0.1": "", "ff02::1": "",
		"255.255.255.255": "", "240.0.0.1": "",
	} {
		at := netip.AddrPortFrom(netip.MustParseAddr(address), 443)
		assert.Equal(t, who != "", Rule{}.Check(at, true) == nil, "%s as a device", address)
		assert.Equal(t, who == "both", Rule{}.Check(at, false) == nil, "%s as a server", address)
	}
}

// What is let through is; the database's own is not even then. A name is judged by what it is resolved to.
func TestAttack03TheAddressThatIsUsedIsJudged(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	at := listener.Addr().(*net.TCPAddr).AddrPort()
	_, port, err := net.SplitHostPort(listener.Addr().String())
	require.NoError(t, err)
	byName := net.JoinHostPort("localhost", port)
	for what, c := range map[string]struct {
		rule Rule
		ok   bool
	}{"as it is": {Rule{}, false}, "allowed": {Loopback(), true},
		"the database": {Rule{Allowed: Loopback().Allowed, Never: []netip.AddrPort{at}}, false}} {
		for _, address := range []string{at.String(), byName} {
			for _, dialer := range []*net.Dialer{c.rule.ToDevices(time.Second), c.rule.ToServers(time.Second)} {
				conn, err := dialer.DialContext(t.Context(), "tcp4", address)
				assert.Equal(t, c.ok, err == nil, "%s: %v", what, err)
				assert.Equal(t, c.ok, Refused(err) == nil, what)
				if err == nil {
					_ = conn.Close()
				}
			}
		}
	}
}
