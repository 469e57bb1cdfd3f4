package internet

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/dynamicnames"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/outbound"
	"lithos/internal/zonetransfer"
)

func emptyHolder() *holder {
	return &holder{keys: map[string]Key{}, accounts: map[string]string{}, followed: map[string]followed{},
		heard: map[string]time.Time{}, asked: map[string][]time.Time{}, rezone: func() error { return nil }}
}

const (
	requestTo = "https://" + RequestName
	away      = "away." + larkrise
)

// asked is an internet with an account for a zone, the way to its services, and a narrow key.
func asked(t *testing.T) (n *Internet, web zonetransfer.Web, a zonetransfer.Account, key string) {
	t.Helper()
	n, _ = held(t)
	n.AddAccount(larkrise, "cobble-and-fern")
	web = zonetransfer.Web{Rule: outbound.Loopback(), Trust: n.Certifier().Pool(), At: n.Web()}
	a = zonetransfer.Account{Web: web, To: requestTo, Zone: larkrise, Password: "cobble-and-fern"}
	made, err := a.Make(t.Context(), zonetransfer.KeyWish{Name: "away.larkrise",
		Limits: dynamicnames.Limits{Names: []string{away}, Types: []string{"A", "AAAA"}, UpdateOnly: true}})
	require.NoError(t, err)
	return n, web, a, made.Secret
}

func addresses(list ...string) zonetransfer.Telling {
	var out zonetransfer.Telling
	for _, a := range list {
		out.Addresses = append(out.Addresses, netip.MustParseAddr(a))
	}
	return out
}

// A name is told its address by a request: changed, unchanged, and refused with the reason; nothing else changes.
func TestRequestsTell(t *testing.T) {
	n, web, _, key := asked(t)
	was, _ := n.Zone(larkrise)
	tell := func(name, key string, w zonetransfer.Telling) (string, error) {
		v, _, err := web.Tell(t.Context(), requestTo, name, key, w)
		return v.Outcome, err
	}
	outcome, err := tell(away, key, addresses("203.0.113.7", "2001:db8::7"))
	require.NoError(t, err)
	assert.Equal(t, zonetransfer.Changed, outcome)
	outcome, err = tell(away, key, addresses("203.0.113.7", "2001:db8::7"))
	require.NoError(t, err)
	assert.Equal(t, zonetransfer.Unchanged, outcome)
	for says, one := range map[string]struct {
		name, key string
		w         zonetransfer.Telling
	}{
		"may not write www2.larkrise.example A": {"www2." + larkrise, key, addresses("203.0.113.7")},
		"is not of the zone of":                 {"www.quill.example", key, addresses("203.0.113.7")},
		"nobody has this key":                   {away, "c29tZWJvZHkgZWxzZSdzIGtleQ==", addresses("203.0.113.7")},
		"one address of a family":               {away, key, addresses("203.0.113.7", "203.0.113.8")},
	} {
		_, err := tell(one.name, one.key, one.w)
		require.ErrorAs(t, err, new(*zonetransfer.RefusedError), says)
		assert.ErrorContains(t, err, says)
	}
	now, _ := n.Zone(larkrise)
	rest := slices.DeleteFunc(slices.Clone(now.Record), func(r yang.Record) bool { return r.Owner == "away" })
	assert.Equal(t, was.Record, rest)
	assert.Len(t, now.Record, len(was.Record)+2)

	a, err := web.OwnAddress(t.Context(), requestTo+"/v1/address")
	require.NoError(t, err)
	assert.True(t, a.IsLoopback(), "the caller's own")
	outcome, err = tell(away, key, zonetransfer.Telling{})
	require.NoError(t, err)
	assert.Equal(t, zonetransfer.Changed, outcome, "without an address it is the caller's own")
}

// Who asks too often is told when to ask again, and nothing is changed until then.
func TestAskedTooOften(t *testing.T) {
	n, _, _, key := asked(t)
	now := time.Now()
	for i := range mostAsked {
		_, v := n.holder.tell(now, key, netip.Addr{}, away, addresses("203.0.113.7"))
		require.NotEqual(t, zonetransfer.TooOften, v.Outcome, i)
	}
	status, v := n.holder.tell(now, key, netip.Addr{}, away, addresses("203.0.113.8"))
	assert.Equal(t, http.StatusTooManyRequests, status)
	assert.Equal(t, 60, v.After)
	z, _ := n.Zone(larkrise)
	assert.Equal(t, "203.0.113.7", set(z, "away", "A")[0].Data)
	_, v = n.holder.tell(now.Add(time.Minute), key, netip.Addr{}, away, addresses("203.0.113.8"))
	assert.Equal(t, zonetransfer.Changed, v.Outcome)
}

// A record written by hand is left alone until somebody says that it shall follow; both ways say what will happen.
func TestFixedRecordIsLeftAlone(t *testing.T) {
	n, web, a, _ := asked(t)
	const www = "www." + larkrise
	other := newSecret()
	wish := zonetransfer.KeyWish{Name: "www.larkrise", Limits: dynamicnames.Limits{Names: []string{www},
		Types: []string{"A"}}}
	_, err := a.Make(t.Context(), wish)
	var refused *zonetransfer.RefusedError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, zonetransfer.FixedRecord, refused.Code)
	assert.Contains(t, refused.Says, "www.larkrise.example is written by hand as 203.0.113.80")
	origin := func() string {
		sets, err := a.Records(t.Context())
		require.NoError(t, err)
		return sets[slices.IndexFunc(sets, func(s dynamicnames.Set) bool { return s.Name == www })].Origin
	}
	assert.Equal(t, "hand", origin())

	n.holder.mu.Lock()
	n.holder.keys["www.larkrise"] = Key{Name: "www.larkrise", Secret: other, Zone: larkrise, Limits: wish.Limits}
	n.holder.mu.Unlock()
	_, _, err = web.Tell(t.Context(), requestTo, www, other, addresses("203.0.113.9"))
	assert.ErrorContains(t, err, "is written by hand as 203.0.113.80")
	at, _ := n.Endpoint(Provider)
	s := zonetransfer.Server{Rule: outbound.Loopback(), At: at.Plain, Zone: larkrise, Key: "www.larkrise",
		Algorithm: "hmac-sha256", Secret: other}
	err = s.Replace(t.Context(), []zone.Record{record("www", "A", "203.0.113.9")})
	assert.ErrorContains(t, err, "is written by hand as 203.0.113.80", "an UPDATE is told why, too (RFC 8914)")

	follow := addresses("203.0.113.9")
	follow.Follow = true
	v, _, err := web.Tell(t.Context(), requestTo, www, other, follow)
	require.NoError(t, err)
	assert.Equal(t, zonetransfer.Changed, v.Outcome)
	assert.Equal(t, "following", origin())
	require.NoError(t, s.Replace(t.Context(), []zone.Record{record("www", "A", "203.0.113.10")}), "it follows now")
}

// A key does what it was made for: update only, until its end, from where it may; it is counted, replaced without a
// gap, and revoked.
func TestKeysAreMade(t *testing.T) {
	n, web, a, key := asked(t)
	ctx := t.Context()
	at, _ := n.Endpoint(Provider)
	by := func(name, secret string) zonetransfer.Server {
		return zonetransfer.Server{Rule: outbound.Loopback(), At: at.Plain, Zone: larkrise, Key: name,
			Algorithm: "hmac-sha512", Secret: secret}
	}
	put := func(s zonetransfer.Server, data string) error {
		return s.Replace(ctx, []zone.Record{record("away", "A", data)})
	}
	own := by("away.larkrise", key)
	require.NoError(t, put(own, "203.0.113.7"))
	_, err := own.Read(ctx)
	require.ErrorAs(t, err, new(*zonetransfer.RefusedError), "it does not read")
	require.ErrorContains(t, own.Remove(ctx, []zone.Record{record("away", "A", "203.0.113.7")}), "not take it away")

	fresh, err := a.Replace(ctx, "away.larkrise", time.Hour)
	require.NoError(t, err)
	require.NoError(t, put(own, "203.0.113.8"), "the old one is taken for a while")
	require.NoError(t, put(by(fresh.Name, fresh.Secret), "203.0.113.9"))
	require.NoError(t, a.Revoke(ctx, "away.larkrise"))
	require.ErrorContains(t, put(own, "203.0.113.10"), "does not know the key")
	_, _, err = web.Tell(ctx, requestTo, away, key, addresses("203.0.113.10"))
	require.ErrorContains(t, err, "nobody has this key")
	require.Error(t, a.Revoke(ctx, "away.larkrise"))

	ended, err := a.Make(ctx, zonetransfer.KeyWish{Name: "ended", Limits: dynamicnames.Limits{Names: []string{away},
		Ends: time.Now().Add(-time.Minute)}})
	require.NoError(t, err)
	require.ErrorContains(t, put(by("ended", ended.Secret), "203.0.113.10"), "the key ended ended on")
	far, err := a.Make(ctx, zonetransfer.KeyWish{Name: "far", Limits: dynamicnames.Limits{Names: []string{away},
		From: []netip.Prefix{netip.MustParsePrefix("203.0.113.0/24")}}})
	require.NoError(t, err)
	require.ErrorContains(t, put(by("far", far.Secret), "203.0.113.10"), "may not come from 127.0.0.1")
	_, _, err = web.Tell(ctx, requestTo, away, far.Secret, addresses("203.0.113.10"))
	require.ErrorContains(t, err, "may not come from 127.0.0.1")

	keys, err := a.Keys(ctx)
	require.NoError(t, err)
	held := keys[slices.IndexFunc(keys, func(k dynamicnames.Key) bool { return k.Name == fresh.Name })]
	assert.Equal(t, 1, held.Uses)
	assert.WithinDuration(t, time.Now(), held.Used, time.Minute)
	assert.True(t, held.UpdateOnly, "what the old one might")
	raw, err := json.Marshal(keys)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), fresh.Secret, "a key is shown once")
	a.Password = "another"
	_, err = a.Keys(ctx)
	require.ErrorContains(t, err, "account or its password is wrong")
}

// A message that was heard before counts once, and its second answer says that its time is over.
func TestReplayedUpdate(t *testing.T) {
	_, s := held(t)
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(larkrise))
	rr, _ := dns.NewRR("away.larkrise.example. 60 IN A 203.0.113.5")
	m.Insert([]dns.RR{rr})
	m.SetTsig("all.larkrise.", dns.HmacSHA256, 300, time.Now().Unix())
	raw, _, err := dns.TsigGenerate(m, secret, "", false)
	require.NoError(t, err)
	send := func() *dns.Msg {
		conn, err := dns.DialTimeout("tcp", s.At.String(), time.Second)
		require.NoError(t, err)
		defer func() { _ = conn.Close() }()
		_, err = conn.Write(raw)
		require.NoError(t, err)
		conn.TsigSecret = map[string]string{"all.larkrise.": secret}
		reply, _ := conn.ReadMsg()
		require.NotNil(t, reply)
		return reply
	}
	assert.Equal(t, dns.RcodeSuccess, send().Rcode)
	require.NoError(t, s.Replace(t.Context(), []zone.Record{record("away", "A", "203.0.113.6")}))
	again := send()
	assert.Equal(t, dns.RcodeNotAuth, again.Rcode)
	assert.EqualValues(t, dns.RcodeBadTime, again.IsTsig().Error)
	now, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.Contains(t, now.Records, record("away", "A", "203.0.113.6"), "the old message has not won")
}

// A provider that breaks its answer off, is slow or silent is told apart, and what was sent counts once.
func TestRequestsFail(t *testing.T) {
	n, web, _, key := asked(t)
	n.Inject(Faults{HalfAnswers: 1})
	_, _, err := web.Tell(t.Context(), requestTo, away, key, addresses("203.0.113.7"))
	require.ErrorContains(t, err, "broke its answer off")
	v, _, err := web.Tell(t.Context(), requestTo, away, key, addresses("203.0.113.7"))
	require.NoError(t, err)
	assert.Equal(t, zonetransfer.Unchanged, v.Outcome, "it had been done")
	n.Inject(Faults{Slow: 50 * time.Millisecond})
	_, _, err = web.Tell(t.Context(), requestTo, away, key, addresses("203.0.113.8"))
	require.NoError(t, err)
	n.Inject(Faults{Silent: true})
	_, _, err = web.Tell(t.Context(), requestTo, away, key, addresses("203.0.113.9"))
	require.ErrorContains(t, err, "did not answer in time")
	web.Trust = nil
	_, _, err = web.Tell(t.Context(), requestTo, away, key, addresses("203.0.113.9"))
	require.ErrorContains(t, err, "nobody who is trusted has signed")
}

// Resolvers that anybody may ask answer what they were told before, for as long as they may.
func TestResolversRemember(t *testing.T) {
	n, s := held(t)
	ctx := t.Context()
	short := record("away", "A", "203.0.113.7")
	short.TTL = 1
	require.NoError(t, s.Replace(ctx, []zone.Record{short}))
	assert.Equal(t, []string{"203.0.113.7"}, ask(t, n, away, dns.TypeA))
	short.Data = "203.0.113.8"
	require.NoError(t, s.Replace(ctx, []zone.Record{short}))
	assert.Eventually(t, func() bool { return slices.Equal(ask(t, n, away, dns.TypeA), []string{"203.0.113.8"}) },
		10*time.Second, 20*time.Millisecond)
}

// Whatever a request says, the provider answers, and changes nothing but the name of its key.
func FuzzTell(f *testing.F) {
	f.Add("away.larkrise.example", "Bearer "+secret, []byte(`{"addresses":["203.0.113.7","2001:db8::7"],"below":true}`))
	f.Add("*.larkrise.example", "Bearer "+secret, []byte(`{"addresses":["::ffff:203.0.113.7"],"ttl":-1,"follow":true}`))
	f.Add("x", "Bearer", []byte(`{"addresses":["fe80::1%eth0"]}`))
	h := emptyHolder()
	key := Key{Name: "away", Zone: larkrise,
		Secret: base64.StdEncoding.EncodeToString([]byte("sixteen octets, at least")),
		Limits: dynamicnames.Limits{Names: []string{away, "*." + away}}}
	mux := http.NewServeMux()
	h.operations(mux)
	rest := []yang.Record{{ID: "a", Owner: "www", Type: "A", Data: "203.0.113.80"},
		{ID: "b", Owner: zone.Apex, Type: "NS", Data: "ns"}}
	f.Fuzz(func(t *testing.T, name, bearer string, body []byte) {
		h.zones = []yang.Zone{{Name: larkrise, TTL: 60, Record: slices.Clone(rest)}}
		h.keys[key.Name] = key
		clear(h.asked)
		r := httptest.NewRequest(http.MethodPut, "/v1/names/x", bytes.NewReader(body))
		r.URL.Path, r.URL.RawPath = "/v1/names/"+name, ""
		r.Header["Authorization"] = []string{bearer}
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		mux.ServeHTTP(w, r)
		z, _ := h.zone(larkrise)
		for _, r := range z.Record {
			if _, err := r.Text().RR(larkrise, 60); err != nil {
				t.Fatalf("holds %v, which it cannot send: %v", r, err)
			}
		}
		left := slices.DeleteFunc(slices.Clone(z.Record), func(r yang.Record) bool {
			return r.Owner == "away" || r.Owner == "*.away"
		})
		assert.Equal(t, rest, left)
	})
}

// Whoever tries passwords and keys waits, however right the next one is; nobody else does.
func TestAttack05GuessesAreSlowed(t *testing.T) {
	n, err := Start()
	require.NoError(t, err)
	t.Cleanup(n.Close)
	h := n.holder
	h.accounts[larkrise] = "right"
	now := time.Now()
	evil, good := netip.MustParseAddr("198.51.100.66"), netip.MustParseAddr("198.51.100.7")
	for range mostGuesses {
		assert.Zero(t, h.guessing(evil, now))
		status, _ := h.tell(now, "wrong", evil, "www."+larkrise, zonetransfer.Telling{})
		assert.Equal(t, http.StatusUnauthorized, status)
	}
	status, v := h.tell(now, "wrong", evil, "www."+larkrise, zonetransfer.Telling{})
	assert.Equal(t, http.StatusTooManyRequests, status)
	assert.Equal(t, 60, v.After)
	_, err = managed(h, &OfZone{Caller: Caller{Authorization: "Bearer right", at: evil}, Zone: larkrise},
		func(yang.Zone) (int, error) { return 0, nil })
	require.ErrorContains(t, err, "Too many wrong passwords")
	assert.Zero(t, h.guessing(good, now))
	assert.Zero(t, h.guessing(evil, now.Add(time.Minute)))
}
