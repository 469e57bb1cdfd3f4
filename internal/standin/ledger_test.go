package standin_test

import (
	"bytes"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/scenario"
	"lithos/internal/standin"
)

var quiet = slog.New(slog.DiscardHandler)

func quillServer(db *dhcp.LeaseDB) *dhcp.Server {
	return dhcp.NewServer(compile.Device(scenario.Site("quill-street"), "dev-quill-rt"), db)
}

// No line that cannot be read keeps a server from starting, and what is whole is kept.
func TestTornLinesAreLeftOut(t *testing.T) {
	file := filepath.Join(t.TempDir(), "leases")
	whole := func(last string) string {
		return `{"address":"10.7.7.1` + last + `","mac":"00:00:5e:00:01:` + last + `","subnet":"10.7.7.0/24",` +
			`"pool":"pool-quill-home","state":"bound","since":"2026-11-23T21:00:00Z","expires":"2026-11-24T21:00:00Z"}`
	}
	text := whole("00") + "\n" + `{"address":"10.7.7.1` + "\n\x00\x00\x00\n" + whole("01") + "\n" + `{"addr`
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	var log bytes.Buffer
	db, closeDB, err := standin.OpenLeaseDB(file, slog.New(slog.NewTextHandler(&log, nil)))
	require.NoError(t, err)
	defer closeDB()
	assert.Equal(t, 2, db.Len())
	assert.Contains(t, log.String(), "lines=3")
}

// Of two leases of one client the later counts after any number of restarts, so that none
// that was given is refused.
func TestOrderInTimeSurvives(t *testing.T) {
	file := filepath.Join(t.TempDir(), "leases")
	lease := func(host string, since string) string {
		return `{"address":"10.7.7.` + host + `","mac":"00:00:5e:00:01:01","subnet":"10.7.7.0/24",` +
			`"pool":"pool-quill-home","state":"bound","since":"2026-11-23T` + since + `Z","expires":"2099-11-24T21` +
			`:00:00Z"}` + "\n"
	}
	require.NoError(t, os.WriteFile(file, []byte(lease("150", "20:00:00")+lease("110", "21:00:00")), 0o600))
	for range 3 {
		db, closeDB, err := standin.OpenLeaseDB(file, quiet)
		require.NoError(t, err)
		c := &dhcp.Client{MAC: address.MAC{0, 0, 0x5e, 0, 1, 1}}
		offer := quillServer(db).Handle(time.Now(), c.Discover(), "lan").Reply
		assert.Equal(t, "10.7.7.110", offer.YourIPAddr.String())
		c.Address = netip.MustParseAddr("10.7.7.110")
		a := quillServer(db).Handle(time.Now(), c.Renew(), "lan")
		assert.Equal(t, dhcp.EventLease, a.Event, a.Why())
		closeDB()
	}
}

// While the disk is full no client is told of a lease, and nothing that was written is lost.
func TestAFullDiskPromisesNothing(t *testing.T) {
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("a small disk cannot be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
	file := filepath.Join(dir, "leases")
	db, closeDB, err := standin.OpenLeaseDB(file, quiet)
	require.NoError(t, err)
	s := quillServer(db)
	take := func(last byte) dhcp.Answer {
		c := &dhcp.Client{MAC: address.MAC{0, 0, 0x5e, 0, 1, last}}
		offer := s.Handle(time.Now(), c.Discover(), "lan")
		require.NotNil(t, offer.Reply, offer.Why())
		return s.Handle(time.Now(), c.Select(offer.Reply), "lan")
	}
	given := take(1)
	require.Equal(t, dhcp.EventLease, given.Event)
	_ = os.WriteFile(filepath.Join(dir, "filler"), bytes.Repeat([]byte{1}, 1<<20), 0o600) // until there is no room
	var refused *dhcp.Answer
	for i := byte(2); i < 60 && refused == nil; i++ {
		if a := take(i); a.Event != dhcp.EventLease {
			refused = &a
		}
	}
	require.NotNil(t, refused, "the disk is full in the end")
	assert.Equal(t, dhcp.EventUnwritten, refused.Event)
	assert.Nil(t, refused.Reply)
	assert.Contains(t, refused.Why(), "no space left")
	closeDB()

	again, closeAgain, err := standin.OpenLeaseDB(file, quiet)
	require.NoError(t, err, "it starts with a full disk")
	held := again.Holder(given.Address())
	require.NotNil(t, held)
	assert.Equal(t, dhcp.Bound, held.State)
	s = quillServer(again)
	require.NoError(t, os.Remove(filepath.Join(dir, "filler")))
	assert.Equal(t, dhcp.EventLease, take(61).Event, "it goes on when there is room")
	closeAgain()
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, strings.TrimSpace(string(raw)), "00:00:5e:00:01:3d")
}
