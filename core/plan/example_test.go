package plan_test

import (
	"fmt"

	"lithos/core/compile"
	"lithos/core/plan"
	"lithos/core/scenario"
)

// The way from what a device holds to what it is to hold, in an order that it accepts.
func ExampleBetween() {
	s := scenario.Site("quill-street")
	running := compile.Device(s, "dev-quill-rt")
	pool, _ := s.Pool("pool-quill-lab")
	pool.Enabled = false
	for _, step := range plan.Between(running, compile.Device(s, "dev-quill-rt")) {
		fmt.Println(step.Method, step.Verb, step.Text)
	}
	// Output:
	// PUT Store pool Lab `.100 – .149` on `lan.20`
}
