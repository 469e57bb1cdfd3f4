package names

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/miekg/dns"

	"lithos/core/yang"
	"lithos/core/zone"
)

// forward asks other servers in order until one answers; the forwarders where list is nil.
func (f *fall) forward(name string, typ uint16, list []yang.NameServer) (result, string) {
	fails := func(says, rule string) (result, string) {
		f.step(Forwarded, Stopped, "No answer", says, "")
		if f.traced() {
			(*f.steps)[len(*f.steps)-1].Rule = rule
		}
		return result{code: dns.RcodeServerFailure}, ""
	}
	if r, done := f.withoutAsking(name, typ); done {
		return r, ""
	}
	layer := Servers
	if list == nil {
		layer, list = Forwarded, f.settings.Forwarder
	}
	switch {
	case len(list) == 0 && layer == Servers:
		return fails("Nothing says where the servers of the zone are.", "")
	case len(list) == 0:
		return fails("Nothing says whom to ask for names that are not the site's own.", "no-forwarder")
	}
	if f.up == nil {
		return fails(addressesOf(list)+" would be asked.", "")
	}
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	// The site's own servers for single domains are its own to trust: what they answer is not checked.
	signed := layer == Forwarded && f.settings.Validate
	checks := signed && !f.unchecked
	q.SetEdns0(MaxUDP, signed)
	q.CheckingDisabled = signed // the check is made here, with a reason when it fails
	var why []string
	for _, to := range list {
		if f.asks++; f.asks > maxAsked {
			return fails("Too many servers would have to be asked for one question.", "")
		}
		f.forwarded.Add(1)
		reply, err := f.asked(to, q)
		if err == nil && says(reply) {
			r := f.taken(reply, name, typ)
			if f.traced() {
				f.step(layer, Answered, to.Address.String()+" answers", f.said(r, name, typ), "")
			}
			if problem := f.validate(reply, &r, to, name, typ, checks); problem != nil {
				return result{code: dns.RcodeServerFailure, bogus: true}, ""
			}
			if checks == signed {
				f.cache.put(f.now, name, typ, r, f.keeps(r, typ))
			}
			return r, ""
		}
		if errors.Is(err, ErrBeyond) {
			says := "It is not of this site; " + err.Error() + "."
			if checks {
				says += " The answer is checked against the signatures of its zone before it is passed on."
			}
			f.step(layer, Beyond, to.Address.String()+" is asked", says, "")
			return result{code: dns.RcodeServerFailure}, ""
		}
		if err == nil {
			err = errors.New("it says " + dns.RcodeToString[reply.Rcode])
		}
		says := fmt.Sprintf("%s: %s", to.Address, err)
		f.step(layer, Passed, to.Address.String()+" does not answer", says, "")
		why = append(why, says)
	}
	return fails(strings.Join(why, "; ")+".", "")
}

// says reports whether a reply says something of a name: that it is there, or that it is not.
func says(m *dns.Msg) bool { return m.Rcode == dns.RcodeSuccess || m.Rcode == dns.RcodeNameError }

// withoutAsking is an answer that needs no other server: what is remembered, or that none is asked.
func (f *fall) withoutAsking(name string, typ uint16) (r result, done bool) {
	if k, ok := f.cache.get(f.now, name, typ); ok {
		f.fromCache.Add(1)
		f.step(Cached, Answered, "Asked before", keptSays(k), "")
		return result{code: k.code, answer: k.answer, soa: k.soa, sigs: k.sigs, secure: k.secure}, true
	}
	if f.authority {
		return result{code: dns.RcodeRefused}, true
	}
	if f.direct {
		says := "The question asks for no recursion (RFC 1035 section 4.1.1)."
		f.step(Forwarded, Stopped, "Not asked of others", says, "")
		return result{code: dns.RcodeRefused}, true
	}
	return result{}, false
}

// validate checks an answer of a forwarder where that is set, by asking the same one for the keys. What
// does not hold is not passed on.
func (f *fall) validate(m *dns.Msg, r *result, to yang.NameServer, name string, typ uint16, checks bool) error {
	if !checks {
		return nil
	}
	if len(f.anchors) == 0 {
		f.step(Validated, Passed, "Not checked", "The device has no key of the root to begin with.", "")
		return nil
	}
	v := validator{anchors: f.anchors, now: f.now, ask: func(name string, typ uint16) (*dns.Msg, bool, error) {
		return f.proof(to, name, typ)
	}}
	secure, err := v.check(m, *r, name, typ)
	switch {
	case err != nil:
		f.step(Validated, Stopped, "The answer does not hold", sentence(err.Error()), "")
	case secure:
		f.step(Validated, Passed, "The signatures hold", "Checked from the key of the root down (RFC 4035).", "")
		r.secure = true
		r.shorten(v.most)
	default:
		f.step(Validated, Passed, "Not signed", "Its zone says that it is not; there is nothing to check.", "")
	}
	return err
}

// proof asks for keys and for what is told of them, which are kept like any other answer. asked says that another
// server was.
func (f *fall) proof(to yang.NameServer, name string, typ uint16) (m *dns.Msg, asked bool, err error) {
	if m := f.cache.proof(f.now, name, typ); m != nil {
		return m, false, nil
	}
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	q.SetEdns0(MaxUDP, true)
	q.CheckingDisabled = true
	f.forwarded.Add(1)
	m, err = f.asked(to, q)
	if err != nil {
		return nil, true, err
	}
	if !says(m) {
		return nil, true, errors.New("it says " + dns.RcodeToString[m.Rcode])
	}
	r := f.taken(m, name, typ)
	f.cache.putProof(f.now, name, typ, r, m, f.keeps(r, typ))
	return m, true, nil
}

// asked asks another server. A reply to another question is none, whatever its id (RFC 5452 section 9.1).
func (f *fall) asked(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
	reply, err := f.up(to, q.Copy())
	if err == nil && !Answers(q, reply) {
		return nil, errors.New("it answered another question")
	}
	return reply, err
}

// Answers reports whether a message is a reply to a question: of the same name, type and class. Ids are for whoever
// holds the connection.
func Answers(q, reply *dns.Msg) bool {
	if reply == nil || !reply.Response || reply.Opcode != q.Opcode || len(reply.Question) != len(q.Question) {
		return false
	}
	for i, one := range q.Question {
		other := reply.Question[i]
		if !strings.EqualFold(one.Name, other.Name) || one.Qtype != other.Qtype || one.Qclass != other.Qclass {
			return false
		}
	}
	return true
}

// shorten has an answer kept no longer than that, by whoever is given it as well (RFC 4035 section 5.3.3).
func (r *result) shorten(most time.Duration) {
	for _, list := range [][]dns.RR{r.answer, r.soa} {
		for i, rr := range list {
			if time.Duration(rr.Header().Ttl)*time.Second > most {
				list[i] = dns.Copy(rr)
				list[i].Header().Ttl = uint32(most / time.Second)
			}
		}
	}
}

// sentence makes one of a reason.
func sentence(reason string) string { return strings.ToUpper(reason[:1]) + reason[1:] + "." }

func keptSays(k cacheEntry) string {
	if k.secure {
		return "The answer is still kept; its signatures were checked then."
	}
	return "The answer is still kept."
}

// taken is what of another server's answer is of the question: the records of the name and of the
// chain of aliases that it begins, and a SOA.
func (f *fall) taken(m *dns.Msg, name string, typ uint16) result {
	r := result{code: m.Rcode}
	at := map[string]bool{name: true}
	for range maxAliases {
		grown := false
		for _, rr := range m.Answer {
			if c, ok := rr.(*dns.CNAME); ok && at[zone.Tidy(c.Hdr.Name)] && !at[zone.Tidy(c.Target)] {
				at[zone.Tidy(c.Target)], grown = true, true
			}
		}
		if !grown {
			break
		}
	}
	redirects := redirectsOf(m.Answer, at)
	for _, rr := range m.Answer {
		h := rr.Header()
		owner := zone.Tidy(h.Name)
		ours := func(has uint16) bool {
			return at[owner] && (has == typ || has == dns.TypeCNAME) || redirects[owner] && has == dns.TypeDNAME
		}
		sig, isSig := rr.(*dns.RRSIG)
		switch {
		case h.Class == dns.ClassINET && ours(h.Rrtype):
			r.answer = append(r.answer, f.clamped(rr))
		case isSig && ours(sig.TypeCovered):
			r.sigs = append(r.sigs, rr)
		}
	}
	for _, rr := range m.Ns {
		if soa, ok := rr.(*dns.SOA); ok && len(r.soa) == 0 {
			r.soa = append(r.soa, negative(soa))
		}
	}
	return r
}

// redirectsOf are the owners of DNAMEs that made an alias of one of the names, which come with it (RFC 6672 section
// 3.1).
func redirectsOf(answer []dns.RR, at map[string]bool) map[string]bool {
	out := map[string]bool{}
	for _, rr := range answer {
		d, ok := rr.(*dns.DNAME)
		if !ok {
			continue
		}
		for name := range at {
			if made := underDNAME(d, name); made != "" && at[made] {
				out[zone.Tidy(d.Hdr.Name)] = true
			}
		}
	}
	return out
}

// clamped is a record that is kept no longer and no shorter than the settings say.
func (f *fall) clamped(rr dns.RR) dns.RR {
	out := dns.Copy(rr)
	h := out.Header()
	h.Ttl = max(h.Ttl, uint32(f.settings.LeastTTL))
	if most := uint32(f.settings.GreatestTTL); most > 0 {
		h.Ttl = min(h.Ttl, most)
	}
	return out
}

// keeps is how long an answer may be kept: as long as the shortest of its records. One that says that there is
// nothing, also at the end of aliases, is kept no longer than its SOA says, and not at all without one (RFC 2308
// section 5).
func (f *fall) keeps(r result, typ uint16) time.Duration {
	ttl := uint32(math.MaxUint32)
	there := false
	for _, rr := range r.answer {
		ttl = min(ttl, rr.Header().Ttl)
		there = there || rr.Header().Rrtype == typ
	}
	if there && r.code == dns.RcodeSuccess {
		return time.Duration(ttl) * time.Second
	}
	if len(r.soa) == 0 {
		return 0
	}
	return time.Duration(min(ttl, r.soa[0].Header().Ttl, uint32(f.settings.NegativeTTL))) * time.Second
}

func (f *fall) said(r result, name string, typ uint16) string {
	switch {
	case r.code == dns.RcodeNameError:
		return name + " is not there."
	case len(r.answer) == 0:
		return fmt.Sprintf("%s is there and has no %s.", name, typeName(typ))
	default:
		return values(r.answer)
	}
}

func addressesOf(list []yang.NameServer) string {
	var out []string
	for _, s := range list {
		out = append(out, s.Address.String())
	}
	if len(out) == 0 {
		return "Nothing says where they are."
	}
	return strings.Join(out, ", ")
}
