package internet

import (
	"encoding/base64"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/dynamicnames"
	"lithos/core/scenario"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/outbound"
	"lithos/internal/standin/resolve"
	"lithos/internal/zonetransfer"
)

const larkrise = "larkrise.example"

var secret = base64.StdEncoding.EncodeToString([]byte("a key of thirty-two octets, long"))

// held is an internet whose provider holds a zone, and the zone at its server with a key that may do
// everything there.
func held(t *testing.T) (*Internet, zonetransfer.Server) {
	t.Helper()
	n, err := Start()
	require.NoError(t, err)
	t.Cleanup(n.Close)
	require.NoError(t, n.Hold(compile.Names(scenario.Site("kelder-bridge"))))
	n.AddKey(Key{Name: "all.larkrise", Secret: secret, Zone: larkrise, Reads: true})
	at, ok := n.Endpoint(Provider)
	require.True(t, ok)
	return n, zonetransfer.Server{Rule: outbound.Loopback(), At: at.Plain, Zone: larkrise, Key: "all.larkrise",
		Algorithm: "hmac-sha256",
		Secret:    secret}
}

func ask(t *testing.T, n *Internet, name string, typ uint16) []string {
	t.Helper()
	at, _ := n.Endpoint(Resolver1)
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	m, _, err := resolve.Ask(netip.Addr{}, yang.NameServer{Address: Resolver1, Port: 53}, at, q)
	require.NoError(t, err)
	var out []string
	for _, rr := range m.Answer {
		out = append(out, zone.DataOf(rr, ""))
	}
	return out
}

func record(owner, typ, data string) zone.Record {
	return zone.Record{Owner: owner, Type: typ, Data: data, TTL: 300}
}

// A zone is read whole, changed, and the world is told so at once.
func TestZonesAreReadAndWritten(t *testing.T) {
	n, s := held(t)
	ctx := t.Context()
	was, err := s.Read(ctx)
	require.NoError(t, err)
	doc := compile.Find(compile.Names(scenario.Site("kelder-bridge")).Outside, larkrise)
	assert.ElementsMatch(t, compile.PublishedRecords(doc), was.Records, "what the document says is what is held")

	www := slices.IndexFunc(was.Records, func(r zone.Record) bool { return r.Owner == "www" })
	want := slices.Clone(was.Records)
	want[www].Data = "203.0.113.81"
	want = append(want, record("shop", "CNAME", "www"), record("note", "TXT", `"two words" "and \"quotes\""`))
	want = slices.DeleteFunc(want, func(r zone.Record) bool { return r.Owner == "remote.kelder" })
	changes := zone.Changes(was.Records, want)
	require.Len(t, changes, 4)
	require.NoError(t, s.Try(ctx, changes))
	again, err := s.Read(ctx)
	require.NoError(t, err)
	assert.Equal(t, was, again, "trying changes nothing")
	require.NoError(t, s.Write(ctx, changes))
	now, err := s.Read(ctx)
	require.NoError(t, err)
	assert.ElementsMatch(t, want, now.Records)
	assert.Greater(t, now.Serial, was.Serial)
	assert.Equal(t, []string{"www.larkrise.example", "203.0.113.81"}, ask(t, n, "shop.larkrise.example", dns.TypeA))
	assert.Empty(t, ask(t, n, "remote.kelder.larkrise.example", dns.TypeA))
	require.ErrorIs(t, s.Write(ctx, changes), zonetransfer.ErrChanged, "they are made already")
	assert.Empty(t, zone.Changes(now.Records, want))
}

// A change is made on what it was thought to change, or not at all.
func TestNothingIsOverwritten(t *testing.T) {
	_, s := held(t)
	was, err := s.Read(t.Context())
	require.NoError(t, err)
	other := zone.Changes(nil, []zone.Record{record("new", "A", "203.0.113.5")})
	require.NoError(t, s.Write(t.Context(), other))
	mine := zone.Changes(was.Records, append(slices.Clone(was.Records), record("beside", "A", "203.0.113.6"),
		record("new", "A", "203.0.113.7")))
	require.ErrorIs(t, s.Write(t.Context(), mine), zonetransfer.ErrChanged)
	now, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.NotContains(t, now.Records, record("beside", "A", "203.0.113.6"), "all of it or nothing")
}

// A key does what it may and nothing else, and a wrong one does nothing.
func TestKeysAreKeptTo(t *testing.T) {
	n, all := held(t)
	n.AddKey(Key{Name: "challenge", Secret: secret, Zone: larkrise,
		Limits: dynamicnames.Limits{Names: []string{"_acme-challenge." + larkrise}, Types: []string{"TXT"}}})
	n.AddKey(Key{Name: "elsewhere", Secret: secret, Zone: "quill.example", Reads: true})
	narrow, elsewhere, unknown, wrong, none := all, all, all, all, all
	narrow.Key, elsewhere.Key, unknown.Key, none.Key = "challenge", "elsewhere", "nobody", ""
	wrong.Secret = base64.StdEncoding.EncodeToString([]byte("another key of thirty-two octets"))
	add := func(r zone.Record) []zone.Change { return zone.Changes(nil, []zone.Record{r}) }
	challenge := add(record("_acme-challenge", "TXT", `"token"`))
	for _, c := range []struct {
		what    string
		s       zonetransfer.Server
		changes []zone.Change
		says    string
	}{
		{"its own name", narrow, challenge, ""},
		{"another name", narrow, add(record("www2", "TXT", `"token"`)), "may not"},
		{"another type", narrow, add(record("_acme-challenge", "A", "203.0.113.1")), "may not"},
		{"a zone of another key", elsewhere, challenge, "does not take the key"},
		{"an unknown key", unknown, challenge, "does not know the key nobody"},
		{"a wrong key", wrong, challenge, "another there"},
		{"no key", none, challenge, "may not"},
	} {
		err := c.s.Write(t.Context(), c.changes)
		if c.says == "" {
			assert.NoError(t, err, c.what)
			continue
		}
		assert.ErrorContains(t, err, c.says, c.what)
	}
	for _, s := range []zonetransfer.Server{narrow, elsewhere, unknown, wrong, none} {
		_, err := s.Read(t.Context())
		assert.ErrorAs(t, err, new(*zonetransfer.RefusedError), s.Key)
	}
}

// A message of another time is refused with that reason.
func TestClocksApart(t *testing.T) {
	_, s := held(t)
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(larkrise))
	m.SetTsig("all.larkrise.", dns.HmacSHA256, 300, time.Now().Add(-time.Hour).Unix())
	c := dns.Client{Net: "tcp", TsigSecret: map[string]string{"all.larkrise.": secret}}
	reply, _, _ := c.Exchange(m, s.At.String())
	require.NotNil(t, reply)
	assert.EqualValues(t, dns.RcodeBadTime, reply.IsTsig().Error)
}

// Who wants to know is told of a change, and reads the zone then.
func TestNewsOfAZone(t *testing.T) {
	n, s := held(t)
	told := make(chan *dns.Msg, 1)
	l, err := resolve.Listen("127.0.0.1:0", resolve.Options{}, func(q resolve.Question) *dns.Msg {
		told <- q.Msg
		return new(dns.Msg).SetReply(q.Msg)
	})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	n.Notify(l.Addr())
	require.NoError(t, s.Write(t.Context(), zone.Changes(nil, []zone.Record{record("new", "A", "203.0.113.5")})))
	m := <-told
	assert.Equal(t, dns.OpcodeNotify, m.Opcode)
	now, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, now.Serial, m.Answer[0].(*dns.SOA).Serial)
}

// What the provider holds survives a restart.
func TestTheProviderRemembers(t *testing.T) {
	file := t.TempDir() + "/provider.json"
	n, s := held(t)
	require.NoError(t, n.Keep(file))
	require.NoError(t, s.Write(t.Context(), zone.Changes(nil, []zone.Record{record("new", "A", "203.0.113.5")})))
	again, err := Start()
	require.NoError(t, err)
	t.Cleanup(again.Close)
	require.NoError(t, again.Keep(file))
	require.NoError(t, again.Hold(compile.Names(scenario.Site("kelder-bridge"))))
	assert.Equal(t, []string{"203.0.113.5"}, ask(t, again, "new.larkrise.example", dns.TypeA))
}

// Whatever is sent, the provider answers or is silent, and holds what it held.
func FuzzUpdate(f *testing.F) {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(larkrise))
	rr, _ := dns.NewRR("new.larkrise.example. 60 IN A 203.0.113.5")
	m.RRsetNotUsed([]dns.RR{rr})
	m.Insert([]dns.RR{rr})
	raw, _ := m.Pack()
	f.Add(raw)
	f.Add([]byte("0000\x00\x01\x00\x010000\blArkrise\aeXAmple\x00\x00\x06\x00\x01\blArkrise\aeXAmple\x0000000000" +
		"\x00\x03000\blArkrise\aeXAmple\x00\x00!\x00\x010000\x00\x040000")) // a service record that is cut short
	h := emptyHolder()
	whole := Key{Zone: larkrise}
	f.Fuzz(func(t *testing.T, raw []byte) {
		m := new(dns.Msg)
		if m.Unpack(raw) != nil {
			return
		}
		h.zones = []yang.Zone{{Name: larkrise, TTL: 60, Record: []yang.Record{
			{ID: "a", Owner: "www", Type: "A", Data: "203.0.113.80"},
			{ID: "b", Owner: zone.Apex, Type: "NS", Data: "ns"}}}}
		code, _ := h.change(whole, m)
		z, _ := h.zone(larkrise)
		for _, r := range z.Record {
			if _, err := r.Text().RR(larkrise, 60); err != nil {
				t.Fatalf("%d: holds %v, which it cannot send: %v", code, r, err)
			}
		}
		if len(set(z, zone.Apex, "NS")) == 0 {
			t.Fatal("the zone has lost its servers")
		}
	})
}
