package site

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/zone"
)

// What of its leases a resolver gives names.
const (
	LeaseNamesOff      = "off"
	LeaseNamesAll      = "all"
	LeaseNamesReserved = "reservations"
)

// How much a resolver writes down.
const (
	LogOff     = "off"
	LogErrors  = "errors"
	LogQueries = "queries"
)

// Resolver is a device's name server: what it listens on, who may ask, what it answers itself, and
// whom it asks for the rest.
type Resolver struct {
	ID       string   `json:"id" doc:"stable id"`
	Name     string   `json:"name" form:"name" doc:"what people call it"`
	Device   string   `json:"device" doc:"id of the device it runs on"`
	Enabled  bool     `json:"enabled" doc:"whether it answers"`
	Networks []string `json:"networks,omitempty" doc:"ids of the networks it listens on; none listed: every network its device has an address on"`
	Port     int      `json:"port,omitempty" range:"1-65535" doc:"UDP and TCP port; 53 when not given"`
	TLSPort  int      `json:"tlsPort,omitempty" range:"1-65535" doc:"port of the TLS listener (RFC 7858), usually 853; none when not given"`
	TLSName  string   `json:"tlsName,omitempty" doc:"name in the certificate of the TLS listener"`

	Askers      []netip.Prefix `json:"askers,omitempty" doc:"who may ask; none listed: the site's networks"`
	Forwarders  []Forwarder    `json:"forwarders,omitempty" doc:"the servers asked for everything else, in order"`
	ForwardFrom string         `json:"forwardFrom,omitempty" doc:"id of the interface that forwarders are asked from; the route's when not given"`
	Domains     []DomainServer `json:"domains,omitempty" doc:"servers for single domains, reverse domains included"`

	Completes    bool   `json:"completesShortNames,omitempty" doc:"whether a name of one word is answered with the site's domain behind it"`
	KeepsShort   bool   `json:"keepsShortNames,omitempty" doc:"whether a name of one word is never sent out"`
	KeepsPrivate bool   `json:"keepsPrivateNames,omitempty" doc:"whether reverse names of private addresses (RFC 6303) and special names (RFC 6761) are answered here and never sent out"`
	Validates    bool   `json:"validates,omitempty" doc:"whether answers of forwarders are checked against the signatures of their zones (DNSSEC, RFC 4035), and what does not hold is not passed on"`
	LeaseNames   string `json:"leaseNames,omitempty" doc:"which leases carry the names their clients say; off when not given" enum:"off,all,reservations"`

	CacheEntries int      `json:"cacheEntries,omitempty" range:"1-10000000" doc:"most answers kept; 10000 when not given"`
	LeastTTL     int      `json:"leastTTL,omitempty" range:"1-86400" doc:"shortest time an answer is kept, in seconds; as long as it says when not given"`
	GreatestTTL  int      `json:"greatestTTL,omitempty" range:"1-604800" doc:"longest time an answer is kept, in seconds; 86400 when not given"`
	NegativeTTL  int      `json:"negativeTTL,omitempty" range:"1-86400" doc:"longest time it is remembered that a name is not there, in seconds; 3600 when not given"`
	LocalTTL     int      `json:"localTTL,omitempty" range:"1-86400" doc:"how long others may keep names of leases, in seconds; 60 when not given"`
	StopsOthers  bool     `json:"stopsOthers,omitempty" doc:"whether programs of the device that hold its ports are stopped before it listens"`
	LogLevel     string   `json:"logLevel,omitempty" doc:"log level; errors when not given" enum:"off,errors,queries"`
	Hides        bool     `json:"hidesIdentity,omitempty" doc:"whether it refuses to say its version"`
	Silenced     []string `json:"silenced,omitempty" doc:"blocked domains, with all below them"`
	Note         string   `json:"note,omitempty" doc:"free text"`
}

// Forwarder is a server that answers for everything else.
type Forwarder struct {
	Address netip.Addr `json:"address" doc:"its address"`
	Port    int        `json:"port,omitempty" range:"1-65535" doc:"53 when not given, 853 with TLS"`
	TLSName string     `json:"tlsName,omitempty" doc:"the name its certificate must have; asked over TLS when given"`
}

// AddrPort is where it is asked.
func (f Forwarder) AddrPort() netip.AddrPort {
	port := f.Port
	switch {
	case port == 0 && f.TLSName != "":
		port = 853
	case port == 0:
		port = 53
	}
	return netip.AddrPortFrom(f.Address, uint16(port))
}

// String is the forwarder as it is typed: 192.0.2.53, 192.0.2.53:5353 or 198.51.100.53 TLS dns.example.
func (f Forwarder) String() string {
	out := f.Address.String()
	if f.Port != 0 {
		out += ":" + strconv.Itoa(f.Port)
	}
	if f.TLSName != "" {
		out += " TLS " + f.TLSName
	}
	return out
}

// ParseForwarder reads what String writes.
func ParseForwarder(text string) (Forwarder, error) {
	wrong := fmt.Errorf("%q is not a server; type for example 192.0.2.53, 192.0.2.53:5353 or 198.51.100.53 TLS "+
		"dns.provider.example", clip(text))
	words := strings.Fields(text)
	if len(words) != 1 && (len(words) != 3 || !strings.EqualFold(words[1], "TLS")) {
		return Forwarder{}, wrong
	}
	var f Forwarder
	host, port, has := strings.Cut(words[0], ":")
	a, err := netip.ParseAddr(host)
	if err != nil || !a.Is4() {
		return Forwarder{}, wrong
	}
	if f.Address = a; has {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 {
			return Forwarder{}, wrong
		}
		f.Port = int(n)
	}
	if len(words) == 3 {
		f.TLSName = zone.Tidy(words[2])
		if err := zone.CheckName(f.TLSName); err != nil {
			return Forwarder{}, err
		}
	}
	return f, nil
}

// DomainServer is who is asked for the names of one domain.
type DomainServer struct {
	Domain  string      `json:"domain" doc:"the domain, with all below it"`
	Servers []Forwarder `json:"servers" doc:"the servers asked, in order"`
}

// Sides of a zone.
const (
	Inside  = "inside"  // answered by the site's own resolvers
	Outside = "outside" // held by a server on the internet
)

// Zone is a DNS zone that belongs to the site (RFC 9499 section 7).
type Zone struct {
	ID           string    `json:"id" doc:"stable id"`
	Name         string    `json:"name" doc:"the zone's name; of a reverse zone that of its prefix"`
	Side         string    `json:"side" doc:"inside: answered by the site's resolvers; outside: seen from the internet" enum:"inside,outside"`
	TTL          int       `json:"ttl,omitempty" range:"1-604800" doc:"how long others may keep its records, in seconds; 3600 when not given"`
	Primary      string    `json:"primary,omitempty" doc:"the server named in its SOA; the resolver's device when not given"`
	Contact      string    `json:"contact,omitempty" doc:"the mailbox named in its SOA, with a dot for the @; hostmaster of the zone when not given"`
	Refresh      int       `json:"refresh,omitempty" range:"1-604800" doc:"SOA refresh, in seconds; 3600 when not given"`
	Retry        int       `json:"retry,omitempty" range:"1-604800" doc:"SOA retry, in seconds; 600 when not given"`
	Expire       int       `json:"expire,omitempty" range:"1-31536000" doc:"SOA expire, in seconds; 604800 when not given"`
	Negative     int       `json:"negative,omitempty" range:"1-86400" doc:"how long it is remembered that a name is not there (RFC 2308), in seconds; 300 when not given"`
	Partial      bool      `json:"partial,omitempty" doc:"of an inside zone: that names it does not have are asked of the forwarders; without it they are not there"`
	Server       Forwarder `json:"server,omitzero" doc:"of an outside zone: the server that holds it, from which it is read (AXFR, RFC 5936) and to which it is written (UPDATE, RFC 2136)"`
	Key          string    `json:"key,omitempty" doc:"of an outside zone: the name of the TSIG key (RFC 8945) that reads and writes it"`
	KeyAlgorithm string    `json:"keyAlgorithm,omitempty" doc:"how the key signs; hmac-sha256 when not given" enum:"hmac-sha256,hmac-sha384,hmac-sha512"`
	Secret       string    `json:"secret,omitempty" doc:"name under which Lithos keeps the key; never the key"`
	KeysAt       string    `json:"keysAt,omitempty" doc:"of an outside zone: where its provider makes keys (docs/outside-names.json), https"`
	Account      string    `json:"account,omitempty" doc:"name under which Lithos keeps the password of the account there; never the password"`
	Note         string    `json:"note,omitempty" doc:"free text"`
	Records      []*Record `json:"records,omitempty" doc:"what is written by hand; names of reservations, fixed devices and interfaces are there of themselves"`
}

// KeyedBy is the zone as another key than its own reads and writes it.
func (z Zone) KeyedBy(key, algorithm, secret string) Zone {
	z.Key, z.KeyAlgorithm, z.Secret = key, algorithm, secret
	return z
}

// DefaultTTL is how long records may be kept where nothing is said, in seconds.
const DefaultTTL = 3600

// Algorithms are how a TSIG key may sign (RFC 8945 section 6); the first is usual.
var Algorithms = []string{"hmac-sha256", "hmac-sha384", "hmac-sha512"}

// Record is one record of a zone written by hand.
type Record struct {
	ID        string `json:"id" doc:"stable id"`
	Owner     string `json:"owner" doc:"the name relative to the zone; @ for the zone itself, *.lab for every name below lab"`
	Type      string `json:"type" doc:"record type" enum:"A,AAAA,CNAME,PTR,TXT,SRV,MX,CAA,NS"`
	Data      string `json:"data" doc:"the value: a name of one word is in the zone, a longer one is whole"`
	TTL       int    `json:"ttl,omitempty" range:"1-604800" doc:"how long others may keep it, in seconds; the zone's when not given"`
	NoReverse bool   `json:"noReverse,omitempty" doc:"of A: that its address is not given this name in reverse"`
	Note      string `json:"note,omitempty" doc:"free text"`
}

// Service is a name for something behind a proxy: an alias of the proxy's name, inside, outside or both.
type Service struct {
	ID      string `json:"id" doc:"stable id"`
	Name    string `json:"name" doc:"the name people type, relative to the site's domain; with a dot at the end a whole name, in another zone of the site"`
	Base    string `json:"base" doc:"the proxy's name: one word is of the site's domain"`
	Inside  bool   `json:"inside,omitempty" doc:"whether it is there inside"`
	Outside bool   `json:"outside,omitempty" doc:"whether it is there outside"`
	TTL     int    `json:"ttl,omitempty" range:"1-604800" doc:"how long others may keep the alias, in seconds; the zone's when not given"`
	Note    string `json:"note,omitempty" doc:"what it is"`
}

// Whole is the whole name of the service at a site with a domain.
func (v *Service) Whole(domain string) string {
	if name, whole := strings.CutSuffix(v.Name, "."); whole {
		return name
	}
	return zone.Absolute(v.Name, domain)
}

// Certificate is a name that a certificate is had for: whoever asks for one proves that the name is theirs by
// a record in its outside zone (RFC 8555 section 8.4), which a key may write that can do nothing else.
type Certificate struct {
	ID           string `json:"id" doc:"stable id"`
	Name         string `json:"name" doc:"the whole name; *.kelder.larkrise.example for all directly below"`
	Key          string `json:"key,omitempty" doc:"the name of the TSIG key that may write the challenge record and nothing else"`
	KeyAlgorithm string `json:"keyAlgorithm,omitempty" doc:"how the key signs; hmac-sha256 when not given" enum:"hmac-sha256,hmac-sha384,hmac-sha512"`
	Secret       string `json:"secret,omitempty" doc:"name under which Lithos keeps the key; never the key"`
	Note         string `json:"note,omitempty" doc:"free text"`
}

// Challenge is the whole name of the challenge record.
func (c *Certificate) Challenge() string {
	return "_acme-challenge." + strings.TrimPrefix(c.Name, "*.")
}

// Following is an outside name that follows the changing address of a line. Its record is written by whoever
// keeps it and not by a push.
type Following struct {
	ID           string `json:"id" doc:"stable id"`
	Name         string `json:"name" doc:"the whole name, in an outside zone"`
	Uplink       string `json:"uplink" doc:"id of the uplink whose address it has"`
	Enabled      bool   `json:"enabled" doc:"whether it follows"`
	Keeper       string `json:"keeper,omitempty" doc:"who keeps it: the device of the uplink, or Lithos, which sees the address when it reads the device; Lithos when not given" enum:"device"`
	Addresses    string `json:"addresses,omitempty" doc:"which of the line's addresses it has: IPv6 as AAAA, or both; IPv4 as A when not given" enum:"ipv6,both"`
	Source       string `json:"source,omitempty" doc:"asked: the device asks an outside service which address it comes from, for a line behind another router's translation; the uplink's own address when not given" enum:"asked"`
	Asks         string `json:"asks,omitempty" doc:"the address of that service, https"`
	How          string `json:"how,omitempty" doc:"request: told by an HTTPS request (docs/outside-names.json); by an UPDATE (RFC 2136) when not given" enum:"request"`
	RequestTo    string `json:"requestTo,omitempty" doc:"where the request goes, https"`
	Wildcard     bool   `json:"wildcard,omitempty" doc:"whether every name below it has the address, too"`
	Key          string `json:"key,omitempty" doc:"the name of the key that may write this name and nothing else"`
	KeyAlgorithm string `json:"keyAlgorithm,omitempty" doc:"how the key signs; hmac-sha256 when not given" enum:"hmac-sha256,hmac-sha384,hmac-sha512"`
	Secret       string `json:"secret,omitempty" doc:"name under which Lithos keeps the key; never the key"`
	TTL          int    `json:"ttl,omitempty" range:"1-604800" doc:"how long others may keep the address, in seconds; 120 when not given"`
	Every        int    `json:"every,omitempty" range:"1-86400" doc:"how often the device looks at the address, in seconds; 300 when not given"`
	Least        int    `json:"least,omitempty" range:"1-86400" doc:"shortest time between two updates, in seconds; 60 when not given"`
	Note         string `json:"note,omitempty" doc:"free text"`
}

// What of a dynamic name may be said beside the usual.
const (
	KeptByDevice = "device"  // by the device of the uplink
	OnlyIPv6     = "ipv6"    // it has the line's IPv6 address alone
	BothFamilies = "both"    // and its IPv4 address
	AskedOutside = "asked"   // an outside service is asked for the address
	ByRequest    = "request" // told by the HTTPS request
)

// What a dynamic name has where nothing is said, in seconds.
const (
	FollowingTTL   = 120
	FollowingEvery = 300
	FollowingLeast = 60
)

// Line is what its address is known by: the uplink, or the name itself where an outside service is asked.
func (f *Following) Line() string {
	if f.Keeper == KeptByDevice && f.Source == AskedOutside {
		return f.ID
	}
	return f.Uplink
}

// Types are the record types that the name has.
func (f *Following) Types() []string {
	switch f.Addresses {
	case OnlyIPv6:
		return []string{"AAAA"}
	case BothFamilies:
		return []string{"A", "AAAA"}
	}
	return []string{"A"}
}

// Follower finds an outside name that follows by id.
func (s *Site) Follower(id string) (*Following, bool) {
	return find(s.Following, func(f *Following) string { return f.ID }, id)
}

// FollowerOf is the one that a whole name is of.
func (s *Site) FollowerOf(name string) (*Following, bool) {
	for i := range s.Following {
		f := &s.Following[i]
		if f.Name == name || f.Wildcard && strings.HasSuffix(name, "."+f.Name) { // RFC 4592: at any depth
			return f, true
		}
	}
	return nil, false
}

// Certificate finds a certificate by id.
func (s *Site) Certificate(id string) (*Certificate, bool) {
	return find(s.Certificates, func(c *Certificate) string { return c.ID }, id)
}

// Resolver finds a resolver by id.
func (s *Site) Resolver(id string) (*Resolver, bool) {
	return find(s.Resolvers, func(r *Resolver) string { return r.ID }, id)
}

// Zone finds a zone by id.
func (s *Site) Zone(id string) (*Zone, bool) {
	return find(s.Zones, func(z *Zone) string { return z.ID }, id)
}

// Inside reports whether an address is the site's own: of a network, or of its block.
func (s *Site) Inside(a netip.Addr) bool {
	if _, ok := s.NetworkOf(a); ok {
		return true
	}
	return slices.ContainsFunc(s.Block, func(b netip.Prefix) bool { return b.Contains(a) })
}

// HomeZone is the inside zone of the site's domain, where names that follow addresses are.
func (s *Site) HomeZone() (*Zone, bool) {
	for i := range s.Zones {
		if z := &s.Zones[i]; z.Side == Inside && z.Name == s.Domain && s.Domain != "" {
			return z, true
		}
	}
	return nil, false
}

// ZoneOf is the zone of a side that a whole name lies in: the longest.
func (s *Site) ZoneOf(name, side string) (*Zone, bool) {
	var best *Zone
	for i := range s.Zones {
		z := &s.Zones[i]
		if z.Side == side && zone.Within(name, z.Name) && (best == nil || len(z.Name) > len(best.Name)) {
			best = z
		}
	}
	return best, best != nil
}
