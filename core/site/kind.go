package site

import (
	"cmp"
	"errors"
	"slices"
	"strconv"
	"strings"

	"lithos/core/option"
)

// Kind is one kind of part of a document: what people call it, which list it lies
// in, and its fields. Everything that handles parts (edits, forms, pasting, the
// inspector, the generated reference) reads it from here, so that another kind is
// one more entry of the table.
type Kind struct {
	Name   string // in references and links, for example "fixed"
	Noun   string // in sentences, for example "fixed device"
	Adds   string // the title of the form of a new one, for example "Record a fixed device"
	Begins string // how ids of new ones begin
	In     string // kind of the part it lies inside; empty for a list of the document itself
	// Pasted says that many can be pasted, one a line: it has the fields address, mac
	// and name.
	Pasted bool
	Fields []*Field

	list    func(s *Site, in Ref, write bool) (List, bool)
	called  func(part any) string
	options func(s *Site, id string, write bool) (*[]Option, bool)
	// every calls back with the options of each part of the kind in turn; nil with options.
	every  func(s *Site, do func([]Option))
	fresh  func(s *Site, n *Network, part any)
	settle func(r *Reading, part any)
	empty  func(id string) any
	copied func(part any) any
	// normal puts a whole list into the order of the normal form.
	normal func(s *Site)
}

// Reading is an entry that is being read: what its fields may need to know, and what
// is wrong with them.
type Reading struct {
	Site   *Site
	In     Ref    // the owner
	ID     string // of the part
	New    bool
	Given  map[string]string // what was typed, by field
	Errors FieldErrors
}

// Fail says what is wrong with a field.
func (r *Reading) Fail(field, says string) {
	r.Errors = append(r.Errors, FieldError{Field: field, Says: says})
}

// FailFor records why a field cannot be read, with what may be meant where the error knows it.
func (r *Reading) FailFor(field string, err error) { r.Errors = append(r.Errors, ErrorAt(field, err)) }

// Failed reports whether something is wrong with a field.
func (r *Reading) Failed(field string) bool {
	return slices.ContainsFunc(r.Errors, func(e FieldError) bool { return e.Field == field })
}

// FieldError is what is wrong with one typed field, with what to type instead.
type FieldError struct {
	Field string `json:"field"`
	Says  string `json:"says"`
	// Instead is what may be meant, to be typed with one press; empty for nothing.
	Instead string `json:"instead,omitempty"`
}

// ErrorAt is an error of a field, with what may be meant where the error knows it.
func ErrorAt(field string, err error) FieldError {
	out := FieldError{Field: field, Says: err.Error()}
	if name, ok := errors.AsType[*option.NameError](err); ok {
		out.Instead = name.Instead
	}
	return out
}

// FieldErrors is every field of an entry that could not be read.
type FieldErrors []FieldError

func (f FieldErrors) Error() string {
	says := make([]string, len(f))
	for i, e := range f {
		says[i] = e.Field + ": " + e.Says
	}
	return strings.Join(says, "; ")
}

var errSingle = errors.New("there is always one, and only one")

// kinds is the table of part kinds, in the order in which people meet them.
var kinds []*Kind

func init() {
	kinds = slices.Concat(siteKinds(), networkKinds(), servingKinds(), deviceKinds(), nameKinds(), optionKinds(),
		[]*Kind{settings()})
}

// Kinds lists the kinds of parts.
func Kinds() []*Kind { return slices.Clone(kinds) }

// KindNamed finds a kind.
func KindNamed(name string) (*Kind, bool) {
	i := slices.IndexFunc(kinds, func(k *Kind) bool { return k.Name == name })
	if i < 0 {
		return nil, false
	}
	return kinds[i], true
}

// With adds a kind to the table until the returned function is called. It is for
// trying out a kind; it is not safe while other goroutines use the table.
func With(k *Kind) (without func()) {
	was := kinds
	kinds = append(slices.Clone(kinds), k)
	return func() { kinds = was }
}

// ListOf finds the list that parts of a kind lie in. s is written to by writing to
// the list; lists it shares with the document it was copied from are copied first.
func ListOf(s *Site, kind string, in Ref) (List, bool) {
	k, ok := KindNamed(kind)
	if !ok {
		return nil, false
	}
	return k.list(s, in, true)
}

// Fixed reports whether there is always exactly one part of the kind.
func (k *Kind) Fixed() bool { return k.empty == nil }

// SetsOptions reports whether parts of the kind set DHCP options.
func (k *Kind) SetsOptions() bool { return k.options != nil }

// OptionsOf lists the options a level sets; ok is false for what is no level of the
// site. A customer's and a standard's are this site's copy of them.
func OptionsOf(s *Site, level Ref) (options []Option, ok bool) {
	at, ok := optionsAt(s, level, false)
	if !ok {
		return nil, false
	}
	return *at, true
}

func optionsAt(s *Site, level Ref, write bool) (*[]Option, bool) {
	k, ok := KindNamed(level.Kind)
	if !ok || k.options == nil {
		return nil, false
	}
	return k.options(s, level.ID, write)
}

// Called is what people call a part.
func (k *Kind) Called(part any) string { return k.called(part) }

// Empty is a new part with an id.
func (k *Kind) Empty(id string) any { return k.empty(id) }

// Fresh fills in what a new part of a network most likely is.
func (k *Kind) Fresh(s *Site, n *Network, part any) {
	if k.fresh != nil {
		k.fresh(s, n, part)
	}
}

// Title is what people call the kind at the beginning of a line: "Fixed device".
func (k *Kind) Title() string { return strings.ToUpper(k.Noun[:1]) + k.Noun[1:] }

// Copy is a copy of a part that may be written to by its fields.
func (k *Kind) Copy(part any) any { return k.copied(part) }

// Settle is done to a part after its fields were read: what they say together.
func (k *Kind) Settle(r *Reading, part any) {
	if k.settle != nil {
		k.settle(r, part)
	}
}

// Field finds a field by its name in forms.
func (k *Kind) Field(name string) (*Field, bool) {
	i := slices.IndexFunc(k.Fields, func(f *Field) bool { return f.Name == name })
	if i < 0 {
		return nil, false
	}
	return k.Fields[i], true
}

// Key finds a field by its key in the site file.
func (k *Kind) Key(key string) (*Field, bool) {
	i := slices.IndexFunc(k.Fields, func(f *Field) bool { return cmp.Or(f.Key, f.Name) == key })
	if i < 0 {
		return nil, false
	}
	return k.Fields[i], true
}

// Applies reports whether a part has a field at all: whether the fields it depends on
// hold what they must. One that the part does not have counts as empty.
func (k *Kind) Applies(f *Field, part any) bool {
	return !slices.ContainsFunc(f.When, func(w When) bool {
		text := ""
		if on, ok := k.Field(w.Field); ok && k.Applies(on, part) {
			text = on.Text(part)
		}
		return !slices.Contains(w.Is, text)
	})
}

// FieldNames lists the fields of the kind.
func (k *Kind) FieldNames() []string {
	var out []string
	for _, f := range k.Fields {
		out = append(out, f.Name)
	}
	return out
}

// Each visits every part of the kind, with its owner, until visit returns false.
func (k *Kind) Each(s *Site, visit func(in Ref, list List, i int) bool) {
	each := func(in Ref) bool {
		list, ok := k.list(s, in, false)
		for i := 0; ok && i < list.Len(); i++ {
			if !visit(in, list, i) {
				return false
			}
		}
		return true
	}
	owner, inside := KindNamed(k.In)
	if !inside {
		each(Ref{})
		return
	}
	owner.Each(s, func(_ Ref, list List, i int) bool { return each(Ref{owner.Name, list.ID(i)}) })
}

// Find finds a part wherever it lies, with its kind and its owner.
func Find(s *Site, ref Ref) (k *Kind, in Ref, part any, ok bool) {
	k, known := KindNamed(ref.Kind)
	if !known {
		return nil, Ref{}, nil, false
	}
	if k.In == "" {
		if list, has := k.list(s, Ref{}, false); has {
			if i, has := list.Find(ref.ID); has {
				return k, Ref{}, list.At(i), true
			}
		}
		return k, Ref{}, nil, false
	}
	k.Each(s, func(at Ref, list List, i int) bool {
		if list.ID(i) == ref.ID {
			in, part, ok = at, list.At(i), true
		}
		return !ok
	})
	return k, in, part, ok
}

// NameOf is what people call a part: its name, else its address or reason.
func NameOf(s *Site, ref Ref) (string, bool) {
	k, _, part, ok := Find(s, ref)
	if !ok {
		return ref.ID, false
	}
	return k.Called(part), true
}

// NetworkOfPart is the id of the network a part belongs to, empty for one that belongs to
// none: of an interface, the one its first address lies in.
func NetworkOfPart(s *Site, ref Ref) string {
	k, in, part, ok := Find(s, ref)
	switch {
	case !ok:
		return ""
	case ref.Kind == KindNetwork:
		return ref.ID
	}
	for _, f := range k.Fields {
		if f.Of == KindNetwork && f.Goes {
			return strings.Join(f.Points(part), "")
		}
	}
	if i, ok := part.(*Interface); ok && len(i.Addresses) > 0 {
		if n, ok := s.NetworkOf(i.Addresses[0].Addr()); ok {
			return n.ID
		}
	}
	if in.ID == "" || in.Kind == KindDevice {
		return ""
	}
	return NetworkOfPart(s, in)
}

// place is where the lists of a kind lie in a document.
type place[T any] struct {
	find func(s *Site, in Ref, write bool) (*[]T, bool)
	each func(s *Site, visit func(list *[]T))
}

// top is a list of the document itself.
func top[T any](at func(*Site) *[]T) place[T] {
	return place[T]{
		find: func(s *Site, _ Ref, _ bool) (*[]T, bool) { return at(s), true },
		each: func(s *Site, visit func(list *[]T)) { visit(at(s)) },
	}
}

// inside is a list in each part of another kind.
func inside[O, T any](owners func(*Site) *[]O, ownerID func(*O) *string, at func(*O) *[]T) place[T] {
	return place[T]{
		find: func(s *Site, in Ref, write bool) (*[]T, bool) {
			list := owners(s)
			for i := range *list {
				if *ownerID(&(*list)[i]) != in.ID {
					continue
				}
				if write {
					*list = slices.Clone(*list)
				}
				return at(&(*list)[i]), true
			}
			return nil, false
		},
		each: func(s *Site, visit func(list *[]T)) {
			for i := range *owners(s) {
				visit(at(&(*owners(s))[i]))
			}
		},
	}
}

// about is what define needs to know of a struct type.
type about[T any] struct {
	at     place[T]
	id     func(*T) *string
	order  func(a, b *T) int // of the normal form
	called func(*T) string
	// Each of these may be nil.
	options func(*T) *[]Option
	tidy    func(*T) // puts the lists inside a part into the order of the normal form
	fresh   func(s *Site, n *Network, p *T)
	settle  func(r *Reading, p *T)
}

// define makes a kind of a struct type.
func define[T any](k Kind, a about[T]) *Kind { return kept(k, a, a.at, byValue[T]()) }

// kept makes a kind whose parts lie at a place and are held in a certain way.
func kept[E, T any](k Kind, a about[T], at place[E], held element[E, T]) *Kind {
	tidy := func(p *T) {
		if a.tidy != nil {
			a.tidy(p)
		}
		if a.options != nil {
			*a.options(p) = sortedOptions(*a.options(p))
		}
	}
	k.list = func(s *Site, in Ref, write bool) (List, bool) {
		list, ok := at.find(s, in, write)
		id := func(p *T) string { return *a.id(p) }
		return &parts[E, T]{element: held, at: list, id: id, order: a.order, tidy: tidy}, ok
	}
	k.normal = func(s *Site) {
		at.each(s, func(list *[]E) {
			*list = sorted(*list, func(x, y E) int { return a.order(held.of(&x), held.of(&y)) })
			for i := range *list {
				tidy(held.own(&(*list)[i]))
			}
		})
	}
	k.called = func(part any) string { return a.called(part.(*T)) }
	k.empty = func(id string) any {
		p := new(T)
		*a.id(p) = id
		return p
	}
	k.copied = copied[T]
	if a.options != nil {
		k.every = func(s *Site, do func([]Option)) {
			at.each(s, func(list *[]E) {
				for i := range *list {
					do(*a.options(held.of(&(*list)[i])))
				}
			})
		}
		k.options = func(s *Site, id string, write bool) (*[]Option, bool) {
			list, ok := at.find(s, Ref{}, write)
			if !ok {
				return nil, false
			}
			for i := range *list {
				if *a.id(held.of(&(*list)[i])) != id {
					continue
				}
				if write {
					*list = slices.Clone(*list)
					held.own(&(*list)[i])
				}
				return a.options(held.of(&(*list)[i])), true
			}
			return nil, false
		}
	}
	if a.fresh != nil {
		k.fresh = func(s *Site, n *Network, part any) { a.fresh(s, n, part.(*T)) }
	}
	if a.settle != nil {
		k.settle = func(r *Reading, part any) { a.settle(r, part.(*T)) }
	}
	return &k
}

func copied[T any](part any) any {
	c := *part.(*T)
	return &c
}

// one makes a kind of which every document has exactly one part. get reads it with
// its id, set writes it.
func one[T any](
	k Kind, get func(*Site) (id string, v T), set func(*Site, T), called func(*T) string, options func(*Site) *[]Option,
) *Kind {
	k.list = func(s *Site, _ Ref, _ bool) (List, bool) {
		id, v := get(s)
		return &single[T]{v: v, id: id, set: func(v T) { set(s, v) }}, true
	}
	k.normal = func(s *Site) { *options(s) = sortedOptions(*options(s)) }
	k.called = func(part any) string { return called(part.(*T)) }
	k.copied = copied[T]
	k.options = func(s *Site, id string, _ bool) (*[]Option, bool) {
		own, _ := get(s)
		return options(s), own == id && id != ""
	}
	k.every = func(s *Site, do func([]Option)) { do(*options(s)) }
	return &k
}

// settings is the kind of the options that a level sets: a part of any kind that sets
// some. The id of one is its code.
func settings() *Kind {
	order := func(a, b *Option) int { return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.Value, b.Value)) }
	return &Kind{
		Name: KindOption, Noun: "option", normal: func(*Site) {}, copied: copied[Option],
		list: func(s *Site, in Ref, write bool) (List, bool) {
			at, ok := optionsAt(s, in, write)
			return &parts[Option, Option]{element: byValue[Option](), at: at,
				id: func(o *Option) string { return strconv.Itoa(int(o.Code)) }, order: order}, ok
		},
		called: func(part any) string {
			def, _ := option.Lookup(part.(*Option).Code)
			return def.Name
		},
	}
}
