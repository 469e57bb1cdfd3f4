// Package outbound is the one rule for every address that Lithos itself connects to: devices, servers that hold zones,
// providers, authorities and resolvers. Whoever is signed in chooses such addresses, and could otherwise have Lithos
// look around on its own machine and network.
//
// The rule is asked about the address that a connection is about to be opened to, after its name was resolved, so that
// a name cannot be one address when it is judged and another when it is used.
package outbound

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"

	"lithos/core/dynamicnames"
)

// Rule says where connections may be opened to. The zero value lets through what is neither of the machine itself nor
// of its link.
type Rule struct {
	// Allowed are prefixes that are let through all the same: the installation says so.
	Allowed []netip.Prefix
	// Never are addresses that are not let through whatever is allowed, the database's own for instance.
	Never []netip.AddrPort
}

// Loopback lets the machine itself through, for the demonstration and tests: their devices run on it.
func Loopback() Rule {
	return Rule{Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}}
}

// RefusedError says that an address is not connected to, and why.
type RefusedError struct {
	Address netip.Addr
	Why     string
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("Lithos does not connect to %s: it is %s; type the address that the device or server has on "+
		"its network, or let it with serve --reach", e.Address, e.Why)
}

// Refused is the refusal in an error of a connection; nil where the rule did not refuse it.
func Refused(err error) error {
	var refused *RefusedError
	if errors.As(err, &refused) {
		return refused
	}
	return nil
}

// Check refuses an address. private says whether addresses of private networks are let through: those of devices are.
func (r Rule) Check(at netip.AddrPort, private bool) error {
	a := at.Addr().Unmap().WithZone("")
	if slices.ContainsFunc(r.Never, func(n netip.AddrPort) bool {
		return n.Addr().Unmap() == a && n.Port() == at.Port()
	}) {
		return &RefusedError{a, "the database's"}
	}
	if slices.ContainsFunc(r.Allowed, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return nil
	}
	if why := special(a); why != "" {
		return &RefusedError{a, why}
	}
	if !private && isPrivate(a) {
		return &RefusedError{a, "an address of a private network"}
	}
	return nil
}

// special is what an address is that no device has: one of the machine itself, of its link, of a group; empty for any
// other (RFC 6890).
func special(a netip.Addr) string {
	switch {
	case !a.IsValid(), a.IsUnspecified(), within(a, "0.0.0.0/8"):
		return "no address of a machine"
	case a.IsLoopback():
		return "the machine that Lithos runs on"
	case a.IsLinkLocalUnicast():
		return "a link-local address"
	case a.IsMulticast():
		return "the address of a group"
	case within(a, "240.0.0.0/4"):
		return "no address of a machine"
	}
	return ""
}

// isPrivate reports whether an address means something in a private network alone (RFC 1918, RFC 4193, RFC 6598).
func isPrivate(a netip.Addr) bool {
	reach := dynamicnames.ReachOf(a)
	return reach == dynamicnames.Private || reach == dynamicnames.Shared
}

func within(a netip.Addr, prefix string) bool { return netip.MustParsePrefix(prefix).Contains(a) }

// ToDevices opens connections to devices and to what the installation names itself.
func (r Rule) ToDevices(timeout time.Duration) *net.Dialer { return r.dialer(timeout, true) }

// ToServers opens connections to servers on the internet, of which a document says where they are.
func (r Rule) ToServers(timeout time.Duration) *net.Dialer { return r.dialer(timeout, false) }

func (r Rule) dialer(timeout time.Duration, private bool) *net.Dialer {
	control := func(_ context.Context, _, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return r.Check(at, private)
	}
	return &net.Dialer{Timeout: timeout, ControlContext: control}
}
