package zonetransfer

import (
	"fmt"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
)

// Clocks that are apart are said with how far, where the server tells its time.
func Test61HowFarClocksAreApart(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	told := func(at time.Time) *dns.TSIG {
		return &dns.TSIG{OtherLen: 6, OtherData: fmt.Sprintf("%012x", at.Unix())}
	}
	assert.Equal(t, "its clock is 1 hour ahead of this one", apart(told(now.Add(time.Hour)), now))
	assert.Equal(t, "its clock is 6 minutes 5 seconds behind this one", apart(told(now.Add(-365*time.Second)), now))
	assert.Contains(t, apart(told(now), now), "heard before")
	assert.Equal(t, "its clock and this one are apart", apart(&dns.TSIG{}, now))
}
