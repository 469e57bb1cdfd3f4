// Package standin is simulated devices: RESTCONF over TLS (RFC 8040) with a
// running and a startup configuration and a timed confirm, the DHCP server and
// relay on real UDP sockets, and clients on their networks that lease and renew.
// They take the place of the devices Lithos is for, over the protocols they
// speak. Each kind refuses what its like cannot do (compile.Limits).
package standin

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/site"
	"lithos/core/yang"
)

// Config is what a stand-in is started with.
type Config struct {
	Name   string
	System string // its name as its neighbours hear it (IEEE 802.1AB); Name when empty
	// Manage is the interface whose address it is reached at, on this machine's loopback network, and Port the TCP
	// port. Without one it listens at 127.0.0.1.
	Manage   string
	Port     int
	Kind     string      // of package site; a firewall when empty
	Fabric   *Fabric     // what joins it to the other devices of its site; its own when nil
	Initial  yang.Config // what it holds when there is no state file yet
	Account  string
	Password string
	Secrets  map[string]string   // passwords it keeps from the start, by name
	Links    []yang.LinkNeighbor // what its ports hear of the devices at the other ends of their cables
	// Without are modules that it does not speak, such as SmallRouter: none for a device that can all of it.
	Without []string
	// State is the file its startup configuration survives in, with its leases beside it; empty for none.
	State string
	Log   *slog.Logger
	// Clock is the time by which its DHCP server gives leases; the time of day when nil.
	Clock func() time.Time
}

// Device is a running stand-in.
type Device struct {
	URL         string // of its RESTCONF root's host
	Fingerprint []byte // SHA-256 of its certificate

	config   Config
	schema   *schema
	http     *http.Server
	tls      *tls.Config
	listener net.Listener
	done     sync.WaitGroup

	mu        sync.Mutex
	running   yang.Config
	changed   time.Time // when running was last
	startup   yang.Config
	aside     *aside
	confirmed []string // the changes that were, the newest last
	db        *dhcp.LeaseDB
	server    *dhcp.Server
	relay     *dhcp.Relay
	servers   map[netip.Addr]heardServer              // other DHCP servers that answered on its networks
	wires     map[string]*ends                        // of its interfaces
	plugs     map[string]socket                       // ports where clients are plugged in, by name
	waiting   map[dhcpv4.TransactionID]netip.AddrPort // clients whose requests were relayed
	heard     map[netip.Addr]heard
	learnt    map[address.MAC]string // of a switch: the port of a station
	off       map[string]bool        // ports whose plug is pulled, by name
	secrets   map[string]string
	lines     map[string]line   // what the lines of uplinks give, by name
	learns    map[string]Learnt // what uplinks have learnt, by name
	names     resolver
	keeps     *keeps
	closing   context.Context // ends when the device does
	close     context.CancelFunc
	closeDB   func()
	faults    Faults
	writes    int
}

// aside is a configuration kept to return to unless the change is confirmed.
type aside struct {
	token   string
	was     yang.Config
	timer   *time.Timer
	returns time.Time // when it does so by itself
}

// ends are the UDP endpoints of an interface: its network, and what is sent to its addresses
// by other devices and by clients that renew.
type ends struct{ network, routed *net.UDPConn }

func (e *ends) close() {
	_ = e.network.Close()
	_ = e.routed.Close()
}

func openEnds() (*ends, error) {
	here := &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}
	network, err := net.ListenUDP("udp4", here)
	if err != nil {
		return nil, err
	}
	routed, err := net.ListenUDP("udp4", here)
	if err != nil {
		_ = network.Close()
		return nil, err
	}
	return &ends{network, routed}, nil
}

// heard is an entry of the neighbour table.
type heard struct {
	on   string
	mac  address.MAC
	name string
}

// Start runs a stand-in on free loopback ports until Close.
func Start(c Config) (*Device, error) {
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	if c.Fabric == nil {
		c.Fabric = NewFabric()
	}
	c.System = cmp.Or(c.System, c.Name)
	d := &Device{
		config: c, schema: modules().without(c.Without),
		db: dhcp.NewLeaseDB(), closeDB: func() {}, running: c.Initial, wires: map[string]*ends{},
		plugs:   map[string]socket{},
		servers: map[netip.Addr]heardServer{},
		waiting: map[dhcpv4.TransactionID]netip.AddrPort{},
		heard:   map[netip.Addr]heard{}, learnt: map[address.MAC]string{}, secrets: map[string]string{},
		lines: map[string]line{}, learns: map[string]Learnt{}, keeps: newKeeps(),
	}
	d.closing, d.close = context.WithCancel(context.Background())
	maps.Copy(d.secrets, c.Secrets)
	if err := d.restore(); err != nil {
		return nil, err
	}
	d.startup = d.running
	if err := d.apply(d.running); err != nil {
		return nil, fmt.Errorf("%s: %w", c.Name, err)
	}
	cert, err := Certificate(c.Name)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(cert.Certificate[0])
	d.tls = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	listener, err := tls.Listen("tcp", netip.AddrPortFrom(d.managedAt(), uint16(c.Port)).String(), d.tls)
	if err != nil {
		return nil, err
	}
	d.listener = listener
	d.URL, d.Fingerprint = "https://"+listener.Addr().String(), sum[:]
	d.http = &http.Server{Handler: d.routes(), ReadHeaderTimeout: 5 * time.Second,
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)}
	d.listens(listener)
	d.done.Go(d.keepNames)
	return d, nil
}

// Close ends the stand-in as a power cut would: an unconfirmed change is lost,
// the startup configuration stays.
func (d *Device) Close() {
	d.config.Fabric.leave(d)
	d.close()
	_ = d.http.Close()
	d.mu.Lock()
	if d.aside != nil {
		d.aside.timer.Stop()
	}
	for _, w := range d.wires {
		w.close()
	}
	for _, s := range d.plugs {
		_ = s.conn.Close()
	}
	names := d.names.listener
	d.mu.Unlock()
	if names != nil {
		names.Close()
	}
	d.done.Wait()
	d.closeDB()
}

// Running and Startup are the device's datastores.
func (d *Device) Running() yang.Config { d.mu.Lock(); defer d.mu.Unlock(); return d.running }

// Startup is what the device would hold after a restart.
func (d *Device) Startup() yang.Config { d.mu.Lock(); defer d.mu.Unlock(); return d.startup }

// Set changes the running configuration behind Lithos's back, as somebody at
// the console would.
func (d *Device) Set(c yang.Config) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.apply(c)
}

// storedState is what of a device survives a restart, in one file: its configuration and
// the changes it has confirmed go together.
type storedState struct {
	yang.Config
	Confirmed []string `json:"lithos-config:confirmed,omitempty"`
}

func (d *Device) restore() error {
	if d.config.State == "" {
		return nil
	}
	// Each is decoded into an empty value: decoding over what the device begins
	// with would leave of that whatever the file does not name.
	var config storedState
	switch err := read(d.config.State, &config); {
	case err == nil:
		d.running, d.confirmed = config.Config, config.Confirmed
	case !errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("state of %s: %w", d.config.Name, err)
	}
	secrets := map[string]string{}
	if err := read(d.config.State+".secrets", &secrets); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("secrets of %s: %w", d.config.Name, err)
	}
	maps.Copy(d.secrets, secrets)
	var err error
	d.db, d.closeDB, err = OpenLeaseDB(d.config.State+".leases", d.config.Log)
	return err
}

func read(file string, into any) error {
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, into)
}

// remembered is how many confirmed changes a device can tell of.
const remembered = 64

// confirm writes the running configuration to startup and ends the change.
func (d *Device) confirm() error {
	confirmed := append(slices.Clone(d.confirmed), d.aside.token)
	confirmed = confirmed[max(0, len(confirmed)-remembered):]
	if d.config.State != "" {
		if err := replace(d.config.State, storedState{d.running, confirmed}); err != nil {
			return err
		}
	}
	d.startup, d.confirmed = d.running, confirmed
	d.aside.timer.Stop()
	d.aside = nil
	return nil
}

// keepSecret keeps a password under its name.
func (d *Device) keepSecret(name, value string) error {
	d.secrets[name] = value
	if d.config.State == "" {
		return nil
	}
	return replace(d.config.State+".secrets", d.secrets)
}

// replace writes a file in one step, so that a kill leaves the old or the new one.
func replace(file string, v any) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", raw, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// apply makes c the running configuration, or refuses it whole.
func (d *Device) apply(c yang.Config) error {
	if err := c.Validate(); err != nil {
		return err
	}
	if err := compile.Limits(d.config.Kind, c); err != nil {
		return err
	}
	for _, i := range c.Interfaces.Interface {
		if i.Uplink != nil && i.Uplink.PasswordName != "" && d.secrets[i.Uplink.PasswordName] == "" {
			return fmt.Errorf("interface %s: no password is kept as %s", i.Name, i.Uplink.PasswordName)
		}
	}
	for _, n := range c.Outside.Name {
		if d.secrets[n.SecretName] == "" {
			return fmt.Errorf("outside name %s: no key is kept as %s", n.Name, n.SecretName)
		}
	}
	d.running, d.changed = c, time.Now()
	d.keeps.look()
	d.server, d.relay = dhcp.NewServer(d.withLearnt(c), d.db), dhcp.NewRelay(c)
	if err := d.renames(); err != nil {
		return err
	}
	return d.rewire()
}

// begin keeps the running configuration aside for at most timeout.
func (d *Device) begin(token string, timeout time.Duration) error {
	if d.aside != nil {
		if d.aside.token != token {
			return errors.New("another change is waiting to be confirmed")
		}
		d.aside.timer.Reset(timeout)
		d.aside.returns = time.Now().Add(timeout)
		return nil
	}
	a := &aside{token: token, was: d.running, returns: time.Now().Add(timeout)}
	a.timer = time.AfterFunc(timeout, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.aside == a {
			d.config.Log.Warn(
				"no confirmation arrived; returning to the configuration before",
				"device",
				d.config.Name,
			)
			_ = d.rollBack()
		}
	})
	d.aside = a
	return nil
}

func (d *Device) rollBack() error {
	d.aside.timer.Stop()
	was := d.aside.was
	d.aside = nil
	return d.apply(was)
}

// SetPassword gives the device's account another password, as somebody at its console does.
func (d *Device) SetPassword(password string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.config.Password = password
}

// rewire opens an endpoint for every interface with an address and closes the rest.
func (d *Device) rewire() error {
	up := map[string]bool{}
	for _, i := range d.running.Interfaces.Interface {
		if i.IPv4 == nil || !i.Enabled {
			continue
		}
		up[i.Name] = true
		if d.wires[i.Name] != nil {
			continue
		}
		w, err := openEnds()
		if err != nil {
			return err
		}
		d.wires[i.Name] = w
		d.done.Go(func() { d.answer(i.Name, w.network) })
		d.done.Go(func() { d.route(i.Name, w.routed) })
	}
	for name, w := range d.wires {
		if !up[name] {
			w.close()
			delete(d.wires, name)
		}
	}
	d.config.Fabric.join(d, d.places())
	return errors.Join(d.plugSockets(), d.follow())
}

// places is where the device is on the networks of its site.
func (d *Device) places() []place {
	var out []place
	for _, i := range d.running.Interfaces.Interface {
		if d.wires[i.Name] == nil {
			continue
		}
		p := place{device: d, iface: i.Name, wire: addrPort(d.wires[i.Name].network),
			routed: addrPort(d.wires[i.Name].routed)}
		switch {
		case i.VLAN != nil:
			p.vlan = i.VLAN.ID
		case i.Switchport != nil:
			p.vlan = i.Switchport.Untagged
		}
		for _, a := range i.IPv4.Address {
			p.addresses = append(p.addresses, a.Prefix())
		}
		out = append(out, p)
	}
	return out
}

func addrPort(conn *net.UDPConn) netip.AddrPort { return conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// answer serves and relays DHCP on one wire until it is closed.
func (d *Device) answer(iface string, conn *net.UDPConn) {
	buf := make([]byte, dhcp.MaxPacket+1)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		m, err := dhcp.ReadPacket(buf[:n])
		if err != nil {
			continue
		}
		if reply := d.hearOn(iface, from, m); reply != nil {
			_, _ = conn.WriteToUDPAddrPort(reply, from)
		}
		for _, reply := range d.config.Fabric.strayReplies(d, iface, m) {
			_, _ = conn.WriteToUDPAddrPort(reply, from)
		}
	}
}

// maxWaiting bounds how many relayed clients wait for a reply at a time.
const maxWaiting = 4096

// hearOn is what a message heard on an interface is answered with, nil when it
// is not, or was passed on.
func (d *Device) hearOn(iface string, from netip.AddrPort, m *dhcpv4.DHCPv4) []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	accepts := slices.ContainsFunc(d.running.Interfaces.Interface,
		func(i yang.Interface) bool { return i.Name == iface && i.Accepts(site.PermitDHCP) })
	if d.faults.Deaf || !accepts {
		return nil
	}
	a := d.serve(func(now time.Time) dhcp.Answer { return d.server.Handle(now, m, iface) })
	if reply, _ := a.Wire(); reply != nil {
		return reply
	}
	out, servers, _ := d.relay.Forward(m, iface)
	if out == nil {
		return nil
	}
	if len(d.waiting) >= maxWaiting {
		clear(d.waiting)
	}
	d.waiting[m.TransactionID] = from
	for _, to := range servers {
		d.send(iface, out.ToBytes(), to)
	}
	return nil
}

func (c *Config) now() time.Time {
	if c.Clock != nil {
		return c.Clock()
	}
	return time.Now()
}

// serve answers a request, and looks into the neighbour table before it gives an address
// that was not the client's: one at which another machine answers is set aside.
func (d *Device) serve(handle func(now time.Time) dhcp.Answer) dhcp.Answer {
	for {
		now := d.config.now()
		a := handle(now)
		h, answers := d.heard[a.Probe]
		if !answers || !d.server.Taken(now, a, h.mac) || a.Reply == nil {
			return a
		}
	}
}

// send carries a packet from an interface to whichever device of the site holds an address.
func (d *Device) send(iface string, packet []byte, to netip.Addr) {
	if at, ok := d.config.Fabric.holder(to); ok && d.wires[iface] != nil {
		_, _ = d.wires[iface].routed.WriteToUDPAddrPort(packet, at)
	}
}

// route answers what is sent to the addresses of an interface: requests of relays and of
// clients that renew, and the replies to its own relayed ones.
func (d *Device) route(iface string, conn *net.UDPConn) {
	buf := make([]byte, dhcp.MaxPacket+1)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		m, err := dhcp.ReadPacket(buf[:n])
		if err != nil {
			continue
		}
		d.mu.Lock()
		if back, on, ok := d.relay.Back(m); ok {
			at, known := d.waiting[m.TransactionID]
			if wire := d.wires[on]; wire != nil && known {
				packet, _ := dhcp.Pack(back, dhcp.Order(buf[:n]), dhcp.MaxReply)
				_, _ = wire.network.WriteToUDPAddrPort(packet, at)
			}
		} else if !d.faults.Deaf {
			a := d.serve(func(now time.Time) dhcp.Answer { return d.server.HandleSent(now, m, iface) })
			if packet, _ := a.Wire(); packet != nil {
				_, _ = conn.WriteToUDPAddrPort(packet, from) // a relay and a client send from where they listen
			}
		}
		d.mu.Unlock()
	}
}
