package standin_test

import (
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/standin"
)

// resident is how many octets of memory this process holds.
func resident(t *testing.T) int {
	t.Helper()
	runtime.GC()
	raw, err := os.ReadFile("/proc/self/status")
	require.NoError(t, err)
	for line := range strings.SplitSeq(string(raw), "\n") {
		if kb, is := strings.CutPrefix(line, "VmRSS:"); is {
			n, err := strconv.Atoi(strings.TrimSpace(strings.TrimSuffix(kb, "kB")))
			require.NoError(t, err)
			return n << 10
		}
	}
	require.Fail(t, "the system does not say")
	return 0
}

// Fifty devices in one process take less than 500 MB.
func TestFiftyDevices(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	before := resident(t)
	fabric := standin.NewFabric()
	for range 50 {
		d, err := standin.Start(standin.Config{Name: "gw", Kind: site.Firewall, Fabric: fabric,
			Initial: compile.Device(doc, "dev-gw-1"), Account: "lithos", Password: "secret"})
		require.NoError(t, err)
		t.Cleanup(d.Close)
	}
	took := resident(t) - before
	t.Logf("%d MB", took>>20)
	assert.Less(t, took, 500<<20)
}
