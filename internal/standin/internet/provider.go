package internet

import (
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"lithos/core/names"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/standin/resolve"
)

// Key is a TSIG key (RFC 8945) of the provider, and what it may do.
type Key struct {
	Name   string   `json:"name"`
	Secret string   `json:"secret"` // base64
	Zone   string   `json:"zone"`
	Names  []string `json:"names,omitempty"` // whole names that it may write; none listed: all of the zone
	Types  []string `json:"types,omitempty"` // of records that it may write; none listed: all
	Reads  bool     `json:"reads"`           // whether it may read the zone whole
}

// may reports whether the key may write records of a name and type.
func (k Key) may(name string, typ uint16) bool {
	return (len(k.Names) == 0 || slices.Contains(k.Names, name)) &&
		(len(k.Types) == 0 || slices.Contains(k.Types, dns.TypeToString[typ]))
}

// holder is what the provider keeps: zones that are read and written over the network, and keys.
type holder struct {
	mu     sync.Mutex
	zones  []yang.Zone
	keys   map[string]Key
	serial uint32
	notify []netip.AddrPort // told when a zone changes (RFC 1996)
	file   string           // that it survives in; empty for none
	faults Faults
	sends  sync.WaitGroup
	rezone func() error // makes the servers anew
}

// keptHolder is what of the provider survives a restart.
type keptHolder struct {
	Serial uint32      `json:"serial"`
	Zones  []yang.Zone `json:"zones"`
}

// restore reads what an earlier run left.
func (h *holder) restore(file string) error {
	h.file = file
	raw, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	var kept keptHolder
	if err = cmp.Or(err, json.Unmarshal(raw, &kept)); err != nil {
		return fmt.Errorf("what the provider kept: %w", err)
	}
	h.serial, h.zones = max(h.serial, kept.Serial), kept.Zones
	return nil
}

func (h *holder) save() error {
	if h.file == "" {
		return nil
	}
	raw, err := json.Marshal(keptHolder{h.serial, h.zones})
	if err != nil {
		return err
	}
	if err := os.WriteFile(h.file+".new", raw, 0o600); err != nil {
		return err
	}
	return os.Rename(h.file+".new", h.file)
}

// zone is a copy of a zone that may be changed.
func (h *holder) zone(name string) (z yang.Zone, at int) {
	at = slices.IndexFunc(h.zones, func(z yang.Zone) bool { return z.Name == name })
	if at < 0 {
		return z, at
	}
	z = h.zones[at]
	z.Record = slices.Clone(z.Record)
	return z, at
}

// put takes a zone's place and tells who wants to know.
func (h *holder) put(at int, z yang.Zone) error {
	h.zones[at] = z
	h.serial++
	if err := errors.Join(h.save(), h.rezone()); err != nil {
		return err
	}
	for _, to := range h.notify {
		m := new(dns.Msg)
		m.SetNotify(dns.Fqdn(z.Name))
		m.Answer = []dns.RR{names.StartOf(z, h.serial)}
		h.sends.Go(func() { notify(to, m) })
	}
	return nil
}

// notify tells a server that a zone has changed, until it says that it has heard.
func notify(to netip.AddrPort, m *dns.Msg) {
	c := dns.Client{Timeout: time.Second}
	for range 3 {
		if _, _, err := c.Exchange(m, to.String()); err == nil {
			return
		}
	}
}

var algorithms = map[string]func() hash.Hash{dns.HmacSHA256: sha256.New, dns.HmacSHA384: sha512.New384,
	dns.HmacSHA512: sha512.New}

// Generate implements dns.TsigProvider.
func (h *holder) Generate(msg []byte, t *dns.TSIG) ([]byte, error) {
	h.mu.Lock()
	key, ok := h.keys[zone.Tidy(t.Hdr.Name)]
	h.mu.Unlock()
	how := algorithms[dns.CanonicalName(t.Algorithm)]
	secret, err := base64.StdEncoding.DecodeString(key.Secret)
	if !ok || how == nil || err != nil {
		return nil, dns.ErrSecret
	}
	mac := hmac.New(how, secret)
	_, _ = mac.Write(msg)
	return mac.Sum(nil), nil
}

// Verify implements dns.TsigProvider.
func (h *holder) Verify(msg []byte, t *dns.TSIG) error {
	want, err := h.Generate(msg, t)
	if err != nil {
		return err
	}
	got, err := hex.DecodeString(t.MAC)
	if err != nil || !hmac.Equal(want, got) {
		return dns.ErrSig
	}
	return nil
}

// key is the key that signed a message. Where its signature does not count, reply says why (RFC 8945
// section 5.2); ok is false for that and for a message without one.
func (h *holder) key(w dns.ResponseWriter, m, reply *dns.Msg) (k Key, ok bool) {
	t := m.IsTsig()
	if t == nil {
		reply.Rcode = dns.RcodeRefused
		return Key{}, false
	}
	reply.SetTsig(t.Hdr.Name, t.Algorithm, t.Fudge, time.Now().Unix())
	if err := w.TsigStatus(); err != nil {
		reply.Rcode = dns.RcodeNotAuth
		own := reply.IsTsig()
		switch {
		case errors.Is(err, dns.ErrTime):
			own.Error = dns.RcodeBadTime
		case errors.Is(err, dns.ErrSecret):
			own.Error = dns.RcodeBadKey
		default:
			own.Error = dns.RcodeBadSig
		}
		return Key{}, false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	k, ok = h.keys[zone.Tidy(t.Hdr.Name)]
	if !ok {
		reply.Rcode = dns.RcodeRefused
	}
	return k, ok
}

// Faults are what the provider can be told to get wrong, for tests.
type Faults struct {
	Silent      bool // answers no transfer and no update
	LoseAnswers int  // makes the next updates and does not answer them
	Refuse      int  // refuses the next updates that change something
}

// serve answers what is more than a question of one name: transfers, updates, and news of zones that the
// provider is no secondary of.
func (h *holder) serve(w dns.ResponseWriter, q resolve.Question) bool {
	transfers := len(q.Msg.Question) == 1 && q.Msg.Question[0].Qtype == dns.TypeAXFR
	switch {
	case q.Msg.Response, h.silent() && (transfers || q.Msg.Opcode == dns.OpcodeUpdate):
		return true
	case q.Msg.Opcode == dns.OpcodeUpdate:
		if reply := h.update(w, q.Msg); !h.loses(q.Msg) {
			_ = w.WriteMsg(reply)
		}
	case q.Msg.Opcode == dns.OpcodeQuery && transfers:
		h.transfer(w, q.Msg, q.Stream)
	case q.Msg.Opcode == dns.OpcodeNotify:
		_ = w.WriteMsg(new(dns.Msg).SetRcode(q.Msg, dns.RcodeNotAuth))
	default:
		return false
	}
	return true
}

func (h *holder) silent() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.faults.Silent
}

// loses reports whether the answer to an update gets lost.
func (h *holder) loses(m *dns.Msg) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(m.Ns) == 0 || h.faults.LoseAnswers == 0 {
		return false
	}
	h.faults.LoseAnswers--
	return true
}

// transfer sends a zone whole (RFC 5936), over a stream, to a key that may read it.
func (h *holder) transfer(w dns.ResponseWriter, m *dns.Msg, stream bool) {
	reply := new(dns.Msg)
	reply.SetReply(m)
	k, ok := h.key(w, m, reply)
	h.mu.Lock()
	z, at := h.zone(zone.Tidy(m.Question[0].Name))
	serial := h.serial
	h.mu.Unlock()
	switch {
	case !ok:
	case at < 0:
		reply.Rcode = dns.RcodeNotAuth
	case !k.Reads || k.Zone != z.Name || !stream:
		reply.Rcode = dns.RcodeRefused
	default:
		all := names.Whole(z, serial)
		ch := make(chan *dns.Envelope)
		go func() {
			defer close(ch)
			for part := range slices.Chunk(append(all, all[0]), 100) {
				ch <- &dns.Envelope{RR: part}
			}
		}()
		t := &dns.Transfer{TsigProvider: h}
		if err := t.Out(w, m, ch); err != nil {
			for range ch { // who asked has gone
			}
		}
		return
	}
	_ = w.WriteMsg(reply)
}

// update changes a zone (RFC 2136 section 3), whole or not at all.
func (h *holder) update(w dns.ResponseWriter, m *dns.Msg) *dns.Msg {
	reply := new(dns.Msg)
	reply.SetReply(m)
	reply.Opcode = dns.OpcodeUpdate
	k, ok := h.key(w, m, reply)
	if !ok {
		return reply
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	reply.Rcode = h.change(k, m)
	return reply
}

func (h *holder) change(k Key, m *dns.Msg) int {
	if len(m.Question) != 1 || m.Question[0].Qtype != dns.TypeSOA || m.Question[0].Qclass != dns.ClassINET {
		return dns.RcodeFormatError
	}
	z, at := h.zone(zone.Tidy(m.Question[0].Name))
	if at < 0 || k.Zone != z.Name {
		return dns.RcodeNotAuth
	}
	if code := met(z, m.Answer); code != dns.RcodeSuccess {
		return code
	}
	if len(m.Ns) > 0 && h.faults.Refuse > 0 {
		h.faults.Refuse--
		return dns.RcodeRefused
	}
	was := slices.Clone(z.Record)
	for _, rr := range m.Ns {
		if code := k.allows(z.Name, rr); code != dns.RcodeSuccess {
			return code
		}
		apply(&z, rr)
	}
	if slices.Equal(was, z.Record) {
		return dns.RcodeSuccess
	}
	if err := h.put(at, z); err != nil {
		return dns.RcodeServerFailure
	}
	return dns.RcodeSuccess
}

// met checks the prerequisites of an update (RFC 2136 section 3.2).
func met(z yang.Zone, list []dns.RR) int {
	want := map[[2]string][]string{}
	for _, rr := range list {
		hd := rr.Header()
		owner, in := zone.Relative(zone.Tidy(hd.Name), z.Name)
		if !in {
			return dns.RcodeNotZone
		}
		typ := dns.TypeToString[hd.Rrtype]
		at := set(z, owner, typ)
		switch {
		case hd.Class == dns.ClassANY && hd.Rrtype == dns.TypeANY && len(set(z, owner, "")) == 0:
			return dns.RcodeNameError
		case hd.Class == dns.ClassANY && hd.Rrtype != dns.TypeANY && len(at) == 0:
			return dns.RcodeNXRrset
		case hd.Class == dns.ClassNONE && hd.Rrtype == dns.TypeANY && len(set(z, owner, "")) > 0:
			return dns.RcodeYXDomain
		case hd.Class == dns.ClassNONE && hd.Rrtype != dns.TypeANY && len(at) > 0:
			return dns.RcodeYXRrset
		case hd.Class == dns.ClassINET:
			key := [2]string{owner, typ}
			want[key] = append(want[key], zone.DataOf(rr, z.Name))
		}
	}
	for key, values := range want {
		var has []string
		for _, r := range set(z, key[0], key[1]) {
			has = append(has, r.Data)
		}
		slices.Sort(values)
		slices.Sort(has)
		if !slices.Equal(values, has) {
			return dns.RcodeNXRrset
		}
	}
	return dns.RcodeSuccess
}

// set is the records of an owner and type; of all types where it is empty.
func set(z yang.Zone, owner, typ string) []yang.Record {
	return slices.DeleteFunc(slices.Clone(z.Record), func(r yang.Record) bool {
		return !strings.EqualFold(r.Owner, owner) || typ != "" && r.Type != typ
	})
}

// allows says whether a key may make one change, and whether it can be made.
func (k Key) allows(in string, rr dns.RR) int {
	hd := rr.Header()
	name := zone.Tidy(hd.Name)
	if !zone.Within(name, in) {
		return dns.RcodeNotZone
	}
	if hd.Rrtype == dns.TypeANY && (hd.Class != dns.ClassANY || len(k.Types) > 0) || !k.may(name, hd.Rrtype) {
		return dns.RcodeRefused
	}
	if _, ok := zone.Of(rr, in); hd.Class == dns.ClassINET && !ok {
		return dns.RcodeRefused
	}
	return dns.RcodeSuccess
}

// apply makes one change (RFC 2136 section 3.4.2).
func apply(z *yang.Zone, rr dns.RR) {
	hd := rr.Header()
	owner, _ := zone.Relative(zone.Tidy(hd.Name), z.Name)
	typ := dns.TypeToString[hd.Rrtype]
	same := func(r yang.Record) bool { return strings.EqualFold(r.Owner, owner) }
	apexNS := func(r yang.Record) bool { return r.Owner == zone.Apex && r.Type == "NS" }
	switch hd.Class {
	case dns.ClassANY: // a set, or every set of a name
		z.Record = slices.DeleteFunc(z.Record, func(r yang.Record) bool {
			return same(r) && !apexNS(r) && (hd.Rrtype == dns.TypeANY || r.Type == typ)
		})
	case dns.ClassNONE: // one record
		data := zone.DataOf(rr, z.Name)
		z.Record = slices.DeleteFunc(z.Record, func(r yang.Record) bool {
			return same(r) && !apexNS(r) && r.Type == typ && r.Data == data
		})
	case dns.ClassINET:
		r, _ := zone.Of(rr, z.Name)
		here := set(*z, owner, "")
		aliased := slices.ContainsFunc(here, func(o yang.Record) bool { return o.Type == "CNAME" })
		if typ != "CNAME" && aliased || typ == "CNAME" && len(here) > 0 && !aliased {
			return // an alias has nothing beside it; RFC 2136 passes over such a change
		}
		now := yang.Record{ID: owner + "/" + typ + "/" + r.Data, Owner: owner, Type: typ, Data: r.Data, TTL: r.TTL}
		z.Record = slices.DeleteFunc(z.Record, func(o yang.Record) bool {
			return same(o) && o.Type == typ && (o.Data == r.Data || typ == "CNAME")
		})
		for i := range z.Record {
			if same(z.Record[i]) && z.Record[i].Type == typ {
				z.Record[i].TTL = r.TTL // a set has one TTL (RFC 2181 section 5.2)
			}
		}
		z.Record = append(z.Record, now)
	}
}
