package site

import (
	"bytes"
	"encoding/json"
	"slices"
)

// List is one list of parts of a document, whatever their type. Writing to it copies
// the list first, so that the document it was taken from stays as it was.
type List interface {
	Len() int
	// At is part i, a pointer to its struct. It is not to be written to.
	At(i int) any
	ID(i int) string
	Find(id string) (i int, ok bool)
	// JSON is part i as it is stored.
	JSON(i int) json.RawMessage
	Insert(value json.RawMessage) error
	Replace(i int, value json.RawMessage) error
	Remove(i int)
	// Tidy puts what was inserted or replaced into the order of the normal form.
	Tidy()
}

// element is how the parts of a list are held: by value, or by pointer where a list
// grows so long that an edit must not copy every part.
type element[E, T any] struct {
	of   func(*E) *T
	wrap func(T) E
}

func byValue[T any]() element[T, T] {
	return element[T, T]{func(p *T) *T { return p }, func(v T) T { return v }}
}

func byPointer[T any]() element[*T, T] {
	return element[*T, T]{func(p **T) *T { return *p }, func(v T) *T { return &v }}
}

// own makes an element a copy, which may be written to.
func (e element[E, T]) own(p *E) *T {
	*p = e.wrap(*e.of(p))
	return e.of(p)
}

type parts[E, T any] struct {
	element[E, T]
	at    *[]E
	id    func(*T) string
	order func(a, b *T) int
	tidy  func(*T) // puts the lists inside a part into order; may be nil

	mine    bool           // the list was copied, and may be changed
	finds   int            // how often a part was looked for
	index   map[string]int // places by id, once it is worth it
	touched []string       // ids of what was inserted or replaced
}

// worthAnIndex is after how many look-ups a list is indexed: a draft's edit makes
// one or two, a paste thousands.
const worthAnIndex = 8

func (p *parts[E, T]) Len() int        { return len(*p.at) }
func (p *parts[E, T]) part(i int) *T   { return p.of(&(*p.at)[i]) }
func (p *parts[E, T]) At(i int) any    { return p.part(i) }
func (p *parts[E, T]) ID(i int) string { return p.id(p.part(i)) }

func (p *parts[E, T]) Find(id string) (int, bool) {
	if p.finds++; p.finds == worthAnIndex {
		p.index = make(map[string]int, len(*p.at))
		for i := range *p.at {
			p.index[p.id(p.part(i))] = i
		}
	}
	if p.index != nil {
		i, ok := p.index[id]
		return i, ok
	}
	return p.search(id)
}

func (p *parts[E, T]) search(id string) (int, bool) {
	for i := range *p.at {
		if p.id(p.part(i)) == id {
			return i, true
		}
	}
	return -1, false
}

func (p *parts[E, T]) JSON(i int) json.RawMessage { return mustMarshal(p.part(i)) }

func mustMarshal(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic("a part of a site always marshals: " + err.Error())
	}
	return raw
}

func (p *parts[E, T]) ownList() {
	if !p.mine {
		*p.at, p.mine = slices.Clone(*p.at), true
	}
}

func (p *parts[E, T]) Insert(raw json.RawMessage) error {
	v, err := strict[T](raw)
	if err != nil {
		return err
	}
	p.ownList()
	if p.index != nil {
		p.index[p.id(&v)] = len(*p.at)
	}
	*p.at = append(*p.at, p.wrap(v))
	p.touched = append(p.touched, p.id(&v))
	return nil
}

func (p *parts[E, T]) Replace(i int, raw json.RawMessage) error {
	v, err := strict[T](raw)
	if err == nil {
		p.ownList()
		(*p.at)[i] = p.wrap(v)
		p.touched = append(p.touched, p.id(&v))
	}
	return err
}

func (p *parts[E, T]) Remove(i int) {
	p.ownList()
	*p.at = slices.Delete(*p.at, i, i+1)
	p.finds, p.index = 0, nil
	if len(*p.at) == 0 {
		*p.at = nil // as the normal form has it
	}
}

// fewTouched is how many parts are put in their places one by one; more are sorted
// with the whole list.
const fewTouched = 4

func (p *parts[E, T]) Tidy() {
	if len(p.touched) == 0 {
		return
	}
	if p.tidy != nil {
		for _, id := range p.touched {
			if i, ok := p.Find(id); ok {
				p.tidy(p.part(i))
			}
		}
	}
	p.index, p.finds = nil, 0 // the places change
	if len(p.touched) <= fewTouched {
		p.place(p.touched)
	} else {
		slices.SortStableFunc(*p.at, p.compare)
	}
	p.touched = nil
}

// place puts a few parts where they belong in a list whose other parts are in order.
func (p *parts[E, T]) place(few []string) {
	var taken []E
	for _, id := range few {
		if i, ok := p.search(id); ok {
			taken = append(taken, (*p.at)[i])
			*p.at = slices.Delete(*p.at, i, i+1)
		}
	}
	// The others are in order, once none of these is among them.
	for _, v := range taken {
		to, _ := slices.BinarySearchFunc(*p.at, v, p.compare)
		*p.at = slices.Insert(*p.at, to, v)
	}
}

func (p *parts[E, T]) compare(a, b E) int { return p.order(p.of(&a), p.of(&b)) }

func strict[T any](raw json.RawMessage) (T, error) {
	var v T
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	err := dec.Decode(&v)
	return v, err
}

// single is a part of which there is one, with its id: the site itself, its copy of
// its customer and of its standard.
type single[T any] struct {
	v   T
	id  string
	set func(T)
}

func (s *single[T]) Len() int                     { return 1 }
func (s *single[T]) At(int) any                   { return &s.v }
func (s *single[T]) ID(int) string                { return s.id }
func (s *single[T]) Find(id string) (int, bool)   { return 0, id == s.id && id != "" }
func (s *single[T]) JSON(int) json.RawMessage     { return mustMarshal(s.v) }
func (s *single[T]) Insert(json.RawMessage) error { return errSingle }
func (s *single[T]) Remove(int)                   {}
func (s *single[T]) Tidy()                        {}

func (s *single[T]) Replace(_ int, raw json.RawMessage) error {
	v, err := strict[T](raw)
	if err == nil {
		s.v = v
		s.set(v)
	}
	return err
}
