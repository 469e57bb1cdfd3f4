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
