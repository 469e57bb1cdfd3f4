package standin

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"
)

// Faults are what a stand-in can be told to get wrong, for tests.
type Faults struct {
	RefuseWrite int           // refuse the nth write from now, counted from 1
	DropWrite   int           // close the connection at the nth write, after doing it
	SlowWrite   time.Duration // wait this long before the next write, once
	HoldWrite   int           // do not answer the nth write, nor do it, until the caller gives up
	Deaf        bool          // answer no DHCP message
	Unreachable bool          // close every connection at once
	SilentAt    string        // an operation, confirm for instance, at which it becomes unreachable

	ConfirmsFull      int             // refuse the next confirms: there is no room to save
	SettlesLost       int             // close the connection at the next confirms and cancels, before doing them
	SettleAnswersLost int             // the same, after doing them
	HoldConfirm       <-chan struct{} // do a confirm only once this is closed

	Slow       time.Duration // every answer takes this much longer
	Cut        int           // the next answer ends after so many octets
	Garbage    int           // the next answers are no documents
	ResetWrite int           // close the connection at the nth write, before doing it
	Restart    int           // restart at the nth write
	Away       time.Duration // how long a restart takes
	DownUntil  time.Time     // not reached until then
}

// fails counts a fault down, and reports whether it strikes this time.
func (*Faults) fails(left *int) bool {
	if *left == 0 {
		return false
	}
	*left--
	return true
}

// Inject sets what goes wrong from now on.
func (d *Device) Inject(f Faults) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.faults, d.writes = f, 0
}

// misbehave is the operation of module lithos-standin: what goes wrong, by request. It is answered whatever else goes
// wrong, so that it can be ended.
const misbehave = "/restconf/operations/lithos-standin:misbehave"

func (d *Device) misbehave(w http.ResponseWriter, r *http.Request) {
	if !isYANG(w, r) {
		return
	}
	var doc struct {
		Input struct {
			Fault  string `json:"fault"`
			Amount int    `json:"amount"`
			At     string `json:"at"`
			Value  string `json:"value"`
		} `json:"lithos-standin:input"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody)).Decode(&doc); err != nil {
		refuse(w, http.StatusBadRequest, "malformed-message", err.Error())
		return
	}
	if n := doc.Input.Amount; n < 0 || n > 600_000 {
		refuse(w, http.StatusBadRequest, "invalid-value", "amount is from 0 to 600000.")
		return
	}
	done, err := d.placeFault(doc.Input.Fault, doc.Input.At, doc.Input.Value)
	if !done {
		err = d.Misbehave(doc.Input.Fault, doc.Input.Amount)
	}
	if err != nil {
		refuse(w, http.StatusBadRequest, "invalid-value", err.Error())
		return
	}
	write(w, http.StatusOK, map[string]any{"lithos-standin:output": map[string]any{"armed": d.armed()}})
}

// Misbehave has something go wrong beside what was asked for before, by its name in module lithos-standin. none ends
// all of it.
func (d *Device) Misbehave(fault string, amount int) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	span := time.Duration(amount) * time.Millisecond
	f := &d.faults
	switch fault {
	case "none":
		*f, d.off = Faults{}, nil
		return d.plugSockets()
	case "slow":
		f.Slow = span
	case "cut":
		f.Cut = max(1, amount)
	case "reset":
		f.ResetWrite = d.writes + 1
	case "lost-answer":
		f.DropWrite = d.writes + 1
	case "refuse":
		f.RefuseWrite = d.writes + 1
	case "restart":
		f.Restart, f.Away = d.writes+1, span
	case "garbage":
		f.Garbage = 1
	case "lost-confirm":
		f.SettlesLost = 1
	case "lost-confirm-answer":
		f.SettleAnswersLost = 1
	case "full-startup":
		f.ConfirmsFull = max(1, amount)
	case "line-down":
		f.DownUntil = time.Now().Add(span)
	case "elsewhere":
		return d.moveAway()
	default:
		return fmt.Errorf("%q is none of the faults of lithos-standin", fault)
	}
	return nil
}

// armed is what is still to go wrong, by its names in module lithos-standin.
func (d *Device) armed() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := []string{}
	f := d.faults
	for _, one := range []struct {
		name string
		is   bool
	}{
		{"slow", f.Slow > 0}, {"cut", f.Cut > 0}, {"reset", f.ResetWrite > d.writes},
		{"lost-answer", f.DropWrite > d.writes}, {"refuse", f.RefuseWrite > d.writes}, {"restart",
			f.Restart > d.writes},
		{"garbage", f.Garbage > 0}, {"lost-confirm", f.SettlesLost > 0},
		{"lost-confirm-answer", f.SettleAnswersLost > 0}, {"full-startup", f.ConfirmsFull > 0},
		{"line-down", time.Now().Before(f.DownUntil)},
	} {
		if one.is {
			out = append(out, one.name)
		}
	}
	if len(d.off) > 0 {
		out = append(out, "port-off")
	}
	return out
}

// listens serves what comes in by a listener until the device ends.
func (d *Device) listens(l net.Listener) { d.done.Go(func() { _ = d.http.Serve(l) }) }

// managedAt is the address that the device is reached at: that of its management interface, where it has one.
func (d *Device) managedAt() netip.Addr {
	for _, i := range d.running.Interfaces.Interface {
		if i.Name == d.config.Manage && i.IPv4 != nil && len(i.IPv4.Address) > 0 {
			return i.IPv4.Address[0].IP
		}
	}
	return netip.AddrFrom4([4]byte{127, 0, 0, 1})
}

// follow has the device be reached at the address that its management interface has now, and not where it had one
// before. Before it has begun to listen there is nothing to follow.
func (d *Device) follow() error {
	if d.config.Manage == "" || d.listener == nil {
		return nil
	}
	at, err := netip.ParseAddrPort(d.listener.Addr().String())
	if err != nil || at.Addr() == d.managedAt() {
		return err
	}
	_ = d.listener.Close()
	next, err := tls.Listen("tcp", netip.AddrPortFrom(d.managedAt(), at.Port()).String(), d.tls)
	if err != nil {
		return err
	}
	d.listener, d.URL = next, "https://"+next.Addr().String()
	d.listens(next)
	return nil
}

// left reports whether a request came to an address that the device has no more.
func (d *Device) left(r *http.Request) bool {
	local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !ok || d.config.Manage == "" {
		return false
	}
	at, err := netip.ParseAddrPort(local.String())
	return err == nil && at.Addr() != d.managedAt()
}

// moveAway has the device be found at another port, with the same certificate. Connections that stand go on.
func (d *Device) moveAway() error {
	next, err := tls.Listen("tcp", "127.0.0.1:0", d.tls)
	if err != nil {
		return err
	}
	_ = d.listener.Close()
	d.listener = next
	d.URL = "https://" + next.Addr().String()
	d.listens(next)
	return nil
}

// restarts begins anew from the startup configuration, as after a power cut: a change that waits is lost.
func (d *Device) restarts() {
	if d.aside != nil {
		d.aside.timer.Stop()
		d.aside = nil
	}
	_ = d.apply(d.startup) // it held it before
	d.faults.DownUntil = time.Now().Add(d.faults.Away)
}

// failing has answers go wrong as they were asked to.
func (d *Device) failing(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == misbehave {
			next.ServeHTTP(w, r)
			return
		}
		d.mu.Lock()
		f := &d.faults
		if f.SilentAt != "" && strings.HasSuffix(r.URL.Path, "/lithos-config:"+f.SilentAt) {
			f.Unreachable = true
		}
		gone, slow, cut := d.left(r) || f.Unreachable || time.Now().Before(f.DownUntil), f.Slow, f.Cut
		f.Cut = 0
		garbage := f.fails(&f.Garbage)
		d.mu.Unlock()
		if gone {
			panic(http.ErrAbortHandler)
		}
		select {
		case <-time.After(slow):
		case <-r.Context().Done():
			return
		}
		switch {
		case garbage:
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte("<html><title>Sign in to the printer</title>"))
		case cut > 0:
			next.ServeHTTP(&cutShort{w, cut}, r)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// cutShort ends an answer after some octets.
type cutShort struct {
	http.ResponseWriter
	left int
}

func (c *cutShort) Write(p []byte) (int, error) {
	n, err := c.ResponseWriter.Write(p[:min(len(p), c.left)])
	c.left -= n
	if c.left == 0 && err == nil {
		_ = http.NewResponseController(c.ResponseWriter).Flush()
		panic(http.ErrAbortHandler)
	}
	return n, err
}
