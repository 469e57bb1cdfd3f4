package resolve

import (
	"bufio"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"
)

// A connection of a simulated machine over HTTPS begins with a line that says where it comes from, before TLS does:
// "FROM 203.0.113.9". TLS begins with another octet, so that others connect as they are.
const preface = "FROM "

// Speaks says on a new connection which simulated machine it comes from.
func Speaks(conn net.Conn, from netip.Addr) error {
	if !from.IsValid() {
		return nil
	}
	_, err := conn.Write([]byte(preface + from.String() + "\n"))
	return err
}

// Placed is a listener whose connections come from where their first line says.
func Placed(l net.Listener) net.Listener { return placedListener{l} }

type placedListener struct{ net.Listener }

func (l placedListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &placedConn{Conn: conn, buffered: bufio.NewReader(conn)}, nil
}

type placedConn struct {
	net.Conn
	buffered *bufio.Reader
	once     sync.Once
	from     net.Addr
	failed   error
}

// prefaceWithin is how long the line is waited for.
const prefaceWithin = 5 * time.Second

func (c *placedConn) place() {
	c.once.Do(func() {
		c.from = c.Conn.RemoteAddr()
		_ = c.SetReadDeadline(time.Now().Add(prefaceWithin))
		defer func() { _ = c.SetReadDeadline(time.Time{}) }()
		first, err := c.buffered.Peek(1)
		if err != nil || first[0] != preface[0] {
			c.failed = err
			return
		}
		line, err := c.buffered.ReadSlice('\n')
		if err != nil {
			c.failed = err
			return
		}
		at, err := netip.ParseAddr(strings.TrimSpace(strings.TrimPrefix(string(line), preface)))
		c.failed = err
		c.from = net.TCPAddrFromAddrPort(netip.AddrPortFrom(at, 1))
	})
}

func (c *placedConn) Read(b []byte) (int, error) {
	if c.place(); c.failed != nil {
		return 0, c.failed
	}
	return c.buffered.Read(b)
}

// RemoteAddr is where the machine is in the simulation.
func (c *placedConn) RemoteAddr() net.Addr {
	c.place()
	return c.from
}
