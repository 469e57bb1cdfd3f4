package wired_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
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
