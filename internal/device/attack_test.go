package device_test

import (
	"crypto/sha256"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/device"
	"lithos/internal/outbound"
	"lithos/internal/standin"
)

// A password is sent to a pinned certificate alone: not in clear, and not where a
// redirect leads.
func TestAttackPasswordGoesElsewhere(t *testing.T) {
	var heard atomic.Int32
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if _, _, ok := r.BasicAuth(); ok {
			heard.Add(1)
		}
	}))
	defer elsewhere.Close()
	clear := device.NewRESTCONF(device.Access{URL: elsewhere.URL, Account: "lithos", Password: "secret",
		Fingerprint: make([]byte, 32)}, outbound.Loopback())
	_, _, err := clear.Read(t.Context())
	assert.ErrorContains(t, err, "only https is used")

	sends := httptest.NewTLSServer(http.RedirectHandler(elsewhere.URL+"/restconf/data", http.StatusTemporaryRedirect))
	defer sends.Close()
	sum := sha256.Sum256(sends.Certificate().Raw)
	sent := device.NewRESTCONF(device.Access{URL: sends.URL, Account: "lithos", Password: "secret",
		Fingerprint: sum[:]}, outbound.Loopback())
	_, _, err = sent.Read(t.Context())
	assert.ErrorContains(t, err, "sends Lithos to another address")
	assert.Zero(t, heard.Load())
}

// What became of a change can be asked, after a restart of the device too.
func TestAttackWhatBecameOfAChange(t *testing.T) {
	d, driver := pair(t)
	state := func(token string) device.ChangeState {
		s, err := driver.Change(t.Context(), token)
		require.NoError(t, err)
		return s
	}
	assert.Equal(t, device.ChangeAbsent, state("one"))
	require.NoError(t, driver.Begin(t.Context(), "one", time.Minute, ""))
	assert.Equal(t, device.ChangeWaiting, state("one"))
	d.Inject(standin.Faults{SettleAnswersLost: 1})
	require.Error(t, driver.Confirm(t.Context(), "one"))
	assert.Equal(t, device.ChangeConfirmed, state("one"))
	require.NoError(t, driver.Begin(t.Context(), "two", time.Minute, ""))
	require.NoError(t, driver.Cancel(t.Context(), "two"))
	assert.Equal(t, device.ChangeAbsent, state("two"))
}

// What a reading takes of memory is bounded, however much a device tells.
func TestAttack04ADeviceThatTellsTooMuch(t *testing.T) {
	for what, one := range map[string]string{"many small leases": "{},", "few large ones": `{"host-name":"` +
		strings.Repeat("x", 100_000) + `"},`} {
		answer := []byte(`{"lithos-dhcp-server:dhcp-server":{"lease":[` + strings.Repeat(one, 30_000_000/len(one)) +
			`{}]}}`)
		tells := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/yang-data+json")
			_, _ = w.Write(answer)
		}))
		sum := sha256.Sum256(tells.Certificate().Raw)
		driver := device.NewRESTCONF(device.Access{URL: tells.URL, Account: "lithos", Password: "secret",
			Fingerprint: sum[:]}, outbound.Loopback())
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := driver.Observe(t.Context())
		runtime.ReadMemStats(&after)
		require.ErrorContains(t, err, "more than Lithos reads at once", what)
		assert.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(200), "MiB, %s", what)
		tells.Close()
	}
}
