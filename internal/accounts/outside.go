package accounts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"

	"lithos/core/site"
	"lithos/internal/outbound"
	"lithos/internal/store"
	"lithos/internal/zonetransfer"
)

// Holder is the server that holds an outside zone, with the key that reads and writes it there.
func (s *Service) Holder(ctx context.Context, siteID string, z site.Zone) (zonetransfer.Server, error) {
	out := zonetransfer.Server{At: s.Where(z.Server.AddrPort()), Zone: z.Name, Key: z.Key, Rule: s.Outbound,
		Algorithm: cmp.Or(z.KeyAlgorithm, site.Algorithms[0])}
	if z.Key == "" {
		return out, nil
	}
	var err error
	out.Secret, err = s.secret(ctx, siteID, z.Secret, "")
	if errors.Is(err, store.ErrNotFound) {
		return out, fmt.Errorf("no key is kept for %s; type %s again in the form of the zone", z.Name, z.Key)
	}
	return out, err
}

// Rule says where Lithos may connect to.
func (s *Service) Rule() outbound.Rule { return s.Outbound }

// web is how services over HTTPS are reached.
func (s *Service) web() zonetransfer.Web {
	out := s.Web
	out.Rule = s.Outbound
	return out
}

// Where is where a server is reached from here.
func (s *Service) Where(at netip.AddrPort) netip.AddrPort {
	if to, ok := s.Reaches[at]; ok {
		return to
	}
	return at
}

// TellName tells the server of a dynamic name an address for it, or for another name with its key. A
// transfer.RefusedError says why it was not taken.
func (s *Service) TellName(
	ctx context.Context, siteID string, z site.Zone, w *site.Following, name string, a netip.Addr,
) error {
	ttl := cmp.Or(w.TTL, site.FollowingTTL)
	if w.How == site.ByRequest {
		key, err := s.secret(ctx, siteID, w.Secret, site.Origin(w.RequestTo))
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("no key is kept for %s; type %s again in its form", w.Name, w.Key)
		}
		if err != nil {
			return err
		}
		_, _, err = s.web().Tell(ctx, w.RequestTo, name, key, zonetransfer.Telling{Addresses: []netip.Addr{a}, TTL: ttl,
			Below: w.Wildcard})
		return err
	}
	server, err := s.Holder(ctx, siteID, z.KeyedBy(w.Key, w.KeyAlgorithm, w.Secret))
	if err != nil {
		return err
	}
	return server.TellName(ctx, name, w.Wildcard, ttl, a)
}

// Account is the account that makes keys of an outside zone.
func (s *Service) Account(ctx context.Context, siteID string, z site.Zone) (zonetransfer.Account, error) {
	out := zonetransfer.Account{Web: s.web(), To: z.KeysAt, Zone: z.Name}
	var err error
	out.Password, err = s.secret(ctx, siteID, z.Account, site.Origin(z.KeysAt))
	if errors.Is(err, store.ErrNotFound) {
		return out, fmt.Errorf("no password is kept for %s; type it in the form of %s", z.KeysAt, z.Name)
	}
	return out, err
}
