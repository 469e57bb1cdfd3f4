package standin_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/scenario"
	"lithos/core/yang"
	"lithos/internal/standin"
)

func start(t *testing.T, state string, pace time.Duration) *standin.Device {
	t.Helper()
	s := scenario.Site("quill-street")
	fabric := standin.NewFabric()
	d, err := standin.Start(standin.Config{
		Name: "rt-quill", Fabric: fabric, Initial: compile.Device(s, "dev-quill-rt"), Account: "a", Password: "p",
		State: state, Secrets: map[string]string{"key-quill": "x"},
	})
	require.NoError(t, err)
	t.Cleanup(d.Close)
	if pace > 0 {
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan struct{})
		var who []standin.Client
		for _, c := range scenario.Clients(s) {
			who = append(who, standin.Client(c))
		}
		go func() { defer close(ended); fabric.RunClients(ctx, who, pace) }()
		t.Cleanup(func() { stop(); <-ended })
	}
	return d
}

// The port of a real client of RESTCONF: plain HTTP with nothing of Lithos's.
func send(t *testing.T, d *standin.Device, method, path, body string) (int, string) {
	t.Helper()
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	defer client.CloseIdleConnections()
	req, err := http.NewRequest(method, d.URL+path, bytes.NewBufferString(body))
	require.NoError(t, err)
	req.SetBasicAuth("a", "p")
	if method == "PUT" || method == "POST" {
		req.Header.Set("Content-Type", "application/yang-data+json")
	}
	resp, err := client.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	var b bytes.Buffer
	_, err = b.ReadFrom(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, b.String()
}

func TestSpeaksRESTCONF(t *testing.T) {
	d := start(t, "", 0)
	status, body := send(t, d, "GET", "/restconf/data", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, `"ietf-interfaces:interfaces"`)
	status, body = send(t, d, "PUT", "/restconf/data"+yang.PoolPath("x"),
		`{"lithos-dhcp-server:pool":[{"id":"x","interface":"nowhere","subnet":"10.0.0.0/8"}]}`)
	assert.Equal(t, 409, status)
	assert.Contains(t, body, `"error-message":"pool x: interface nowhere has no address in 10.0.0.0/8"`)
	status, _ = send(t, d, "DELETE", "/restconf/data"+yang.PoolPath("none"), "")
	assert.Equal(t, 404, status)
	status, _ = send(t, d, "POST", "/restconf/operations/lithos-config:begin",
		`{"lithos-config:input":{"token":"x","timeout":9999}}`)
	assert.Equal(t, 400, status)
	status, _ = send(t, d, "POST", "/restconf/operations/lithos-config:brew", `{}`)
	assert.Equal(t, 404, status)
	status, _ = send(t, d, "POST", "/restconf/operations/lithos-config:begin", `{`)
	assert.Equal(t, 400, status)

	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	resp, err := client.Get(d.URL + "/restconf/data")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, 401, resp.StatusCode)
}

func TestUnconfirmedChangeIsTakenBack(t *testing.T) {
	d := start(t, "", 0)
	before := d.Running()
	status, _ := send(t, d, "POST", "/restconf/operations/lithos-config:begin",
		`{"lithos-config:input":{"token":"one","timeout":1}}`)
	require.Equal(t, 204, status)
	status, _ = send(t, d, "DELETE", "/restconf/data"+yang.PoolPath("pool-quill-lab"), "")
	require.Equal(t, 204, status)
	require.False(t, d.Running().Equal(before))
	status, _ = send(t, d, "POST", "/restconf/operations/lithos-config:begin",
		`{"lithos-config:input":{"token":"two","timeout":1}}`)
	assert.Equal(t, 409, status, "another change has to wait")
	require.Eventually(t, func() bool { return d.Running().Equal(before) }, 2*time.Minute, 10*time.Millisecond)
	status, _ = send(t, d, "POST", "/restconf/operations/lithos-config:confirm",
		`{"lithos-config:input":{"token":"one"}}`)
	assert.Equal(t, 409, status, "it is too late to confirm")
}

func TestStartupSurvivesARestart(t *testing.T) {
	state := filepath.Join(t.TempDir(), "state.json")
	d := start(t, state, 0)
	for _, name := range []string{"begin", "confirm"} {
		if name == "confirm" {
			status, _ := send(t, d, "DELETE", "/restconf/data"+yang.PoolPath("pool-quill-lab"), "")
			require.Equal(t, 204, status)
		}
		status, _ := send(t, d, "POST", "/restconf/operations/lithos-config:"+name,
			`{"lithos-config:input":{"token":"t","timeout":60}}`)
		require.Equal(t, 204, status)
	}
	status, _ := send(t, d, "DELETE", "/restconf/data"+yang.PoolPath("pool-quill-home"), "") // applied, never saved
	require.Equal(t, 409, status, "its reservation needs it")
	saved := d.Startup()
	d.Close()
	again := start(t, state, 0)
	assert.True(t, again.Running().Equal(saved))
}

func TestItsClientsLeaseAndAreHeard(t *testing.T) {
	d := start(t, "", time.Millisecond)
	require.Eventually(t, func() bool {
		_, body := send(t, d, "GET", "/restconf/data?content=nonconfig", "")
		return bytes.Contains([]byte(body), []byte(`"10.7.7.20"`)) &&
			bytes.Contains([]byte(body), []byte(`"state":"bound"`)) && bytes.Contains([]byte(body), []byte(`10.7.8.10`))
	}, 2*time.Minute, 20*time.Millisecond, "the nas has its reserved address and hyper-1 is a neighbour")
}

// A stand-in that is started again remembers its leases, whatever was cut off in
// the middle of a line; and a long history is written anew.
func TestLeasesSurviveARestart(t *testing.T) {
	state := filepath.Join(t.TempDir(), "rt.json")
	take := func(mac byte) string {
		db, closeDB, err := standin.OpenLeaseDB(state+".leases", slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		defer closeDB()
		s := dhcp.NewServer(compile.Device(scenario.Site("quill-street"), "dev-quill-rt"), db)
		c := &dhcp.Client{MAC: address.MAC{0, 0, 0x5e, 0, 1, mac}}
		_, err = c.Exchange(func(request []byte, _ netip.Addr) ([]byte, string, error) {
			m, err := dhcp.ReadPacket(request)
			require.NoError(t, err)
			a := s.Handle(time.Now(), m, "lan")
			wire, _ := a.Wire()
			return wire, a.Why(), nil
		})
		require.NoError(t, err)
		return c.Address.String()
	}
	assert.Equal(t, "10.7.7.100", take(1))
	assert.Equal(t, "10.7.7.101", take(2), "the first is remembered")
	file, err := os.OpenFile(state+".leases", os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteString(`{"address":"10.7.7.102","mac":"00:00:5e:`)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	assert.Equal(t, "10.7.7.102", take(3), "what was cut off was never promised")
	assert.Equal(t, "10.7.7.100", take(1))
	for range 60 {
		take(4)
	}
	lines, err := os.ReadFile(state + ".leases")
	require.NoError(t, err)
	assert.Less(t, bytes.Count(lines, []byte("\n")), 20, "opening leaves the leases as they stand")

	d := start(t, state, 0)
	status, body := send(t, d, "GET", "/restconf/data?content=nonconfig", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, `"address":"10.7.7.101"`)
}

// What a device keeps takes the place of what it was made with, whole: a port that
// was given to another group is in no group of before.
func TestAttackKeptStateIsDecodedOverAnother(t *testing.T) {
	state := filepath.Join(t.TempDir(), "state.json")
	d := start(t, state, 0)
	changed := d.Running()
	ward := changed.Interfaces.Interface[slices.IndexFunc(changed.Interfaces.Interface,
		func(i yang.Interface) bool { return i.Name == "lan.20" })]
	ward.Name, ward.VLAN = "lan.15", &yang.VLAN{Parent: "lan", ID: 15}
	ward.IPv4 = &yang.IPv4{Address: []yang.Address{{IP: netip.MustParseAddr("10.7.11.1"), PrefixLength: 26}}}
	changed.Interfaces.Interface = append(slices.Clone(changed.Interfaces.Interface), ward)
	changed = changed.Sorted()
	require.NoError(t, d.Set(changed))
	status, _ := send(t, d, "POST", "/restconf/operations/lithos-config:begin",
		`{"lithos-config:input":{"token":"one","timeout":60}}`)
	require.Equal(t, 204, status)
	status, _ = send(t, d, "POST", "/restconf/operations/lithos-config:confirm",
		`{"lithos-config:input":{"token":"one"}}`)
	require.Equal(t, 204, status)
	held := d.Running()
	d.Close()
	again := start(t, state, 0)
	assert.True(t, again.Running().Equal(held))
	_, body := send(t, again, "POST", "/restconf/operations/lithos-config:change",
		`{"lithos-config:input":{"token":"one"}}`)
	assert.Contains(t, body, "confirmed", "it remembers what it confirmed")
}
