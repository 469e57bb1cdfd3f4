package standin_test

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/scenario"
	"lithos/core/yang"
	"lithos/internal/standin"
)

// ask sends a request with headers, given as name and value one after the other.
func ask(t *testing.T, d *standin.Device, method, path, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	defer client.CloseIdleConnections()
	req, err := http.NewRequest(method, d.URL+path, bytes.NewBufferString(body))
	require.NoError(t, err)
	req.SetBasicAuth("a", "p")
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := client.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	var b bytes.Buffer
	_, err = b.ReadFrom(resp.Body)
	require.NoError(t, err)
	return resp, b.String()
}

const kind = "application/yang-data+json"

// What does not fit the modules is refused, with where and why.
func TestDataIsCheckedAgainstTheModules(t *testing.T) {
	d := start(t, "", 0)
	pool := yang.PoolPath("x")
	for _, c := range []struct{ path, body, tag, says string }{
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","name":"X"}]}`, "data-missing", "must have a subnet"},
		{pool, `{"lithos-dhcp-server:pool":[{"name":"X","subnet":"10.0.0.0/8"}]}`, "missing-element", "its key id"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/33"}]}`, "invalid-value",
			"10.0.0.0/33 is not"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","enabled":"yes"}]}`, "invalid-value",
			"neither true nor false"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","colour":1}]}`, "unknown-element",
			"has no colour"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","option":[{"code":6}]}]}`,
			"data-missing", "must have a value"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","option":[{"code":6.5,` +
			`"value":"AA=="}]}]}`, "invalid-value", "not a whole number"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","option":[{"code":300,` +
			`"value":"AA=="}]}]}`, "invalid-value", "not a whole number in 1..254"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","option":[{"code":6,"value":"!"}]}]}`,
			"invalid-value", "not base64"},
		{pool, `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","option":[{"code":6,"value":"AA=="},` +
			`{"code":6,"value":"AA=="}]}]}`, "invalid-value", "is there twice"},
		{pool, `{"lithos-dhcp-server:pool":{"id":"x"}}`, "malformed-message", "must be a list"},
		{pool, `{"pool":[]}`, "malformed-message", "must hold one lithos-dhcp-server:pool"},
		{pool, `nonsense`, "malformed-message", "not JSON"},
		{yang.InterfacePath("wan"), `{"ietf-interfaces:interface":[{"name":"wan",` +
			`"type":"iana-if-type:ethernetCsmacd","lithos-interfaces:uplink":{"method":"carrier pigeon"}}]}`,
			"invalid-value", "is none of dhcp, fixed, pppoe"},
		{yang.InterfacePath("wan"),
			`{"ietf-interfaces:interface":[{"name":"wan","type":"iana-if-type:tokenRing"}]}`, "invalid-value",
			"no identity"},
		{yang.InterfacePath("wan"), `{"ietf-interfaces:interface":[{"name":"wan"}]}`, "data-missing",
			"must have a type"},
		{yang.InterfacePath("wan"), `{"ietf-interfaces:interface":[{"name":"wan","type":"iana-if-type:bridge",` +
			`"oper-status":"up"}]}`, "invalid-value", "state of the device"},
		{yang.RelayPath("lan"), `{"lithos-dhcp-relay:relay":[{"interface":"lan"}]}`, "data-missing",
			"must have a server"},
		{yang.RelayPath("lan"), `{"lithos-dhcp-relay:relay":[{"interface":"lan","server":["fe80::1"]}]}`,
			"invalid-value", "fe80::1 is not"},
		{"/nonsense", `{}`, "unknown-element", "no node of this device"},
	} {
		resp, body := ask(t, d, "PUT", "/restconf/data"+c.path, c.body, "Content-Type", kind)
		assert.Equal(t, 400, resp.StatusCode, c.body)
		assert.Contains(t, body, `"error-tag":"`+c.tag+`"`, c.body)
		assert.Contains(t, body, c.says)
	}
}

// An error names its node as an instance identifier.
func TestErrorsNameTheirNode(t *testing.T) {
	d := start(t, "", 0)
	body := `{"lithos-dhcp-server:pool":[{"id":"x","subnet":"10.0.0.0/8","option":[{"code":6,"value":"!"}]}]}`
	_, says := ask(t, d, "PUT", "/restconf/data"+yang.PoolPath("x"), body, "Content-Type", kind)
	assert.Contains(t, says, `"error-path":"/lithos-dhcp-server:dhcp-server/pool[id='x']/option[code='6']/value"`)
}

func TestTheProtocolIsKept(t *testing.T) {
	d := start(t, "", 0)
	path := "/restconf/data" + yang.PoolPath("pool-quill-home")
	resp, body := ask(t, d, "GET", path, "")
	require.Equal(t, 200, resp.StatusCode, body)
	resp, _ = ask(t, d, "PUT", path, body, "Content-Type", "text/plain")
	assert.Equal(t, 415, resp.StatusCode)
	resp, _ = ask(t, d, "PUT", path, body, "Content-Type", kind)
	assert.Equal(t, 204, resp.StatusCode, "it was there")
	resp, _ = ask(t, d, "DELETE", path, "")
	assert.Equal(t, 409, resp.StatusCode, "reservations are of it")
	resp, _ = ask(t, d, "GET", "/restconf/data"+yang.ClassPath("none"), "")
	assert.Equal(t, 404, resp.StatusCode)
	class := `{"lithos-dhcp-server:class":[{"id":"c","match":"x"}]}`
	resp, _ = ask(t, d, "PUT", "/restconf/data"+yang.ClassPath("c"), class, "Content-Type", kind)
	assert.Equal(t, 201, resp.StatusCode, "it is new")

	whole, _ := ask(t, d, "GET", "/restconf/data", "")
	tag := whole.Header.Get("ETag")
	for _, c := range []struct {
		header, value string
		status        int
	}{
		{"If-Match", `"other"`, 412}, {"If-Match", `"other", ` + tag, 204}, {"If-Match", "*", 204},
		{"If-None-Match", tag, 412}, {"If-None-Match", "*", 412}, {"If-None-Match", `"other"`, 204},
		{"If-Unmodified-Since", "Mon, 02 Jan 2006 15:04:05 GMT", 412},
		{"If-Unmodified-Since", time.Now().Add(time.Hour).UTC().Format(http.TimeFormat), 204},
	} {
		resp, _ := ask(
			t,
			d,
			"PUT",
			"/restconf/data"+yang.ClassPath("c"),
			class,
			"Content-Type",
			kind,
			c.header,
			c.value,
		)
		assert.Equal(t, c.status, resp.StatusCode, "%s: %s", c.header, c.value)
	}
	whole, _ = ask(t, d, "GET", "/restconf/data", "", "If-None-Match", tag)
	assert.Equal(t, 304, whole.StatusCode)

	resp, body = ask(t, d, "GET", "/restconf/data/ietf-interfaces:interfaces/interface=lan/ietf-ip:ipv4", "")
	assert.Equal(t, 200, resp.StatusCode)
	assert.Contains(t, body, `"ietf-ip:ipv4":{"address":[{"ip":"10.7.7.1"`)
	resp, body = ask(t, d, "GET", "/restconf/data/ietf-interfaces:interfaces?content=nonconfig", "")
	assert.Equal(t, 200, resp.StatusCode)
	assert.Contains(t, body, `"oper-status":"up"`)
	for path, says := range map[string]string{
		"/.well-known/host-meta":                        `href="/restconf"`,
		"/restconf":                                     `"yang-library-version":"2019-01-04"`,
		"/restconf/yang-library-version":                `2019-01-04`,
		"/restconf/data/ietf-yang-library:yang-library": `"name":"lithos-dhcp-server"`,
	} {
		resp, body := ask(t, d, "GET", path, "")
		assert.Equal(t, 200, resp.StatusCode, path)
		assert.Contains(t, body, says, path)
	}
	resp, body = ask(t, d, "PATCH", path, body, "Content-Type", kind)
	assert.Equal(t, 405, resp.StatusCode, body)
}

// The modules and what a device says of its state pass a validator of another maker.
func TestYanglintAgrees(t *testing.T) {
	if _, err := exec.LookPath("yanglint"); err != nil {
		t.Skip("yanglint is not installed")
	}
	dir := t.TempDir()
	var files []string
	require.NoError(t, fs.WalkDir(yang.Modules, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		raw, err := fs.ReadFile(yang.Modules, path)
		if err != nil {
			return err
		}
		file := filepath.Join(dir, filepath.Base(path))
		files = append(files, file)
		return os.WriteFile(file, raw, 0o600)
	}))
	lint := func(kind, data string) {
		t.Helper()
		file := filepath.Join(dir, kind+".json")
		require.NoError(t, os.WriteFile(file, []byte(data), 0o600))
		args := append([]string{"-p", dir, "-t", kind, "-f", "json"}, files...)
		out, err := exec.Command("yanglint", append(args, file)...).CombinedOutput()
		assert.NoError(t, err, "%s", out)
	}
	d := start(t, "", 0)
	_, body := send(t, d, "GET", "/restconf/data", "")
	lint("config", body)
	_, body = send(t, d, "GET", "/restconf/data?content=nonconfig", "")
	lint("data", withConfig(t, d, body))

	// One lease that is offered alone, one that is bound, one that is set aside.
	wire := wireOf(t, body, "lan").Endpoint
	conn, err := net.Dial("udp4", wire)
	require.NoError(t, err)
	defer conn.Close()
	say := func(m []byte) []byte {
		require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
		_, err := conn.Write(m)
		require.NoError(t, err)
		buf := make([]byte, dhcp.MaxPacket)
		n, err := conn.Read(buf)
		require.NoError(t, err)
		return buf[:n]
	}
	for i := range 3 {
		c := &dhcp.Client{MAC: address.MAC{0, 0, 0x5e, 9, 9, byte(i)}, HostName: "one", ID: []byte{0, 'x', byte(i)}}
		offer, err := dhcp.ReadPacket(say(c.Discover().ToBytes()))
		require.NoError(t, err)
		if i == 0 {
			continue
		}
		ack, err := dhcp.ReadPacket(say(c.Select(offer).ToBytes()))
		require.NoError(t, err)
		require.NoError(t, c.Take(ack))
		if i == 2 {
			_, err = conn.Write(c.Decline().ToBytes())
			require.NoError(t, err)
		}
	}
	require.Eventually(t, func() bool {
		_, body = send(t, d, "GET", "/restconf/data?content=nonconfig", "")
		return bytes.Contains([]byte(body), []byte(`"declined"`))
	}, time.Minute, 10*time.Millisecond)
	assert.Contains(t, body, `"offered"`)
	lint("data", withConfig(t, d, body))
}

// A client behind the relay of one device renews with the server of another by unicast: what is sent
// to the server's addresses reaches it by an endpoint of its own.
func TestARelayedClientRenewsWithTheServerAlone(t *testing.T) {
	s := scenario.Site("moss-end")
	fabric := standin.NewFabric()
	devices := map[string]*standin.Device{}
	for _, id := range []string{"dev-moss-srv", "dev-moss-sw"} {
		d, ok := s.Device(id)
		require.True(t, ok, id)
		one, err := standin.Start(
			standin.Config{Name: id, Kind: d.Kind, Fabric: fabric, Initial: compile.Device(s, id),
				Account: "a", Password: "p"},
		)
		require.NoError(t, err)
		t.Cleanup(one.Close)
		devices[id] = one
	}
	c := &dhcp.Client{MAC: address.MAC{0, 0, 0x5e, 9, 9, 1}}
	say := func(end string, m []byte) *dhcpv4.DHCPv4 {
		conn, err := net.Dial("udp4", end)
		require.NoError(t, err)
		defer conn.Close()
		require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
		_, err = conn.Write(m)
		require.NoError(t, err)
		buf := make([]byte, dhcp.MaxPacket)
		n, err := conn.Read(buf)
		require.NoError(t, err)
		r, err := dhcp.ReadPacket(buf[:n])
		require.NoError(t, err)
		return r
	}
	_, state := send(t, devices["dev-moss-sw"], "GET", "/restconf/data?content=nonconfig", "")
	ward := wireOf(t, state, "vlan24").Endpoint
	require.NoError(t, c.Take(say(ward, c.Select(say(ward, c.Discover().ToBytes())).ToBytes())))
	require.Equal(t, "10.84.50.60", c.Address.String())
	_, state = send(t, devices["dev-moss-srv"], "GET", "/restconf/data?content=nonconfig", "")
	require.Contains(t, state, `"state":"bound"`)
	var o yang.Operational
	require.NoError(t, json.Unmarshal([]byte(state), &o))
	server := o.Wires.Wire[0].Routed
	assert.Equal(t, dhcpv4.MessageTypeAck, say(server, c.Renew().ToBytes()).MessageType())
}

// withConfig is the state of a device with its configuration, which the state refers to.
func withConfig(t *testing.T, d *standin.Device, state string) string {
	t.Helper()
	var all, more map[string]any
	_, config := send(t, d, "GET", "/restconf/data", "")
	require.NoError(t, json.Unmarshal([]byte(config), &all))
	require.NoError(t, json.Unmarshal([]byte(state), &more))
	for name, v := range more {
		members, ok := all[name].(map[string]any)
		if !ok {
			all[name] = v
			continue
		}
		for k, value := range v.(map[string]any) {
			if k == "interface" {
				value = merged(members[k].([]any), value.([]any))
			}
			members[k] = value
		}
	}
	raw, err := json.Marshal(all)
	require.NoError(t, err)
	return string(raw)
}

// merged lays the state of interfaces over their configuration.
func merged(config, state []any) []any {
	for _, s := range state {
		for _, c := range config {
			from, into := s.(map[string]any), c.(map[string]any)
			if from["name"] != into["name"] {
				continue
			}
			for k, v := range from {
				if k == "ietf-ip:ipv4" && into[k] != nil {
					into[k].(map[string]any)["neighbor"] = v.(map[string]any)["neighbor"]
					if v.(map[string]any)["neighbor"] == nil {
						delete(into[k].(map[string]any), "neighbor")
					}
					continue
				}
				into[k] = v
			}
		}
	}
	return config
}

func wireOf(t *testing.T, state, iface string) yang.Wire {
	t.Helper()
	var o yang.Operational
	require.NoError(t, json.Unmarshal([]byte(state), &o))
	for _, w := range o.Wires.Wire {
		if w.Interface == iface {
			return w
		}
	}
	t.Fatalf("no wire on %s", iface)
	return yang.Wire{}
}
