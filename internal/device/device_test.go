package device_test

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/plan"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/device"
	"lithos/internal/outbound"
	"lithos/internal/standin"
)

func pair(t *testing.T) (*standin.Device, *device.RESTCONF) {
	t.Helper()
	d, err := standin.Start(standin.Config{Name: "gw-1",
		Initial: compile.Device(scenario.Site("kelder-bridge"), "dev-gw-1"), Account: "lithos", Password: "secret"})
	require.NoError(t, err)
	driver := device.NewRESTCONF(device.Access{URL: d.URL, Account: "lithos", Password: "secret",
		Fingerprint: d.Fingerprint}, outbound.Loopback())
	t.Cleanup(func() { driver.Close(); d.Close() })
	return d, driver
}

// steps is what turning the imaging pool off and moving its interface takes.
func steps(t *testing.T) []plan.Step {
	s := scenario.Site("kelder-bridge")
	base := compile.Device(s, "dev-gw-1")
	n, ok := s.Network("net-imaging")
	require.True(t, ok)
	n.Prefix = netip.MustParsePrefix("10.84.20.0/25")
	for i := range s.Devices[0].Interfaces {
		if s.Devices[0].Interfaces[i].Name == "lan.48" {
			s.Devices[0].Interfaces[i].Addresses[0] = netip.MustParsePrefix("10.84.20.1/25")
		}
	}
	out := plan.Between(base, compile.Device(s, "dev-gw-1"))
	require.NotEmpty(t, out)
	return out
}

func TestPushByHand(t *testing.T) {
	d, driver := pair(t)
	ctx := t.Context()
	before, tag, err := driver.Read(ctx)
	require.NoError(t, err)
	require.NoError(t, driver.Begin(ctx, "t", time.Minute, tag))
	require.NoError(t, driver.Begin(ctx, "t", time.Minute, "another tag"), "taken up again, the tag is not asked for")
	for _, s := range steps(t) {
		require.NoError(t, driver.Apply(ctx, s))
		require.NoError(t, driver.Apply(ctx, s), "a step done again succeeds")
	}
	held, _, err := driver.Read(ctx)
	require.NoError(t, err)
	assert.False(t, held.Equal(before))
	assert.True(t, d.Startup().Equal(before), "nothing is saved before the confirmation")
	require.NoError(t, driver.Cancel(ctx, "t"))
	assert.True(t, d.Running().Equal(before))
}

func TestFaults(t *testing.T) {
	d, driver := pair(t)
	ctx := t.Context()
	_, tag, err := driver.Read(ctx)
	require.NoError(t, err)
	var refused *device.RefusedError

	changed := d.Running()
	changed.Interfaces.Interface[0].Enabled = !changed.Interfaces.Interface[0].Enabled
	require.NoError(t, d.Set(changed))
	require.ErrorAs(t, driver.Begin(ctx, "t", time.Minute, tag), &refused)
	assert.Equal(t, "The running configuration was changed by somebody else.", refused.Says)

	d.Inject(standin.Faults{RefuseWrite: 1})
	require.ErrorAs(t, driver.Apply(ctx, steps(t)[0]), &refused)
	assert.Contains(t, refused.Says, "out of memory")

	d.Inject(standin.Faults{DropWrite: 1})
	err = driver.Apply(ctx, steps(t)[0])
	require.ErrorContains(t, err, "does not answer")
	assert.NotErrorAs(t, err, &refused)
	require.NoError(t, driver.Apply(ctx, steps(t)[0]), "the step had been done before the line went dead")

	wrong := device.NewRESTCONF(device.Access{URL: d.URL, Account: "lithos", Password: "guess",
		Fingerprint: d.Fingerprint}, outbound.Loopback())
	_, _, err = wrong.Read(ctx)
	assert.ErrorContains(t, err, "account or password is wrong")
	imposter := device.NewRESTCONF(device.Access{URL: d.URL, Account: "lithos", Password: "secret",
		Fingerprint: make([]byte, 32)}, outbound.Loopback())
	_, _, err = imposter.Read(ctx)
	assert.ErrorContains(t, err, "another certificate")
	assert.NotContains(t, err.Error(), d.URL)

	d.Close()
	_, _, err = driver.Read(ctx)
	assert.ErrorContains(t, err, "does not answer")
}

// What answers in a device's place is no word of the device: a change is not taken to be kept.
func TestGarbageIsNoAnswer(t *testing.T) {
	d, driver := pair(t)
	ctx := t.Context()
	require.NoError(t, driver.Begin(ctx, "t", time.Minute, ""))
	require.NoError(t, d.Misbehave("garbage", 0))
	err := driver.Confirm(ctx, "t")
	require.ErrorContains(t, err, "makes no sense: it is text/html")
	state, err := driver.Change(ctx, "t")
	require.NoError(t, err)
	assert.Equal(t, device.ChangeWaiting, state)
	require.NoError(t, d.Misbehave("cut", 40))
	_, _, err = driver.Read(ctx)
	require.ErrorContains(t, err, "broke off")
	armed, err := driver.Misbehave(ctx, device.Fault{Fault: "refuse"})
	require.NoError(t, err)
	assert.Equal(t, []string{"refuse"}, armed)
	armed, err = driver.Misbehave(ctx, device.Fault{Fault: "none"})
	require.NoError(t, err)
	assert.Empty(t, armed)
	_, err = driver.Misbehave(ctx, device.Fault{Fault: "sulk"})
	assert.ErrorContains(t, err, "none of the faults")
	require.NoError(t, d.Misbehave("restart", 0))
	require.Error(t, driver.Apply(ctx, steps(t)[0]))
	state, err = driver.Change(ctx, "t")
	require.NoError(t, err)
	assert.Equal(t, device.ChangeAbsent, state, "a device that restarts has returned")
}

// A small router says what it does not speak, and refuses to hold it; what it speaks it does.
func TestSmallRouter(t *testing.T) {
	c := compile.Device(scenario.Site("the-slipway"), "dev-slip-rt")
	names := c.Resolver.Zone[0]
	c.Resolver = yang.Resolver{}
	d, err := standin.Start(standin.Config{Name: "rt", Kind: site.Router, Initial: c, Account: "lithos",
		Password: "secret",
		Without:  standin.SmallRouter})
	require.NoError(t, err)
	t.Cleanup(d.Close)
	driver := device.NewRESTCONF(device.Access{URL: d.URL, Account: "lithos", Password: "secret",
		Fingerprint: d.Fingerprint}, outbound.Loopback())
	says, err := driver.Introduce(t.Context())
	require.NoError(t, err)
	assert.True(t, says.Speaks("lithos-dhcp-server"))
	assert.False(t, says.Speaks("lithos-resolver"))
	var refused *device.RefusedError
	err = driver.Apply(t.Context(), plan.Step{Method: "PUT", Path: yang.ZonePath(names.Name), Body: yang.Body(names)})
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Says, "is no node of this device's modules")
	pool := c.DHCP.Pool[0]
	require.NoError(t, driver.Apply(t.Context(), plan.Step{Method: "PUT", Path: yang.PoolPath(pool.ID),
		Body: yang.Body(pool)}))
}

func TestTestClientOverTheNetwork(t *testing.T) {
	d, driver := pair(t)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	wire, detach, err := driver.Attach(ctx, "lan.48")
	require.NoError(t, err)
	defer detach()
	c := &dhcp.Client{MAC: [6]byte{2, 0, 0x5e, 1, 2, 3}, HostName: "probe"}
	passed, err := c.Exchange(wire)
	require.NoError(t, err)
	require.Len(t, passed, 4)
	assert.Equal(t, "10.84.20.24", c.Address.String())
	replies, err := driver.Ping(ctx, "lan.48", netip.MustParseAddr("10.84.20.1"))
	require.NoError(t, err)
	assert.Equal(t, 3, replies)
	replies, err = driver.Ping(ctx, "lan.48", netip.MustParseAddr("10.84.20.9"))
	require.NoError(t, err)
	assert.Zero(t, replies)
	o, err := driver.Observe(ctx)
	require.NoError(t, err)
	require.Len(t, o.DHCP.Lease, 1)
	assert.Equal(t, "probe", o.DHCP.Lease[0].HostName)

	d.Inject(standin.Faults{Deaf: true})
	passed, err = (&dhcp.Client{MAC: [6]byte{2, 0, 0x5e, 1, 2, 4}}).Exchange(wire)
	require.NoError(t, err)
	assert.Equal(t, "No reply within 2 seconds.", passed[0].Why)
	_, _, err = driver.Attach(ctx, "lan.99")
	assert.ErrorContains(t, err, "no network on lan.99")
}

// What is left out of a device's address is what nearly every device has.
func Test56AnAddressIsCompleted(t *testing.T) {
	for typed, want := range map[string]string{
		"192.168.1.1": "https://192.168.1.1:443", " gw.kelder.example/ ": "https://gw.kelder.example:443",
		"192.168.1.1:8443": "https://192.168.1.1:8443", "https://192.0.2.1": "https://192.0.2.1:443",
		"[2001:db8::1]": "https://[2001:db8::1]:443", "https://192.0.2.1:443": "https://192.0.2.1:443",
		"http://192.0.2.1": "http://192.0.2.1",
	} {
		assert.Equal(t, want, device.Whole(typed), "%q", typed)
	}
}
