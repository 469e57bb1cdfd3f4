package wired

import (
	"bytes"
	"log/slog"
	"net"
	"strings"
	"testing"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/testutil"
	"github.com/stretchr/testify/assert"

	"lithos/core/dhcp"
)

// A log is not flooded, a full disk is told of once a minute, and everything is counted.
func TestLinesAreLimitedAndEventsCounted(t *testing.T) {
	var log bytes.Buffer
	metrics := prometheus.NewRegistry()
	r := newReport(slog.New(slog.NewTextHandler(&log, nil)), metrics)
	p := &port{name: "eth0"}
	m := &dhcpv4.DHCPv4{ClientHWAddr: net.HardwareAddr{0, 0, 0x5e, 0, 0x53, 1}, GatewayIPAddr: net.IPv4zero}
	for range 500 {
		r.answered(p, m, false, dhcp.Answer{Event: dhcp.EventNak})
		r.answered(p, m, false, dhcp.Answer{Event: dhcp.EventUnwritten})
	}
	naks, full := strings.Count(log.String(), "event=nak"), strings.Count(log.String(), "event=unwritten")
	assert.GreaterOrEqual(t, naks, linesAtOnce)
	assert.Less(t, naks, 400)
	assert.Equal(t, 1, full)
	assert.InDelta(t, 500, testutil.ToFloat64(r.count.WithLabelValues("nak")), 0)
	assert.InDelta(t, 500, testutil.ToFloat64(r.count.WithLabelValues("unwritten")), 0)
}
