package names

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

func world(name string, changes ...func(*site.Site)) *World {
	s := scenario.Site(name)
	for _, change := range changes {
		change(s)
	}
	s = site.Normal(s)
	return NewWorld(now, s, compile.Names(s), map[string][]dhcp.Lease{"dev-gw-1": {{
		Address: addr("10.84.18.101"), HostName: "Recep PC!", State: dhcp.Bound, Since: now,
		Expires: now.Add(6 * 3600e9),
	}}})
}

//revive:disable-next-line:function-length it is a table
func TestAsk(t *testing.T) {
	off := func(s *site.Site) { s.Resolvers[0].Enabled = false }
	for _, c := range []struct {
		site, who, name, typ string
		change               func(*site.Site)
		outcome, values      string
		titles               []string // of steps that must be there, in order
	}{
		{"kelder-bridge", "network:net-clinic", "records", "A", nil, Found, "edge.kelder.larkrise.example 10.84.16.20",
			[]string{"a client of Clinic floor asks for records.kelder.larkrise.example", "asks 10.84.16.1", "May ask",
				"No lease has this name", "In kelder.larkrise.example", "No lease has this name",
				"In kelder.larkrise.example"}},
		{"kelder-bridge", Internet, "records.kelder.larkrise.example", "A", nil, Found,
			"edge.kelder.larkrise.example 203.0.113.44", []string{"In larkrise.example"}},
		{"kelder-bridge", Internet, "stock.kelder.larkrise.example", "A", nil, NoName, "",
			[]string{"In larkrise.example"}},
		{"kelder-bridge", Internet, "nas.quill.example", "A", nil, Elsewhere, "", []string{"Not the site's outside"}},
		{"quill-street", "network:net-quill-home", "laptop-away", "A", nil, Found, "10.7.10.242", nil},
		{"quill-street", "fixed:fix-quill-laptop", "nas", "A", nil, Found, "10.7.7.20",
			[]string{"laptop-away asks for nas.quill.home.arpa", "asks 10.7.7.1", "May ask"}},
		{"quill-street", "network:net-quill-away", "10.7.10.242", "", nil, Found,
			"242.240/28.10.7.10.in-addr.arpa laptop-away.quill.home.arpa", nil},
		{"kelder-bridge", "reservation:res-pbx", "recep-pc", "", nil, Found, "10.84.18.101",
			[]string{"A lease has this name"}},
		{"kelder-bridge", "network:net-clinic", "10.84.18.101", "A", nil, Found, "recep-pc.kelder.larkrise.example",
			nil},
		{"kelder-bridge", "network:net-clinic", "10.84.18.24", "A", nil, Found, "recep-mfp.kelder.larkrise.example",
			nil},
		{"kelder-bridge", "fixed:fix-edge", "gw-1", "A", nil, Found,
			"10.84.16.1 10.84.16.129 10.84.16.65 10.84.18.1 10.84.20.1 10.84.24.1", nil},
		{"kelder-bridge", "network:net-imaging", "gw-1", "A", nil, Found,
			"10.84.20.1 10.84.16.1 10.84.16.129 10.84.16.65 10.84.18.1 10.84.24.1", nil},
		{"kelder-bridge", "device:dev-gw-1", "pbx", "A", nil, Found, "10.84.16.130", []string{"asks its own resolver"}},
		{"kelder-bridge", "network:net-clinic", "nobody", "A", nil, NoName, "", nil},
		{"kelder-bridge", "network:net-clinic", "edge.kelder.larkrise.example.", "MX", nil, Nothing, "", nil},
		{"kelder-bridge", "network:net-clinic", "www.larkrise.example", "A", nil, Found, "203.0.113.80",
			[]string{"192.0.2.53 answers"}},
		{"kelder-bridge", "network:net-clinic", "shop.out.example", "A", nil, Elsewhere, "",
			[]string{"192.0.2.53 is asked"}},
		{"kelder-bridge", "network:net-clinic", "srv-moss.moss.larkrise.example", "A", nil, Elsewhere, "",
			[]string{"Asked of the servers of moss.larkrise.example", "10.84.48.10 is asked"}},
		{"kelder-bridge", "network:net-clinic", "printer.local", "A", nil, NoName, "", []string{"Not forwarded"}},
		{"kelder-bridge", "network:net-waiting", "records.kelder", "A", nil, Found, "edge.kelder.larkrise.example " +
			"10.84.16.20",
			[]string{"Other clients do not find it"}},
		{"kelder-bridge", "network:net-clinic", "pbx", "A", off, Elsewhere, "",
			[]string{"asks 10.84.16.1", "Nobody answers there", "asks 10.84.16.10", "Not known"}},
		{"kelder-bridge", "network:net-waiting", "pbx", "A", off, Silent, "", []string{"Nobody answers there"}},
		{"kelder-bridge", "network:net-cameras", "pbx", "A", func(s *site.Site) {
			s.Devices[0].Interfaces[5].Permits = []string{"dhcp"}
		}, Elsewhere, "", []string{"lan.66 of gw-1 drops it"}},
		{"kelder-bridge", "network:net-clinic", "pbx", "A", func(s *site.Site) {
			s.Resolvers[0].Askers = []netip.Prefix{netip.MustParsePrefix("10.84.20.0/26")}
		}, Elsewhere, "", []string{"Refused"}},
		{"kelder-bridge", "network:net-clinic", "pbx", "A", func(s *site.Site) { s.Options = nil }, noServers, "", nil},
		{"quill-street", "network:net-quill-home", "cloud.quill.example", "A", nil, Found, "10.7.8.10", nil},
		{"quill-street", Internet, "cloud.quill.example", "A", nil, Found, "192.0.2.77", nil},
		{"quill-street", "network:net-quill-home", "photos", "A", nil, NoName, "photo-box.quill.home.arpa", nil},
		{"quill-street", "network:net-quill-home", "x.tracker.example", "A", nil, Nothing, "",
			[]string{"Blocked domains"}},
		{"quill-street", "network:net-quill-home", "10.7.10.1", "", nil, Found,
			"1.0/26.10.7.10.in-addr.arpa rt-quill.quill.home.arpa", nil},
		{"the-garret", "network:net-garret", "nas", "A", nil, Found, "192.168.211.20", nil},
	} {
		t.Run(c.site+" "+c.who+" "+c.name, func(t *testing.T) {
			var changes []func(*site.Site)
			if c.change != nil {
				changes = append(changes, c.change)
			}
			a, err := world(c.site, changes...).Ask(Question{c.who, c.name, c.typ})
			require.NoError(t, err)
			assert.Equal(t, c.outcome, a.Outcome, "%+v", a.Steps)
			assert.Equal(t, c.values, strings.Join(a.Values, " "))
			var titles []string
			for _, s := range a.Steps {
				assert.NotRegexp(t, `  |^ | $|%!|invalid`, s.Title+"|"+s.Says)
				titles = append(titles, s.Title)
			}
			at := 0
			for _, want := range c.titles {
				i := slices.Index(titles[at:], want)
				require.GreaterOrEqual(t, i, 0, "%s in %q", want, titles)
				at += i + 1
			}
			if a.Outcome == Found {
				require.NotNil(t, a.Message)
				covered(t, a.Message)
			}
		})
	}
}

// covered asserts that every octet of a message is told.
func covered(t *testing.T, w *Wire) {
	t.Helper()
	at := 0
	for _, m := range w.Marks {
		assert.Equal(t, at, m.From, "%+v", w.Marks)
		at = m.To
	}
	assert.Equal(t, w.Size, at)
}

func TestQuestionsThatCannotBeAsked(t *testing.T) {
	w := world("kelder-bridge")
	for _, c := range []struct {
		q    Question
		says string
	}{
		{Question{"network:net-clinic", "a b", "A"}, "name: "},
		{Question{"network:net-clinic", "", "A"}, "name: a name is missing"},
		{Question{"network:net-clinic", "x", "NONSENSE"}, "type: "},
		{Question{"network:gone", "x", "A"}, "who: "},
		{Question{"reservation:gone", "x", "A"}, "who: "},
		{Question{"fixed:gone", "x", "A"}, "who: "},
		{Question{"device:gone", "x", "A"}, "who: "},
		{Question{"", "x", "A"}, "who: "},
	} {
		_, err := w.Ask(c.q)
		assert.ErrorContains(t, err, c.says, "%v", c.q)
	}
}

// Every name that the book of a site has inside is answered to a client there as the book says.
func TestTheBookIsWhatIsAnswered(t *testing.T) {
	for _, name := range scenario.Names {
		w := world(name)
		for _, p := range w.book.Inside {
			for _, e := range p.Entries {
				whole := strings.Replace(p.Whole(e), "*", "star", 1)
				d, ok := w.site.Device(w.site.Resolvers[0].Device)
				require.True(t, ok)
				s, _ := w.server(d)
				q := new(dns.Msg)
				q.SetQuestion(dns.Fqdn(whole), dns.StringToType[e.Type])
				reply := s.Answer(now, q, Asker{Own: true})
				var got []string
				for _, rr := range reply.Answer {
					got = append(got, zone.DataOf(rr, p.Name))
				}
				assert.Contains(t, got, e.Data, "%s %s", whole, e.Type)
			}
		}
	}
}

// The wire says what each octet is, whatever the message.
func TestEveryOctetIsTold(t *testing.T) {
	s := NewServer(config(), Around{Up: outside})
	rapid.Check(t, func(rt *rapid.T) {
		q := new(dns.Msg)
		name := rapid.SampledFrom([]string{"edge", "records", "gone", "gw-1", "known.lab", "far"}).Draw(rt, "name")
		q.SetQuestion(name+"."+kelder+".", rapid.SampledFrom([]uint16{dns.TypeA, dns.TypeMX, dns.TypeTXT}).Draw(rt,
			"type"))
		if rapid.Bool().Draw(rt, "edns") {
			q.SetEdns0(1232, false)
		}
		covered(t, Decode(s.Answer(now, q, desk)))
	})
}

// As the internet a dynamic name is answered with what its server was read to have, and the serial with it;
// what was not read is not shown.
func Test15TheInternetIsAnsweredWithWhatWasRead(t *testing.T) {
	s := scenario.Site("the-garret")
	w := s.Following[0]
	z, ok := s.ZoneOf(w.Name, site.Outside)
	require.True(t, ok)
	owner, _ := zone.Relative(w.Name, z.Name)
	world := func() *World { return NewWorld(now, s, compile.Names(s), nil) }
	ask := func(world *World, name, typ string) Answer {
		a, err := world.Ask(Question{Who: Internet, Name: name, Type: typ})
		require.NoError(t, err)
		return a
	}
	unknown := ask(world(), w.Name, "A")
	assert.Equal(t, Elsewhere, unknown.Outcome)
	assert.Contains(t, unknown.Steps[0].Says, "has not been read")
	assert.Contains(t, ask(world(), z.Name, "SOA").Values[0], " 0 ", "no serial that nobody has read")
	for _, whole := range []bool{true, false} {
		known := world()
		known.Read(map[string]ReadZone{z.Name: {At: now, Serial: 4711, Whole: whole,
			Records: []zone.Record{{Owner: owner, Type: "A", Data: "203.0.113.1", TTL: 120}}}})
		a := ask(known, w.Name, "A")
		assert.Equal(t, Found, a.Outcome)
		assert.Equal(t, []string{"203.0.113.1"}, a.Values)
		assert.Contains(t, a.Steps[0].Says, "Read on ")
		assert.Contains(t, ask(known, z.Name, "SOA").Values[0], " 4711 ")
	}
	empty := world()
	empty.Read(map[string]ReadZone{z.Name: {At: now, Serial: 4711, Whole: true}})
	assert.Equal(t, NoName, ask(empty, w.Name, "A").Outcome, "told or not, its server has no such name")
}

// Number 35: what a question ends with is its cause, computed and asked of the devices themselves.
func Test35AQuestionEndsWithItsCause(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	gw := s.Resolvers[0].Device
	ends := func(w *World, who, name string) Fell {
		a, err := w.Ask(Question{Who: who, Name: name})
		require.NoError(t, err)
		for _, step := range a.Steps {
			if step.State == Stopped {
				return step
			}
		}
		return Fell{}
	}
	taken := map[string][]yang.Program{gw: {{Name: "hostname-cache", Port: 53, Runs: true}}}
	unanswered := func(Asking, netip.Addr, string, uint16) (*dns.Msg, time.Duration, string) {
		return nil, 0, "Asked through it: timed out."
	}
	for what, w := range map[string]*World{"computed": NewWorld(now, s, compile.Names(s), nil),
		"live": NewLive(now, s, compile.Names(s), unanswered)} {
		assert.NotEqual(t, "port-taken", ends(w, "network:net-imaging", "gw-1").Rule, what)
		w.Beside(taken)
		for _, who := range []string{"network:net-imaging", "device:" + gw} {
			step := ends(w, who, "gw-1")
			assert.Equal(t, "port-taken", step.Rule, "%s, %s", what, who)
			assert.Contains(t, step.Says, "hostname-cache held port 53", "%s, %s", what, who)
		}
	}
	setOption(s, "net-imaging", 6, "198.51.100.53")
	missing := func(_ Asking, _ netip.Addr, name string, typ uint16) (*dns.Msg, time.Duration, string) {
		q := new(dns.Msg)
		q.SetQuestion(dns.Fqdn(name), typ)
		return new(dns.Msg).SetRcode(q, dns.RcodeNameError), time.Millisecond, ""
	}
	for what, w := range map[string]*World{"computed": NewWorld(now, s, compile.Names(s), nil),
		"live": NewLive(now, s, compile.Names(s), missing)} {
		assert.Equal(t, "dns-outside-first", ends(w, "network:net-imaging", "gw-1").Rule, what)
		assert.Empty(t, ends(w, "network:net-imaging", "www.elsewhere.example").Rule, "%s: it would know that", what)
	}
}

// Number 35: a device without a resolver asks the servers that it is told, and IPv6 addresses and the root are
// questions.
func Test35WhatIsAsked(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	s.Resolvers = nil
	var asked []string
	hear := func(_ Asking, at netip.Addr, name string, typ uint16) (*dns.Msg, time.Duration, string) {
		asked = append(asked, at.String()+" "+dns.Fqdn(name)+" "+dns.TypeToString[typ])
		q := new(dns.Msg)
		q.SetQuestion(dns.Fqdn(name), typ)
		return new(dns.Msg).SetRcode(q, dns.RcodeNameError), time.Millisecond, ""
	}
	w := NewLive(now, s, compile.Names(s), hear)
	far := "7." + strings.Repeat("0.", 29) + "d.f.ip6.arpa. PTR"
	for name, want := range map[string]string{"fd00::7": far, "::ffff:10.84.20.7": "7.20.84.10.in-addr.arpa. PTR",
		".": ". NS"} {
		asked = nil
		a, err := w.Ask(Question{Who: "device:dev-gw-1", Name: name, Type: "NS"})
		require.NoError(t, err)
		require.NotEmpty(t, asked, "%s: %+v", name, a.Steps)
		assert.Regexp(t, `^10\.84\.\d+\.\d+ `+regexp.QuoteMeta(want)+"$", asked[0])
		assert.NotEmpty(t, a.Name)
	}
	_, err := w.Ask(Question{Who: "device:dev-gw-1", Name: "fe80::1%eth0"})
	assert.Error(t, err)
}

// setOption sets an option of a network.
func setOption(s *site.Site, network string, code uint8, value string) {
	n, _ := s.Network(network)
	n.Options = append(slices.DeleteFunc(n.Options, func(o site.Option) bool { return o.Code == code }),
		site.Option{Code: code, Value: value})
}
