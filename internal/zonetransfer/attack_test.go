package zonetransfer

import (
	"encoding/base64"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/zone"
	"lithos/internal/outbound"
)

var secret = base64.StdEncoding.EncodeToString([]byte("a key of thirty-two octets, long"))

// hostile is a server of names that answers as it likes, signed where sign says so.
func hostile(t *testing.T, sign bool, answer func(w dns.ResponseWriter, q *dns.Msg, send func(*dns.Msg) error)) Server {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &dns.Server{Listener: listener, TsigSecret: map[string]string{"key.": secret},
		MsgAcceptFunc: func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept },
		Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
			answer(w, q, func(m *dns.Msg) error {
				if sign {
					m.SetTsig("key.", dns.HmacSHA256, 300, time.Now().Unix())
				}
				err := w.WriteMsg(m)
				w.TsigTimersOnly(true)
				return err
			})
			_ = w.Close()
		})}
	go func() { _ = server.ActivateAndServe() }()
	t.Cleanup(func() { _ = server.Shutdown() })
	at := listener.Addr().(*net.TCPAddr).AddrPort()
	return Server{At: at, Zone: "example", Key: "key", Algorithm: "hmac-sha256", Secret: secret,
		Rule: outbound.Loopback()}
}

func soa(t testing.TB) dns.RR {
	out, err := dns.NewRR("example. 60 SOA ns.example. h.example. 1 2 3 4 5")
	require.NoError(t, err)
	return out
}

// unknown is a record of a kind that is not kept.
func unknown(octets int) dns.RR {
	return &dns.RFC3597{Hdr: dns.RR_Header{Name: "x.example.", Rrtype: 65280, Class: dns.ClassINET, Ttl: 60},
		Rdata: strings.Repeat("00", octets)}
}

// A transfer has bounds on records of any kind, on octets and on time.
func TestAttack04ATransferWithoutEnd(t *testing.T) {
	flood := func(records, octets int) Server {
		return hostile(t, true, func(_ dns.ResponseWriter, q *dns.Msg, send func(*dns.Msg) error) {
			m := new(dns.Msg).SetReply(q)
			m.Answer = []dns.RR{soa(t)}
			for err := send(m); err == nil; err = send(m) {
				m = new(dns.Msg).SetReply(q)
				for range records {
					m.Answer = append(m.Answer, unknown(octets))
				}
			}
		})
	}
	_, err := flood(800, 10).Read(t.Context())
	require.ErrorContains(t, err, "more than 200000 records")
	_, err = flood(1, 60_000).Read(t.Context())
	require.ErrorContains(t, err, "more than 67108864 octets")
	drip := hostile(t, true, func(_ dns.ResponseWriter, q *dns.Msg, send func(*dns.Msg) error) {
		m := new(dns.Msg).SetReply(q)
		m.Answer = []dns.RR{soa(t)}
		for err := send(m); err == nil; err = send(m) {
			select {
			case <-t.Context().Done():
				return
			case <-time.After(50 * time.Millisecond): // the pace of who attacks, which nothing waits for
			}
			m = new(dns.Msg).SetReply(q)
			m.Answer = []dns.RR{unknown(1)}
		}
	})
	drip.Within = 300 * time.Millisecond
	_, err = drip.Read(t.Context())
	require.ErrorContains(t, err, "took too long")
}

// RFC 8945 section 5.3: what comes without a signature, where a key is set, is nobody's answer.
func TestAttack04AnAnswerWithoutASignature(t *testing.T) {
	for _, signed := range []bool{true, false} {
		s := hostile(t, signed, func(_ dns.ResponseWriter, q *dns.Msg, send func(*dns.Msg) error) {
			m := new(dns.Msg).SetReply(q)
			if q.Opcode != dns.OpcodeUpdate {
				m.Answer = []dns.RR{soa(t), soa(t)}
			}
			_ = send(m)
		})
		add := []zone.Record{{Owner: "www", Type: "A", Data: "192.0.2.1", TTL: 60}}
		_, read := s.Read(t.Context())
		for what, err := range map[string]error{"update": s.Add(t.Context(), add), "transfer": read} {
			if signed {
				assert.NoError(t, err, what)
				continue
			}
			assert.ErrorAs(t, err, new(*RefusedError), what)
		}
		if s.Key = ""; !signed {
			assert.NoError(t, s.Add(t.Context(), add), "without a key none is asked for")
		}
	}
}
