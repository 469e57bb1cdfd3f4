package site

import (
	"bytes"
	"cmp"
	"encoding/json"
	"net/netip"
	"slices"

	"go.yaml.in/yaml/v3"

	"lithos/core/address"
)

// Normal returns s with its parts in their one order: networks, pools,
// reservations and fixed devices by address, devices and interfaces by name,
// options by code, vendor classes by name, ties by id. s itself is not changed.
func Normal(s *Site) *Site {
	out := *s
	out.Block = append([]netip.Prefix{}, s.Block...)
	out.Options = sortedOptions(s.Options)
	out.Customer.Options = sortedOptions(s.Customer.Options)
	out.Standard.Options = sortedOptions(s.Standard.Options)
	out.Devices = sorted(s.Devices, func(a, b Device) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
	})
	for i := range out.Devices {
		out.Devices[i].Interfaces = sorted(out.Devices[i].Interfaces, func(a, b Interface) int {
			return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
		})
	}
	out.Networks = ByPrefix(s.Networks)
	for i := range out.Networks {
		out.Networks[i].Options = sortedOptions(out.Networks[i].Options)
	}
	out.Pools = sorted(s.Pools, func(a, b Pool) int {
		return cmp.Or(firstOf(a).Compare(firstOf(b)), cmp.Compare(a.ID, b.ID))
	})
	for i := range out.Pools {
		p := &out.Pools[i]
		p.Options = sortedOptions(p.Options)
		p.Ranges = append([]address.Range{}, p.Ranges...)
		slices.SortFunc(p.Ranges, func(a, b address.Range) int { return cmp.Or(a.From.Compare(b.From), a.To.Compare(b.To)) })
		p.Exclusions = sorted(p.Exclusions, func(a, b Exclusion) int {
			return cmp.Or(a.Range.From.Compare(b.Range.From), cmp.Compare(a.ID, b.ID))
		})
	}
	out.Reservations = sorted(s.Reservations, func(a, b Reservation) int {
		return cmp.Or(a.Address.Compare(b.Address), cmp.Compare(a.ID, b.ID))
	})
	for i := range out.Reservations {
		out.Reservations[i].Options = sortedOptions(out.Reservations[i].Options)
	}
	out.FixedDevices = sorted(s.FixedDevices, func(a, b FixedDevice) int {
		return cmp.Or(a.Address.Compare(b.Address), cmp.Compare(a.ID, b.ID))
	})
	out.VendorClasses = sorted(s.VendorClasses, func(a, b VendorClass) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) })
	for i := range out.VendorClasses {
		c := &out.VendorClasses[i]
		c.Options = sortedOptions(c.Options)
		c.SubOptions = sorted(c.SubOptions, func(a, b SubOption) int { return cmp.Compare(a.Code, b.Code) })
	}
	out.OptionDefinitions = sorted(s.OptionDefinitions, func(a, b OptionDefinition) int {
		return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.ID, b.ID))
	})
	out.KnownClients = sorted(s.KnownClients, func(a, b KnownClient) int {
		return cmp.Or(bytes.Compare(a.MAC[:], b.MAC[:]), cmp.Compare(a.ID, b.ID))
	})
	return &out
}

func firstOf(p Pool) netip.Addr {
	var first netip.Addr
	for _, r := range p.Ranges {
		if !first.IsValid() || r.From.Less(first) {
			first = r.From
		}
	}
	return first
}

func sorted[T any](list []T, order func(a, b T) int) []T {
	if len(list) == 0 {
		return nil
	}
	out := slices.Clone(list)
	slices.SortStableFunc(out, order)
	return out
}

func sortedOptions(list []Option) []Option {
	return sorted(list, func(a, b Option) int { return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.Value, b.Value)) })
}

// Encode writes the site file as indented JSON in normal form: equal sites give
// equal bytes.
func Encode(s *Site) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	err := enc.Encode(Normal(s))
	return b.Bytes(), err
}

// EncodeYAML writes the site file as YAML with the same keys in the same order.
func EncodeYAML(s *Site) ([]byte, error) {
	doc, err := Encode(s)
	if err != nil {
		return nil, err
	}
	var n yaml.Node
	if err := yaml.Unmarshal(doc, &n); err != nil {
		return nil, err
	}
	plain(&n)
	var b bytes.Buffer
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	err = enc.Encode(&n)
	return b.Bytes(), err
}

// plain drops JSON's flow style and quotes; the encoder quotes again what needs it.
func plain(n *yaml.Node) {
	n.Style &^= yaml.FlowStyle | yaml.DoubleQuotedStyle
	for _, c := range n.Content {
		plain(c)
	}
}

// ByPrefix is a copy of networks in the order of the normal form.
func ByPrefix(networks []Network) []Network {
	return sorted(networks, func(a, b Network) int {
		return cmp.Or(a.Prefix.Addr().Compare(b.Prefix.Addr()), cmp.Compare(a.Prefix.Bits(), b.Prefix.Bits()), cmp.Compare(a.ID, b.ID))
	})
}
