// Package zonetransfer reads and writes zones at the servers that hold them: AXFR (RFC 5936) and UPDATE (RFC
// 2136), signed by a TSIG key (RFC 8945).
package zonetransfer

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"github.com/miekg/dns"

	"lithos/core/names"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/outbound"
)

// Limits of what is read.
const (
	maxRecords = 200_000
	maxOctets  = 64 << 20
	patience   = 5 * time.Second
	// transferWithin bounds a whole transfer, however steadily it goes on.
	transferWithin = time.Minute
	// maxSets is how many sets one UPDATE changes: it has to fit a message.
	maxSets = 200
)

// Server is a server that holds a zone. Its errors name what to do.
type Server struct {
	At        netip.AddrPort // where it is reached from here
	Zone      string
	Key       string        // name of the key; empty for none
	Algorithm string        // of site.Algorithms
	Secret    string        // base64
	Rule      outbound.Rule // where may be connected to
	Within    time.Duration // how long a whole transfer may take; a minute when 0
}

// Contents is a zone as its server has it.
type Contents struct {
	Serial  uint32
	Records []zone.Record
	// Left is how many records are of types that a site's zones do not have: signatures, for instance.
	Left int
}

// RefusedError says that the server answered and would not.
type RefusedError struct {
	Code int // RFC 1035, 2136, 8945
	Says string
}

func (e *RefusedError) Error() string { return e.Says }

// ErrChanged says that the zone was changed by somebody else since it was read.
var ErrChanged = errors.New("somebody else changed the zone meanwhile")

// Read reads the zone whole.
func (s Server) Read(ctx context.Context) (Contents, error) {
	m := new(dns.Msg)
	m.SetAxfr(dns.Fqdn(s.Zone))
	s.sign(m)
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(s.Within, transferWithin))
	defer cancel()
	conn, err := s.Rule.ToServers(patience).DialContext(ctx, "tcp", s.At.String())
	if err != nil {
		return Contents{}, s.plainly(err)
	}
	defer func() { _ = conn.Close() }()
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	limited := &bounded{Conn: conn, left: maxOctets}
	signatures := &verifier{secret: s.Secret}
	t := &dns.Transfer{Conn: &dns.Conn{Conn: limited}, ReadTimeout: patience,
		WriteTimeout: patience}
	if s.Key != "" {
		t.TsigProvider = signatures
	}
	envelopes, err := t.In(m, s.At.String())
	if err != nil {
		return Contents{}, s.plainly(err)
	}
	var out Contents
	var failed error
	messages := 0
	for e := range envelopes { // to the end, so that the sender of them ends
		messages++
		switch {
		case failed != nil:
		case ctx.Err() != nil:
			failed = fmt.Errorf("%s took too long to send %s", s.At.Addr(), s.Zone)
		case limited.over.Load():
			failed = fmt.Errorf("%s sends more than %d octets", s.At.Addr(), maxOctets)
		case e.Error != nil:
			failed = s.plainly(e.Error)
		case len(out.Records)+out.Left+len(e.RR) > maxRecords: // whatever kind they are of
			failed = fmt.Errorf("%s has more than %d records", s.Zone, maxRecords)
			_ = conn.Close()
		default:
			out.take(e.RR, s.Zone)
		}
	}
	if failed == nil && s.Key != "" && int(signatures.inUse.Load()) < messages {
		failed = &RefusedError{dns.RcodeBadSig, "it does not sign what it sends with the key " + s.Key}
	}
	if failed != nil {
		return Contents{}, failed
	}
	return out, nil
}

func (h *Contents) take(list []dns.RR, name string) {
	for _, rr := range list {
		if soa, ok := rr.(*dns.SOA); ok {
			h.Serial = soa.Serial
			continue
		}
		r, ok := zone.Of(rr, name)
		if !ok {
			h.Left++
			continue
		}
		h.Records = append(h.Records, r)
	}
}

// Write makes changes, each on what it was: ErrChanged where the zone has something else there. Making
// them again once they are made is ErrChanged, too.
func (s Server) Write(ctx context.Context, changes []zone.Change) error {
	return s.batches(ctx, changes, true)
}

// Try asks whether the server would take changes on what they were, and makes none. Whether the key may
// make them is not known before they are made.
func (s Server) Try(ctx context.Context, changes []zone.Change) error {
	return s.batches(ctx, changes, false)
}

func (s Server) batches(ctx context.Context, changes []zone.Change, makes bool) error {
	for batch := range slices.Chunk(changes, maxSets) {
		m, err := s.update(batch, makes)
		if err != nil {
			return err
		}
		if err := s.exchange(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// Replace puts a set of records in place of what a name has of its type, whatever that is.
func (s Server) Replace(ctx context.Context, set []zone.Record) error {
	return s.amend(ctx, set, func(m *dns.Msg, rrs []dns.RR) {
		m.RemoveRRset(rrs[:1])
		m.Insert(rrs)
	})
}

// TellName puts addresses in place of what a name has of their types, and every name below it where below is set.
func (s Server) TellName(ctx context.Context, name string, below bool, ttl int, addresses ...netip.Addr) error {
	names := []string{name}
	if below {
		names = append(names, "*."+name)
	}
	for _, a := range addresses {
		for _, name := range names {
			owner, _ := zone.Relative(name, s.Zone)
			r := zone.Record{Owner: owner, Type: zone.TypeOfAddress(a), Data: a.String(), TTL: ttl}
			if err := s.Replace(ctx, []zone.Record{r}); err != nil {
				return err
			}
		}
	}
	return nil
}

// Add adds records to what is there (RFC 2136 section 2.5.1).
func (s Server) Add(ctx context.Context, list []zone.Record) error {
	return s.amend(ctx, list, (*dns.Msg).Insert)
}

// Remove takes records away again (RFC 2136 section 2.5.4).
func (s Server) Remove(ctx context.Context, list []zone.Record) error {
	return s.amend(ctx, list, (*dns.Msg).Remove)
}

func (s Server) amend(ctx context.Context, list []zone.Record, how func(*dns.Msg, []dns.RR)) error {
	rrs, err := s.records(list)
	if err != nil {
		return err
	}
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(s.Zone))
	how(m, rrs)
	return s.exchange(ctx, m)
}

// Addresses asks the server for the addresses of a name in records of some types, as anybody does.
func (s Server) Addresses(ctx context.Context, name string, types ...string) ([]netip.Addr, error) {
	var out []netip.Addr
	for _, typ := range types {
		m := new(dns.Msg)
		m.SetQuestion(dns.Fqdn(name), dns.StringToType[typ])
		c := dns.Client{Timeout: patience, Dialer: s.Rule.ToServers(patience)}
		reply, _, err := c.ExchangeContext(ctx, m, s.At.String())
		if err != nil {
			return nil, s.plainly(err)
		}
		if !names.Answers(m, reply) {
			return nil, fmt.Errorf("%s answered another question", s.At.Addr())
		}
		out = append(out, AddressesOf(reply)...)
	}
	return out, nil
}

// AddressesOf are the addresses in an answer.
func AddressesOf(m *dns.Msg) []netip.Addr {
	var out []netip.Addr
	for _, rr := range m.Answer {
		var ip net.IP
		switch rr := rr.(type) {
		case *dns.A:
			ip = rr.A
		case *dns.AAAA:
			ip = rr.AAAA
		}
		if at, ok := netip.AddrFromSlice(ip); ok {
			out = append(out, at.Unmap())
		}
	}
	return out
}

// update is the message that makes changes: what each was as a prerequisite (RFC 2136 section 2.4.2), and
// the set taken away and put there again whole.
func (s Server) update(changes []zone.Change, makes bool) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(s.Zone))
	for _, c := range changes {
		was, err := s.records(c.Was)
		if err != nil {
			return nil, err
		}
		now, err := s.records(c.Now)
		if err != nil {
			return nil, err
		}
		// The owner of a set that is new has to be named by what it becomes.
		set := slices.Concat(was, now)[:1]
		if len(was) > 0 {
			m.Used(was)
		} else {
			m.RRsetNotUsed(set)
		}
		if !makes {
			continue
		}
		if len(was) > 0 {
			m.RemoveRRset(set)
		}
		m.Insert(now)
	}
	return m, nil
}

func (s Server) records(list []zone.Record) ([]dns.RR, error) {
	var out []dns.RR
	for _, r := range list {
		rr, err := r.RR(s.Zone, r.TTL)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", r.Owner, r.Type, err)
		}
		out = append(out, rr)
	}
	return out, nil
}

func (s Server) exchange(ctx context.Context, m *dns.Msg) error {
	m.SetEdns0(dns.DefaultMsgSize, false) // so that a refusal can be explained (RFC 8914)
	s.sign(m)
	c := dns.Client{Net: "tcp", Timeout: patience, TsigSecret: s.secrets(), Dialer: s.Rule.ToServers(patience)}
	reply, _, err := c.ExchangeContext(ctx, m, s.At.String())
	if err != nil && reply == nil {
		return s.plainly(err)
	}
	if reply.Rcode != dns.RcodeSuccess {
		return s.refused(reply)
	}
	if err == nil && s.Key != "" && reply.IsTsig() == nil {
		// RFC 8945 section 5.3: anybody could have made it.
		return &RefusedError{dns.RcodeBadSig, "it does not sign its answer with the key " + s.Key}
	}
	return s.plainly(err)
}

func (s Server) sign(m *dns.Msg) {
	if s.Key != "" {
		m.SetTsig(dns.Fqdn(s.Key), dns.Fqdn(s.Algorithm), 300, time.Now().Unix())
	}
}

func (s Server) secrets() map[string]string {
	if s.Key == "" {
		return nil
	}
	return map[string]string{dns.Fqdn(s.Key): s.Secret}
}

// apart says how far the clock of a server is from this one, where its answer tells its time (RFC 8945 section 5.2.3).
func apart(t *dns.TSIG, now time.Time) string {
	theirs, err := strconv.ParseInt(t.OtherData, 16, 64)
	if t.OtherLen != 6 || err != nil {
		return "its clock and this one are apart"
	}
	ahead := time.Unix(theirs, 0).Sub(now).Round(time.Second)
	switch {
	case ahead >= time.Second:
		return "its clock is " + option.FormatDuration(ahead) + " ahead of this one"
	case ahead <= -time.Second:
		return "its clock is " + option.FormatDuration(-ahead) + " behind this one"
	}
	return "its clock and this one say the same, and the message was old or heard before"
}

// refused says a response code in words.
func (s Server) refused(m *dns.Msg) error {
	if t := m.IsTsig(); t != nil && t.Error != dns.RcodeSuccess {
		says := map[uint16]string{
			dns.RcodeBadSig:  "the key " + s.Key + " is another there; type it again",
			dns.RcodeBadKey:  "it does not know the key " + s.Key + ", or not for this zone",
			dns.RcodeBadTime: apart(t, time.Now()) + "; the signature is out of time",
		}[t.Error]
		if says != "" {
			return &RefusedError{int(t.Error), says}
		}
	}
	if opt := m.IsEdns0(); opt != nil {
		for _, o := range opt.Option {
			if why, ok := o.(*dns.EDNS0_EDE); ok && why.ExtraText != "" {
				return &RefusedError{m.Rcode, site.Printable(why.ExtraText, 300)}
			}
		}
	}
	switch m.Rcode {
	case dns.RcodeYXDomain, dns.RcodeYXRrset, dns.RcodeNXRrset:
		return ErrChanged
	case dns.RcodeNotAuth:
		return &RefusedError{m.Rcode, "it does not hold " + s.Zone + ", or does not take the key"}
	case dns.RcodeRefused:
		return &RefusedError{m.Rcode, "the key may not do this"}
	}
	return &RefusedError{m.Rcode, "it says " + dns.RcodeToString[m.Rcode]}
}

// plainly says an error of the way in words.
func (s Server) plainly(err error) error {
	var timeout net.Error
	refused := outbound.Refused(err)
	switch {
	case err == nil:
		return nil
	case refused != nil:
		return refused
	case errors.As(err, &timeout) && timeout.Timeout():
		return fmt.Errorf("%s did not answer in time", s.At.Addr())
	case slices.ContainsFunc([]error{dns.ErrSig, dns.ErrTime, dns.ErrNoSig, dns.ErrAuth, dns.ErrSecret},
		func(one error) bool { return errors.Is(err, one) }):
		return &RefusedError{dns.RcodeBadSig, "it does not take the key " + s.Key + ", or does not answer with it"}
	}
	var code int
	if _, none := fmt.Sscanf(err.Error(), "dns: bad xfr rcode: %d", &code); none == nil {
		return s.refused(new(dns.Msg).SetRcode(new(dns.Msg), code))
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return fmt.Errorf("%s is not reached", s.At.Addr())
	}
	return err
}
