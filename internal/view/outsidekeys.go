package view

import (
	"slices"
	"strings"
	"time"

	"lithos/core/dynamicnames"
	"lithos/core/site"
)

// OutsideKeys are the keys of an outside zone as its provider tells, and who writes its records.
type OutsideKeys struct {
	Zone    string             `json:"zone" doc:"id of the zone"`
	At      string             `json:"at" doc:"where keys are made"`
	Problem string             `json:"problem,omitempty" doc:"why they could not be read the last time"`
	Keys    []OutsideKey       `json:"keys"`
	Sets    []dynamicnames.Set `json:"sets" doc:"the records that follow, with who wrote them last"`
	ByHand  int                `json:"byHand" doc:"how many sets of records are written by hand"`
}

// OutsideKey is one key, with what it may do in words.
type OutsideKey struct {
	Name   string     `json:"name"`
	May    string     `json:"may"`
	For    string     `json:"for,omitempty" doc:"what of the site uses it"`
	Ends   *time.Time `json:"ends,omitempty"`
	Made   *time.Time `json:"made,omitempty"`
	Uses   int        `json:"uses"`
	Used   *time.Time `json:"used,omitempty" doc:"when last"`
	Ending bool       `json:"ending,omitempty" doc:"it has ended or is about to"`
	Unused bool       `json:"unused,omitempty" doc:"it was never used although it had the time"`
	Wide   bool       `json:"wide,omitempty" doc:"it is a dynamic name’s, and may do more than that takes"`
}

// outsideKeys are the keys of a zone; nil where nothing says where they are made.
func (p *outer) outsideKeys(z *site.Zone, now time.Time) *OutsideKeys {
	if z.KeysAt == "" {
		return nil
	}
	out := &OutsideKeys{Zone: z.ID, At: z.KeysAt, Keys: []OutsideKey{}, Sets: []dynamicnames.Set{}}
	told := p.ZoneReading(z.ID)
	if told == nil {
		return out
	}
	out.Problem = told.KeysProblem
	for _, k := range told.Keys {
		out.Keys = append(out.Keys, p.keyView(k, now))
	}
	for _, s := range told.Sets {
		if s.Origin == "hand" {
			out.ByHand++
			continue
		}
		out.Sets = append(out.Sets, s)
	}
	return out
}

// outsideKey is a key of a zone by its name; nil where its provider does not tell of it.
func (p *outer) outsideKey(z *site.Zone, name string, now time.Time) *OutsideKey {
	told := p.ZoneReading(z.ID)
	if told == nil {
		return nil
	}
	i := slices.IndexFunc(told.Keys, func(k dynamicnames.Key) bool { return k.Name == name })
	if i < 0 {
		return nil
	}
	v := p.keyView(told.Keys[i], now)
	return &v
}

func (p *outer) keyView(k dynamicnames.Key, now time.Time) OutsideKey {
	v := OutsideKey{Name: k.Name, May: may(k), Uses: k.Uses, Ending: k.Ending(now), Unused: k.Unused(now)}
	given := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	v.Ends, v.Made, v.Used = given(k.Ends), given(k.Made), given(k.Used)
	var uses []string
	for _, z := range p.Site.Zones {
		if z.Key == k.Name {
			uses = append(uses, "the zone "+z.Name)
		}
	}
	for _, c := range p.Site.Certificates {
		if c.Key == k.Name {
			uses = append(uses, "the certificate of "+c.Name)
		}
	}
	for _, w := range p.Site.Following {
		if w.Key == k.Name {
			uses = append(uses, w.Name)
			v.Wide = v.Wide || k.Wider(w.Name, w.Wildcard)
		}
	}
	v.For = strings.Join(uses, ", ")
	return v
}

// may is what a key may do, in words.
func may(k dynamicnames.Key) string {
	what := "every record"
	if len(k.Types) > 0 {
		what = strings.Join(k.Types, " and ")
	}
	out := what + " of every name"
	if len(k.Names) > 0 {
		out = what + " of " + strings.Join(k.Names, ", ")
	}
	if k.UpdateOnly {
		out += "; update only"
	}
	if k.Reads {
		out += "; reads the zone"
	}
	if len(k.From) > 0 {
		var from []string
		for _, f := range k.From {
			from = append(from, f.String())
		}
		out += "; from " + strings.Join(from, ", ")
	}
	return strings.ToUpper(out[:1]) + out[1:]
}
