package check_test

import (
	"fmt"
	"net/netip"

	"lithos/core/check"
	"lithos/core/scenario"
)

// A rule that is broken says what will happen to whom, and how to mend it.
func ExampleSite() {
	s := scenario.Site("quill-street")
	lab, _ := s.Network("net-quill-lab")
	lab.Gateway = netip.MustParseAddr("10.7.9.1")
	for _, f := range check.Site(s) {
		if f.Rule == "gateway-outside-network" {
			fmt.Println(f.Severity, f.Title)
			fmt.Println(f.Fix.Title)
		}
	}
	// Output:
	// blocks The gateway of Lab is outside it
	// Make 10.7.8.1 the gateway
}
