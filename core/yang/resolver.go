package yang

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/zone"
)

// Resolver is the configuration of a device's name server.
type Resolver struct {
	Settings *ResolverSettings `json:"settings,omitempty"`
	Zone     []Zone            `json:"zone,omitempty"`
	Program  []Program         `json:"program,omitempty"`
}

// Program is one list entry, keyed by name: a program of the device other than its resolver that
// listens for names. Lithos did not put it there; it can stop it.
type Program struct {
	Name string `json:"name"`
	Port int    `json:"port"`
	Runs bool   `json:"runs"`
}

// Holds reports whether the program keeps a resolver with these settings from listening.
func (p Program) Holds(s *ResolverSettings) bool {
	return p.Runs && s != nil && s.Enabled && (p.Port == s.Port || p.Port == s.TLSPort)
}

// ResolverSettings is what the resolver listens on, whom it answers, and whom it asks. Times are
// in seconds.
type ResolverSettings struct {
	Enabled      bool           `json:"enabled"`
	Interface    []string       `json:"interface,omitempty"`
	Port         int            `json:"port"`
	TLSPort      int            `json:"tls-port,omitempty"`
	TLSName      string         `json:"tls-name,omitempty"`
	Asker        []netip.Prefix `json:"asker,omitempty"`
	Forwarder    []NameServer   `json:"forwarder,omitempty"`
	ForwardFrom  string         `json:"forward-from,omitempty"`
	Domain       []DomainServer `json:"domain,omitempty"`
	Completion   string         `json:"completion,omitempty"`
	KeepShort    bool           `json:"keep-short"`
	KeepPrivate  bool           `json:"keep-private"`
	Validate     bool           `json:"validate"`
	LeaseNames   string         `json:"lease-names"`
	LeaseDomain  string         `json:"lease-domain,omitempty"`
	CacheEntries int            `json:"cache-entries"`
	LeastTTL     int            `json:"least-ttl"`
	GreatestTTL  int            `json:"greatest-ttl"`
	NegativeTTL  int            `json:"negative-ttl"`
	LocalTTL     int            `json:"local-ttl"`
	Log          string         `json:"log"`
	HideIdentity bool           `json:"hide-identity"`
	Silenced     []string       `json:"silenced,omitempty"`
	StopOthers   bool           `json:"stop-others"`
}

// NameServer is a server that is asked; over TLS where it has a name to verify.
type NameServer struct {
	Address netip.Addr `json:"address"`
	Port    int        `json:"port"`
	TLSName string     `json:"tls-name,omitempty"`
}

// AddrPort is where it is asked.
func (n NameServer) AddrPort() netip.AddrPort { return netip.AddrPortFrom(n.Address, uint16(n.Port)) }

// DomainServer is one list entry, keyed by name: who is asked for one domain.
type DomainServer struct {
	Name   string       `json:"name"`
	Server []NameServer `json:"server"`
}

// Zone is one list entry, keyed by name: a zone that the resolver answers for. Times are in seconds.
type Zone struct {
	Name     string   `json:"name"`
	TTL      int      `json:"ttl"`
	Primary  string   `json:"primary"`
	Contact  string   `json:"contact"`
	Refresh  int      `json:"refresh"`
	Retry    int      `json:"retry"`
	Expire   int      `json:"expire"`
	Negative int      `json:"negative"`
	Partial  bool     `json:"partial,omitempty"` // that the forwarders are asked for names it does not have
	Record   []Record `json:"record,omitempty"`
}

// Record is one list entry, keyed by id, which says what the record is of.
type Record struct {
	ID    string `json:"id"`
	Owner string `json:"owner"`
	Type  string `json:"type"`
	Data  string `json:"data"`
	TTL   int    `json:"ttl,omitempty"`
}

// Text is the record as package zone has it.
func (r Record) Text() zone.Record {
	return zone.Record{Owner: r.Owner, Type: r.Type, Data: r.Data, TTL: r.TTL}
}

func zoneKey(z Zone) string       { return z.Name }
func recordKey(r Record) string   { return r.ID }
func programKey(p Program) string { return p.Name }

const (
	settingsPath   = "/lithos-resolver:resolver/settings"
	zonePath       = "/lithos-resolver:resolver/zone="
	programPath    = "/lithos-resolver:resolver/program="
	settingsMember = "lithos-resolver:settings"
	zoneMember     = "lithos-resolver:zone"
	programMember  = "lithos-resolver:program"
)

// SettingsPath is the path of the resolver's settings.
func SettingsPath() string { return settingsPath }

// resolver refuses what a device's resolver cannot run with: interfaces that have no address, zones
// that are there twice or hold what cannot be sent, an alias beside other data (RFC 1034 section
// 3.6.2), a TLS listener without a name.
func (v *validator) resolver() error {
	if s := v.Resolver.Settings; s != nil {
		for _, name := range s.Interface {
			if !slices.ContainsFunc(v.prefixes, func(h namedPrefix) bool { return h.name == name }) {
				return fmt.Errorf("resolver: interface %s has no address to listen on", name)
			}
		}
		if s.ForwardFrom != "" && v.byName[s.ForwardFrom] == nil {
			return fmt.Errorf(
				"resolver: interface %s, which forwarders are asked from, does not exist",
				s.ForwardFrom,
			)
		}
		if s.TLSPort != 0 && s.TLSName == "" {
			return fmt.Errorf("resolver: the TLS listener has no certificate name")
		}
		if s.TLSPort != 0 && s.TLSPort == s.Port {
			return fmt.Errorf("resolver: port %d cannot be plain and TLS at once", s.Port)
		}
	}
	for _, p := range v.Resolver.Program {
		if p.Holds(v.Resolver.Settings) {
			return fmt.Errorf("resolver: port %d is taken by %s", p.Port, p.Name)
		}
	}
	for _, z := range v.Resolver.Zone {
		if err := z.check(); err != nil {
			return fmt.Errorf("zone %s: %w", z.Name, err)
		}
	}
	return nil
}

func (z Zone) check() error {
	if err := zone.CheckName(z.Name); err != nil {
		return err
	}
	type found struct{ alias, other int }
	at := map[string]*found{}
	ids := map[string]bool{}
	for _, r := range z.Record {
		if ids[r.ID] {
			return fmt.Errorf("record %s is there twice", r.ID)
		}
		ids[r.ID] = true
		if _, err := r.Text().RR(z.Name, z.TTL); err != nil {
			return fmt.Errorf("record %s: %w", r.ID, err)
		}
		owner := strings.ToLower(r.Owner) // RFC 4343
		f := at[owner]
		if f == nil {
			f = &found{}
			at[owner] = f
		}
		if r.Type == "CNAME" {
			f.alias++
		} else {
			f.other++
		}
		if f.alias > 1 || f.alias == 1 && (f.other > 0 || r.Owner == zone.Apex) {
			return fmt.Errorf("%s is an alias and has other data beside it", zone.Absolute(r.Owner, z.Name))
		}
	}
	return nil
}
