package standin

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"

	"lithos/core/dhcp"
)

// ledger keeps a lease database in a file, a line for every change, on disk before
// the client is told (RFC 2131 section 3.1): a server that is killed remembers
// what it promised. The file is written anew when most of it is history.
type ledger struct {
	path  string
	file  *os.File
	size  int64 // of what was written whole
	db    *dhcp.LeaseDB
	lines int
	log   *slog.Logger
}

// slack is how many lines of history a ledger carries at least.
const slack = 1000

// OpenLeaseDB is a lease database that survives in a file; one in memory alone when
// the path is empty. A line that a kill or a full disk cut off was never promised: it is
// dropped, with a word in the log, and keeps nothing from starting. The caller closes the
// database.
func OpenLeaseDB(path string, log *slog.Logger) (db *dhcp.LeaseDB, closeDB func(), err error) {
	if path == "" {
		return dhcp.NewLeaseDB(), func() {}, nil
	}
	l := &ledger{path: path, log: log}
	if err := l.open(); err != nil {
		return nil, nil, err
	}
	return l.db, l.close, nil
}

func (l *ledger) open() error {
	file, err := os.OpenFile(l.path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	l.file = file
	leases, torn, err := readLeases(file)
	if err != nil {
		return errors.Join(fmt.Errorf("%s: %w", l.path, err), file.Close())
	}
	if torn > 0 {
		l.log.Warn("lines of the lease database could not be read and are left out", "file", l.path, "lines", torn)
	}
	l.db = dhcp.NewLeaseDB(leases...)
	if err := l.rewrite(); err != nil {
		// It goes on behind what the file has; there is no room for a second one.
		l.log.Warn("the lease database could not be written anew", "file", l.path, "error", err)
		l.lines = len(leases)
		if l.size, err = file.Seek(0, io.SeekEnd); err != nil {
			return errors.Join(err, file.Close())
		}
	}
	l.db.Changed = l.note
	return nil
}

// readLeases reads every whole line, in the order in which they were written, and counts
// the others.
func readLeases(from io.Reader) (leases []dhcp.Lease, torn int, err error) {
	lines := bufio.NewReader(from)
	for {
		raw, err := lines.ReadBytes('\n')
		if line := bytes.TrimSpace(raw); len(line) > 0 {
			var l dhcp.Lease
			if json.Unmarshal(line, &l) == nil && l.Address.Is4() && l.Subnet.IsValid() {
				leases = append(leases, l)
			} else {
				torn++
			}
		}
		if errors.Is(err, io.EOF) {
			return leases, torn, nil
		}
		if err != nil {
			return nil, 0, err
		}
	}
}

// rewrite leaves the leases as they stand, in the order in which they came about: of two
// that a client has, the later is the one it is found by.
func (l *ledger) rewrite() error {
	fresh, err := os.OpenFile(l.path+".new", os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	leases := l.db.Leases()
	slices.SortStableFunc(leases, func(a, b dhcp.Lease) int { return a.Since.Compare(b.Since) })
	out := bufio.NewWriter(fresh)
	enc := json.NewEncoder(out)
	for _, lease := range leases {
		if lease.State == dhcp.Offered {
			continue
		}
		if err = enc.Encode(lease); err != nil {
			break
		}
	}
	if err = errors.Join(err, out.Flush(), fresh.Sync()); err == nil {
		err = errors.Join(os.Rename(l.path+".new", l.path), syncDir(filepath.Dir(l.path)))
	}
	if err != nil {
		return errors.Join(err, fresh.Close(), os.Remove(l.path+".new"))
	}
	_ = l.file.Close()
	l.file, l.lines = fresh, len(leases)
	l.size, err = fresh.Seek(0, io.SeekCurrent)
	return err
}

// syncDir writes a rename down.
func syncDir(path string) error {
	dir, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// note writes a lease down before its client is told. An offer is a promise for a minute,
// which a server that was killed need not keep. What was written in part is taken back.
func (l *ledger) note(lease dhcp.Lease) error {
	if lease.State == dhcp.Offered {
		return nil
	}
	if l.lines > 4*l.db.Len()+slack && l.rewrite() != nil {
		l.lines = 0 // it is tried again later; what is written down stands
	}
	raw, err := json.Marshal(lease)
	if err != nil {
		return err
	}
	// The line ends before it, too: the file may end in a torn one.
	n, err := l.file.WriteAt(slices.Concat([]byte{'\n'}, raw, []byte{'\n'}), l.size)
	if err == nil {
		err = l.file.Sync()
	}
	if err != nil {
		return errors.Join(err, l.file.Truncate(l.size))
	}
	l.size += int64(n)
	l.lines++
	return nil
}

func (l *ledger) close() { _ = l.file.Close() }
