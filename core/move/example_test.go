package move_test

import (
	"fmt"
	"net/netip"
	"time"

	"lithos/core/move"
	"lithos/core/scenario"
)

// A network gets another subnet. Each address keeps its number in it, and the move is cut into work orders.
func ExampleOf() {
	plan, err := move.Of(scenario.Site("quill-street"), move.Request{Title: "Lab out of the way",
		Night:  time.Date(2026, 12, 4, 22, 0, 0, 0, time.UTC),
		Shifts: []move.Shift{{Network: "net-quill-lab", Prefix: netip.MustParsePrefix("10.7.20.0/24")}}})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(plan.Old(), "to", plan.New())
	for _, p := range plan.Phases() {
		fmt.Println(p.Title)
	}
	// Output:
	// [10.7.8.0/24] to [10.7.20.0/24]
	// Shorten the leases
	// Swap
	// Lengthen the leases, clear the old
}
