package zonetransfer

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"hash"
	"io"
	"net"
	"sync/atomic"

	"github.com/miekg/dns"
)

// bounded is a connection of which so many octets are read.
type bounded struct {
	net.Conn
	left int
	over atomic.Bool // that more was sent
}

func (b *bounded) Read(into []byte) (int, error) {
	if b.left <= 0 {
		b.over.Store(true)
		return 0, io.ErrUnexpectedEOF
	}
	n, err := b.Conn.Read(into[:min(len(into), b.left)])
	b.left -= n
	return n, err
}

// verifier makes and checks the signatures of messages (RFC 8945), and counts those that held: the library lets a
// message without one pass.
type verifier struct {
	secret string // base64
	inUse  atomic.Int32
}

// hashes are those of the algorithms of keys (RFC 8945 section 6).
var hashes = map[string]func() hash.Hash{dns.HmacSHA256: sha256.New, dns.HmacSHA384: sha512.New384,
	dns.HmacSHA512: sha512.New}

// Generate implements dns.TsigProvider.
func (v *verifier) Generate(msg []byte, t *dns.TSIG) ([]byte, error) {
	key, err := base64.StdEncoding.DecodeString(v.secret)
	if err != nil {
		return nil, err
	}
	make, known := hashes[dns.CanonicalName(t.Algorithm)]
	if !known {
		return nil, dns.ErrKeyAlg
	}
	mac := hmac.New(make, key)
	mac.Write(msg)
	return mac.Sum(nil), nil
}

// Verify implements dns.TsigProvider.
func (v *verifier) Verify(msg []byte, t *dns.TSIG) error {
	want, err := v.Generate(msg, t)
	if err != nil {
		return err
	}
	got, err := hex.DecodeString(t.MAC)
	if err != nil || !hmac.Equal(want, got) {
		return dns.ErrSig
	}
	v.inUse.Add(1)
	return nil
}
