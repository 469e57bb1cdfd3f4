package internet

import (
	"cmp"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"maps"
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

// holder is what the provider keeps: zones that are read and written over the network, and keys.
type holder struct {
	mu     sync.Mutex
	zones  []yang.Zone
	keys   map[string]Key
	serial uint32

	accounts map[string]string          // of zones: the password
	followed map[string]followed        // dynamic names
	heard    map[string]time.Time       // signatures, until when they count
	asked    map[string][]time.Time     // of keys: the requests of the last minute
	guesses  map[netip.Addr][]time.Time // wrong passwords and keys of the last minute, by who sent them

	notify []netip.AddrPort // told when a zone changes (RFC 1996)
	file   string           // that it survives in; empty for none
	faults Faults
	sends  sync.WaitGroup
	rezone func() error // makes the servers anew
}

// keptHolder is what of the provider survives a restart.
type keptHolder struct {
	Serial   uint32              `json:"serial"`
	Zones    []yang.Zone         `json:"zones"`
	Keys     map[string]Key      `json:"keys"`
	Followed map[string]followed `json:"followed"`
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
	maps.Copy(h.keys, kept.Keys)
	maps.Copy(h.followed, kept.Followed)
	return nil
}

func (h *holder) save() error {
	if h.file == "" {
		return nil
	}
	raw, err := json.Marshal(keptHolder{h.serial, h.zones, h.keys, h.followed})
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

// Faults are what the provider can be told to get wrong, for tests.
type Faults struct {
	Silent      bool // answers no transfer and no update
	LoseAnswers int  // makes the next updates and does not answer them
	Refuse      int  // refuses the next updates that change something
	HalfAnswers int  // breaks off the answers to the next requests
	Slow        time.Duration
}

// serve answers what is more than a question of one name: transfers, updates, and news of zones that the
// provider is no secondary of.
func (h *holder) serve(w dns.ResponseWriter, q resolve.Question) bool {
	transfers := len(q.Msg.Question) == 1 && q.Msg.Question[0].Qtype == dns.TypeAXFR
	switch {
	case q.Msg.Response, h.silent() && (transfers || q.Msg.Opcode == dns.OpcodeUpdate):
		return true
	case q.Msg.Opcode == dns.OpcodeUpdate:
		if reply := h.update(w, q); !h.loses(q.Msg) {
			_ = w.WriteMsg(reply)
		}
	case q.Msg.Opcode == dns.OpcodeQuery && transfers:
		h.transfer(w, q)
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
func (h *holder) transfer(w dns.ResponseWriter, q resolve.Question) {
	m, reply := q.Msg, new(dns.Msg)
	reply.SetReply(m)
	k, ok := h.key(w, q, reply)
	h.mu.Lock()
	z, at := h.zone(zone.Tidy(m.Question[0].Name))
	serial := h.serial
	h.mu.Unlock()
	switch {
	case !ok:
	case at < 0:
		reply.Rcode = dns.RcodeNotAuth
	case !k.Reads || k.UpdateOnly || k.Zone != z.Name || !q.Stream:
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
func (h *holder) update(w dns.ResponseWriter, q resolve.Question) *dns.Msg {
	reply := new(dns.Msg)
	reply.SetReply(q.Msg)
	reply.Opcode = dns.OpcodeUpdate
	if q.IsEdns0() != nil {
		reply.SetEdns0(names.MaxUDP, false)
	}
	k, ok := h.key(w, q, reply)
	if !ok {
		return reply
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	why := ""
	if reply.Rcode, why = h.change(k, q.Msg); why != "" {
		explain(reply, why)
	}
	return reply
}

// change makes the changes of an update, or says why not, in words where the code alone does not tell.
func (h *holder) change(k Key, m *dns.Msg) (code int, why string) {
	if len(m.Question) != 1 || m.Question[0].Qtype != dns.TypeSOA || m.Question[0].Qclass != dns.ClassINET {
		return dns.RcodeFormatError, ""
	}
	z, at := h.zone(zone.Tidy(m.Question[0].Name))
	if at < 0 || k.Zone != z.Name {
		return dns.RcodeNotAuth, ""
	}
	server := unrecorded(z)
	z.Record = append(slices.Clone(z.Record), server...)
	if code := met(z, m.Answer); code != dns.RcodeSuccess {
		return code, ""
	}
	if len(m.Ns) > 0 && h.faults.Refuse > 0 {
		h.faults.Refuse--
		return dns.RcodeRefused, ""
	}
	before, was := z, slices.Clone(z.Record)
	before.Record = was
	for _, rr := range m.Ns {
		if code := wellFormed(z.Name, rr); code != dns.RcodeSuccess {
			return code, ""
		}
	}
	for _, rr := range m.Ns {
		if code, why := h.allows(k, before, rr); code != dns.RcodeSuccess {
			return code, why
		}
		apply(&z, rr)
	}
	if k.UpdateOnly && leavesNothing(was, z) {
		return dns.RcodeRefused, fmt.Sprintf("the key %s may change a name and not take it away", k.Name)
	}
	h.wrote(k, z, m.Ns)
	if slices.Equal(was, z.Record) {
		return dns.RcodeSuccess, ""
	}
	if len(server) > 0 && slices.Equal(server, set(z, zone.Apex, "NS")) {
		z.Record = slices.DeleteFunc(z.Record, func(r yang.Record) bool { return r == server[0] })
	}
	if err := h.put(at, z); err != nil {
		return dns.RcodeServerFailure, ""
	}
	return dns.RcodeSuccess, ""
}

// unrecorded is the name server that a zone without recorded ones is served with: for whoever looks at the zone it is
// one of its records.
func unrecorded(z yang.Zone) []yang.Record {
	if len(set(z, zone.Apex, "NS")) > 0 {
		return nil
	}
	ns := &dns.NS{Hdr: dns.RR_Header{Rrtype: dns.TypeNS}, Ns: dns.Fqdn(z.Primary)}
	return []yang.Record{{ID: "@/NS", Owner: zone.Apex, Type: "NS", Data: zone.DataOf(ns, z.Name)}}
}

// wellFormed looks at the form of one change of a zone (RFC 2136 section 3.4.1).
func wellFormed(of string, rr dns.RR) int {
	hd := rr.Header()
	any := hd.Class == dns.ClassANY
	switch {
	case hd.Class != dns.ClassINET && hd.Class != dns.ClassNONE && !any:
		return dns.RcodeFormatError
	case !zone.Within(zone.Tidy(hd.Name), of):
		return dns.RcodeNotZone
	case meta(hd.Rrtype) && !(any && hd.Rrtype == dns.TypeANY):
		return dns.RcodeFormatError
	case hd.Class != dns.ClassINET && hd.Ttl != 0, any && hd.Rdlength != 0:
		return dns.RcodeFormatError
	}
	return dns.RcodeSuccess
}

// meta reports whether a type is of questions and messages, and of no record that a zone has (RFC 6895 section 3.1).
func meta(typ uint16) bool { return typ == 0 || typ == dns.TypeOPT || typ >= 128 && typ <= 255 }

// leavesNothing reports whether a set that was there is gone.
func leavesNothing(was []yang.Record, z yang.Zone) bool {
	return slices.ContainsFunc(was, func(r yang.Record) bool { return len(set(z, r.Owner, r.Type)) == 0 })
}

// wrote notes who writes the addresses of names: a key for single names makes them follow, another is a hand.
func (h *holder) wrote(k Key, z yang.Zone, changes []dns.RR) {
	for _, rr := range changes {
		hd := rr.Header()
		name := zone.Tidy(hd.Name)
		switch {
		case !slices.Contains(addressTypes, dns.TypeToString[hd.Rrtype]) && hd.Rrtype != dns.TypeANY:
		case k.narrow():
			h.followed[name] = followed{k.Name, time.Now()}
		default:
			delete(h.followed, name)
		}
	}
}

// met checks the prerequisites of an update (RFC 2136 section 3.2).
func met(z yang.Zone, list []dns.RR) int {
	want := map[[2]string][]string{}
	for _, rr := range list {
		hd := rr.Header()
		owner, in := zone.Relative(zone.Tidy(hd.Name), z.Name)
		switch {
		case hd.Ttl != 0, hd.Class != dns.ClassINET && hd.Rdlength != 0:
			return dns.RcodeFormatError
		case !in:
			return dns.RcodeNotZone
		case hd.Class != dns.ClassINET && hd.Class != dns.ClassANY && hd.Class != dns.ClassNONE:
			return dns.RcodeFormatError
		}
		typ := dns.TypeToString[hd.Rrtype]
		if hd.Class == dns.ClassINET {
			key := [2]string{owner, typ}
			want[key] = append(want[key], zone.DataOf(rr, z.Name))
			continue
		}
		wants := hd.Class == dns.ClassANY // that it is there; of class NONE that it is not
		if hd.Rrtype == dns.TypeANY {
			if there := len(set(z, owner, "")) > 0; there != wants {
				return map[bool]int{true: dns.RcodeNameError, false: dns.RcodeYXDomain}[wants]
			}
		} else if there := len(set(z, owner, typ)) > 0; there != wants {
			return map[bool]int{true: dns.RcodeNXRrset, false: dns.RcodeYXRrset}[wants]
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

// allows says whether a key may make one change of a zone as it was, and whether it can be made.
func (h *holder) allows(k Key, z yang.Zone, rr dns.RR) (code int, why string) {
	hd := rr.Header()
	name, typ := zone.Tidy(hd.Name), dns.TypeToString[hd.Rrtype]
	if hd.Rrtype == dns.TypeANY && (hd.Class != dns.ClassANY || len(k.Types) > 0) || !k.allowed(name, typ) {
		return dns.RcodeRefused, fmt.Sprintf("the key %s may not write %s %s", k.Name, name, typ)
	}
	if data := h.fixed(z, name); k.narrow() && slices.Contains(addressTypes, typ) && len(data) > 0 {
		return dns.RcodeRefused, byHand(name, data)
	}
	if _, ok := zone.Of(rr, z.Name); hd.Class == dns.ClassINET && !ok {
		return dns.RcodeRefused, ""
	}
	return dns.RcodeSuccess, ""
}

// apply makes one change (RFC 2136 section 3.4.2).
func apply(z *yang.Zone, rr dns.RR) {
	hd := rr.Header()
	owner, _ := zone.Relative(zone.Tidy(hd.Name), z.Name)
	typ := dns.TypeToString[hd.Rrtype]
	same := func(r yang.Record) bool { return strings.EqualFold(r.Owner, owner) }
	apexNS := func(r yang.Record) bool { return r.Owner == zone.Apex && r.Type == "NS" }
	last := len(set(*z, zone.Apex, "NS")) == 1 // name server, which stays
	switch hd.Class {
	case dns.ClassANY: // a set, or every set of a name
		z.Record = slices.DeleteFunc(z.Record, func(r yang.Record) bool {
			return same(r) && !apexNS(r) && (hd.Rrtype == dns.TypeANY || r.Type == typ)
		})
	case dns.ClassNONE: // one record
		data := zone.DataOf(rr, z.Name)
		z.Record = slices.DeleteFunc(z.Record, func(r yang.Record) bool {
			return same(r) && !(apexNS(r) && last) && r.Type == typ && r.Data == data
		})
	case dns.ClassINET:
		add(z, rr, owner, typ)
	}
}

// add puts a record into its set, in place of an equal one.
func add(z *yang.Zone, rr dns.RR, owner, typ string) {
	r, _ := zone.Of(rr, z.Name)
	here := set(*z, owner, "")
	aliased := slices.ContainsFunc(here, func(o yang.Record) bool { return o.Type == "CNAME" })
	if typ != "CNAME" && aliased || typ == "CNAME" && len(here) > 0 && !aliased {
		return // an alias has nothing beside it; RFC 2136 passes over such a change
	}
	ofSet := func(o yang.Record) bool { return strings.EqualFold(o.Owner, owner) && o.Type == typ }
	z.Record = slices.DeleteFunc(z.Record, func(o yang.Record) bool {
		return ofSet(o) && (o.Data == r.Data || typ == "CNAME")
	})
	for i := range z.Record {
		if ofSet(z.Record[i]) {
			z.Record[i].TTL = r.TTL // a set has one TTL (RFC 2181 section 5.2)
		}
	}
	z.Record = append(z.Record, yang.Record{ID: owner + "/" + typ + "/" + r.Data, Owner: owner, Type: typ,
		Data: r.Data, TTL: r.TTL})
}
