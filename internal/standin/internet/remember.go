package internet

import (
	"sync"
	"time"

	"github.com/miekg/dns"
)

// remembering is a resolver that answers what it was told before for as long as it may (RFC 1035 section 7.4,
// RFC 2308 section 5).
func remembering(ask func(*dns.Msg) *dns.Msg) func(*dns.Msg) *dns.Msg {
	type kept struct {
		message *dns.Msg
		at      time.Time
		ttl     uint32
	}
	type question struct {
		dns.Question
		signed bool
	}
	var mu sync.Mutex
	memory := map[question]kept{}
	const most = 10_000
	return func(q *dns.Msg) *dns.Msg {
		if len(q.Question) != 1 || q.Opcode != dns.OpcodeQuery {
			return ask(q)
		}
		opt := q.IsEdns0()
		key := question{q.Question[0], opt != nil && opt.Do()}
		key.Name = dns.CanonicalName(key.Name)
		now := time.Now()
		mu.Lock()
		k, has := memory[key]
		mu.Unlock()
		if age := uint32(now.Sub(k.at) / time.Second); has && age < k.ttl {
			reply := k.message.Copy()
			reply.Id, reply.Question = q.Id, q.Question
			for _, section := range [][]dns.RR{reply.Answer, reply.Ns} {
				for _, rr := range section {
					rr.Header().Ttl -= min(age, rr.Header().Ttl)
				}
			}
			return reply
		}
		reply := ask(q)
		if ttl, ok := keeps(reply); ok {
			mu.Lock()
			if len(memory) >= most {
				clear(memory)
			}
			memory[key] = kept{reply.Copy(), now, ttl}
			mu.Unlock()
		}
		return reply
	}
}

// keeps is how long an answer may be kept, in seconds.
func keeps(m *dns.Msg) (ttl uint32, ok bool) {
	if m.Rcode != dns.RcodeSuccess && m.Rcode != dns.RcodeNameError {
		return 0, false
	}
	least := func(rrs []dns.RR) {
		for _, rr := range rrs {
			hd := rr.Header()
			own := hd.Ttl
			if soa, is := rr.(*dns.SOA); is {
				own = min(own, soa.Minttl)
			}
			if !ok || own < ttl {
				ttl, ok = own, true
			}
		}
	}
	least(m.Answer)
	least(m.Ns)
	return ttl, ok && ttl > 0
}
