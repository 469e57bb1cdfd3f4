package internet

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"lithos/core/dynamicnames"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/standin/resolve"
)

// Key is a key of the provider, and what it may do: it signs messages (TSIG, RFC 8945) and is the bearer of requests.
type Key struct {
	dynamicnames.Limits
	Name   string    `json:"name"`
	Secret string    `json:"secret"` // base64
	Zone   string    `json:"zone"`
	Reads  bool      `json:"reads"` // whether it may read the zone whole
	Made   time.Time `json:"made,omitzero"`
	Uses   int       `json:"uses"`
	Used   time.Time `json:"used,omitzero"`
}

// allowed reports whether the key may write records of a name and type.
func (k Key) allowed(name, typ string) bool {
	return (len(k.Names) == 0 || slices.ContainsFunc(k.Names, func(own string) bool { return covers(own, name) })) &&
		(len(k.Types) == 0 || slices.Contains(k.Types, typ))
}

// covers reports whether a name that a key lists is another, or the wildcard above it.
func covers(own, name string) bool {
	above, wild := strings.CutPrefix(own, "*.")
	return own == name || wild && strings.HasSuffix(name, "."+above)
}

// narrow reports whether the key is for single names.
func (k Key) narrow() bool { return len(k.Names) > 0 }

// alive says why a key is not taken from an address at a time.
func (k Key) alive(now time.Time, from netip.Addr) error {
	switch {
	case !k.Ends.IsZero() && !now.Before(k.Ends):
		return fmt.Errorf("the key %s ended on %s", k.Name, k.Ends.Format(time.DateOnly))
	case len(k.From) > 0 && !slices.ContainsFunc(k.From, func(p netip.Prefix) bool { return p.Contains(from) }):
		return fmt.Errorf("the key %s may not come from %s", k.Name, from)
	}
	return nil
}

// newSecret is a new key itself.
func newSecret() string {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw)
	return base64.StdEncoding.EncodeToString(raw)
}

// bearer finds the key of a zone that a request carries.
func (h *holder) bearer(secret string) (Key, bool) {
	for _, k := range h.keys {
		if secret != "" && subtle.ConstantTimeCompare([]byte(k.Secret), []byte(secret)) == 1 {
			return k, true
		}
	}
	return Key{}, false
}

// uses counts a use of a key.
func (h *holder) uses(name string, now time.Time) {
	k := h.keys[name]
	k.Uses, k.Used = k.Uses+1, now
	h.keys[name] = k
}

// followed is who keeps a name that follows.
type followed struct {
	Key string    `json:"key,omitempty"`
	At  time.Time `json:"at,omitzero"`
}

// follow lets names follow from now on, but for those that do already.
func (h *holder) follow(names []string) {
	for _, name := range names {
		if _, has := h.followed[name]; !has {
			h.followed[name] = followed{}
		}
	}
}

// addressTypes are the records that follow; what is written of others is no matter of a line.
var addressTypes = []string{"A", "AAAA"}

// fixed are the addresses that a name has by hand; none where it follows.
func (h *holder) fixed(z yang.Zone, name string) (data []string) {
	if _, follows := h.followed[name]; follows {
		return nil
	}
	owner, _ := zone.Relative(name, z.Name)
	for _, typ := range addressTypes {
		for _, r := range set(z, owner, typ) {
			data = append(data, r.Data)
		}
	}
	return data
}

// byHand says what is in the way of an update of a record that somebody wrote.
func byHand(name string, data []string) string {
	return fmt.Sprintf("%s is written by hand as %s. Let it follow: from the next update it has the address of its "+
		"line, and what is written by hand is gone.", name, strings.Join(data, ", "))
}

// Generate implements dns.TsigProvider.
func (h *holder) Generate(msg []byte, t *dns.TSIG) ([]byte, error) {
	h.mu.Lock()
	key, ok := h.keys[zone.Tidy(t.Hdr.Name)]
	h.mu.Unlock()
	how := algorithms[dns.CanonicalName(t.Algorithm)]
	secret, err := base64.StdEncoding.DecodeString(key.Secret)
	if !ok || how == nil || err != nil {
		return nil, dns.ErrSecret
	}
	mac := hmac.New(how, secret)
	_, _ = mac.Write(msg)
	return mac.Sum(nil), nil
}

// Verify implements dns.TsigProvider.
func (h *holder) Verify(msg []byte, t *dns.TSIG) error {
	want, err := h.Generate(msg, t)
	if err != nil {
		return err
	}
	got, err := hex.DecodeString(t.MAC)
	if err != nil || len(got) > len(want) || len(got) < max(leastMAC, len(want)/2) {
		return errLength
	}
	if !hmac.Equal(want[:len(got)], got) { // one that is cut off counts as far as it goes
		return dns.ErrSig
	}
	return nil
}

// leastMAC is how many octets a signature has at least, and errLength says that one has fewer, or more than its
// algorithm makes (RFC 8945 section 5.2.2.1).
const leastMAC = 10

var errLength = errors.New("the signature has a length that its algorithm does not make")

// maxHeard is how many signatures are remembered.
const maxHeard = 10_000

// replayed reports whether a message was heard before: its signature counts once (RFC 8945 section 10.2). One that
// is older than its signature is good for is refused for its time.
func (h *holder) replayed(t *dns.TSIG, now time.Time) bool {
	// A signature that was cut off is the same one: its first octets tell.
	mac := t.MAC[:min(len(t.MAC), 2*leastMAC)]
	if _, heard := h.heard[mac]; heard {
		return true
	}
	if len(h.heard) >= maxHeard {
		for old, until := range h.heard {
			if now.After(until) {
				delete(h.heard, old)
			}
		}
	}
	h.heard[mac] = now.Add(2 * time.Duration(t.Fudge) * time.Second)
	return false
}

// key is the key that signed a message. Where its signature does not count, reply says why (RFC 8945
// section 5.2); ok is false for that and for a message without one.
func (h *holder) key(w dns.ResponseWriter, q resolve.Question, reply *dns.Msg) (k Key, ok bool) {
	t := q.IsTsig()
	if t == nil {
		reply.Rcode = dns.RcodeRefused
		return Key{}, false
	}
	reply.SetTsig(t.Hdr.Name, t.Algorithm, t.Fudge, time.Now().Unix())
	own := reply.IsTsig()
	if err := w.TsigStatus(); err != nil {
		reply.Rcode = dns.RcodeNotAuth
		switch {
		case errors.Is(err, errLength):
			reply.Rcode, reply.Extra = dns.RcodeFormatError, reply.Extra[:len(reply.Extra)-1] // without a signature
		case errors.Is(err, dns.ErrTime):
			outOfTime(own, t)
		case errors.Is(err, dns.ErrSecret):
			own.Error = dns.RcodeBadKey
		default:
			own.Error = dns.RcodeBadSig
		}
		return Key{}, false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	now := time.Now()
	if h.replayed(t, now) {
		reply.Rcode = dns.RcodeNotAuth
		outOfTime(own, t)
		return Key{}, false
	}
	k, ok = h.keys[zone.Tidy(t.Hdr.Name)]
	from := q.Remote
	if q.From.IsValid() {
		from = q.From
	}
	if err := k.alive(now, from); ok && err != nil {
		explain(reply, err.Error())
		ok = false
	}
	if !ok {
		reply.Rcode = dns.RcodeRefused
		return k, false
	}
	h.uses(k.Name, now)
	return k, true
}

// outOfTime makes the signature of an answer tell that the asked one's time is over, with the time here: signed for the
// time that was asked at, so that who asked can read it (RFC 8945 section 5.2.3).
func outOfTime(own, asked *dns.TSIG) {
	own.Error, own.TimeSigned = dns.RcodeBadTime, asked.TimeSigned
	own.OtherLen, own.OtherData = 6, fmt.Sprintf("%012x", time.Now().Unix())
}

// explain says in words why a message is refused (RFC 8914), where who asks can read that.
func explain(reply *dns.Msg, says string) {
	if opt := reply.IsEdns0(); opt != nil {
		opt.Option = append(opt.Option, &dns.EDNS0_EDE{InfoCode: dns.ExtendedErrorCodeProhibited, ExtraText: says})
	}
}
