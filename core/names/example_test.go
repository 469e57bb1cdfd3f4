package names_test

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"lithos/core/compile"
	"lithos/core/names"
	"lithos/core/scenario"
)

// A server answers by what a device holds, and says which part of it decided.
func ExampleServer() {
	held := compile.Device(scenario.Site("quill-street"), "dev-quill-rt")
	server := names.NewServer(held, names.Around{})
	question := new(dns.Msg)
	question.SetQuestion("proxy.quill.home.arpa.", dns.TypeA)
	now := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)

	answer, way := server.Trace(now, question, names.Asker{From: netip.MustParseAddr("10.7.7.100")})
	fmt.Println(dns.RcodeToString[answer.Rcode], answer.Answer)
	for _, step := range way {
		fmt.Println(step.Title)
	}
	// Output:
	// NOERROR [proxy.quill.home.arpa.	3600	IN	A	10.7.8.10]
	// May ask
	// In quill.home.arpa
}
