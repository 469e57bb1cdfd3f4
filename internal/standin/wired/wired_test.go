package wired_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lithos/core/address"
	"lithos/core/dhcp"
)

// host is a network namespace of the test's own.
type host struct {
	t    *testing.T
	name string
}

func newHost(t *testing.T, role string) host {
	h := host{t, fmt.Sprintf("lt%d-%s", os.Getpid()%10000, role)}
	if out, err := exec.Command("ip", "netns", "add", h.name).CombinedOutput(); err != nil {
		t.Skipf("network namespaces are not allowed here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "delete", h.name).Run() })
	h.run("ip", "link", "set", "lo", "up")
	return h
}

func (h host) command(args ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", h.name}, args...)...)
}

func (h host) run(args ...string) string {
	h.t.Helper()
	out, err := h.command(args...).CombinedOutput()
	require.NoError(h.t, err, "%v: %s", args, out)
	return string(out)
}

// cable joins two hosts; each end is called after the other side's role.
func cable(t *testing.T, a host, nameA string, b host, nameB string) {
	t.Helper()
	out, err := exec.Command("ip", "link", "add", nameA, "netns", a.name, "type", "veth", "peer", "name", nameB,
		"netns", b.name).CombinedOutput()
	require.NoError(t, err, "%s", out)
	a.run("ip", "link", "set", nameA, "up")
	b.run("ip", "link", "set", nameB, "up")
}

const siteFile = `
id: site-t
code: t
name: T
customer: {id: c, name: C}
block: [10.84.48.0/20]
domain: t.example
options: [{code: 6, value: 10.84.48.10}]
devices:
  - id: srv
    name: srv
    kind: server
    interfaces: [{id: i1, name: eth0, kind: port, addresses: [10.84.48.10/26]}]
  - id: sw
    name: sw
    kind: layer 3 switch
    interfaces:
      - {id: i2, name: vlan11, kind: vlan, vlan: 11, addresses: [10.84.48.2/26]}
      - {id: i3, name: vlan24, kind: vlan, vlan: 24, addresses: [10.84.50.1/24],
         relayTo: [192.0.2.9, 10.84.48.9, 10.84.48.10]}
networks:
  - {id: n1, name: Bench, prefix: 10.84.48.0/26, vlan: 11, gateway: 10.84.48.2}
  - {id: n2, name: Ward, prefix: 10.84.50.0/24, vlan: 24, gateway: 10.84.50.1}
pools:
  - id: p1
    name: Bench
    network: n1
    server: srv
    enabled: true
    ranges: [{from: 10.84.48.40, to: 10.84.48.59}]
    options: [{code: 51, value: 20 seconds}, {code: 58, value: 3 seconds}, {code: 59, value: 8 seconds}]
  - id: p2
    name: Ward
    network: n2
    server: srv
    enabled: true
    ranges: [{from: 10.84.50.60, to: 10.84.50.199}]
    options: [{code: 51, value: 20 seconds}, {code: 58, value: 3 seconds}, {code: 59, value: 8 seconds}]
reservations:
  - {id: r1, network: n2, name: one, mac: "02:00:5e:00:53:20", address: 10.84.50.20}
  - {id: r2, network: n2, name: two, mac: "02:00:5e:00:53:21", address: 10.84.50.21}
  - {id: r3, network: n2, name: three, mac: "02:00:5e:00:53:22", address: 10.84.50.22}
  - {id: r4, network: n1, name: four, mac: "02:00:5e:00:53:10", address: 10.84.48.20}
  - {id: r5, network: n1, name: five, mac: "02:00:5e:00:53:11", address: 10.84.48.21}
  - {id: r6, network: n1, name: six, mac: "02:00:5e:00:53:12", address: 10.84.48.22}
`

// lines is a log that is read while it is written.
type lines struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.Write(p)
}

// all is the lines with every one of some words, from an offset on, and the offset after them.
func (l *lines) all(from int, words ...string) (found []string, end int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	text := l.buf.String()
	end = strings.LastIndexByte(text, '\n') + 1
	for line := range strings.Lines(text[min(from, end):end]) {
		has := true
		for _, w := range words {
			has = has && strings.Contains(line, w)
		}
		if has {
			found = append(found, line)
		}
	}
	return found, end
}

func (l *lines) now() int {
	_, end := l.all(0)
	return end
}

// patience is how long something in the lab may take.
const patience = 50 * time.Second

// wait waits for a line after an offset.
func (l *lines) wait(from int, words ...string) error {
	return l.within(patience, from, words...)
}

func (l *lines) within(limit time.Duration, from int, words ...string) error {
	end := time.After(limit)
	for {
		found, _ := l.all(from, words...)
		if len(found) > 0 {
			return nil
		}
		select {
		case <-end:
			said, _ := l.all(from)
			return fmt.Errorf("no line with %v in the log of the server:\n%s", words, strings.Join(said, ""))
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// lab is a server, a relay and two networks, bench and ward, on one switch.
type lab struct {
	t             *testing.T
	dir           string
	file          string
	lithos        string
	server, relay host
	wires         host
	log           *lines
	ports         int
}

func newLab(t *testing.T, tools ...string) *lab {
	for _, tool := range append(tools, "ip") {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	if os.Geteuid() != 0 {
		t.Skip("network namespaces need root")
	}
	l := &lab{t: t, dir: t.TempDir(), log: &lines{}}
	l.lithos = filepath.Join(l.dir, "lithos")
	out, err := exec.Command("go", "build", "-o", l.lithos, "lithos/cmd/lithos").CombinedOutput()
	require.NoError(t, err, "%s", out)
	l.file = filepath.Join(l.dir, "t.yaml")
	require.NoError(t, os.WriteFile(l.file, []byte(siteFile), 0o600))
	l.server, l.relay, l.wires = newHost(t, "srv"), newHost(t, "sw"), newHost(t, "wires")
	for _, network := range []string{"bench", "ward"} {
		l.wires.run("ip", "link", "add", network, "type", "bridge")
		l.wires.run("ip", "link", "set", network, "up")
	}
	l.plug(l.server, "eth0", "bench")
	l.plug(l.relay, "eth0", "bench")
	l.plug(l.relay, "ward", "ward")
	l.server.run("ip", "address", "add", "10.84.48.10/26", "dev", "eth0")
	l.server.run("ip", "route", "add", "10.84.50.0/24", "via", "10.84.48.2")
	l.relay.run("ip", "address", "add", "10.84.48.2/26", "dev", "eth0")
	l.relay.run("ip", "address", "add", "10.84.50.1/24", "dev", "ward")
	l.relay.run("sh", "-c", "echo 1 > /proc/sys/net/ipv4/ip_forward")
	return l
}

// plug joins an interface of a host to a network, and returns the switch's port.
func (l *lab) plug(h host, iface, network string) string {
	l.ports++
	port := fmt.Sprintf("p%d", l.ports)
	cable(l.t, h, iface, l.wires, port)
	l.wires.run("ip", "link", "set", port, "master", network)
	return port
}

// serve runs a device of the site file on a host.
func (l *lab) serve(h host, device string, ifaces ...string) *exec.Cmd {
	args := []string{l.lithos, "standin", "dhcp", "--site", l.file, "--device", device, "--leases",
		filepath.Join(l.dir, device+".leases")}
	for _, i := range ifaces {
		args = append(args, "--iface", i)
	}
	cmd := h.command(args...)
	cmd.Stderr, cmd.WaitDelay = l.log, time.Second
	said, err := cmd.StdoutPipe()
	require.NoError(l.t, err)
	require.NoError(l.t, cmd.Start())
	l.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	ready := make([]byte, 256)
	n, err := said.Read(ready) // it says so when it listens
	require.NoError(l.t, err)
	require.Contains(l.t, string(ready[:n]), "listens")
	return cmd
}

// maker is a DHCP client program: how it is run, and how it is told to give its lease back.
type maker struct {
	tool    string
	run     func(c *client) *exec.Cmd
	release func(c *client) error
	reboots bool   // it remembers its lease over a restart and asks for it (INIT-REBOOT)
	written string // it says so when it has written down its lease
}

// client is one program on one host.
type client struct {
	host
	maker   maker
	mac     string
	port    string // of the switch
	gateway string // where its unicasts go
	dir     string
	cmd     *exec.Cmd
	out     *lines
}

func (c *client) start() error {
	c.cmd = c.maker.run(c)
	c.cmd.Stdout, c.cmd.Stderr = c.out, c.out
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // some clients are several processes
	c.cmd.WaitDelay = time.Second
	return c.cmd.Start()
}

func (c *client) kill() {
	_ = syscall.Kill(-c.cmd.Process.Pid, syscall.SIGKILL)
	_ = c.cmd.Wait()
}

func (c *client) script(name, text string) string {
	path := filepath.Join(c.dir, name)
	require.NoError(c.t, os.WriteFile(path, []byte(text), 0o700))
	return path
}

const udhcpcScript = `#!/bin/sh
case $1 in
deconfig) ip address flush dev $interface; ip link set $interface up ;;
bound|renew)
  ip address add $ip/$mask dev $interface 2>/dev/null
  [ -n "$router" ] && ip route replace default via ${router%% *} ;;
esac
exit 0
`

// What it is given at an address that is in use, it declines.
const dhclientScript = `#!/bin/sh
case $reason in
PREINIT) ip link set $interface up ;;
BOUND|RENEW|REBIND|REBOOT)
  case $new_ip_address in 10.84.50.2?|10.84.48.2?) exit 1 ;; esac
  [ "$old_ip_address" = "$new_ip_address" ] || ip address flush dev $interface
  ip address replace $new_ip_address/$new_subnet_mask dev $interface
  ip route replace default via ${new_routers%% *} ;;
EXPIRE|FAIL|RELEASE|STOP) ip address flush dev $interface ;;
esac
exit 0
`

var makers = []maker{
	{tool: "busybox",
		run: func(c *client) *exec.Cmd {
			return c.command("busybox", "udhcpc", "-i", "eth0", "-f", "-a", "-t", "5", "-T", "2", "-A", "1", "-s",
				c.script("told.sh", udhcpcScript))
		},
		release: func(c *client) error { return c.cmd.Process.Signal(syscall.SIGUSR2) }},
	{tool: "dhclient", reboots: true, written: "bound to",
		run: func(c *client) *exec.Cmd {
			conf := c.script(
				"dhclient.conf",
				"timeout 10; retry 1; reboot 5; initial-interval 1; backoff-cutoff 1;\n",
			)
			return c.command("dhclient", "-4", "-d", "-lf", c.dir+"/leases", "-pf", c.dir+"/pid", "-cf", conf, "-sf",
				c.script("told.sh", dhclientScript), "eth0")
		},
		release: func(c *client) error {
			return c.command("dhclient", "-4", "-r", "-lf", c.dir+"/leases", "-pf", c.dir+"/pid", "-cf",
				c.dir+"/dhclient.conf", "-sf", c.dir+"/told.sh", "eth0").Run()
		}},
	{tool: "dhcpcd", reboots: true, written: "executing: /bin/true",
		run: func(c *client) *exec.Cmd { return c.command("sh", "-c", c.dhcpcd("-B -4 -d -K")) },
		release: func(c *client) error {
			// A signal that comes while it runs its script may be lost.
			from, told := c.out.now(), time.Now()
			for {
				if err := c.cmd.Process.Signal(syscall.SIGALRM); err != nil {
					return err
				}
				err := c.out.within(time.Second, from, "releasing")
				if err == nil || time.Since(told) > patience {
					return err
				}
			}
		}},
}

// dhcpcd runs with folders of its own, since it names them after the interface.
func (c *client) dhcpcd(flags string) string {
	for _, d := range []string{"lib", "run"} {
		require.NoError(c.t, os.MkdirAll(filepath.Join(c.dir, d), 0o755))
	}
	conf := c.script("dhcpcd.conf", "noipv6\nnoipv4ll\nclientid\nscript /bin/true\n")
	return fmt.Sprintf(
		"mount --bind %[1]s/lib /var/lib/dhcpcd && mount --bind %[1]s/run /run && exec dhcpcd -f %s %s eth0",
		c.dir,
		conf,
		flags,
	)
}

// DHCP clients of three makers lease, renew by unicast, rebind, start again, move to another
// network, release and decline, on the wire and behind the relay, whose first target is a
// machine that is not there.
func TestClientsOfThreeMakers(t *testing.T) {
	l := newLab(t, "busybox", "dhclient", "dhcpcd")
	l.serve(l.server, "srv", "eth0")
	l.serve(l.relay, "sw", "ward", "eth0")
	// What is reserved is held by somebody else, who answers clients and not the server: no echo
	// request, and no ARP of a sender that it has no way back to.
	squatter := newHost(t, "squat")
	l.plug(squatter, "eth0", "ward")
	l.plug(squatter, "eth1", "bench")
	squatter.run("sh", "-c", "echo 1 > /proc/sys/net/ipv4/icmp_echo_ignore_all; "+
		"for f in /proc/sys/net/ipv4/conf/*/rp_filter; do echo 1 > $f; done")
	for i := range makers {
		squatter.run("ip", "address", "add", fmt.Sprintf("10.84.50.2%d/24", i), "dev", "eth0")
		squatter.run("ip", "address", "add", fmt.Sprintf("10.84.48.2%d/26", i), "dev", "eth1")
	}
	squatter.run("ip", "route", "add", "blackhole", "10.84.48.10/32")
	var clients []*client
	for i, m := range makers {
		for k, network := range []string{"bench", "ward"} {
			h := newHost(t, fmt.Sprintf("%s%d", network[:1], i))
			c := &client{host: h, maker: m, out: &lines{}, dir: t.TempDir(),
				mac: fmt.Sprintf("02:00:5e:00:53:%d%d", k+1, i), gateway: "10.84.48.10"}
			if network == "ward" {
				c.gateway = "10.84.50.1"
			}
			c.port = l.plug(h, "eth0", network)
			h.run("ip", "link", "set", "eth0", "address", c.mac)
			clients = append(clients, c)
		}
	}
	// All at once: most of their time they wait for their timers.
	errs := make([]error, len(clients))
	var all sync.WaitGroup
	for i, c := range clients {
		all.Go(func() {
			errs[i] = c.livesItsLife(l)
			c.kill()
		})
	}
	all.Wait()
	for i, c := range clients {
		if errs[i] != nil {
			said, _ := c.out.all(0)
			t.Errorf("%s behind %s: %v\n%s", c.maker.tool, c.gateway, errs[i],
				strings.Join(said[max(0, len(said)-40):], ""))
		}
	}
}

func (c *client) livesItsLife(l *lab) error {
	mac := "mac=" + c.mac
	behind := c.gateway == "10.84.50.1"
	other := map[bool]string{true: "bench", false: "ward"}[behind]
	at := 0
	var failed error
	do := func(act func() error) {
		if failed == nil {
			at = l.log.now()
			failed = act()
		}
	}
	sees := func(words ...string) {
		if failed == nil {
			failed = l.log.wait(at, append(words, mac)...)
		}
	}
	do(c.start)
	if behind {
		sees("event=decline", "address=10.84.50.2")
		sees("event=lease", "selecting", "pool=Ward", "relay=10.84.50.1", "from pool")
	} else {
		sees("event=decline", "address=10.84.48.2")
		sees("event=lease", "selecting", "pool=Bench", "from pool")
	}
	do(func() error { return nil })
	sees("event=lease", "renewing or rebinding", "unicast=true")

	// What it sends to one machine alone is lost, so that it asks everybody.
	do(func() error { return c.neighbour("replace", "lladdr", "02:00:5e:00:53:ff", "nud", "permanent") })
	sees("event=lease", "renewing or rebinding", "unicast=false")
	// A renewal shows that it is bound; then it has to write down what it remembers.
	renews := func(act func() error) {
		do(act)
		sees("event=lease", "renewing or rebinding", "unicast=true")
		if failed == nil && c.maker.reboots {
			failed = c.out.wait(c.out.now(), c.maker.written)
		}
	}
	renews(func() error { return c.neighbour("delete") })

	c.kill()
	do(c.start)
	sees("event=lease", map[bool]string{true: "init-reboot", false: "selecting"}[c.maker.reboots])
	renews(func() error { return nil })

	// It remembers its lease in a network where that is nothing.
	if c.maker.reboots {
		c.kill()
	}
	do(func() error {
		out, err := l.wires.command("ip", "link", "set", c.port, "master", other).CombinedOutput()
		if err != nil || !c.maker.reboots {
			return errors.Join(err, errIf(err != nil, string(out)))
		}
		return c.start()
	})
	sees("event=nak", "is not on this network")
	sees("event=lease", "selecting")
	renews(func() error { return nil })
	do(func() error { return c.maker.release(c) })
	sees("event=release")
	return failed
}

func errIf(is bool, says string) error {
	if !is {
		return nil
	}
	return errors.New(says)
}

// neighbour changes where the frames for the client's gateway go.
func (c *client) neighbour(act string, args ...string) error {
	all := append([]string{"ip", "neigh", act, c.gateway, "dev", "eth0"}, args...)
	out, err := c.command(all...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%v: %w: %s", all, err, out)
	}
	return nil
}

// The in-use probe passes over an address that somebody holds, by ARP and by an echo request
// behind a relay, and the lease database outlives a killed server.
func TestInUseAndKilled(t *testing.T) {
	l := newLab(t, "busybox")
	near, far, squatter := newHost(t, "near"), newHost(t, "far"), newHost(t, "squat")
	l.plug(near, "eth0", "bench")
	l.plug(far, "eth0", "ward")
	l.plug(squatter, "eth0", "bench")
	l.plug(squatter, "eth1", "ward")
	squatter.run("sh", "-c", "echo 1 > /proc/sys/net/ipv4/icmp_echo_ignore_all")
	squatter.run("ip", "address", "add", "10.84.48.40/26", "dev", "eth0") // the pool's first, silent to echo requests
	behind := newHost(t, "squat2")
	l.plug(behind, "eth0", "ward")
	behind.run("ip", "address", "add", "10.84.50.60/24", "dev", "eth0")
	behind.run("ip", "route", "add", "default", "via", "10.84.50.1")
	first := l.serve(l.server, "srv", "eth0")
	l.serve(l.relay, "sw", "ward", "eth0")
	target := newHost(t, "target") // what the relay passes requests to as well
	l.plug(target, "eth0", "bench")
	target.run("ip", "address", "add", "10.84.48.9/26", "dev", "eth0")
	relayed := target.listen(":67")

	got := take(t, near, l.dir)
	assert.Equal(t, "10.84.48.41", got["ip"], "10.84.48.40 answered ARP")
	assert.Equal(t, "255.255.255.192", got["subnet"])
	assert.Equal(t, "10.84.48.2", got["router"])
	assert.Equal(t, "10.84.48.10", got["dns"])
	assert.Equal(t, "t.example", got["domain"])
	require.NoError(t, l.log.wait(0, "event=taken", "address=10.84.48.40", "mac="))
	got = take(t, far, l.dir)
	assert.Equal(t, "10.84.50.61", got["ip"], "10.84.50.60 answered an echo request")
	require.NoError(t, l.log.wait(0, "could not be relayed to 192.0.2.9", "unreachable"),
		"the others are told all the same")
	require.NoError(t, relayed.SetReadDeadline(time.Now().Add(patience)))
	for {
		n, from, err := relayed.ReadFromUDPAddrPort(make([]byte, dhcp.MaxPacket))
		require.NoError(t, err)
		if from.Addr().String() != "10.84.48.2" {
			continue // a broadcast of a client's on the same network
		}
		assert.Equal(t, uint16(67), from.Port(), "a relay sends from where it listens")
		assert.Positive(t, n)
		break
	}
	assert.Equal(t, "10.84.50.1", got["router"])
	assert.Equal(t, "10.84.48.10", got["serverid"])

	require.NoError(t, first.Process.Kill())
	_ = first.Wait()
	l.serve(l.server, "srv", "eth0")
	far.run("ip", "link", "set", "eth0", "down")
	far.run("ip", "link", "set", "eth0", "address", "02:00:5e:00:53:77")
	far.run("ip", "link", "set", "eth0", "up")
	assert.Equal(t, "10.84.50.62", take(t, far, l.dir)["ip"], "the killed server remembers what it gave")
}

// inside runs an act in a host, where the sockets it opens stay.
func (h host) inside(act func() error) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	enter := func(file string) error {
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		return unix.Setns(int(f.Fd()), unix.CLONE_NEWNET)
	}
	if err := enter("/run/netns/" + h.name); err != nil {
		return err
	}
	err := act()
	return errors.Join(err, enter(fmt.Sprintf("/proc/%d/ns/net", os.Getpid())))
}

// listen opens a UDP port of a host's interface.
func (h host) listen(port string) (conn *net.UDPConn) {
	h.t.Helper()
	require.NoError(h.t, h.inside(func() error {
		lc := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
			var failed error
			err := raw.Control(func(fd uintptr) {
				failed = errors.Join(unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 1),
					unix.BindToDevice(int(fd), "eth0"), unix.SetsockoptInt(int(fd), unix.SOL_SOCKET,
						unix.SO_RCVBUFFORCE, 4<<20))
			})
			return errors.Join(err, failed)
		}}
		c, err := lc.ListenPacket(context.Background(), "udp4", port)
		if err == nil {
			conn = c.(*net.UDPConn)
		}
		return err
	}))
	h.t.Cleanup(func() { _ = conn.Close() })
	return conn
}

// While 300 clients behind a relay are probed for, beside one another, a client of another
// network that starts again is answered at once.
func TestProbesHoldNobodyUp(t *testing.T) {
	l := newLab(t)
	near, relay := newHost(t, "near"), newHost(t, "relay2")
	l.plug(near, "eth0", "bench")
	l.plug(relay, "eth0", "bench")
	near.run("ip", "address", "add", "10.84.48.5/26", "dev", "eth0")
	relay.run("ip", "address", "add", "10.84.48.6/26", "dev", "eth0")
	relay.run("ip", "address", "add", "10.84.50.9/24", "dev", "lo")
	l.server.run("ip", "route", "replace", "10.84.50.9/32", "via", "10.84.48.6")
	file, err := os.ReadFile(l.file)
	require.NoError(t, err)
	for was, is := range map[string]string{
		"prefix: 10.84.50.0/24": "prefix: 10.84.50.0/23", "10.84.50.1/24": "10.84.50.1/23",
		"to: 10.84.50.199": "to: 10.84.51.254",
	} {
		file = bytes.Replace(file, []byte(was), []byte(is), 1)
	}
	require.NoError(t, os.WriteFile(l.file, file, 0o600))
	l.serve(l.server, "srv", "eth0")

	broadcast := &net.UDPAddr{IP: net.IPv4bcast, Port: 67}
	client := near.listen(":68")
	c := &dhcp.Client{MAC: address.MAC{2, 0, 0x5e, 0, 0x53, 0x40}, Broadcast: true}
	say := func(m *dhcpv4.DHCPv4) *dhcpv4.DHCPv4 {
		buf := make([]byte, dhcp.MaxPacket)
		for range 20 { // as clients do, it says again what is not answered
			_, err := client.WriteTo(m.ToBytes(), broadcast)
			require.NoError(t, err)
			require.NoError(t, client.SetReadDeadline(time.Now().Add(3*time.Second)))
			for {
				n, err := client.Read(buf)
				if err != nil {
					break
				}
				if r, err := dhcp.ReadPacket(buf[:n]); err == nil && r.TransactionID == m.TransactionID {
					return r
				}
			}
		}
		require.Fail(t, "no answer")
		return nil
	}
	require.NoError(t, c.Take(say(c.Select(say(c.Discover())))))

	const crowd = 300
	behind := relay.listen(":67")
	server := &net.UDPAddr{IP: net.IPv4(10, 84, 48, 10), Port: 67}
	var crowded []*dhcpv4.DHCPv4
	for i := range crowd {
		m := (&dhcp.Client{MAC: address.MAC{2, 0, 0x5e, 1, byte(i >> 8), byte(i)}}).Discover()
		m.GatewayIPAddr = net.IPv4(10, 84, 50, 9)
		crowded = append(crowded, m)
	}
	shout := func(offered map[string]bool) { // each client that has no offer yet
		for _, m := range crowded {
			if !offered[m.ClientHWAddr.String()] {
				_, err := behind.WriteTo(m.ToBytes(), server)
				require.NoError(t, err)
			}
		}
	}
	shout(nil)
	began := time.Now()
	ack := say(c.Reboot())
	t.Logf("the reboot was answered after %s", time.Since(began))
	assert.Equal(t, dhcpv4.MessageTypeAck, ack.MessageType())
	offers, offered := map[string]bool{}, map[string]bool{}
	count := func(wait time.Duration) int {
		buf := make([]byte, dhcp.MaxPacket)
		require.NoError(t, behind.SetReadDeadline(time.Now().Add(wait)))
		for len(offers) < crowd {
			n, err := behind.Read(buf)
			if err != nil {
				break
			}
			if r, err := dhcp.ReadPacket(buf[:n]); err == nil {
				offers[r.YourIPAddr.String()], offered[r.ClientHWAddr.String()] = true, true
			}
		}
		return len(offers)
	}
	assert.Less(t, count(time.Millisecond), crowd, "before the probes of the others have ended")
	for until := time.Now().Add(patience); count(3*time.Second) < crowd && time.Now().Before(until); {
		shout(offered)
	}
	assert.Len(t, offers, crowd, "each is offered an address of its own")
}

// An interface that does not permit DHCP serves nobody, as on a device.
func TestPermitsAreKept(t *testing.T) {
	l := newLab(t)
	near := newHost(t, "near")
	l.plug(near, "eth0", "bench")
	near.run("ip", "address", "add", "10.84.48.5/26", "dev", "eth0")
	file, err := os.ReadFile(l.file)
	require.NoError(t, err)
	file = bytes.Replace(
		file,
		[]byte("addresses: [10.84.48.10/26]"),
		[]byte("addresses: [10.84.48.10/26], permits: [ping]"),
		1,
	)
	require.NoError(t, os.WriteFile(l.file, file, 0o600))
	l.serve(l.server, "srv", "eth0")
	client := near.listen(":68")
	discover := (&dhcp.Client{MAC: address.MAC{2, 0, 0x5e, 0, 0x53, 0x41}}).Discover()
	_, err = client.WriteTo(discover.ToBytes(), &net.UDPAddr{IP: net.IPv4bcast, Port: 67})
	require.NoError(t, err)
	require.NoError(t, l.log.wait(0, "event=refused", "does not permit DHCP", "mac=02:00:5e:00:53:41"))
}

// take runs busybox's client until it has a lease, and returns what it was told.
func take(t *testing.T, h host, dir string) map[string]string {
	t.Helper()
	told := filepath.Join(dir, h.name+".told")
	_ = os.Remove(told)
	script := filepath.Join(dir, "told.sh")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\n[ \"$1\" = bound ] && env > \"$TOLD\"\nexit 0\n"),
		0o700))
	cmd := h.command("timeout", "120", "env", "TOLD="+told, "busybox", "udhcpc", "-i", "eth0", "-n", "-q", "-f", "-t",
		"5", "-T", "2", "-s", script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	raw, err := os.ReadFile(told)
	require.NoError(t, err, "%s", out)
	env := map[string]string{}
	for line := range strings.Lines(string(raw)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		env[key] = value
	}
	return env
}
