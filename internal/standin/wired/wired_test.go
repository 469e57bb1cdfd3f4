package wired_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
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
      - {id: i3, name: vlan24, kind: vlan, vlan: 24, addresses: [10.84.50.1/24], relayTo: [10.84.48.10]}
networks:
  - {id: n1, name: Bench, prefix: 10.84.48.0/26, vlan: 11, gateway: 10.84.48.2}
  - {id: n2, name: Ward, prefix: 10.84.50.0/24, vlan: 24, gateway: 10.84.50.1}
pools:
  - {id: p1, name: Bench, network: n1, server: srv, enabled: true, ranges: [{from: 10.84.48.40, to: 10.84.48.59}]}
  - {id: p2, name: Ward, network: n2, server: srv, enabled: true, ranges: [{from: 10.84.50.60, to: 10.84.50.199}]}
`

// A DHCP client of Debian's takes a lease from a server on its own network, and
// one behind a relay from the same server. The in-use probe passes over an
// address that somebody holds, and the lease database outlives the server.
func TestClientsOfDebianTakeLeases(t *testing.T) {
	for _, tool := range []string{"ip", "busybox"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	if os.Geteuid() != 0 {
		t.Skip("network namespaces need root")
	}
	dir := t.TempDir()
	lithos := filepath.Join(dir, "lithos")
	build := exec.Command("go", "build", "-o", lithos, "lithos/cmd/lithos")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	file := filepath.Join(dir, "t.yaml")
	require.NoError(t, os.WriteFile(file, []byte(siteFile), 0o600))

	// bench and ward are bridges, so that several machines hang from one network.
	server, relay, near, far, squatter := newHost(t, "srv"), newHost(t, "sw"), newHost(t, "near"), newHost(t, "far"),
		newHost(t, "squat")
	bench := newHost(t, "bench")
	bench.run("ip", "link", "add", "br0", "type", "bridge")
	bench.run("ip", "link", "set", "br0", "up")
	for i, h := range []host{server, relay, near, squatter} {
		port := fmt.Sprintf("p%d", i)
		cable(t, h, "eth0", bench, port)
		bench.run("ip", "link", "set", port, "master", "br0")
	}
	cable(t, relay, "ward", far, "eth0")
	server.run("ip", "address", "add", "10.84.48.10/26", "dev", "eth0")
	server.run("ip", "route", "add", "10.84.50.0/24", "via", "10.84.48.2")
	relay.run("ip", "address", "add", "10.84.48.2/26", "dev", "eth0")
	relay.run("ip", "address", "add", "10.84.50.1/24", "dev", "ward")
	squatter.run("ip", "address", "add", "10.84.48.40/26", "dev", "eth0") // the pool's first

	serve := func(h host, device string, ifaces ...string) *exec.Cmd {
		args := []string{lithos, "standin", "dhcp", "--site", file, "--device", device, "--leases",
			filepath.Join(dir, device+".leases")}
		for _, i := range ifaces {
			args = append(args, "--iface", i)
		}
		cmd := h.command(args...)
		said, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		ready := make([]byte, 256)
		n, err := said.Read(ready) // it says so when it listens
		require.NoError(t, err)
		require.Contains(t, string(ready[:n]), "listens")
		return cmd
	}
	first := serve(server, "srv", "eth0")
	serve(relay, "sw", "ward", "eth0")

	got := take(t, near, dir)
	assert.Equal(t, "10.84.48.41", got["ip"], "10.84.48.40 answered the probe")
	assert.Equal(t, "255.255.255.192", got["subnet"])
	assert.Equal(t, "10.84.48.2", got["router"])
	assert.Equal(t, "10.84.48.10", got["dns"])
	assert.Equal(t, "t.example", got["domain"])
	got = take(t, far, dir)
	assert.Equal(t, "10.84.50.60", got["ip"], "from behind the relay")
	assert.Equal(t, "10.84.50.1", got["router"])
	assert.Equal(t, "10.84.48.10", got["serverid"])

	require.NoError(t, first.Process.Kill())
	_ = first.Wait()
	serve(server, "srv", "eth0")
	far.run("ip", "link", "set", "eth0", "down")
	far.run("ip", "link", "set", "eth0", "address", "02:00:5e:00:53:77")
	far.run("ip", "link", "set", "eth0", "up")
	assert.Equal(t, "10.84.50.61", take(t, far, dir)["ip"], "the killed server remembers what it gave")
}

// take runs busybox's client until it has a lease, and returns what it was told.
func take(t *testing.T, h host, dir string) map[string]string {
	t.Helper()
	told := filepath.Join(dir, h.name+".told")
	_ = os.Remove(told)
	script := filepath.Join(dir, "told.sh")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\n[ \"$1\" = bound ] && env > \"$TOLD\"\nexit 0\n"),
		0o700))
	cmd := h.command("env", "TOLD="+told, "busybox", "udhcpc", "-i", "eth0", "-n", "-q", "-f", "-t", "5", "-T", "2",
		"-s", script)
	done := make(chan error, 1)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	go func() { done <- cmd.Wait() }()
	select {
	case err := <-done:
		require.NoError(t, err, out.String())
	case <-time.After(2 * time.Minute):
		_ = cmd.Process.Kill()
		t.Fatalf("the client got no lease: %s", out.String())
	}
	raw, err := os.ReadFile(told)
	require.NoError(t, err, out.String())
	env := map[string]string{}
	for line := range strings.Lines(string(raw)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		env[key] = value
	}
	return env
}
