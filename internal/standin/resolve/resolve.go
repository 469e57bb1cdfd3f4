// Package resolve carries DNS messages over real sockets: UDP, TCP and TLS (RFC 1035 section 4.2, RFC
// 7858). What is answered is for whoever listens.
//
// All simulated machines share the loopback address. Where one asks as another, the addresses that the
// question goes from and to travel in an option of the message that is for local use (RFC 6891 section
// 9), which Listen takes out again.
package resolve

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/miekg/dns"

	"lithos/core/names"
	"lithos/core/yang"
)

// Question is a message with how it came.
type Question struct {
	*dns.Msg
	From, To netip.Addr // of the simulated machines; invalid for a message from the machine itself
	Remote   netip.Addr // where the message really came from
	Stream   bool       // over TCP or TLS: the answer may be long
	TLS      bool
}

// Handler answers a question; nil for no answer.
type Handler func(q Question) *dns.Msg

// Listener serves one address until it is closed.
type Listener struct {
	addr    netip.AddrPort
	tls     netip.AddrPort
	servers []*dns.Server
	done    sync.WaitGroup
}

// tries is how often a free port is looked for that both UDP and TCP can have.
const tries = 20

// Options are what a listener does beside answering over UDP and TCP. The zero value is nothing.
type Options struct {
	Certs   *tls.Config // serves TLS, too
	TLSPort int         // where; 0 for any free port
	// Keys check and make signatures of messages (RFC 8945).
	Keys dns.TsigProvider
	// Raw may answer a question itself, with several messages for instance; it reports whether it did.
	Raw func(w dns.ResponseWriter, q Question) bool
}

// Listen serves an address over UDP and TCP; a port of 0 is any free one.
func Listen(addr string, o Options, h Handler) (*Listener, error) {
	packets, stream, err := both(addr)
	if err != nil {
		return nil, err
	}
	l := &Listener{addr: packets.LocalAddr().(*net.UDPAddr).AddrPort()}
	l.serve(&dns.Server{PacketConn: packets, UDPSize: dns.DefaultMsgSize}, o, h, false, false)
	l.serve(&dns.Server{Listener: stream}, o, h, true, false)
	if o.Certs == nil {
		return l, nil
	}
	host, _, _ := net.SplitHostPort(addr)
	secured, err := tls.Listen("tcp", net.JoinHostPort(host, fmt.Sprint(o.TLSPort)), o.Certs)
	if err != nil {
		l.Close()
		return nil, err
	}
	l.tls = secured.Addr().(*net.TCPAddr).AddrPort()
	l.serve(&dns.Server{Listener: secured}, o, h, true, true)
	return l, nil
}

// both opens the same port of UDP and TCP.
func both(addr string) (packets net.PacketConn, stream net.Listener, err error) {
	for range tries {
		if packets, err = net.ListenPacket("udp", addr); err != nil {
			return nil, nil, err
		}
		if stream, err = net.Listen("tcp", packets.LocalAddr().String()); err == nil {
			return packets, stream, nil
		}
		_ = packets.Close()
	}
	return nil, nil, err
}

func (l *Listener) serve(s *dns.Server, o Options, h Handler, stream, secured bool) {
	ready := make(chan struct{})
	s.NotifyStartedFunc = func() { close(ready) }
	s.MsgAcceptFunc = func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept } // the handler judges
	s.TsigProvider = o.Keys
	s.Handler = dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) {
		q := Question{Msg: m, Stream: stream, TLS: secured}
		q.From, q.To = take(m)
		if at, err := netip.ParseAddrPort(w.RemoteAddr().String()); err == nil {
			q.Remote = at.Addr().Unmap()
		}
		if o.Raw != nil && o.Raw(w, q) {
			return
		}
		if reply := h(q); reply != nil {
			_ = w.WriteMsg(names.Fit(reply, m, stream))
		}
	})
	l.servers = append(l.servers, s)
	l.done.Go(func() { _ = s.ActivateAndServe() })
	<-ready
}

// Addr is where UDP and TCP are served.
func (l *Listener) Addr() netip.AddrPort { return l.addr }

// TLS is where TLS is served; invalid where it is not.
func (l *Listener) TLS() netip.AddrPort { return l.tls }

// Close ends it.
func (l *Listener) Close() {
	for _, s := range l.servers {
		_ = s.Shutdown()
	}
	l.done.Wait()
}

// places is the option that carries where a question goes from and to.
const places = dns.EDNS0LOCALSTART

// give puts the option into a message.
func give(m *dns.Msg, from, to netip.Addr) {
	if !from.Is4() || !to.Is4() {
		return
	}
	opt := m.IsEdns0()
	if opt == nil {
		m.SetEdns0(names.MaxUDP, false)
		opt = m.IsEdns0()
	}
	opt.Option = append(opt.Option, &dns.EDNS0_LOCAL{Code: places, Data: append(from.AsSlice(), to.AsSlice()...)})
}

// take takes it out again.
func take(m *dns.Msg) (from, to netip.Addr) {
	opt := m.IsEdns0()
	if opt == nil {
		return from, to
	}
	for i, o := range opt.Option {
		if l, ok := o.(*dns.EDNS0_LOCAL); ok && l.Code == places && len(l.Data) == 8 {
			opt.Option = append(opt.Option[:i], opt.Option[i+1:]...)
			return netip.AddrFrom4([4]byte(l.Data[:4])), netip.AddrFrom4([4]byte(l.Data[4:]))
		}
	}
	return from, to
}

// patience is how long an answer is waited for.
const patience = 2 * time.Second

// Real answers for real machines: those on the machine itself ask as the device.
func Real(s *names.Server) Handler {
	return func(q Question) *dns.Msg {
		return s.Answer(time.Now(), q.Msg, names.Asker{From: q.Remote, Own: q.Remote.IsLoopback()})
	}
}

// Wire asks a server where its address says it is.
func Wire(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
	at := Endpoint{Plain: to.AddrPort(), TLS: to.AddrPort(), Port: to.Port, TLSPort: to.Port}
	reply, _, err := Ask(netip.Addr{}, to, at, q)
	return reply, err
}

// Endpoint is where the name server of a simulated machine really listens.
type Endpoint struct {
	Plain, TLS    netip.AddrPort
	Port, TLSPort int // that it has in the simulation
	// Trust is whom those trust who ask it over TLS; nil for whom the machine trusts.
	Trust *x509.CertPool
}

// ErrNobody says that nothing answers names at an address.
var ErrNobody = errors.New("nothing answers names there")

// Ask asks a server as a simulated machine at an address: over UDP, over TCP what was cut off, over TLS
// where the server has a name, which its certificate must have. It says how long that took.
func Ask(from netip.Addr, to yang.NameServer, at Endpoint, q *dns.Msg) (*dns.Msg, time.Duration, error) {
	m := q.Copy()
	m.Id = dns.Id()
	give(m, from, to.Address)
	began := time.Now()
	if to.TLSName != "" {
		if to.Port != at.TLSPort || !at.TLS.IsValid() {
			return nil, 0, ErrNobody
		}
		c := dns.Client{Net: "tcp-tls", Timeout: patience, TLSConfig: &tls.Config{ServerName: to.TLSName,
			MinVersion: tls.VersionTLS12, RootCAs: at.Trust}}
		reply, _, err := c.Exchange(m, at.TLS.String())
		return reply, time.Since(began), plainly(certified(err, to.TLSName))
	}
	if to.Port != at.Port {
		return nil, 0, ErrNobody
	}
	c := dns.Client{Timeout: patience, UDPSize: names.MaxUDP}
	reply, err := overUDP(c, m, at.Plain.String())
	if err == nil && reply.Truncated {
		c.Net = "tcp"
		reply, _, err = c.Exchange(m, at.Plain.String())
	}
	return reply, time.Since(began), plainly(err)
}

// overUDP asks over UDP. The socket takes packets from the server's address and port alone; one that is a reply to
// another question, or no message at all, was made up by somebody else, and the real one is waited for (RFC 5452
// section 9.1).
func overUDP(c dns.Client, m *dns.Msg, at string) (*dns.Msg, error) {
	conn, err := c.Dial(at)
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
	conn.UDPSize = c.UDPSize
	if err := conn.SetDeadline(time.Now().Add(patience)); err != nil {
		return nil, err
	}
	if err := conn.WriteMsg(m); err != nil {
		return nil, err
	}
	for {
		reply, err := conn.ReadMsg()
		var socket net.Error
		switch {
		case errors.As(err, &socket):
			return nil, err
		case err == nil && reply.Id == m.Id && names.Answers(m, reply):
			return reply, nil
		}
	}
}

// certified says in words why a certificate is not taken.
func certified(err error, name string) error {
	var unknown x509.UnknownAuthorityError
	var other x509.HostnameError
	switch {
	case errors.As(err, &other):
		return fmt.Errorf("its certificate is not %s's", name)
	case errors.As(err, &unknown):
		return errors.New("nobody who is trusted has signed its certificate")
	}
	return err
}

// plainly says an error of a socket in words.
func plainly(err error) error {
	var timeout net.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &timeout) && timeout.Timeout():
		return errors.New("it did not answer in time")
	case errors.Is(err, net.ErrClosed):
		return ErrNobody
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op != "remote error" {
		return ErrNobody
	}
	return err
}
