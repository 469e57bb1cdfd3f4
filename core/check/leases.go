package check

import (
	"fmt"
	"time"

	"lithos/core/option"
	"lithos/core/site"
)

// Lease times below the first or above the second are reported.
const (
	longestLease  = 8 * 24 * time.Hour
	shortestLease = 5 * time.Minute
)

func leaseTooLong(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if lease := f.timers(p).Lease; lease > longestLease {
			report(leaseIs(lease, p, "1 day",
				"Addresses of machines that left stay taken for that long, and a changed name server or gateway "+
					"takes up to half of it to reach everybody."))
		}
	})
}

func leaseTooShort(f *facts, n *site.Network, report func(Finding)) {
	f.eachPool(n, func(p *site.Pool) {
		if lease := f.timers(p).Lease; lease < shortestLease {
			report(leaseIs(lease, p, "15 minutes",
				"Every client renews several times a minute or two, and one that misses the server for a moment "+
					"loses its address."))
		}
	})
}

// leaseIs is a finding about a pool's lease time, mended by a better one.
func leaseIs(lease time.Duration, p *site.Pool, better, says string) Finding {
	return Finding{
		Title:   fmt.Sprintf("The lease time of %s is %s", p.Name, option.FormatDuration(lease)),
		Network: p.Network, Parts: []site.Ref{poolRef(p.ID)}, Says: says,
		Fix: setOption("Make it "+better, p, option.LeaseTime, better),
	}
}
