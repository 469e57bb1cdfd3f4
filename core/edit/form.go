package edit

import (
	"fmt"
	"slices"

	"lithos/core/site"
)

// Form is the form of one part: what can be typed of it, and what it holds now.
type Form struct {
	Kind   string      `json:"kind"`
	ID     string      `json:"id,omitempty"`
	In     string      `json:"in,omitempty"`
	New    bool        `json:"new"`
	Title  string      `json:"title"`
	Fields []FormField `json:"fields"`
}

// FormField is one field of a form.
type FormField struct {
	Name    string        `json:"name"`
	Label   string        `json:"label"`
	Hint    string        `json:"hint,omitempty"`
	Input   string        `json:"input" enum:"text,lines,choice,set,secret,hidden"`
	Mono    bool          `json:"mono,omitempty"`
	Value   string        `json:"value"`
	Choices []site.Choice `json:"choices,omitempty"`
	None    string        `json:"none,omitempty" doc:"what it means to choose none of several"`
	When    []site.When   `json:"when,omitempty" doc:"shown where each named field has one of these values"`
}

// FormOf makes the form of a part, of a new one where id is empty. in is the owner of
// a part that lies inside another. n is the network a new part is for; nil for none.
func FormOf(s *site.Site, kind, id string, in site.Ref, n *site.Network) (Form, error) {
	k, ok := site.KindNamed(kind)
	if !ok || len(k.Fields) == 0 {
		return Form{}, fmt.Errorf("%q is not a part of a site that has a form", kind)
	}
	form := Form{Kind: kind, ID: id, New: id == "", Title: k.Adds, Fields: []FormField{}}
	var part any
	if form.New {
		if k.Fixed() {
			return Form{}, fmt.Errorf("there is one %s already", k.Noun)
		}
		if in.ID == "" {
			in = ownerOn(s, k, n)
		}
		if k.In != "" && in.ID == "" {
			owner, _ := site.KindNamed(k.In)
			return Form{}, fmt.Errorf("a %s lies in a %s, and this site has none yet; add one first", k.Noun,
				owner.Noun)
		}
		part = k.Empty("")
		if n != nil || k.In != "" || !livesOnNetwork(k) {
			k.Fresh(s, n, part)
		}
	} else {
		form.Title = "Change the " + k.Noun
		_, owner, found, ok := site.Find(s, site.Ref{Kind: kind, ID: id})
		if !ok {
			return Form{}, fmt.Errorf("%s %q is not at this site; it may have been removed", k.Noun, id)
		}
		part, in = found, owner
	}
	if in.ID != "" {
		form.In = in.String()
	}
	r := &site.Reading{Site: s, In: in, ID: id, New: form.New}
	for _, f := range k.Fields {
		form.Fields = append(form.Fields, formField(r, f, part, n))
	}
	return form, nil
}

func formField(r *site.Reading, f *site.Field, part any, n *site.Network) FormField {
	out := FormField{Name: f.Name, Label: f.Label, Hint: f.Hint, Input: f.Input, Mono: f.Mono, Value: f.Text(part),
		When: f.When, Choices: f.Choices, None: f.None}
	if f.Pick != nil && f.Input != site.InputHidden {
		out.Choices = f.Pick(r)
	}
	if f.Free && r.New && n != nil {
		if a, ok := site.NextFree(r.Site, n); ok {
			out.Value = a.String()
		}
	}
	if f.Within && n != nil && f.Hint == "" {
		out.Hint = fmt.Sprintf("In %s; .57 or 57 is enough", n.Prefix)
	}
	return out
}

// livesOnNetwork reports whether a part of the kind is on a network, which a new one
// must be told.
func livesOnNetwork(k *site.Kind) bool {
	return slices.ContainsFunc(k.Fields, func(f *site.Field) bool { return f.Of == site.KindNetwork && f.Goes })
}

// ownerOn is the first part of a network that a new part of a kind could lie in.
func ownerOn(s *site.Site, k *site.Kind, n *site.Network) (in site.Ref) {
	if home, ok := s.HomeZone(); ok && k.In == site.KindZone {
		return site.Ref{Kind: site.KindZone, ID: home.ID}
	}
	if k.In == site.KindZone {
		n = nil // a zone is on no network
	}
	owner, ok := site.KindNamed(k.In)
	if !ok {
		return in
	}
	owner.Each(s, func(_ site.Ref, list site.List, i int) bool {
		ref := site.Ref{Kind: owner.Name, ID: list.ID(i)}
		if n == nil || site.NetworkOfPart(s, ref) == n.ID {
			in = ref
		}
		return in.ID == ""
	})
	return in
}
