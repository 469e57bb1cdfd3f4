package standin

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"lithos/core/dhcp"
)

// ledger keeps a lease database in a file, a line for every change, written before
// the client is told (RFC 2131 section 3.1): a server that is killed remembers
// what it promised. The file is written anew when most of it is history.
type ledger struct {
	path  string
	file  *os.File
	db    *dhcp.LeaseDB
	lines int
}

// slack is how many lines of history a ledger carries at least.
const slack = 1000

// openLedger reads a lease database and goes on writing it. A last line that was cut off
// by a kill was never promised, and is dropped.
func openLedger(path string) (*dhcp.LeaseDB, *ledger, error) {
	var leases []dhcp.Lease
	file, err := os.Open(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, nil, err
	}
	if err == nil {
		lines := bufio.NewReader(file)
		for {
			raw, err := lines.ReadBytes('\n')
			var l dhcp.Lease
			if errors.Is(err, io.EOF) {
				break
			}
			if err == nil {
				err = json.Unmarshal(raw, &l)
			}
			if err != nil {
				_ = file.Close()
				return nil, nil, fmt.Errorf("%s: %w", path, err)
			}
			leases = append(leases, l)
		}
		_ = file.Close()
	}
	l := &ledger{path: path, db: dhcp.NewLeaseDB(leases...)}
	if err := l.rewrite(); err != nil {
		return nil, nil, err
	}
	l.db.Changed = l.note
	return l.db, l, nil
}

// OpenLeaseDB is a lease database that survives in a file; one in memory alone when
// the path is empty. The caller closes it.
func OpenLeaseDB(path string) (db *dhcp.LeaseDB, closeDB func(), err error) {
	if path == "" {
		return dhcp.NewLeaseDB(), func() {}, nil
	}
	db, l, err := openLedger(path)
	return db, l.close, err
}

// rewrite leaves the leases as they stand.
func (l *ledger) rewrite() error {
	fresh, err := os.OpenFile(l.path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(fresh)
	enc := json.NewEncoder(out)
	l.lines = 0
	for _, lease := range l.db.Leases() {
		if err := enc.Encode(lease); err != nil {
			return err
		}
		l.lines++
	}
	if err := errors.Join(out.Flush(), os.Rename(l.path+".new", l.path)); err != nil {
		return err
	}
	if l.file != nil {
		_ = l.file.Close()
	}
	l.file = fresh
	return nil
}

func (l *ledger) note(lease dhcp.Lease) {
	raw, err := json.Marshal(lease)
	if err != nil {
		return
	}
	_, _ = l.file.Write(append(raw, '\n'))
	if l.lines++; l.lines > 4*l.db.Len()+slack {
		_ = l.rewrite()
	}
}

func (l *ledger) close() {
	if l != nil {
		_ = l.file.Close()
	}
}
