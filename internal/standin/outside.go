package standin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"lithos/core/dynamicnames"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/outbound"
	"lithos/internal/standin/resolve"
	"lithos/internal/zonetransfer"
)

// line is what the line of an uplink gives it.
type line struct {
	dynamicnames.Line
	// shows is the address that the internet sees, where somebody translates before it.
	shows netip.Addr
}

// SetLine gives the line of an uplink another address, as a provider does; an invalid one drops it. Nothing
// translates before it.
func (d *Device) SetLine(uplink string, a netip.Addr) {
	d.changeLine(uplink, line{Line: dynamicnames.Line{IPv4: a}})
}

// SetLines gives a line an address of each family.
func (d *Device) SetLines(uplink string, l dynamicnames.Line) { d.changeLine(uplink, line{Line: l}) }

// SetLineBehind moves a line behind a translation: the uplink has one address, and the internet sees another.
func (d *Device) SetLineBehind(uplink string, inner, shows netip.Addr) {
	d.changeLine(uplink, line{Line: dynamicnames.Line{IPv4: inner}, shows: shows})
}

func (d *Device) changeLine(uplink string, l line) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.lines[uplink] = l
	d.keeps.look()
}

// ScheduleLine has a line change its address each time so much time has passed, through a list again and again,
// until stop is called.
func (d *Device) ScheduleLine(uplink string, every time.Duration, addresses ...netip.Addr) (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	d.done.Go(func() {
		ticks := time.NewTicker(every)
		defer ticks.Stop()
		for i := 0; ; i++ {
			select {
			case <-ticks.C:
				d.SetLine(uplink, addresses[i%len(addresses)])
			case <-ctx.Done():
				return
			case <-d.closing.Done():
				return
			}
		}
	})
	return cancel
}

// lineOf is what an uplink has now: what its line gives, else what is configured.
func (d *Device) lineOf(uplink string) line {
	if l, given := d.lines[uplink]; given {
		return l
	}
	var out line
	for _, i := range d.running.Interfaces.Interface {
		if i.Name == uplink && i.IPv4 != nil && len(i.IPv4.Address) > 0 {
			out.IPv4 = i.IPv4.Address[0].IP
		}
	}
	return out
}

// keeps is what a device knows of the outside names that it keeps.
type keeps struct {
	names  map[string]*keptName
	wake   chan struct{} // something has changed; look now
	number uint32
}

// keptName is one of them. What is remembered is forgotten when the device restarts: it then tells once more, which
// changes nothing.
type keptName struct {
	updates map[string]dynamicnames.LastUpdate // by type
	now     dynamicnames.Line
	waits   time.Time
	attempt []yang.OutsideAttempt
}

// attemptsKept is how many are remembered of a name.
const attemptsKept = 50

func newKeeps() *keeps { return &keeps{names: map[string]*keptName{}, wake: make(chan struct{}, 1)} }

// look has the names looked at now.
func (k *keeps) look() {
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

func (k *keeps) of(id string) *keptName {
	if k.names[id] == nil {
		k.names[id] = &keptName{updates: map[string]dynamicnames.LastUpdate{}}
	}
	return k.names[id]
}

// keepNames looks at the lines of names and tells their servers, until the device is closed. A change of a line and of
// the configuration is seen at once; a service that is asked is asked again each time its time is up.
func (d *Device) keepNames() {
	timer := time.NewTimer(0)
	defer timer.Stop()
	due := map[string]time.Time{} // when a name is looked at next
	for {
		all := false
		select {
		case <-d.closing.Done():
			return
		case <-d.keeps.wake:
			all = true
		case <-timer.C:
		}
		next := time.Hour
		for _, n := range d.outsideNames() {
			now := time.Now()
			if at := due[n.ID]; all || !now.Before(at) {
				due[n.ID] = now.Add(max(d.keepName(n, now, false), time.Millisecond))
			}
			next = min(next, time.Until(due[n.ID]))
		}
		timer.Reset(max(next, time.Millisecond))
	}
}

// outsideNames are the names of the configuration, without those of others.
func (d *Device) outsideNames() []yang.OutsideName {
	d.mu.Lock()
	defer d.mu.Unlock()
	for id := range d.keeps.names {
		if !slices.ContainsFunc(d.running.Outside.Name, func(n yang.OutsideName) bool { return n.ID == id }) {
			delete(d.keeps.names, id)
		}
	}
	return slices.Clone(d.running.Outside.Name)
}

// keepName looks at the line of one name and tells its server what has changed; all of it where at once is set. It
// says after how long it looks again.
func (d *Device) keepName(n yang.OutsideName, now time.Time, atOnce bool) (again time.Duration) {
	every := time.Duration(n.Every) * time.Second
	if !n.Enabled && !atOnce {
		return every
	}
	l, err := d.lineNow(n)
	timing := dynamicnames.Timing{TTL: time.Duration(n.TTL) * time.Second, Interval: every,
		Least: time.Duration(n.Least) * time.Second}
	d.mu.Lock()
	k := d.keeps.of(n.ID)
	k.waits = time.Time{}
	if err != nil {
		d.note(k, now, nil, err)
		d.mu.Unlock()
		return every
	}
	k.now = l
	var send []netip.Addr
	again = every
	for _, typ := range n.Type {
		a := l.Of(typ)
		step := timing.Next(now, k.updates[typ], a)
		switch reach := dynamicnames.ReachOf(a); {
		case !a.IsValid(), reach != dynamicnames.Public && reach != dynamicnames.Documentation:
		case step.Send || atOnce:
			send = append(send, a)
		case !step.Wait.IsZero():
			k.waits = step.Wait
			again = min(again, step.Wait.Sub(now))
		}
	}
	d.mu.Unlock()
	if len(send) == 0 {
		return again
	}
	after, err := d.tell(n, send)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.note(k, now, send, err)
	for _, a := range send {
		typ, tries := zone.TypeOfAddress(a), 0
		if err != nil {
			tries = k.updates[typ].Tries + 1
		}
		k.updates[typ] = dynamicnames.LastUpdate{Address: a, At: now, Taken: err == nil, Tries: tries}
		if step := timing.Next(now, k.updates[typ], a); !step.Wait.IsZero() {
			k.waits = step.Wait
		}
	}
	if after > 0 {
		k.waits = now.Add(after)
	}
	if !k.waits.IsZero() {
		again = min(again, k.waits.Sub(now))
	}
	return again
}

func (d *Device) note(k *keptName, at time.Time, sent []netip.Addr, err error) {
	d.keeps.number++
	one := yang.OutsideAttempt{Number: d.keeps.number, At: at, Address: sent, Taken: err == nil, Says: "Taken"}
	if err != nil {
		one.Says = err.Error()
	}
	k.attempt = append(k.attempt, one)
	k.attempt = k.attempt[max(0, len(k.attempt)-attemptsKept):]
}

// lineNow is the address of a name's line: what its uplink has, or what a service says that it comes from.
func (d *Device) lineNow(n yang.OutsideName) (dynamicnames.Line, error) {
	d.mu.Lock()
	l := d.lineOf(n.Interface)
	d.mu.Unlock()
	if n.Asks == "" {
		return l.Line, nil
	}
	ctx, cancel := context.WithTimeout(d.closing, tellWithin)
	defer cancel()
	a, err := d.web(l).OwnAddress(ctx, n.Asks)
	if err != nil {
		return dynamicnames.Line{}, err
	}
	return dynamicnames.Line{}.With(a), nil
}

// tellWithin is how long a server has to answer.
const tellWithin = 5 * time.Second

// errNoKey says that the device keeps no key under the name that a configuration gives it.
var errNoKey = errors.New("no key is kept for it")

// tell tells the server of a name its addresses; after is how long to wait where it asks for that.
func (d *Device) tell(n yang.OutsideName, addresses []netip.Addr) (after time.Duration, err error) {
	d.mu.Lock()
	l, secret := d.lineOf(n.Interface), d.secrets[n.SecretName]
	d.mu.Unlock()
	if secret == "" {
		return 0, errNoKey
	}
	ctx, cancel := context.WithTimeout(d.closing, tellWithin)
	defer cancel()
	if n.RequestTo != "" {
		_, after, err = d.web(l).Tell(ctx, n.RequestTo, n.Name, secret,
			zonetransfer.Telling{Addresses: addresses, TTL: n.TTL, Below: n.Wildcard})
		return after, err
	}
	at, ok := d.config.Fabric.nameServer(n.Server)
	if !ok || at.Port != n.Port {
		return 0, fmt.Errorf("%s is not reached", n.Server)
	}
	s := zonetransfer.Server{Rule: outbound.Loopback(), At: at.Plain, Zone: n.Zone, Key: n.Key, Algorithm: n.Algorithm,
		Secret: secret}
	return 0, s.TellName(ctx, n.Name, n.Wildcard, n.TTL, addresses...)
}

// web is how the device reaches services on the internet: from the address that its line shows there.
func (d *Device) web(l line) zonetransfer.Web {
	out := zonetransfer.Web{Rule: outbound.Loopback()}
	d.config.Fabric.mu.Lock()
	if o := d.config.Fabric.outer; o != nil && o.Internet != nil {
		out.At, out.Trust = o.Internet.Web(), o.Internet.Certifier().Pool()
	}
	d.config.Fabric.mu.Unlock()
	from := l.shows
	if !from.IsValid() {
		from = l.IPv4
	}
	out.Dial = func(ctx context.Context, network, addr string) (net.Conn, error) {
		if !from.IsValid() {
			return nil, errors.New("the line is down")
		}
		var dialer net.Dialer
		conn, err := dialer.DialContext(ctx, network, addr)
		if err == nil {
			err = resolve.Speaks(conn, from)
		}
		return conn, err
	}
	return out
}

// outsideState is the operational state of the names that the device keeps; nil where it keeps none.
func (d *Device) outsideState() *yang.OutsideState {
	if len(d.running.Outside.Name) == 0 {
		return nil
	}
	out := &yang.OutsideState{}
	for _, n := range d.running.Outside.Name {
		k := d.keeps.of(n.ID)
		state := yang.OutsideNameState{ID: n.ID, WaitsUntil: k.waits, Attempt: slices.Clone(k.attempt)}
		for _, typ := range n.Type {
			if a := k.now.Of(typ); a.IsValid() {
				state.Address = append(state.Address, a)
			}
		}
		out.Names = append(out.Names, state)
	}
	return out
}

// tellNow tells a name now, whatever was told before.
func (d *Device) tellNow(id string) (taken bool, says string) {
	for _, n := range d.outsideNames() {
		if n.ID != id {
			continue
		}
		now := time.Now()
		d.keepName(n, now, true)
		d.mu.Lock()
		defer d.mu.Unlock()
		attempts := d.keeps.of(id).attempt
		if i := len(attempts) - 1; i >= 0 && attempts[i].At.Equal(now) {
			return attempts[i].Taken, attempts[i].Says
		}
		return false, "the line has no address that the world reaches"
	}
	return false, "the device does not keep this name"
}
