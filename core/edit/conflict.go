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
