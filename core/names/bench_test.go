package names

import (
	"fmt"
	"testing"
	"time"

	"github.com/miekg/dns"

	"lithos/core/yang"
)

// named is a resolver of a zone with so many names, and what it answers for one of them.
func named(n int) (*Server, *dns.Msg) {
	c := config()
	z := &c.Resolver.Zone[0]
	for i := range n {
		z.Record = append(z.Record, yang.Record{ID: fmt.Sprint("r", i), Owner: fmt.Sprint("host-", i), Type: "A",
			Data: fmt.Sprintf("10.%d.%d.%d", 1+i>>16&63, i>>8&255, i&255)})
	}
	q := new(dns.Msg)
	q.SetQuestion(fmt.Sprintf("host-%d.%s.", n/2, kelder), dns.TypeA)
	return NewServer(c, Around{}), q
}

// BenchmarkTrace times one trace at a site of 10,000 names against the bare look-ups it needs, and against
// one of 100 names.
func BenchmarkTrace(b *testing.B) {
	took := map[int]float64{}
	for _, n := range []int{100, 10_000} {
		s, q := named(n)
		b.Run(fmt.Sprint(n, "-names"), func(b *testing.B) {
			for b.Loop() {
				s.Trace(now, q, desk)
			}
			took[n] = float64(b.Elapsed()) / float64(b.N)
			if n == 10_000 {
				b.ReportMetric(took[n]/lookUps(s, q), "x-look-ups")
				b.ReportMetric(took[n]/took[100], "x-100-names")
			}
		})
	}
}

// lookUps is how long a question's bare look-ups take, in nanoseconds: its name and the domains above it in
// the lists of a resolver, packed into an answer.
func lookUps(s *Server, q *dns.Msg) float64 {
	b := s.zones[kelder]
	name := fmt.Sprintf("host-%d.%s", 5000, kelder)
	reply := new(dns.Msg)
	const rounds = 100_000
	began := time.Now()
	for range rounds {
		reply.SetReply(q)
		reply.Answer = nil
		for at := name; at != ""; at = above(at) {
			if s.zones[at] != nil {
				reply.Answer = b.nodes[name].sets[dns.TypeA]
			}
			if s.domains[at] != nil || s.silenced[at] {
				reply.Answer = nil
			}
		}
	}
	return float64(time.Since(began)) / rounds
}

func above(name string) string {
	for i := range len(name) {
		if name[i] == '.' {
			return name[i+1:]
		}
	}
	return ""
}
