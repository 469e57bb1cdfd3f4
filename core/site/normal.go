package site

import (
	"bytes"
	"cmp"
	"encoding/json"
	"net/netip"
	"regexp"
	"slices"

	"go.yaml.in/yaml/v3"
)

// Normal returns s with its parts in their one order: networks, pools,
// reservations and fixed devices by address, devices and interfaces by name,
// options by code, vendor classes by name, ties by id. s itself is not changed.
func Normal(s *Site) *Site {
	out := *s
	out.Block = append([]netip.Prefix{}, s.Block...)
	for _, k := range kinds {
		k.normal(&out)
	}
	return &out
}

func firstOf(p *Pool) netip.Addr {
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
	return sorted(list, func(a,
		b Option) int {
		return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.Value, b.Value))
	})
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

// otherwise is text that YAML 1.1, which many tools still read, takes for something else: truth
// values, numbers to base 8 or 60, such as a MAC of digits alone, and dates.
var otherwise = regexp.MustCompile(`(?i)^(?:y|n|yes|no|on|off|true|false|null|~|[-+]?0[0-7_]+|[-+]?[0-9][0-9_]*` +
	`(?::[0-9]+)+(?:\.[0-9_]*)?|[-+]?[0-9][0-9_,]*(?:\.[0-9_]*)?|\d{4}-\d{1,2}-\d{1,2}.*)$`)

// plain drops JSON's flow style and quotes; the encoder quotes again what YAML 1.2 needs, and
// what YAML 1.1 would read otherwise keeps its quotes.
func plain(n *yaml.Node) {
	n.Style &^= yaml.FlowStyle
	if n.Kind != yaml.ScalarNode || n.Tag != "!!str" || !otherwise.MatchString(n.Value) {
		n.Style &^= yaml.DoubleQuotedStyle
	}
	for _, c := range n.Content {
		plain(c)
	}
}
