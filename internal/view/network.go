package view

import (
	"fmt"
	"slices"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/drawing"
	"lithos/core/option"
	"lithos/core/site"
)

// NetworkView is the selected network.
type NetworkView struct {
	NetworkHead
	Ruler drawing.Ruler `json:"ruler"`
	Rows  []drawing.Row `json:"rows"`
	Seen  []SeenRow     `json:"seen"`
}

// NetworkHead is what is said of the network as a whole.
type NetworkHead struct {
	Version   int32        `json:"version"` // of the draft
	ID        string       `json:"id"`
	Name      string       `json:"name"`
	Purpose   string       `json:"purpose"`
	Prefix    string       `json:"prefix"`
	Mask      string       `json:"mask"`
	VLAN      int          `json:"vlan"`
	Gateway   string       `json:"gateway"`
	Where     string       `json:"where"` // "lan.24 on gw-1", empty when on no interface
	Effective []Effective  `json:"effective"`
	NextFree  string       `json:"nextFree"` // for a reservation or fixed device
	Pools     []PoolChoice `json:"pools"`
}

// PoolChoice is a pool of the network, for forms.
type PoolChoice struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Ranges string `json:"ranges"`
}

// Proposal prefills a form.
type Proposal struct {
	In     string            `json:"in,omitempty"`
	InName string            `json:"inName,omitempty"`
	Fields map[string]string `json:"fields"`
}

// Effective is one option clients are told, with where it comes from in words.
type Effective struct {
	Code  uint8  `json:"code"`
	Name  string `json:"name"`
	Value string `json:"value"`
	Mono  bool   `json:"mono"`            // the value is addresses, numbers or octets
	From  string `json:"from"`            // sentence
	Level string `json:"level"`           // kind:id of the level that sets it
	Own   bool   `json:"own"`             // set on the inspected part itself
	Hides string `json:"hides,omitempty"` // sentence
	// Otherwise is what clients of other pools of the network are told, in words.
	Otherwise string `json:"otherwise,omitempty"`
}

// Network is the network a look is at; nil at a site without any.
func (p *Page) Network(look Look) *NetworkView {
	n, _ := p.chosen(look)
	if n == nil {
		return nil
	}
	rows := drawing.Rows(p.Scene, n, p.Judgement.Findings, p.Seen)
	v := &NetworkView{
		NetworkHead: NetworkHead{
			Version: p.Version(), ID: n.ID, Name: n.Name, Purpose: n.Purpose, Prefix: n.Prefix.String(),
			Mask: address.Mask(n.Prefix.Bits()).String(), VLAN: n.VLAN,
			Where: compile.Where(p.Site, n), Pools: []PoolChoice{},
			Effective: p.toldOn(n, site.Ref{Kind: site.KindNetwork, ID: n.ID}),
		},
		Ruler: drawing.Draw(p.Scene, n, rows, p.Judgement.Findings, p.Seen, look.From),
		Rows:  rows, Seen: p.seenOn(n),
	}
	if n.Gateway.IsValid() {
		v.Gateway = n.Gateway.String()
	}
	for _, pool := range p.PoolsOn(n) {
		v.Pools = append(v.Pools, PoolChoice{pool.ID, pool.Name, words(pool.Ranges)})
	}
	if a, ok := site.NextFree(p.Site, n); ok {
		v.NextFree = a.String()
	}
	return v
}

// toldOn is what clients of a network are told: those of its first pool, and where those of another are told something
// else, what. It is the one answer that every place gives which speaks of a network.
func (p *Page) toldOn(n *site.Network, ref site.Ref) []Effective {
	pools := p.PoolsOn(n)
	if len(pools) == 0 {
		return effective(p.Own(), compile.Effective(p.Site, compile.For{Network: n}), ref)
	}
	of := func(pool *site.Pool) []Effective {
		return effective(p.Own(), compile.Effective(p.Site, compile.For{Network: n, Pool: pool}), ref)
	}
	out := of(pools[0])
	for _, pool := range pools[1:] {
		other := of(pool)
		for _, o := range other {
			at := slices.IndexFunc(out, func(e Effective) bool { return e.Code == o.Code })
			if at < 0 {
				o.From = "to clients of " + pool.Name + " alone, " + o.From
				out = append(out, o)
				continue
			}
			if out[at].Value != o.Value {
				out[at].Otherwise = joined(out[at].Otherwise, o.Value+" for clients of "+pool.Name)
			}
		}
		for i := range out {
			if !slices.ContainsFunc(other, func(o Effective) bool { return o.Code == out[i].Code }) {
				out[i].Otherwise = joined(out[i].Otherwise, "not told to clients of "+pool.Name)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Effective) int { return int(a.Code) - int(b.Code) })
	return out
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// effective puts where an option comes from in words.
func effective(own option.Own, list []option.Effective, inspected site.Ref) []Effective {
	out := []Effective{}
	for _, t := range list {
		def, _ := own.Lookup(t.Code)
		here := t.From.Kind == inspected.Kind && t.From.ID == inspected.ID
		v := Effective{Code: t.Code, Name: def.Name, Value: t.Value, Mono: !def.Type.InWords(),
			Level: t.From.Kind + ":" + t.From.ID, Own: here}
		if here {
			v.From = "set here"
		} else {
			v.From = fmt.Sprintf("from the %s %s", noun(t.From.Kind), t.From.Name)
		}
		if len(t.Hides) > 0 {
			h := t.Hides[0]
			v.Hides = fmt.Sprintf("%s says %s", h.Source.Name, h.Value)
		}
		out = append(out, v)
	}
	return out
}

// noun is what people call a kind of part.
func noun(kind string) string {
	if k, ok := site.KindNamed(kind); ok {
		return k.Noun
	}
	return kind
}
