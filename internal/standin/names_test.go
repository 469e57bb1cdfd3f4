package standin_test

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/names"
	"lithos/core/option"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/standin"
	"lithos/internal/standin/internet"
	"lithos/internal/standin/resolve"
)

// worldOf runs the devices of made-up sites, which reach each other and an internet.
func worldOf(t *testing.T, docs ...*site.Site) map[string]*standin.Device {
	t.Helper()
	world, err := internet.Start()
	require.NoError(t, err)
	t.Cleanup(world.Close)
	outer := &standin.Outer{Internet: world}
	running := map[string]*standin.Device{}
	for _, doc := range docs {
		fabric := standin.NewFabric()
		outer.Join(fabric)
		require.NoError(t, world.Hold(compile.Names(doc)))
		for _, dev := range doc.Devices {
			d, err := standin.Start(standin.Config{Name: dev.ID, Kind: dev.Kind, Fabric: fabric,
				Initial: compile.Device(doc, dev.ID), Account: "a", Password: "p",
				Secrets: map[string]string{"garret-line": "x", "key-quill": "x", "hut-line": "x", "van-line": "x",
					"key-hut-tidewater": "x"}})
			require.NoError(t, err)
			t.Cleanup(d.Close)
			running[dev.ID] = d
		}
	}
	return running
}

// drilled is what drill says of a name: the code, and the data of the answers in their form.
func drilled(t *testing.T, at netip.AddrPort, name, typ string, flags ...string) (code string, data []string) {
	t.Helper()
	args := append(flags, "-p", fmt.Sprint(at.Port()), "@"+at.Addr().String(), name, typ)
	raw, err := exec.Command("drill", args...).CombinedOutput()
	require.NoError(t, err, string(raw))
	section := ""
	for line := range strings.Lines(string(raw)) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, ";; ->>HEADER<<-"):
			_, code, _ = strings.Cut(line, "rcode: ")
			code, _, _ = strings.Cut(code, ",")
		case strings.HasPrefix(line, ";; ") && strings.HasSuffix(line, "SECTION:"):
			section = line
		case section == ";; ANSWER SECTION:" && line != "" && line[0] != ';':
			rr, err := dns.NewRR(line)
			require.NoError(t, err, line)
			data = append(data, zone.DataOf(rr, ""))
		}
	}
	return code, data
}

// A resolver of a device answers each name of its site as Ask says, over UDP and TCP, to a client that
// is not ours.
func TestDrillAgreesWithAsk(t *testing.T) {
	if _, err := exec.LookPath("drill"); err != nil {
		t.Skip("drill is not installed; make test installs it")
	}
	var docs []*site.Site
	for _, name := range scenario.Names {
		docs = append(docs, scenario.Site(name))
	}
	running := worldOf(t, docs...)
	for _, doc := range docs {
		t.Run(doc.Code, func(t *testing.T) {
			t.Parallel()
			book := compile.Names(doc)
			world := names.NewWorld(time.Now(), doc, book, nil)
			dev := doc.Resolvers[0].Device
			at, ok := running[dev].NameServer()
			require.True(t, ok)
			asked := map[string]bool{}
			for _, p := range slices.Concat(book.Inside, book.Outside) {
				for _, e := range p.Entries {
					name := strings.Replace(p.Whole(e), "*", "star", 1)
					for _, typ := range []string{e.Type, "A", "TXT"} {
						if asked[name+typ] {
							continue
						}
						asked[name+typ] = true
						agrees(t, world, at, dev, name, typ)
					}
				}
			}
			for _, name := range []string{"nobody." + doc.Domain, "printer.local", "1.2.3.10.in-addr.arpa"} {
				agrees(t, world, at, dev, name, "A")
			}
		})
	}
}

func agrees(t *testing.T, world *names.World, at netip.AddrPort, dev, name, typ string) {
	t.Helper()
	a, err := world.Ask(names.Question{Who: "device:" + dev, Name: name + ".", Type: typ})
	require.NoError(t, err)
	if a.Outcome == names.Elsewhere {
		return // what others answer is not ours to say
	}
	want := map[string]string{names.Found: "NOERROR", names.Nothing: "NOERROR", names.NoName: "NXDOMAIN",
		names.Failed: "SERVFAIL", names.Refused: "REFUSED"}[a.Outcome]
	for _, flags := range [][]string{nil, {"-t"}} {
		code, data := drilled(t, at, name, typ, flags...)
		assert.Equal(t, want, code, "%s %s %v", name, typ, flags)
		assert.ElementsMatch(t, a.Values, data, "%s %s %v", name, typ, flags)
	}
}

// askAs asks the resolver of a device as a machine at an address.
func askAs(t *testing.T, at netip.AddrPort, from, to, name string, typ uint16) (*dns.Msg, error) {
	t.Helper()
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	m, _, err := resolve.Ask(netip.MustParseAddr(from), yang.NameServer{Address: netip.MustParseAddr(to), Port: 53},
		resolve.Endpoint{Plain: at, Port: 53}, q)
	return m, err
}

// Who asks is answered as the configuration says: by the interface the question comes in by, by the list
// of who may ask, and with the near address first.
func TestWhoIsAnswered(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	d := worldOf(t, doc)["dev-gw-1"]
	at, _ := d.NameServer()
	m, err := askAs(t, at, "10.84.20.5", "10.84.16.1", "gw-1.kelder.larkrise.example", dns.TypeA)
	require.NoError(t, err)
	require.NotEmpty(t, m.Answer)
	assert.Equal(t, "10.84.20.1", m.Answer[0].(*dns.A).A.String(), "the address on the asker's own network")
	m, err = askAs(t, at, "10.97.0.60", "10.84.16.1", "gw-1.kelder.larkrise.example", dns.TypeA)
	require.NoError(t, err)
	assert.Equal(t, dns.RcodeRefused, m.Rcode, "another site's")
	m, err = askAs(t, at, "10.84.18.60", "10.84.16.1", "www.out.example", dns.TypeA)
	require.NoError(t, err)
	require.Len(t, m.Answer, 1, "asked of the internet")
	before := m.Answer[0].Header().Ttl
	assert.LessOrEqual(t, before, uint32(3600))

	c := d.Running()
	for i := range c.Interfaces.Interface {
		if c.Interfaces.Interface[i].Name == "lan.24" {
			c.Interfaces.Interface = slices.Clone(c.Interfaces.Interface)
			c.Interfaces.Interface[i].Permit = []string{"dhcp"}
		}
	}
	require.NoError(t, d.Set(c))
	_, err = askAs(t, at, "10.84.18.60", "10.84.16.1", "edge.kelder.larkrise.example", dns.TypeA)
	assert.ErrorContains(t, err, "did not answer in time", "the interface does not permit DNS")
}

// A name that a client says with its lease is answered as long as the lease lasts.
func TestLeasesCarryNames(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	d := worldOf(t, doc)["dev-gw-1"]
	at, _ := d.NameServer()
	lookUp := func() *dns.Msg {
		m, err := askAs(t, at, "10.84.20.5", "10.84.20.1", "tab-7.kelder.larkrise.example", dns.TypeA)
		require.NoError(t, err)
		return m
	}
	assert.Equal(t, dns.RcodeNameError, lookUp().Rcode)
	c, wire := lease(t, d, "lan.48", "TAB-7")
	m := lookUp()
	require.Len(t, m.Answer, 1)
	assert.Equal(t, c.Address.String(), m.Answer[0].(*dns.A).A.String())
	assert.LessOrEqual(t, m.Answer[0].Header().Ttl, uint32(60))
	m, err := askAs(t, at, "10.84.20.5", "10.84.20.1", zone.Reverse(c.Address), dns.TypePTR)
	require.NoError(t, err)
	require.Len(t, m.Answer, 1)
	assert.Equal(t, "tab-7.kelder.larkrise.example.", m.Answer[0].(*dns.PTR).Ptr)
	_, err = wire.Write(c.Release().ToBytes())
	require.NoError(t, err)
	require.Eventually(t, func() bool { return lookUp().Rcode == dns.RcodeNameError }, time.Minute, 5*time.Millisecond,
		"it was given back")
}

// lease takes an address on the network of an interface, and gives the client with its wire.
func lease(t *testing.T, d *standin.Device, iface, host string) (*dhcp.Client, net.Conn) {
	t.Helper()
	c, conn, _ := leased(t, d, iface, host)
	return c, conn
}

// leased is lease with the messages that passed.
func leased(t *testing.T, d *standin.Device, iface, host string) (*dhcp.Client, net.Conn, []dhcp.Message) {
	t.Helper()
	_, body := send(t, d, "GET", "/restconf/data?content=nonconfig", "")
	var state yang.Operational
	require.NoError(t, json.Unmarshal([]byte(body), &state))
	at := slices.IndexFunc(state.Wires.Wire, func(w yang.Wire) bool { return w.Interface == iface })
	require.GreaterOrEqual(t, at, 0, body)
	conn, err := net.Dial("udp", strings.TrimPrefix(state.Wires.Wire[at].Endpoint, "udp://"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	c := &dhcp.Client{MAC: address.MAC{0, 0, 0x5e, 9, 9, 7}, HostName: host}
	passed, err := c.Exchange(func(request []byte, _ netip.Addr) ([]byte, string, error) {
		if _, err := conn.Write(request); err != nil {
			return nil, "", err
		}
		buf := make([]byte, dhcp.MaxPacket)
		n, err := conn.Read(buf)
		return buf[:n], "", err
	})
	require.NoError(t, err)
	require.True(t, c.Address.IsValid())
	return c, conn, passed
}

// What an uplink learns is told to clients in place of what was recorded of it, as soon as the line teaches
// something else; what is set is told whatever the line teaches.
func TestLearntIsTold(t *testing.T) {
	doc := scenario.Site("quill-street")
	doc.Options = nil
	doc.Domain = ""
	for d := range doc.Devices {
		for i := range doc.Devices[d].Interfaces {
			if u := doc.Devices[d].Interfaces[i].Uplink; u != nil {
				u.PassesOn, u.LearntDomain = true, "line.example"
				u.LearntServers = []netip.Addr{netip.MustParseAddr("192.0.2.53")}
			}
		}
	}
	lab, _ := doc.Pool("pool-quill-lab")
	lab.Options = append(lab.Options, site.Option{Code: option.NameServers, Value: "10.7.8.1"})
	d := worldOf(t, site.Normal(doc))["dev-quill-rt"]
	told := func(iface string) [2]string {
		_, _, passed := leased(t, d, iface, "probe")
		last := passed[len(passed)-1]
		return [2]string{last.Option(option.NameServers), last.Option(option.DomainName)}
	}
	assert.Equal(t, [2]string{"192.0.2.53", "line.example"}, told("lan"))
	d.SetLearnt("wan", standin.Learnt{Servers: []netip.Addr{netip.MustParseAddr("198.51.100.53")},
		Domain: "other.example"})
	assert.Equal(t, [2]string{"198.51.100.53", "other.example"}, told("lan"))
	assert.Equal(t, [2]string{"10.7.8.1", "other.example"}, told("lan.20"))
}

// Answers over TLS are those over UDP, and a certificate of another name is refused.
func TestOverTLS(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	by, err := resolve.NewAuthority()
	require.NoError(t, err)
	cert, err := by.Certificate("dns.kelder.larkrise.example")
	require.NoError(t, err)
	server := names.NewServer(compile.Device(doc, "dev-gw-1"), names.Around{})
	certs := &tls.Config{Certificates: []tls.Certificate{*cert}}
	l, err := resolve.Listen("127.0.0.1:0", resolve.Options{Certs: certs}, resolve.Real(server))
	require.NoError(t, err)
	t.Cleanup(l.Close)
	q := new(dns.Msg)
	q.SetQuestion("edge.kelder.larkrise.example.", dns.TypeA)
	end := resolve.Endpoint{Plain: l.Addr(), TLS: l.TLS(), Port: 53, TLSPort: 853, Trust: by.Pool()}
	to := yang.NameServer{Port: 853, TLSName: "dns.kelder.larkrise.example"}
	m, _, err := resolve.Ask(netip.Addr{}, to, end, q)
	require.NoError(t, err)
	assert.Len(t, m.Answer, 1)
	to.TLSName = "dns.other.example"
	_, _, err = resolve.Ask(netip.Addr{}, to, end, q)
	assert.ErrorContains(t, err, "is not dns.other.example's")
	other, err := resolve.NewAuthority()
	require.NoError(t, err)
	to.TLSName, end.Trust = "dns.kelder.larkrise.example", other.Pool()
	_, _, err = resolve.Ask(netip.Addr{}, to, end, q)
	assert.ErrorContains(t, err, "nobody who is trusted has signed its certificate")
	_, _, err = resolve.Ask(netip.Addr{}, yang.NameServer{Port: 5353}, end, q)
	assert.ErrorIs(t, err, resolve.ErrNobody)
}

// What a resolver keeps and was asked is read from it, a name is forgotten on demand, and questions are
// written down for a time alone.
func TestLookIntoAResolver(t *testing.T) {
	d := worldOf(t, scenario.Site("kelder-bridge"))["dev-gw-1"]
	at, _ := d.NameServer()
	look := func() yang.ResolverState {
		status, body := send(t, d, "GET", "/restconf/data/lithos-resolver:resolver?content=nonconfig", "")
		require.Equal(t, 200, status, body)
		var doc struct {
			State yang.ResolverState `json:"lithos-resolver:resolver"`
		}
		require.NoError(t, json.Unmarshal([]byte(body), &doc))
		return doc.State
	}
	do := func(operation, input string) (int, string) {
		return send(t, d, "POST", "/restconf/operations/lithos-config:"+operation,
			`{"lithos-config:input":`+input+`}`)
	}
	question := func(name string) {
		_, err := askAs(t, at, "10.84.20.5", "10.84.20.1", name, dns.TypeA)
		require.NoError(t, err)
	}
	question("www.out.example")
	s := look()
	assert.EqualValues(t, 1, s.Counters.Asked)
	assert.EqualValues(t, 3, s.Counters.Forwarded, "the name, the key of the root, and whether example is signed")
	assert.Empty(t, s.Question, "nothing is written down unasked")
	require.Len(t, s.Answer, 3)
	assert.Equal(t, []string{".", "example", "www.out.example"},
		[]string{s.Answer[0].Name, s.Answer[1].Name, s.Answer[2].Name})
	assert.Equal(t, []string{"203.0.113.90"}, s.Answer[2].Data)
	assert.Len(t, s.Listener, 3)
	status, body := do("flush-names", `{"name":"www.out.example"}`)
	assert.Equal(t, 200, status)
	assert.Contains(t, body, `"flushed":1`)
	assert.Len(t, look().Answer, 2)
	_, body = do("flush-names", `{"name":"."}`)
	assert.Contains(t, body, `"flushed":1`)
	assert.Len(t, look().Answer, 1)
	_, body = do("flush-names", `{}`)
	assert.Contains(t, body, `"flushed":1`)
	assert.Empty(t, look().Answer)

	status, _ = do("watch-names", `{"timeout":600}`)
	assert.Equal(t, 204, status)
	question("edge.kelder.larkrise.example")
	question("www.out.example")
	s = look()
	require.Len(t, s.Question, 2)
	assert.Equal(t, "www.out.example", s.Question[0].Name, "the newest first")
	assert.Equal(t, []string{"10.84.20.5", "zones", "10.84.16.20"},
		[]string{s.Question[1].From, s.Question[1].Layer, s.Question[1].Data})
	assert.False(t, s.WrittenUntil.IsZero())
	status, _ = do("watch-names", `{"timeout":0}`)
	assert.Equal(t, 204, status)
	question("edge.kelder.larkrise.example")
	assert.Len(t, look().Question, 2, "no more are written down")
	status, _ = do("watch-names", `{"timeout":4000}`)
	assert.Equal(t, 400, status)
}

// A resolver goes on through a change that fails and is taken back, and answers what it holds then.
func TestNamesAreTakenBack(t *testing.T) {
	d := worldOf(t, scenario.Site("kelder-bridge"))["dev-gw-1"]
	at, _ := d.NameServer()
	data := func() string {
		m, err := askAs(t, at, "10.84.20.5", "10.84.20.1", "new.kelder.larkrise.example", dns.TypeA)
		require.NoError(t, err)
		if len(m.Answer) == 0 {
			return dns.RcodeToString[m.Rcode]
		}
		return m.Answer[0].(*dns.A).A.String()
	}
	post := func(operation, input string) {
		status, body := send(t, d, "POST", "/restconf/operations/lithos-config:"+operation,
			`{"lithos-config:input":`+input+`}`)
		require.Equal(t, 204, status, body)
	}
	zones := d.Running().Resolver.Zone
	z := zones[slices.IndexFunc(zones, func(z yang.Zone) bool { return z.Name == "kelder.larkrise.example" })]
	z.Record = append(slices.Clone(z.Record), yang.Record{ID: "x", Owner: "new", Type: "A", Data: "10.84.20.9"})
	assert.Equal(t, "NXDOMAIN", data())
	post("begin", `{"token":"t","timeout":60}`)
	status, body := send(t, d, "PUT", "/restconf/data"+yang.ZonePath(z.Name), string(yang.Body(z)))
	require.Equal(t, 204, status, body)
	assert.Equal(t, "10.84.20.9", data())
	post("cancel", `{"token":"t"}`)
	assert.Equal(t, "NXDOMAIN", data(), "taken back")
	z.Record = append(z.Record, yang.Record{ID: "y", Owner: "new", Type: "CNAME", Data: "edge"})
	post("begin", `{"token":"u","timeout":60}`)
	status, body = send(t, d, "PUT", "/restconf/data"+yang.ZonePath(z.Name), string(yang.Body(z)))
	assert.Equal(t, 409, status)
	assert.Contains(t, body, "is an alias and has other data beside it")
	assert.Equal(t, "NXDOMAIN", data(), "what was refused changed nothing")
}

// Messages that are made to harm are answered shortly or not at all, and the next question is answered as
// ever.
func TestHardMessages(t *testing.T) {
	d := worldOf(t, scenario.Site("kelder-bridge"))["dev-gw-1"]
	at, _ := d.NameServer()
	header := []byte{0, 7, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0}
	label := func(n int) []byte { return append([]byte{byte(n)}, bytes.Repeat([]byte{'x'}, n)...) }
	ends := []byte{0, 0, 1, 0, 1}
	for what, raw := range map[string][]byte{
		"a name that points at itself":            append(slices.Clone(header), 0xc0, 12, 0, 1, 0, 1),
		"two names that point at each other":      append(slices.Clone(header), 0xc0, 14, 0xc0, 12, 0, 1, 0, 1),
		"a label of more than 63 octets":          slices.Concat(header, label(64), ends),
		"a name of more than 255 octets":          slices.Concat(header, bytes.Repeat(label(60), 5), ends),
		"a name without an end":                   slices.Concat(header, label(10)),
		"a count of questions that are not there": {0, 7, 1, 0, 0xff, 0xff, 0, 0, 0, 0, 0, 0},
		"nothing":   {},
		"one octet": {7},
	} {
		conn, err := net.Dial("udp", at.String())
		require.NoError(t, err)
		_, err = conn.Write(raw)
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(50*time.Millisecond)))
		reply := make([]byte, 4096)
		n, _ := conn.Read(reply)
		assert.LessOrEqual(t, n, max(len(raw), 12), "%s is not made larger", what)
		require.NoError(t, conn.Close())
	}
	m, err := askAs(t, at, "10.84.20.5", "10.84.20.1", "edge.kelder.larkrise.example", dns.TypeA)
	require.NoError(t, err)
	assert.Len(t, m.Answer, 1)
}

// A name with more addresses than a message holds is cut, over UDP to what no network has to fragment, and
// over TCP to what a message can be.
func TestLargeAnswersAreCut(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	z, _ := doc.Zone("zone-kelder")
	for i := range 5000 {
		z.Records = append(z.Records, &site.Record{ID: fmt.Sprintf("rec-x-%d", i), Owner: "many", Type: "A",
			Data: fmt.Sprintf("10.84.%d.%d", 16+i>>8&15, i&255)})
	}
	d := worldOf(t, site.Normal(doc))["dev-gw-1"]
	at, _ := d.NameServer()
	q := new(dns.Msg)
	q.SetQuestion("many.kelder.larkrise.example.", dns.TypeA)
	q.SetEdns0(4096, false)
	for network, most := range map[string]int{"udp": names.MaxUDP, "tcp": dns.MaxMsgSize} {
		c := dns.Client{Net: network, UDPSize: 4096}
		m, _, err := c.Exchange(q, at.String())
		require.NoError(t, err)
		assert.True(t, m.Truncated, network)
		m.Compress = true // as it came
		raw, err := m.Pack()
		require.NoError(t, err)
		assert.LessOrEqual(t, len(raw), most, network)
	}
}
