package resolve_test

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"

	"lithos/core/compile"
	"lithos/core/names"
	"lithos/core/scenario"
	"lithos/internal/standin/resolve"
)

// BenchmarkAnswers counts the answers a second of a resolver over loopback against a server that sends the
// same messages back.
func BenchmarkAnswers(b *testing.B) {
	server := names.NewServer(compile.Device(scenario.Site("kelder-bridge"), "dev-gw-1"), names.Around{})
	q := new(dns.Msg)
	q.SetQuestion("edge.kelder.larkrise.example.", dns.TypeA)
	ready := server.Answer(time.Now(), q, names.Asker{Own: true})
	for b.Loop() {
		echo := aSecond(b, func(m resolve.Question) *dns.Msg {
			out := ready.Copy()
			out.Id = m.Id
			return out
		}, q)
		answers := aSecond(b, resolve.Real(server), q)
		b.ReportMetric(answers, "answers/s")
		b.ReportMetric(answers/echo, "x-echo")
	}
}

// aSecond is how many answers a handler gives in a second, to eight clients at once.
func aSecond(b *testing.B, h resolve.Handler, q *dns.Msg) float64 {
	l, err := resolve.Listen("127.0.0.1:0", resolve.Options{}, h)
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	var done atomic.Int64
	var clients sync.WaitGroup
	until := time.Now().Add(time.Second)
	for range 8 {
		clients.Go(func() {
			conn, err := dns.Dial("udp", l.Addr().String())
			if err != nil {
				return
			}
			defer func() { _ = conn.Close() }()
			c := dns.Client{}
			for time.Now().Before(until) {
				if _, _, err := c.ExchangeWithConn(q.Copy(), conn); err == nil {
					done.Add(1)
				}
			}
		})
	}
	clients.Wait()
	return float64(done.Load())
}
