package option

import (
	"fmt"
	"net/netip"
	"strings"

	"lithos/core/address"
)

func packRoutes(texts []string) ([]byte, error) {
	var wire []byte
	for _, text := range texts {
		dest, via, ok := strings.Cut(text, " via ")
		if !ok {
			return nil,
				fmt.Errorf("%q is not a route; type a destination and a router, for example 0.0.0.0/0 via 10.84.18.1",
					strings.TrimSpace(text))
		}
		p, err := netip.ParsePrefix(strings.TrimSpace(dest))
		if err != nil || !p.Addr().Is4() || p != p.Masked() {
			return nil, fmt.Errorf("%q is not a destination; type a prefix without host bits, for example 0.0.0.0/0",
				strings.TrimSpace(dest))
		}
		router, err := address.ParseAddr(via, netip.Prefix{})
		if err != nil {
			return nil, err
		}
		octets := p.Addr().As4()
		wire = append(append(wire, byte(p.Bits())), octets[:(p.Bits()+7)/8]...)
		wire = append(wire, router.AsSlice()...)
	}
	return wire, nil
}

func formatRoutes(wire []byte) (string, bool) {
	var out []string
	for len(wire) > 0 {
		bits := int(wire[0])
		n := (bits + 7) / 8
		if bits > 32 || len(wire) < 1+n+4 {
			return "", false
		}
		var dest [4]byte
		copy(dest[:], wire[1:1+n])
		p := netip.PrefixFrom(netip.AddrFrom4(dest), bits)
		if p != p.Masked() {
			return "", false
		}
		out = append(out, p.String()+" via "+netip.AddrFrom4([4]byte(wire[1+n:1+n+4])).String())
		wire = wire[1+n+4:]
	}
	return strings.Join(out, ", "), len(out) > 0
}
