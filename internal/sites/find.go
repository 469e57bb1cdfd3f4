package sites

import (
	"cmp"
	"context"
	"errors"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// Hit is one answer to Find.
type Hit struct {
	Kind    string `json:"kind"`   // site, network, reservation, fixed, interface, seen, finding or order
	What    string `json:"what"`   // the kind in words
	Title   string `json:"title"`  // what it is called
	Detail  string `json:"detail"` // address, MAC, VLAN, ticket
	Site    string `json:"site"`   // name
	Code    string `json:"code"`
	Network string `json:"network,omitempty"`
	Ref     string `json:"ref,omitempty"`
	Finding string `json:"finding,omitempty"` // id
	Order   int64  `json:"order,omitempty"`
	// When is of what was seen: a lease until then, or heard then.
	When     *time.Time `json:"when,omitempty"`
	WhenSays string     `json:"whenSays,omitempty"`
}

const maxQuery = 100

// patterns are what a query may be part of, for LIKE; empty for what it cannot be.
type patterns struct{ name, address, mac string }

var (
	likeOrder   = regexp.MustCompile(`^(?i)wo-?0*([1-9]\d{0,17})$`)
	likeVLAN    = regexp.MustCompile(`^(?i)(?:vlan ?)?([1-9]\d{0,3})$`)
	likeAddress = regexp.MustCompile(`^\.?\d{1,3}(\.\d{1,3}){0,3}\.?$`)
	likeMAC     = regexp.MustCompile(`^[0-9a-f]{4,12}$`)
)

// patternsOf reads a query. A part of a MAC has at least four digits: with fewer too
// much matches.
func patternsOf(text string) patterns {
	p := patterns{name: "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"}
	hex := strings.NewReplacer(":", "", "-", "", ".", "").Replace(strings.ToLower(text))
	switch {
	case strings.Contains(text, ".") && likeAddress.MatchString(text) && text[0] == '.':
		p.address = "%" + text + "%"
	case strings.Contains(text, ".") && likeAddress.MatchString(text):
		p.address = text + "%"
	case likeMAC.MatchString(hex):
		p.mac = "%" + hex + "%"
	}
	return p
}

// finding collects what is found.
type finding struct {
	*Service
	ctx  context.Context
	text string
	patterns
	hits []Hit
}

// Find looks over all sites for an address or MAC or a part of one, a name, a VLAN id, a
// work order by number, title, ticket or technician, words of a finding, and what was
// seen.
func (s *Service) Find(ctx context.Context, text string) ([]Hit, error) {
	text = strings.TrimSpace(text)
	if text == "" || len(text) > maxQuery {
		return []Hit{}, nil
	}
	f := &finding{s, ctx, text, patternsOf(text), []Hit{}}
	err := errors.Join(f.vlans(), f.sites(), f.owners(), f.networks(), f.names(), f.seen(), f.orders(), f.findings())
	return f.hits, err
}

func (f *finding) network(code, siteName, part, name string, vlan int32, p netip.Prefix) {
	detail := p.String()
	if vlan > 0 {
		detail += " · VLAN " + strconv.Itoa(int(vlan))
	}
	f.hits = append(f.hits, Hit{Kind: site.KindNetwork, What: "Network", Title: name, Detail: detail, Site: siteName,
		Code: code, Network: site.ParseRef(part).ID, Ref: part})
}

func (f *finding) vlans() error {
	m := likeVLAN.FindStringSubmatch(f.text)
	if m == nil {
		return nil
	}
	id, err := strconv.Atoi(m[1])
	if err != nil || id > 4094 {
		return err
	}
	rows, err := f.store.FindByVLAN(f.ctx, int32(id))
	for _, r := range rows {
		f.network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
	}
	return err
}

func (f *finding) sites() error {
	rows, err := f.store.FindSites(f.ctx, f.name)
	for _, r := range rows {
		f.hits = append(f.hits,
			Hit{Kind: site.KindSite, What: "Site", Title: r.Name, Detail: r.Customer, Site: r.Name, Code: r.Code})
	}
	return err
}

func (f *finding) owners() error {
	rows, err := f.store.FindOwners(f.ctx,
		gen.FindOwnersParams{Name: f.name, Address: f.address, Mac: f.mac, Text: f.text})
	for _, r := range rows {
		ref := site.ParseRef(r.Part)
		hit := Hit{Kind: ref.Kind, Title: r.Name, Detail: addressed(r.Address, r.Mac), Site: r.Site, Code: r.Code,
			Network: r.Network, Ref: r.Part}
		if k, ok := site.KindNamed(ref.Kind); ok {
			hit.What = k.Title()
		}
		f.hits = append(f.hits, hit)
	}
	return err
}

func addressed(a netip.Addr, mac net.HardwareAddr) string {
	if len(mac) == 0 {
		return a.String()
	}
	return a.String() + " · " + mac.String()
}

// networks finds them by name, and those that hold an address.
func (f *finding) networks() error {
	named, err := f.store.FindNetworksByName(f.ctx, f.name)
	for _, r := range named {
		f.network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
	}
	a, bad := netip.ParseAddr(f.text)
	if err != nil || bad != nil || !a.Is4() {
		return err
	}
	around, err := f.store.FindPrefixes(f.ctx, a)
	for _, r := range around {
		f.network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
	}
	return err
}

// names finds records and services by their names and what they say, and zones.
func (f *finding) names() error {
	rows, err := f.store.FindNames(f.ctx, gen.FindNamesParams{Name: f.name, Text: strings.ToLower(f.text)})
	for _, r := range rows {
		ref := site.ParseRef(r.Part)
		hit := Hit{Kind: ref.Kind, Title: r.Name, Site: r.Site, Code: r.Code, Ref: r.Part,
			Detail: strings.TrimSpace(r.Type+" "+r.Data) + " · " + r.Side}
		if k, ok := site.KindNamed(ref.Kind); ok {
			hit.What = k.Title()
		}
		f.hits = append(f.hits, hit)
	}
	return err
}

// seen finds leases and neighbours. What several devices told of is one hit: a lease
// before what was merely heard.
func (f *finding) seen() error {
	rows, err := f.store.FindSeen(f.ctx, gen.FindSeenParams{Name: f.name, Address: f.address, Mac: f.mac})
	slices.SortStableFunc(rows, func(a, b gen.FindSeenRow) int { return cmp.Compare(a.Source, b.Source) })
	told := map[string]bool{}
	for _, r := range rows {
		key := r.Code + r.Address.String() + r.Mac.String()
		if told[key] {
			continue
		}
		told[key] = true
		hit := Hit{Kind: "seen", What: "Seen", Title: cmp.Or(r.Name, r.Address.String()),
			Detail: addressed(r.Address, r.Mac) + " · " + cmp.Or(r.Port, r.Device), Site: r.Site, Code: r.Code,
			Network: site.ParseRef(r.Network).ID, Ref: "seen:" + r.Address.String(), When: &r.Last, WhenSays: "heard"}
		if r.Source == "lease" && r.Expires != nil {
			hit.When, hit.WhenSays = r.Expires, "lease until"
			if r.Expires.Before(time.Now()) {
				hit.WhenSays = "lease ended"
			}
		}
		f.hits = append(f.hits, hit)
	}
	return err
}

var states = map[string]string{"open": "open", "pushing": "being pushed", "landed": "landed", "dropped": "dropped"}

func (f *finding) orders() error {
	id := int64(0)
	if m := likeOrder.FindStringSubmatch(f.text); m != nil {
		n, err := strconv.ParseInt(m[1], 10, 64)
		if err != nil {
			return err
		}
		id = n
	}
	rows, err := f.store.FindOrders(f.ctx, gen.FindOrdersParams{ID: id, Name: f.name})
	for _, r := range rows {
		says := []string{order.Name(r.ID), r.Ticket, states[r.State], r.Opener}
		f.hits = append(f.hits, Hit{Kind: "order", What: "Work order", Title: r.Title, Site: r.Site, Code: r.Code,
			Order:  r.ID,
			Detail: strings.Join(slices.DeleteFunc(says, func(s string) bool { return s == "" }), " · ")})
	}
	return err
}

func (f *finding) findings() error {
	whole := ""
	if a, err := netip.ParseAddr(f.text); err == nil {
		whole = a.String()
	}
	rows, err := f.store.FindFindings(f.ctx, gen.FindFindingsParams{Rules: rules, Name: f.name, Address: whole,
		Symptom: check.RulesFor(f.text)})
	for _, r := range rows {
		f.hits = append(f.hits,
			Hit{Kind: "finding", What: "Finding", Title: r.Title, Site: r.Site, Code: r.Code, Finding: r.ID})
	}
	return err
}
