package dhcp_test

import (
	"fmt"
	"time"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/scenario"
)

// A server answers by what a device holds. The caller carries the messages, here from hand to hand.
func ExampleServer() {
	held := compile.Device(scenario.Site("quill-street"), "dev-quill-rt")
	server := dhcp.NewServer(held, dhcp.NewLeaseDB())
	client := dhcp.Client{MAC: address.MAC{2, 0, 0x5e, 0, 0, 1}, HostName: "lamp"}
	now := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)

	offer := server.Handle(now, client.Discover(), "lan.20")
	ack := server.Handle(now, client.Select(offer.Reply), "lan.20")
	if err := client.Take(ack.Reply); err != nil {
		fmt.Println(err)
	}
	fmt.Println(client.Address, "for", client.Lease)
	for _, l := range server.Leases() {
		fmt.Println(l.Address, l.MAC, l.HostName)
	}
	// Output:
	// 10.7.8.100 for 12h0m0s
	// 10.7.8.100 02:00:5e:00:00:01 lamp
}
