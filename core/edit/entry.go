package edit

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lithos/core/site"
)

// Entry is what a person typed into a form: the fields of one part as text. A
// field left out keeps its value; an empty one is cleared.
type Entry struct {
	Kind string `json:"kind" doc:"kind of the part, for example pool"`
	// ID is the part to change; New says that the part is new and the id one the caller
	// made.
	ID     string            `json:"id"`
	New    bool              `json:"new,omitempty"`
	In     string            `json:"in,omitempty" doc:"kind:id of the owner of an exclusion, interface or option"`
	Fields map[string]string `json:"fields"`
}

// Read turns an entry into the edits it asks for; none when it changes nothing.
// The error is site.FieldErrors when the fields are at fault.
func Read(s *site.Site, e Entry) ([]Edit, error) {
	r := &site.Reading{Site: s, In: site.ParseRef(e.In), ID: e.ID, New: e.New, Given: e.Fields}
	k, known := site.KindNamed(e.Kind)
	var edits []Edit
	switch {
	case !known:
		r.Fail("kind", fmt.Sprintf("%q is not a part of a site", e.Kind))
	case e.Kind == site.KindOption && strings.TrimSpace(e.Fields["value"]) == "":
		r.Fail("value", "a value is missing; type one, or stop setting the option here")
	case e.Kind == site.KindOption:
		edits = readOption(r)
	default:
		edits = readPart(r, k)
	}
	for name := range e.Fields {
		if known && e.Kind != site.KindOption && !slices.Contains(k.FieldNames(), name) {
			r.Fail(name, fmt.Sprintf("%q is not a field of %s; its fields are %s", name, e.Kind,
				strings.Join(k.FieldNames(), ", ")))
		}
	}
	if len(r.Errors) > 0 {
		slices.SortFunc(r.Errors, func(a, b site.FieldError) int { return strings.Compare(a.Field, b.Field) })
		return nil, r.Errors
	}
	return edits, nil
}

// readPart reads the fields of a part, and makes the edits of it: of the part itself,
// of the options it sets, and of what names it by its name.
func readPart(r *site.Reading, k *site.Kind) []Edit {
	was, ok := find(r, k)
	if !ok {
		return nil
	}
	owner := r.In
	if k.In == "" {
		owner = site.Ref{} // it was opened from there, and is not in there
	}
	now := was
	if r.New {
		now = k.Empty(r.ID)
	}
	now = k.Copy(now)
	var options []Edit
	for _, f := range k.Fields {
		text, given := r.Given[f.Name]
		switch {
		case !given && !(r.New && f.Missing != ""):
		case f.Option != 0 && !r.New:
			options = append(options, setOption(r, f, site.Ref{Kind: k.Name, ID: r.ID}, text)...)
		default:
			if err := f.Read(r, now, text); err != nil {
				r.FailFor(f.Name, err)
			}
		}
	}
	k.Settle(r, now)
	if len(r.Errors) > 0 {
		return nil
	}
	if r.New {
		return []Edit{Adding(k.Name, r.ID, owner, now)}
	}
	e, differs := Changing(k.Name, r.ID, owner, was, now)
	if !differs {
		return options
	}
	return slices.Concat([]Edit{e}, followRename(r, k, e), options)
}

// find looks up the part of an entry; nil for a new one.
func find(r *site.Reading, k *site.Kind) (part any, ok bool) {
	list, ok := site.ListOf(scratch(r.Site), k.Name, r.In)
	if !ok {
		owner, _ := site.KindNamed(k.In)
		r.Fail("in", fmt.Sprintf("%q is not a %s of this site; choose one of the list", r.In.ID, owner.Noun))
		return nil, false
	}
	i, exists := list.Find(r.ID)
	switch {
	case r.New && (exists || k.Fixed() || !site.ValidID(r.ID)):
		r.Fail("id", fmt.Sprintf("%q cannot be the id of something new", r.ID))
		return nil, false
	case r.New:
		return nil, true
	case !exists:
		r.Fail("id", fmt.Sprintf("%s %q is not at this site; it may have been removed", k.Name, r.ID))
		return nil, false
	}
	return list.At(i), true
}

// setOption reads a field that sets an option of its part.
func setOption(r *site.Reading, f *site.Field, in site.Ref, text string) []Edit {
	one := &site.Reading{Site: r.Site, In: in, ID: strconv.Itoa(int(f.Option)), Given: map[string]string{"value": text}}
	edits := readOption(one)
	for _, e := range one.Errors {
		r.Fail(f.Name, e.Says)
	}
	return edits
}

// readOption sets an option of a level, or with an empty value of a field that sets one
// stops setting it. A form of the option itself needs a value.
func readOption(r *site.Reading) []Edit {
	code, err := strconv.ParseUint(r.ID, 10, 8)
	if err != nil {
		r.Fail("code", fmt.Sprintf("%q is not an option code; choose one of the list", r.ID))
		return nil
	}
	options, ok := site.OptionsOf(r.Site, r.In)
	if !ok {
		r.Fail("in", fmt.Sprintf("%q sets no options at this site; choose one of the list", r.In))
		return nil
	}
	now := site.Option{Code: uint8(code)}
	if text := strings.TrimSpace(r.Given["value"]); text != "" {
		if err = site.CheckText(text); err == nil {
			now.Value, err = r.Site.Own().Canonical(now.Code, text)
		}
		if err != nil {
			r.FailFor("value", err)
			return nil
		}
	}
	i := slices.IndexFunc(options, func(o site.Option) bool { return o.Code == now.Code })
	if always, said := r.Given["always"]; said {
		now.Always = always == "yes"
	} else if i >= 0 {
		now.Always = options[i].Always
	}
	ref := site.Ref{Kind: site.KindOption, ID: r.ID}
	switch {
	case i < 0 && now.Value == "":
		return nil
	case i < 0:
		return []Edit{Adding(site.KindOption, r.ID, r.In, now)}
	case now.Value == "":
		return []Edit{{Op: Remove, Part: ref, In: r.In, Value: mustMarshal(options[i])}}
	}
	if e, differs := Changing(site.KindOption, r.ID, r.In, options[i], now); differs {
		return []Edit{e}
	}
	return nil
}

// followRename lists the edits that keep the parts beside one pointing at it when it
// takes another name: an interface that it carries, a group that it is a port of.
func followRename(r *site.Reading, k *site.Kind, e Edit) []Edit {
	i := slices.IndexFunc(e.Fields, func(f Field) bool { return f.Name == "name" })
	byName := slices.ContainsFunc(k.Fields, func(f *site.Field) bool { return f.Named && f.Of == k.Name })
	if i < 0 || !byName {
		return nil
	}
	var from, to string
	if json.Unmarshal(e.Fields[i].From, &from) != nil || json.Unmarshal(e.Fields[i].To, &to) != nil {
		return nil
	}
	list, ok := site.ListOf(scratch(r.Site), k.Name, r.In)
	var out []Edit
	for n := 0; ok && n < list.Len(); n++ {
		was := list.At(n)
		now := k.Copy(was)
		for _, f := range k.Fields {
			if f.Named && f.Of == k.Name {
				f.Repoint(now, replaced(f.Points(was), from, to))
			}
		}
		if one, differs := Changing(k.Name, list.ID(n), e.In, was, now); differs && list.ID(n) != e.Part.ID {
			out = append(out, one)
		}
	}
	return out
}

func replaced(list []string, from, to string) []string {
	out := slices.Clone(list)
	if i := slices.Index(out, from); i >= 0 {
		out[i] = to
	}
	return out
}
