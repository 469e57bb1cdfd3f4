package fleet

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/address"
	"lithos/core/site"
)

// Hit is one answer to Find.
type Hit struct {
	Kind    string `json:"kind"`   // site, network, reservation, fixed, interface
	Title   string `json:"title"`  // what it is called
	Detail  string `json:"detail"` // address, MAC, VLAN
	Site    string `json:"site"`   // name
	Code    string `json:"code"`
	Network string `json:"network,omitempty"`
	Ref     string `json:"ref,omitempty"`
}

const maxQuery = 100

// Find looks for an address, MAC, VLAN id or part of a name over all sites.
func (s *Service) Find(ctx context.Context, text string) ([]Hit, error) {
	text = strings.TrimSpace(text)
	hits := []Hit{}
	if text == "" || len(text) > maxQuery {
		return hits, nil
	}
	network := func(code, siteName, part, name string, vlan int32, p netip.Prefix) {
		detail := p.String()
		if vlan > 0 {
			detail += " · VLAN " + strconv.Itoa(int(vlan))
		}
		hits = append(hits, Hit{"network", name, detail, siteName, code, site.ParseRef(part).ID, part})
	}
	owner := func(code, siteName, part, in, name string, a netip.Addr, mac net.HardwareAddr) {
		detail := a.String()
		if len(mac) > 0 {
			detail += " · " + mac.String()
		}
		hits = append(hits, Hit{site.ParseRef(part).Kind, name, detail, siteName, code, in, part})
	}
	if a, err := netip.ParseAddr(text); err == nil && a.Is4() {
		rows, err := s.store.FindByAddress(ctx, a)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			owner(r.Code, r.Site, r.Part, r.Network, r.Name, r.Address, r.Mac)
		}
		nets, err := s.store.FindPrefixes(ctx, a)
		for _, r := range nets {
			network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
		}
		return hits, err
	}
	if m, err := address.ParseMAC(text); err == nil {
		rows, err := s.store.FindByMAC(ctx, net.HardwareAddr(m[:]))
		for _, r := range rows {
			owner(r.Code, r.Site, r.Part, r.Network, r.Name, r.Address, r.Mac)
		}
		return hits, err
	}
	if id, err := strconv.Atoi(strings.TrimPrefix(strings.ToLower(text), "vlan ")); err == nil && id > 0 && id < 4095 {
		rows, err := s.store.FindByVLAN(ctx, int32(id))
		for _, r := range rows {
			network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
		}
		if err != nil || len(hits) > 0 {
			return hits, err
		}
	}
	like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
	sites, err1 := s.store.FindSites(ctx, like)
	for _, r := range sites {
		hits = append(hits, Hit{Kind: "site", Title: r.Name, Detail: r.Customer, Site: r.Name, Code: r.Code})
	}
	nets, err2 := s.store.FindNetworksByName(ctx, like)
	for _, r := range nets {
		network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
	}
	names, err3 := s.store.FindByName(ctx, like)
	for _, r := range names {
		owner(r.Code, r.Site, r.Part, r.Network, r.Name, r.Address, r.Mac)
	}
	return slices.Clip(hits), errors.Join(err1, err2, err3)
}
