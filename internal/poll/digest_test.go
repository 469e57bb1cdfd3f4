package poll

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lithos/core/address"
	"lithos/core/observed"
	"lithos/core/yang"
	"lithos/internal/order"
)

// Browsers are told of a reading when something looks different by it, and not when the
// same clients merely answered again.
func TestDigestOfWhatIsSeen(t *testing.T) {
	at := time.Date(2026, 11, 24, 23, 40, 0, 0, time.UTC)
	heard := observed.Heard{Device: "dev-gw-1", Source: observed.Neighbour, Address: netip.MustParseAddr("10.84.18.57"),
		MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 0x1c}, First: at.Add(-time.Hour), Last: at}
	read := at
	beside := order.Beside{Seen: []observed.Heard{heard}, Access: []order.Access{{DeviceID: "dev-gw-1", ReadAt: &read}}}
	was := digestOf(beside)
	change := func(do func(b *order.Beside)) uint64 {
		b := beside
		b.Seen = append([]observed.Heard{}, beside.Seen...)
		b.Access = append([]order.Access{}, beside.Access...)
		do(&b)
		return digestOf(b)
	}
	later := at.Add(9 * time.Second)
	for what, same := range map[string]func(b *order.Beside){
		"the same client answers again": func(b *order.Beside) { b.Seen[0].Last = later },
		"the device is read again":      func(b *order.Beside) { b.Access[0].ReadAt = &later },
	} {
		assert.Equal(t, was, change(same), what)
	}
	for what, other := range map[string]func(b *order.Beside){
		"half a minute has passed": func(b *order.Beside) { b.Seen[0].Last = at.Add(observed.Grain) },
		"another machine":          func(b *order.Beside) { b.Seen[0].MAC[5]++ },
		"another port":             func(b *order.Beside) { b.Seen[0].Port = "port2 of sw-core" },
		"one more":                 func(b *order.Beside) { b.Seen = append(b.Seen, heard) },
		"nobody":                   func(b *order.Beside) { b.Seen = nil },
		"the device is silent":     func(b *order.Beside) { b.Access[0].Problem = "no answer" },
		"it was never read":        func(b *order.Beside) { b.Access[0].ReadAt = nil },
		"a lease is given back":    func(b *order.Beside) { b.Seen[0].State = "released" },
	} {
		assert.NotEqual(t, was, change(other), what)
	}
}

// A machine that a server found at an address which it was about to give is seen there.
func TestWhoAnswersAtAnAddressSetAsideIsSeen(t *testing.T) {
	now := time.Date(2026, 11, 23, 21, 30, 0, 0, time.UTC)
	var o yang.Operational
	o.DHCP.Lease = []yang.Lease{
		{Address: netip.MustParseAddr("10.84.20.30"), MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 1}, Pool: "pool-imaging",
			State: "declined", Since: now, Expires: now.Add(time.Hour),
			AnsweredBy: address.MAC{0, 0, 0x5e, 0, 0x53, 9}},
		{Address: netip.MustParseAddr("10.84.20.31"), State: "declined", Since: now, Expires: now.Add(time.Hour)},
	}
	rows, _ := readSightings(order.Access{SiteID: "s", DeviceID: "d"}, o, now)
	var got []string
	for _, r := range rows {
		got = append(got, fmt.Sprint(r.Source, " ", r.Address, " ", r.Mac, " ", r.State))
	}
	assert.Equal(
		t,
		[]string{"neighbour 10.84.20.30 00:00:5e:00:53:09 heard", "lease 10.84.20.30 00:00:5e:00:53:01 declined"},
		got,
	)
}
