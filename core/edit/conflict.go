package edit

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
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
	if k, known := site.KindNamed(c.Edit.Part.Kind); known {
		for _, f := range k.Fields {
			gone, is := strings.CutPrefix(says, "its "+f.Sentence()+" ")
			id, lost := strings.CutSuffix(gone, " is no longer there")
			if called, _ := site.NameOf(was, site.Ref{Kind: f.Of, ID: id}); is && lost && f.Of != "" {
				says = "its " + f.Sentence() + " " + called + " is no longer there"
			}
		}
	}
	for _, f := range c.Edit.Fields {
		says = strings.ReplaceAll(says, ": "+f.Name+" is now", ": "+wordOf(c.Edit.Part.Kind, f.Name)+" is now")
	}
	return strings.ToUpper(says[:1]) + says[1:]
}

// Over is an edit made again over what a document holds now, in place of what it held when the edit was made: a part
// that was added there meanwhile is given this one's values, one that was removed is put back as the edit leaves it. ok
// is false where there is nothing left to change, or no place for it.
func Over(s *site.Site, e Edit) (over Edit, ok bool) {
	over = e
	held := PartOf(s, e)
	switch {
	case e.Op == Add && held != nil:
		if over, ok = between(e, held, e.Value); !ok {
			return over, false
		}
	case e.Op == Remove && held != nil:
		over.Value = held
	case e.Op == Change && held != nil:
		over.Fields = from(held, e.Fields)
	case e.Op == Change && e.Value != nil:
		over = Edit{Op: Add, Part: e.Part, In: e.In, Value: e.Value}
	case e.Op != Add:
		return over, false
	}
	_, lost := Replay(s, []Edit{over})
	return over, len(lost) == 0
}

// between is the change of a part from one value of it to another; ok is false where they are the same.
func between(e Edit, was, now json.RawMessage) (change Edit, ok bool) {
	before, after := keysOf(was), keysOf(now)
	change = Edit{Op: Change, Part: e.Part, In: e.In}
	for _, key := range slices.Sorted(maps.Keys(before)) {
		if _, stays := after[key]; !stays {
			after[key] = nil
		}
	}
	for _, key := range slices.Sorted(maps.Keys(after)) {
		if !equal(before[key], after[key]) {
			change.Fields = append(change.Fields, Field{Name: key, From: orNull(before[key]), To: orNull(after[key])})
		}
	}
	return change, len(change.Fields) > 0
}

// keysOf is the fields of a part.
func keysOf(part json.RawMessage) map[string]json.RawMessage {
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(part, &keys); err != nil {
		panic(fmt.Sprintf("a part of a site is always a JSON object: %v", err))
	}
	return keys
}

// Made reports whether a document has already what an edit makes of it: nothing is left to decide.
func Made(s *site.Site, e Edit) bool {
	held := PartOf(s, e)
	switch {
	case e.Op == Remove:
		return held == nil
	case held == nil:
		return false
	case e.Op == Add:
		return equal(held, e.Value)
	}
	keys := keysOf(held)
	return !slices.ContainsFunc(e.Fields, func(f Field) bool { return !equal(keys[f.Name], f.To) })
}

// from is the fields of a change, replacing what a part holds now.
func from(part json.RawMessage, fields []Field) []Field {
	keys := keysOf(part)
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
	// Another is how another value is typed; nil where none can be.
	Another *FormField `json:"another,omitempty"`
}

// Threes sets what an edit that no longer applies was made on, what is there now, and what the edit makes of it side by
// side, value by value. was is the document the edit was made in, now the one it does not apply to.
func Threes(was, now *site.Site, e Edit) []Three {
	held := PartOf(now, e)
	base, mine := sides(e, held)
	k, known := site.KindNamed(e.Part.Kind)
	list, placed := site.ListOf(scratch(now), e.Part.Kind, e.In)
	if !known || !placed {
		return []Three{entire(was, e)}
	}
	view := func(raw json.RawMessage) any {
		if raw == nil {
			return nil
		}
		at, found := list.Find(e.Part.ID)
		if !found {
			if list.Insert(raw) != nil {
				return nil
			}
			at, _ = list.Find(e.Part.ID)
		} else if list.Replace(at, raw) != nil {
			return nil
		}
		return k.Copy(list.At(at))
	}
	b, t, m := view(base), view(held), view(mine)
	absent := map[bool]string{true: "not there", false: "removed"}
	in := &site.Reading{Site: now, In: e.In, ID: e.Part.ID}
	var out []Three
	if k.Name == site.KindOption {
		return optionThrees(now, e, base, held, mine)
	}
	astray := slices.ContainsFunc(k.Fields, func(f *site.Field) bool { return dangles(now, f, m) })
	for _, f := range k.Fields {
		lost := dangles(now, f, m) || astray && f.Within // another network takes another address
		shown := f.Input != site.InputHidden && f.Option == 0 && differs(k, f, b, t, m)
		if !lost && !shown {
			continue
		}
		row := Three{Field: f.Sentence(), Base: words(was, k, f, b, "not there"),
			Theirs: words(now, k, f, t, absent[e.Op == Add]), Mine: words(was, k, f, m, "removed")}
		if f.Input != site.InputSecret {
			typed := formField(in, f, cmp.Or(m, b), nil)
			if f.Input == site.InputHidden && f.Pick != nil {
				typed.Input, typed.Choices = site.InputChoice, f.Pick(in)
			}
			row.Another = &typed
		}
		out = append(out, row)
	}
	if len(out) == 0 {
		row := entire(was, e)
		if held != nil {
			row.Theirs = strings.TrimSpace(title(now, e, nil) + detail(loose(held)))
		}
		return []Three{row}
	}
	return out
}

// sides is a part as it was when an edit was made, and as the edit makes it; nil where it is not there. held is the
// part now.
func sides(e Edit, held json.RawMessage) (base, mine json.RawMessage) {
	switch e.Op {
	case Add:
		return nil, e.Value
	case Remove:
		return e.Value, nil
	}
	part := held
	if part == nil {
		part = e.Value
	}
	if part == nil {
		return nil, nil
	}
	was, now := keysOf(part), keysOf(part)
	for _, f := range e.Fields {
		was[f.Name], now[f.Name] = f.From, f.To
		if isNull(f.From) {
			delete(was, f.Name)
		}
		if isNull(f.To) {
			delete(now, f.Name)
		}
	}
	return mustMarshal(was), mustMarshal(now)
}

// entire is an edit of a part that cannot be told value by value.
func entire(was *site.Site, e Edit) Three {
	says := strings.TrimSpace(title(was, e, loose(e.Value)) + detail(loose(e.Value)))
	switch e.Op {
	case Add:
		return Three{Base: "not there", Theirs: "not there", Mine: says}
	case Remove:
		return Three{Base: says, Theirs: "removed", Mine: "removed"}
	}
	return Three{Base: says, Theirs: "removed", Mine: Describe(was, e)}
}

func loose(part json.RawMessage) map[string]any {
	var out map[string]any
	_ = json.Unmarshal(part, &out)
	return out
}

// differs reports whether a field is not the same in those of three parts that are there.
func differs(k *site.Kind, f *site.Field, parts ...any) bool {
	var texts []string
	for _, p := range parts {
		switch {
		case p == nil:
		case k.Applies(f, p):
			texts = append(texts, f.Text(p))
		default:
			texts = append(texts, "")
		}
	}
	return len(slices.Compact(texts)) > 1
}

// dangles reports whether a field of a part names what a document does not have.
func dangles(s *site.Site, f *site.Field, part any) bool {
	return part != nil && f.Of != "" && !f.Named && slices.ContainsFunc(f.Points(part), func(id string) bool {
		_, _, _, there := site.Find(s, site.Ref{Kind: f.Of, ID: id})
		return id != "" && !there
	})
}

// words is the value of a field of a part as it is said; absent where the part is not there.
func words(s *site.Site, k *site.Kind, f *site.Field, part any, absent string) string {
	if part == nil {
		return absent
	}
	text := f.Text(part)
	switch {
	case text == "" || !k.Applies(f, part):
		return "not set"
	case f.Input == site.InputSecret:
		return "a secret"
	case f.Of != "" && !f.Named:
		var names []any
		for _, id := range f.Points(part) {
			names = append(names, id)
		}
		return named([]*site.Site{s}, f, names)
	}
	for _, c := range f.Choices {
		if c.Value == text {
			return c.Label
		}
	}
	return text
}

// optionThrees is of an option: its value, and whether it goes to clients that do not ask for it.
func optionThrees(s *site.Site, e Edit, base, theirs, mine json.RawMessage) []Three {
	var code uint8
	_, _ = fmt.Sscan(e.Part.ID, &code)
	def, _ := s.Own().Lookup(code)
	value := func(raw json.RawMessage, absent string) string {
		if raw == nil {
			return absent
		}
		var o site.Option
		_ = json.Unmarshal(raw, &o)
		if o.Always {
			return o.Value + ", also to clients that do not ask for it"
		}
		return o.Value
	}
	gone := map[bool]string{true: "not set", false: "no longer set"}
	typed := FormField{Name: "value", Label: def.Name, Input: site.InputText, Mono: true}
	for _, raw := range []json.RawMessage{base, mine} {
		if raw != nil {
			typed.Value = fmt.Sprint(loose(raw)["value"])
		}
	}
	return []Three{{Field: def.InSentence(), Base: value(base, "not set"), Theirs: value(theirs, gone[e.Op == Add]),
		Mine: value(mine, "no longer set"), Another: &typed}}
}

// Another is the edits that give the part of an edit other values than those of the edit and those that are there now;
// fields are those that Threes offers. The error is site.FieldErrors when the fields are at fault.
func Another(s *site.Site, e Edit, fields map[string]string) ([]Edit, error) {
	doc, edits := s, []Edit(nil)
	if over, ok := Over(s, e); ok && e.Op != Remove {
		after, err := Apply(s, over)
		if err != nil {
			return nil, err
		}
		doc, edits = after, append(edits, over)
	}
	entry := Entry{Kind: e.Part.Kind, ID: e.Part.ID, Fields: fields}
	if e.In.ID != "" || e.In.Kind != "" {
		entry.In = e.In.String()
	}
	if PartOf(doc, e) == nil && e.Part.Kind != site.KindOption {
		texts, err := textsOf(doc, e)
		if err != nil {
			return nil, err
		}
		maps.Copy(texts, fields)
		entry.New, entry.Fields = true, texts
	}
	more, err := Read(doc, entry)
	return append(edits, more...), err
}

// textsOf is the fields of a part that an edit adds or puts back, as they are typed.
func textsOf(s *site.Site, e Edit) (map[string]string, error) {
	k, known := site.KindNamed(e.Part.Kind)
	list, ok := site.ListOf(scratch(s), e.Part.Kind, e.In)
	if !known || !ok || e.Value == nil {
		return nil, errors.New("there is no place for it any more")
	}
	if err := list.Insert(e.Value); err != nil {
		return nil, err
	}
	at, _ := list.Find(e.Part.ID)
	texts := map[string]string{}
	for _, f := range k.Fields {
		if part := list.At(at); k.Applies(f, part) {
			texts[f.Name] = f.Text(part)
		}
	}
	return texts, nil
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
