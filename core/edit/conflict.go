package edit

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"lithos/core/site"
)

// Why says in words what keeps an edit from applying. was is the document the edit
// was made in, now the one it does not apply to: names are looked up in both.
func Why(was, now *site.Site, c Conflict) string {
	name := func(ref site.Ref) string {
		called, ok := site.NameOf(was, ref)
		if !ok {
			called, _ = site.NameOf(now, ref)
		}
		return noun(ref.Kind) + " " + called
	}
	says := c.Says
	for _, ref := range []site.Ref{c.Edit.Part, c.Edit.In} {
		if ref.ID == "" {
			continue
		}
		words := name(ref)
		if ref.Kind == site.KindOption {
			words = "option " + ref.ID
		}
		says = strings.ReplaceAll(says, ref.String(), words)
	}
	for _, f := range c.Edit.Fields {
		says = strings.ReplaceAll(says, ": "+f.Name+" is now", ": "+wordOf(c.Edit.Part.Kind, f.Name)+" is now")
	}
	return strings.ToUpper(says[:1]) + says[1:]
}

// Over is an edit made again over what a document holds now, in place of what it
// held when the edit was made. ok is false where there is nothing left to change,
// or no owner to add to.
func Over(s *site.Site, e Edit) (over Edit, ok bool) {
	over = e
	scratch := *s
	list, ok := site.ListOf(&scratch, e.Part.Kind, e.In)
	if !ok {
		return over, false
	}
	at, found := list.Find(e.Part.ID)
	switch {
	case e.Op == Add && !found:
	case e.Op == Remove && found:
		over.Value = list.JSON(at)
	case e.Op == Change && found:
		over.Fields = from(list.JSON(at), e.Fields)
	default:
		return over, false
	}
	_, err := Apply(s, over)
	return over, err == nil
}

// from is the fields of a change, replacing what a part holds now.
func from(raw json.RawMessage, fields []Field) []Field {
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(raw, &keys); err != nil {
		panic(fmt.Sprintf("a part of a site is always a JSON object: %v", err))
	}
	var out []Field
	for _, f := range fields {
		f.From = orNull(bytes.Clone(keys[f.Name]))
		out = append(out, f)
	}
	return out
}

// Three is a value as three saw it: the draft's base, the site now, and the draft.
type Three struct {
	Field  string `json:"field" doc:"empty where it is the whole part"`
	Base   string `json:"base"`
	Theirs string `json:"theirs"`
	Mine   string `json:"mine"`
}

// Threes sets what an edit that no longer applies was made on, what is there now, and what the edit makes of it side by
// side, value by value. was is the draft's base, now the site.
func Threes(was, now *site.Site, e Edit) []Three {
	held := PartOf(now, e)
	if e.Op != Change {
		words := func(there bool, doc *site.Site, raw json.RawMessage) string {
			if !there {
				return "not there"
			}
			var part map[string]any
			_ = json.Unmarshal(raw, &part)
			return strings.TrimSpace(title(doc, e, part) + detail(part))
		}
		return []Three{{Base: words(e.Op == Remove, was, e.Value), Theirs: words(held != nil, now, held),
			Mine: words(e.Op == Add, was, e.Value)}}
	}
	var keys map[string]json.RawMessage
	_ = json.Unmarshal(held, &keys)
	var out []Three
	for _, f := range e.Fields {
		k, _ := fieldOf(e.Part.Kind, f.Name)
		say := func(doc *site.Site, raw json.RawMessage) string {
			var v any
			_ = json.Unmarshal(raw, &v)
			return named(doc, k, v)
		}
		theirs := "removed"
		if held != nil {
			theirs = say(now, keys[f.Name])
		}
		out = append(out, Three{wordOf(e.Part.Kind, f.Name), say(was, f.From), theirs, say(was, f.To)})
	}
	return out
}

// PartOf is the part of an edit as a document has it; nil where it has none.
func PartOf(s *site.Site, e Edit) json.RawMessage {
	scratch := *s
	list, ok := site.ListOf(&scratch, e.Part.Kind, e.In)
	if !ok {
		return nil
	}
	at, found := list.Find(e.Part.ID)
	if !found {
		return nil
	}
	return list.JSON(at)
}
