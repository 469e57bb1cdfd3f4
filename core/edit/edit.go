// Package edit is the typed edits a draft is made of. A draft is a list of
// edits; the proposed site is the base with the edits applied in order, undo is
// replay without the last, and a draft follows a newer base by replaying its
// edits there.
//
// An edit remembers the value it replaces. Applied to a document where that
// value is another, it is refused instead of overwriting somebody's work.
package edit

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"lithos/core/site"
)

// Op is what an edit does to its part.
type Op string

// The operations.
const (
	Add    Op = "add"
	Change Op = "change"
	Remove Op = "remove"
)

// Edit is one change to one part of a site.
type Edit struct {
	Op   Op       `json:"op"`
	Part site.Ref `json:"part"`
	// In names the owner of a part that lives inside another: the pool of an
	// exclusion, the device of an interface, the level of an option.
	In site.Ref `json:"in,omitzero"`
	// Value is the whole part: what is added, or what was removed.
	Value json.RawMessage `json:"value,omitempty"`
	// Fields are what a change replaces.
	Fields []Field `json:"fields,omitempty"`
}

// Field is one key of a part before and after. A null is an absent key.
type Field struct {
	Name string          `json:"name"`
	From json.RawMessage `json:"from"`
	To   json.RawMessage `json:"to"`
}

// Conflict says why an edit does not apply.
type Conflict struct {
	Edit Edit   `json:"edit"`
	Says string `json:"says"`
	At   int    `json:"at"` // its place among the edits that were replayed
}

func (c *Conflict) Error() string { return c.Says }

// Apply returns base with the edits applied in order. Both are in normal form. base
// is not changed; the result shares with it what no edit touched. The first edit
// that does not apply ends it with a *Conflict.
func Apply(base *site.Site, edits ...Edit) (*site.Site, error) {
	a := applier{site: *base}
	for i, e := range edits {
		if err := a.apply(e); err != nil {
			err.At = i
			return nil, err
		}
	}
	a.tidy()
	return &a.site, nil
}

// Replay applies what still applies and reports the rest, in order.
func Replay(base *site.Site, edits []Edit) (*site.Site, []Conflict) {
	lost := map[int]Conflict{}
	for {
		a := applier{site: *base}
		for i, e := range edits {
			if _, gone := lost[i]; gone {
				continue
			}
			if err := a.apply(e); err != nil {
				err.At = i
				lost[i] = *err
			}
		}
		a.tidy()
		if !astray(&a.site, edits, lost) {
			var out []Conflict
			for _, i := range slices.Sorted(maps.Keys(lost)) {
				out = append(out, lost[i])
			}
			return &a.site, out
		}
	}
}

// astray finds the edits that apply and leave a part that refers to what is no longer there, such
// as a reservation in a network that somebody has removed; it adds them to those that are lost.
func astray(s *site.Site, edits []Edit, lost map[int]Conflict) (found bool) {
	there := map[site.Ref]bool{}
	for _, k := range site.Kinds() {
		k.Each(s, func(_ site.Ref, list site.List, i int) bool {
			there[site.Ref{Kind: k.Name, ID: list.ID(i)}] = true
			return true
		})
	}
	for i, e := range edits {
		_, gone := lost[i]
		list, ok := site.ListOf(scratch(s), e.Part.Kind, e.In)
		kind, known := site.KindNamed(e.Part.Kind)
		if gone || !ok || !known || e.Op == Remove {
			continue
		}
		at, ok := list.Find(e.Part.ID)
		if !ok {
			continue
		}
		for _, f := range kind.Fields {
			if f.Of == "" || f.Named || e.Op == Change && !changes(e, f) {
				continue
			}
			for _, id := range f.Points(list.At(at)) {
				if id == "" || there[site.Ref{Kind: f.Of, ID: id}] {
					continue
				}
				lost[i] = Conflict{Edit: e, At: i,
					Says: fmt.Sprintf("its %s %s is no longer there", f.Sentence(), id)}
				found = true
			}
		}
	}
	return found
}

// changes reports whether a change is about a field.
func changes(e Edit, f *site.Field) bool {
	key := cmp.Or(f.Key, f.Name)
	return slices.ContainsFunc(e.Fields, func(c Field) bool { return c.Name == key })
}

// applier applies edits one after another. The list that the last one was about is
// kept, so that thousands about one list copy it once and find their parts at once.
type applier struct {
	site site.Site
	kind string
	in   site.Ref
	list site.List // nil for none
}

func (a *applier) listOf(kind string, in site.Ref) (site.List, bool) {
	if a.list != nil && a.kind == kind && a.in == in {
		return a.list, true
	}
	a.tidy()
	l, ok := site.ListOf(&a.site, kind, in)
	if ok {
		a.kind, a.in, a.list = kind, in, l
	}
	return l, ok
}

// tidy finishes with the list the last edit was about.
func (a *applier) tidy() {
	if a.list != nil {
		a.list.Tidy()
	}
	a.list = nil
}

func (a *applier) apply(e Edit) *Conflict {
	refuse := func(format string, args ...any) *Conflict {
		return &Conflict{Edit: e, Says: fmt.Sprintf(format, args...)}
	}
	list, ok := a.listOf(e.Part.Kind, e.In)
	if !ok {
		return refuse("%s is no longer there", e.In)
	}
	at, found := list.Find(e.Part.ID)
	switch e.Op {
	case Add:
		if found {
			return refuse("%s is already there", e.Part)
		}
		if err := list.Insert(e.Value); err != nil {
			return refuse("%s: %v", e.Part, err)
		}
	case Remove:
		if !found {
			return refuse("%s is no longer there", e.Part)
		}
		if e.Value != nil && !equal(list.JSON(at), e.Value) {
			return refuse("%s was changed since it was removed here", e.Part)
		}
		list.Remove(at)
	case Change:
		if !found {
			return refuse("%s is no longer there", e.Part)
		}
		merged, err := merge(list.JSON(at), e)
		if err != nil {
			return err
		}
		if err := list.Replace(at, merged); err != nil {
			return refuse("%s: %v", e.Part, err)
		}
	default:
		return refuse("%q is not an operation; use add, change or remove", e.Op)
	}
	return nil
}

// merge sets the fields of a change in the JSON of its part.
func merge(was json.RawMessage, e Edit) (json.RawMessage, *Conflict) {
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(was, &keys); err != nil {
		return nil, &Conflict{Edit: e, Says: err.Error()}
	}
	for _, f := range e.Fields {
		if !equal(keys[f.Name], f.From) {
			return nil, &Conflict{Edit: e,
				Says: fmt.Sprintf("%s: %s is now %s, and was %s when it was changed here", e.Part, f.Name,
					orNone(keys[f.Name]), orNone(f.From))}
		}
		if isNull(f.To) {
			delete(keys, f.Name)
		} else {
			keys[f.Name] = f.To
		}
	}
	merged, err := json.Marshal(keys)
	if err != nil {
		return nil, &Conflict{Edit: e, Says: err.Error()}
	}
	return merged, nil
}

func isNull(raw json.RawMessage) bool { return len(raw) == 0 || string(raw) == "null" }

func orNone(raw json.RawMessage) string {
	if isNull(raw) {
		return "not set"
	}
	return string(raw)
}

// equal compares JSON values; the order of keys and white space do not count.
func equal(a, b json.RawMessage) bool {
	if isNull(a) || isNull(b) {
		return isNull(a) == isNull(b)
	}
	if bytes.Equal(a, b) {
		return true
	}
	var x, y any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && reflect.DeepEqual(x, y)
}

// Adding is the edit that adds a part. value is the part's struct of package site.
func Adding(kind, id string, in site.Ref, value any) Edit {
	return Edit{Op: Add, Part: site.Ref{Kind: kind, ID: id}, In: in, Value: mustMarshal(value)}
}

// Changing is the edit that turns one value of a part into another, key by key;
// ok is false when they are equal.
func Changing(kind, id string, in site.Ref, was, now any) (e Edit, ok bool) {
	var before, after map[string]json.RawMessage
	if json.Unmarshal(mustMarshal(was), &before) != nil || json.Unmarshal(mustMarshal(now), &after) != nil {
		panic("a part of a site is always a JSON object")
	}
	names := map[string]bool{}
	for k := range before {
		names[k] = true
	}
	for k := range after {
		names[k] = true
	}
	e = Edit{Op: Change, Part: site.Ref{Kind: kind, ID: id}, In: in}
	for k := range names {
		if !equal(before[k], after[k]) {
			e.Fields = append(e.Fields, Field{k, orNull(before[k]), orNull(after[k])})
		}
	}
	slices.SortFunc(e.Fields, func(a, b Field) int { return bytes.Compare([]byte(a.Name), []byte(b.Name)) })
	return e, len(e.Fields) > 0
}

func orNull(raw json.RawMessage) json.RawMessage {
	if raw == nil {
		return json.RawMessage("null")
	}
	return raw
}

func mustMarshal(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic("a part of a site always marshals: " + err.Error())
	}
	return raw
}
