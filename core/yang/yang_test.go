package yang_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/openconfig/goyang/pkg/yang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	lithos "lithos/core/yang"
)

// The published modules parse and resolve, and their leaves are the Go types' names.
func TestModulesMatchTheTypes(t *testing.T) {
	ms := yang.NewModules()
	ms.AddPath(filepath.Join("modules", "standard"))
	files, err := filepath.Glob("modules/*.yang")
	require.NoError(t, err)
	require.Len(t, files, 7)
	for _, f := range files {
		raw, err := os.ReadFile(f)
		require.NoError(t, err)
		require.NoError(t, ms.Parse(string(raw), f))
	}
	for _, err := range ms.Process() {
		assert.NoError(t, err)
	}
	for name, m := range ms.Modules {
		if !strings.HasPrefix(name, "lithos-") || strings.Contains(name, "@") {
			continue
		}
		assert.NotNil(t, m.Contact, "%s: RFC 8407 section 4.8", name)
		require.NotEmpty(t, m.Revision, name)
		if name != "lithos-standin" { // what may go wrong in a simulated device is in no RFC
			assert.True(t, m.Reference != nil || m.Revision[0].Reference != nil, "%s names what it rests on", name)
		}
	}
	server := yang.ToEntry(ms.Modules["lithos-dhcp-server"]).Dir["dhcp-server"]
	resolver := yang.ToEntry(ms.Modules["lithos-resolver"]).Dir["resolver"]
	outside := yang.ToEntry(ms.Modules["lithos-outside-names"]).Dir["outside-names"]
	for _, c := range []struct {
		entry *yang.Entry
		typ   reflect.Type
	}{
		{server.Dir["pool"], reflect.TypeFor[lithos.Pool]()},
		{server.Dir["reservation"], reflect.TypeFor[lithos.Reservation]()},
		{resolver.Dir["settings"], reflect.TypeFor[lithos.ResolverSettings]()},
		{resolver.Dir["settings"].Dir["forwarder"], reflect.TypeFor[lithos.NameServer]()},
		{resolver.Dir["zone"], reflect.TypeFor[lithos.Zone]()},
		{resolver.Dir["zone"].Dir["record"], reflect.TypeFor[lithos.Record]()},
		{outside.Dir["name"], reflect.TypeFor[lithos.OutsideName]()},
		{outside.Dir["kept"], reflect.TypeFor[lithos.OutsideNameState]()},
		{outside.Dir["kept"].Dir["attempt"], reflect.TypeFor[lithos.OutsideAttempt]()},
	} {
		for i := range c.typ.NumField() {
			name, _, _ := strings.Cut(c.typ.Field(i).Tag.Get("json"), ",")
			assert.Contains(t, c.entry.Dir, name, c.entry.Name)
		}
	}
}

func TestPutAndDelete(t *testing.T) {
	c := compile.Device(scenario.Site("kelder-bridge"), "dev-gw-1")
	raw, err := json.Marshal(c)
	require.NoError(t, err)
	var back lithos.Config
	require.NoError(t, json.Unmarshal(raw, &back))
	assert.True(t, c.Equal(back))

	before := len(c.DHCP.Pool)
	require.NoError(t, back.Delete(lithos.PoolPath("pool-imaging")))
	assert.Len(t, c.DHCP.Pool, before, "the copy shares nothing that is written to")
	assert.Error(t, back.Delete(lithos.PoolPath("pool-imaging")))
	assert.ErrorContains(t, back.Validate(), "pool-imaging does not exist", "a reservation is left without its pool")
	for path, body := range map[string]string{
		"/nonsense": "{}", lithos.PoolPath("x"): `{"lithos-dhcp-server:pool":[{"id":"y"}]}`,
		lithos.PoolPath("z"):        `{"lithos-dhcp-server:pool":[]}`,
		lithos.InterfacePath("a/b"): `{"ietf-interfaces:interface":[{"name":"a/b","colour":1}]}`,
		lithos.IPv4Path("none"):     `{"ietf-ip:ipv4":{}}`,
	} {
		assert.Error(t, back.Put(path, []byte(body)), path)
	}
}

// Several changes that a device carries out as one (RFC 8072): the values as of PUT, what is removed as of DELETE.
func TestPatch(t *testing.T) {
	c := compile.Device(scenario.Site("quill-street"), "dev-quill-rt")
	var p lithos.Patch
	p.Replace(lithos.IPv4Path(c.Interfaces.Interface[0].Name), lithos.Body(&lithos.IPv4{Enabled: true}))
	p.Replace(lithos.PoolPath(c.DHCP.Pool[0].ID), nil)
	p.Replace(lithos.PoolPath("never there"), nil)
	body, err := json.Marshal(p)
	require.NoError(t, err)
	read, err := lithos.ReadPatch(body)
	require.NoError(t, err)
	now := c
	require.NoError(t, read.Apply(&now))
	assert.Len(t, now.DHCP.Pool, len(c.DHCP.Pool)-1)
	assert.Empty(t, now.Interfaces.Interface[0].IPv4.Address)
	for _, bad := range []string{`{}`, `{"ietf-yang-patch:yang-patch":{"patch-id":"1","edit":[]}}`,
		`{"ietf-yang-patch:yang-patch":{"patch-id":"1","edit":[{"edit-id":"1","operation":"merge","target":"/x"}]}}`} {
		_, err := lithos.ReadPatch([]byte(bad))
		assert.Error(t, err, bad)
	}
}

func FuzzPatch(f *testing.F) {
	f.Add([]byte(`{"ietf-yang-patch:yang-patch":{"patch-id":"1","edit":[{"edit-id":"1","operation":"remove",` +
		`"target":"/lithos-dhcp-server:dhcp-server/pool=p"}]}}`))
	f.Fuzz(func(_ *testing.T, body []byte) {
		c := compile.Device(scenario.Site("quill-street"), "dev-quill-rt")
		if p, err := lithos.ReadPatch(body); err == nil && p.Apply(&c) == nil {
			_ = c.Validate()
		}
	})
}

func FuzzPut(f *testing.F) {
	f.Add("/ietf-interfaces:interfaces/interface=lan",
		[]byte(`{"ietf-interfaces:interface":[{"name":"lan","type":"t","enabled":true}]}`))
	f.Add("/lithos-dhcp-server:dhcp-server/pool=p",
		[]byte(`{"lithos-dhcp-server:pool":[{"id":"p","subnet":"10.0.0.0/8"}]}`))
	f.Fuzz(func(t *testing.T, path string, body []byte) {
		c := compile.Device(scenario.Site("quill-street"), "dev-quill-rt")
		if c.Put(path, body) == nil {
			_ = c.Validate()
		}
		_ = c.Delete(path)
	})
}
