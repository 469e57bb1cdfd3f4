package site

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"lithos/core/address"
	"lithos/core/option"
)

// How a form asks for a field.
const (
	InputText   = "text"
	InputLines  = "lines"  // several lines of text
	InputChoice = "choice" // one of several
	InputSet    = "set"    // any of several, sent with commas between
	InputSecret = "secret" // typed, never shown
	InputHidden = "hidden" // sent as it came
)

// Field is one thing people type about a part of a kind.
type Field struct {
	Name  string // in forms
	Key   string // in the site file, where it is another
	Label string
	Word  string // in the middle of a sentence, where the key is not plain
	Hint  string
	Mono  bool // an address, a MAC or a name
	Input string
	// Missing is what is said where a part has none; empty when it may be left out.
	Missing string
	Choices []Choice
	// None names the choice of none of several, where that means something of its own.
	None string
	// Pick lists choices that depend on the document.
	Pick func(r *Reading) []Choice
	// When shows the field only where each of these fields has one of some values; one
	// that is not shown counts as empty.
	When []When
	// Of is the kind of part that the field names, by id, or by name where Named.
	Of    string
	Named bool
	Goes  bool // a part goes with the one the field names
	// Option is the code of the DHCP option that the field sets on its part; 0 for a
	// field of the part itself.
	Option uint8
	// Switch says that the field is on or off.
	Switch bool
	// Free says that a new part is offered the network's next free address here.
	Free bool
	// Within says that addresses are completed with the prefix of the part's network.
	Within bool

	read func(r *Reading, part any, text string) error
	text func(part any) string
	show func(s *Site, part any) []string
	to   func(part any) []string
	move func(part any, to []string)
}

// Choice is one of several values.
type Choice struct {
	Value string `json:"value"`
	Label string `json:"label"`
}

// When is a condition on another field.
type When struct {
	Field string   `json:"field"`
	Is    []string `json:"is"`
}

// maxWords bounds free text such as names, reasons and notes, in characters.
const maxWords = 255

// Read reads what was typed for the field into a part. An error says what to type
// instead; the part may then be written to in part.
func (f *Field) Read(r *Reading, part any, text string) error {
	text = strings.TrimSpace(text)
	lines := []string{text}
	if f.Input == InputLines {
		lines = strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	}
	for _, line := range lines {
		if err := CheckText(line); err != nil {
			return err
		}
	}
	if text == "" && f.Missing != "" {
		return fmt.Errorf("%s", f.Missing)
	}
	return f.read(r, part, text)
}

// Text is the field of a part as its form shows it.
func (f *Field) Text(part any) string {
	if f.text == nil {
		return ""
	}
	return f.text(part)
}

// Points lists the parts that the field of a part names.
func (f *Field) Points(part any) []string {
	if f.to == nil {
		return nil
	}
	return f.to(part)
}

// Repoint makes the field of a part name others.
func (f *Field) Repoint(part any, to []string) { f.move(part, to) }

// Show is the field of a part in words for people, one for each line.
func (f *Field) Show(s *Site, part any) []string {
	if f.show != nil {
		return f.show(s, part)
	}
	if f.Of != "" && !f.Named {
		var names []string
		for _, id := range f.Points(part) {
			name, _ := NameOf(s, Ref{f.Of, id})
			names = append(names, name)
		}
		return nonempty(strings.Join(names, ", "))
	}
	text := f.Text(part)
	if i := slices.IndexFunc(f.Choices, func(c Choice) bool { return c.Value == text }); i >= 0 {
		text = f.Choices[i].Label
	}
	return nonempty(text)
}

func nonempty(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

// The methods below finish a field in the table of kinds.

func (f *Field) hint(text string) *Field    { f.Hint = text; return f }
func (f *Field) said(word string) *Field    { f.Word = word; return f }
func (f *Field) mono() *Field               { f.Mono = true; return f }
func (f *Field) must(missing string) *Field { f.Missing = missing; return f }
func (f *Field) key(key string) *Field      { f.Key = key; return f }
func (f *Field) when(field string, is ...string) *Field {
	f.When = append(f.When, When{field, is})
	return f
}

func (f *Field) shown(show func(s *Site, part any) []string) *Field {
	f.show = show
	return f
}

// Sentence is what people call the field in the middle of a sentence.
func (f *Field) Sentence() string { return cmp.Or(f.Word, f.Key, f.Name) }

// typed makes a field that reads into and is read from a part of type T.
func typed[T any](name, label string, read func(r *Reading, p *T, text string) error, text func(p *T) string) *Field {
	return &Field{
		Name: name, Label: label, Input: InputText,
		read: func(r *Reading, part any, t string) error { return read(r, part.(*T), t) },
		text: func(part any) string { return text(part.(*T)) },
	}
}

// words is free text.
func words[T any](name, label string, at func(*T) *string) *Field {
	return typed(name, label, func(_ *Reading, p *T, t string) error {
		if n := utf8.RuneCountInString(t); n > maxWords {
			return fmt.Errorf("has %d characters; use at most %d", n, maxWords)
		}
		*at(p) = t
		return nil
	}, func(p *T) string { return *at(p) })
}

// hostname is one label of a domain name (RFC 1123 section 2.1).
func hostname[T any](name, label string, at func(*T) *string) *Field {
	return typed(name, label, func(_ *Reading, p *T, t string) error {
		if t != "" {
			if err := option.CheckLabel(t); err != nil {
				return err
			}
		}
		*at(p) = strings.ToLower(t)
		return nil
	}, func(p *T) string { return *at(p) }).mono()
}

// addr is an address, completed with the prefix of the part's network where within.
func addr[T any](name, label string, at func(*T) *netip.Addr, within func(r *Reading, p *T) netip.Prefix) *Field {
	f := typed(name, label, func(r *Reading, p *T, t string) error {
		if t == "" {
			*at(p) = netip.Addr{}
			return nil
		}
		var prefix netip.Prefix
		if within != nil {
			prefix = within(r, p)
		}
		a, err := address.ParseAddr(t, prefix)
		if err == nil {
			*at(p) = a
		}
		return err
	}, func(p *T) string { return addressText(*at(p)) }).mono()
	f.Within = within != nil
	return f
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// free makes an address that a part cannot be without, and that is offered to a new
// one.
func (f *Field) free() *Field {
	f.Free = true
	return f.must("an address is missing; type one of the network, for example .57")
}

// mac is a hardware address.
func mac[T any](name, label string, at func(*T) *address.MAC) *Field {
	return typed(name, label, func(_ *Reading, p *T, t string) error {
		if t == "" {
			*at(p) = address.MAC{}
			return nil
		}
		m, err := address.ParseMAC(t)
		if err == nil {
			*at(p) = m
		}
		return err
	}, func(p *T) string {
		if at(p).IsZero() {
			return ""
		}
		return at(p).String()
	}).mono()
}

// number is a whole number from least to most, and 0 where nothing is typed. what
// ends the sentence about text that is none, with what to type instead.
func number[T any](name, label string, at func(*T) *int, least, most int, what string) *Field {
	return typed(name, label, func(_ *Reading, p *T, t string) error {
		if t == "" {
			*at(p) = 0
			return nil
		}
		n, err := strconv.Atoi(t)
		if err != nil || n < least || n > most {
			return fmt.Errorf("%q is not %s", t, what)
		}
		*at(p) = n
		return nil
	}, func(p *T) string { return numberText(*at(p)) }).mono()
}

func numberText(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

const vlanWhat = "a VLAN id; type a number from 1 to 4094, or nothing where untagged"

// chosen is one of several values. what is what they are.
func chosen[T any](name, label string, at func(*T) *string, what string, choices ...Choice) *Field {
	f := typed(name, label, func(_ *Reading, p *T, t string) error {
		if !slices.ContainsFunc(choices, func(c Choice) bool { return c.Value == t }) {
			return fmt.Errorf("%q is not %s; %s", t, what, orList(choices))
		}
		*at(p) = t
		return nil
	}, func(p *T) string { return *at(p) })
	f.Input, f.Choices = InputChoice, choices
	return f
}

// plain are choices that are called what they are.
func plainly(values ...string) []Choice {
	var out []Choice
	for _, v := range values {
		out = append(out, Choice{v, v})
	}
	return out
}

func orList(choices []Choice) string {
	var values []string
	begins := "choose "
	for _, c := range choices {
		if c.Value == "" {
			begins = "leave it empty, or choose "
			continue
		}
		values = append(values, c.Value)
	}
	last := len(values) - 1
	if last == 0 {
		return begins + values[0]
	}
	return begins + strings.Join(values[:last], ", ") + " or " + values[last]
}

// onOff is a switch. on and off are what a change of it is called.
func onOff[T any](name, label string, at func(*T) *bool, off string) *Field {
	f := typed(name, label, func(_ *Reading, p *T, t string) error {
		on, err := strconv.ParseBool(t)
		if err != nil {
			return fmt.Errorf("%q is neither on nor off; choose one", t)
		}
		*at(p) = on
		return nil
	}, func(p *T) string { return strconv.FormatBool(*at(p)) })
	f.Input, f.Choices = InputChoice, []Choice{{"true", "On"}, {"false", off}}
	f.Switch = true
	return f
}

// pointer names one part of another kind. none is what naming none is called; a
// field without it always names one.
func pointer[T any](name, label, kind string, at func(*T) *string, none string) *Field {
	f := typed(name, label, func(r *Reading, p *T, t string) error {
		if t == "" && none != "" {
			*at(p) = ""
			return nil
		}
		if _, _, _, ok := Find(r.Site, Ref{kind, t}); !ok || t == r.ID {
			return notOfSite(t, kind, none != "")
		}
		*at(p) = t
		return nil
	}, func(p *T) string { return *at(p) })
	f.Input, f.Of = InputChoice, kind
	f.Pick = func(r *Reading) []Choice {
		out := partChoices(r.Site, kind)
		if none != "" {
			out = slices.Insert(out, 0, Choice{"", none})
		}
		return out
	}
	f.to = func(part any) []string { return nonempty(*at(part.(*T))) }
	f.move = func(part any, to []string) { *at(part.(*T)) = strings.Join(to, "") }
	return f
}

func notOfSite(id, kind string, orNone bool) error {
	k, _ := KindNamed(kind)
	or := ""
	if orNone {
		or = ", or none"
	}
	return fmt.Errorf("%q is not %s of this site; choose one of the list%s", id, article(k.Noun), or)
}

func article(noun string) string {
	if strings.ContainsRune("aeiou", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}

// partChoices lists the parts of a kind to choose from.
func partChoices(s *Site, kind string) []Choice {
	out := []Choice{}
	k, ok := KindNamed(kind)
	if !ok {
		return out
	}
	k.Each(s, func(in Ref, list List, i int) bool {
		out = append(out, Choice{list.ID(i), k.Called(list.At(i))})
		return true
	})
	return out
}

// pointers names several parts of another kind.
func pointers[T any](name, label, kind string, get func(*T) []string, set func(*T, []string)) *Field {
	f := typed(name, label, func(r *Reading, p *T, t string) error {
		var to []string
		for _, id := range items(t) {
			if _, _, _, ok := Find(r.Site, Ref{kind, id}); !ok {
				k, _ := KindNamed(kind)
				return fmt.Errorf("%q is not %s of this site; choose among the list", id, article(k.Noun))
			}
			to = append(to, id)
		}
		set(p, to)
		return nil
	}, func(p *T) string { return strings.Join(get(p), ", ") })
	f.Input, f.Of = InputSet, kind
	f.Pick = func(r *Reading) []Choice { return partChoices(r.Site, kind) }
	f.to = func(part any) []string { return get(part.(*T)) }
	f.move = func(part any, to []string) { set(part.(*T), to) }
	return f
}

// items splits a list typed with commas, spaces or lines.
func items(t string) []string {
	return strings.FieldsFunc(t,
		func(c rune) bool { return c == ',' || c == ';' || c == '\n' || c == ' ' || c == '\t' })
}

// list is several values, each read by one.
func list[T, V any](
	name, label string, at func(*T) *[]V, split func(string) []string, one func(r *Reading, t string) (V, error),
	text func(V) string,
) *Field {
	return typed(name, label, func(r *Reading, p *T, t string) error {
		var out []V
		for _, item := range split(t) {
			v, err := one(r, item)
			if err != nil {
				return err
			}
			out = append(out, v)
		}
		*at(p) = out
		return nil
	}, func(p *T) string {
		var out []string
		for _, v := range *at(p) {
			out = append(out, text(v))
		}
		return strings.Join(out, ", ")
	}).mono()
}

// byComma splits at commas alone: what is between may hold spaces.
func byComma(t string) []string {
	var out []string
	for part := range strings.SplitSeq(t, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// prefixes are several prefixes, each of which must pass.
func prefixes[T any](name, label string, at func(*T) *[]netip.Prefix, pass func(netip.Prefix) error) *Field {
	f := list(name, label, at, byComma, func(_ *Reading, t string) (netip.Prefix, error) {
		p, err := address.ParsePrefix(t)
		if err == nil && pass != nil {
			err = pass(p)
		}
		return p, err
	}, netip.Prefix.String)
	f.show = func(_ *Site, part any) []string { return byComma(f.Text(part)) }
	return f
}

func withoutHostBits(p netip.Prefix) error {
	if p != p.Masked() {
		return fmt.Errorf("%s has host bits set; type %s", p, p.Masked())
	}
	return nil
}

// identifier is a client identifier, or the beginning of one (RFC 2132 section 9.14).
func identifier[T any](name, label string, at func(*T) *string) *Field {
	return typed(name, label, func(_ *Reading, p *T, t string) error {
		if t == "" {
			*at(p) = ""
			return nil
		}
		wire, err := option.ParseIdentifier(t)
		if err == nil {
			*at(p) = option.FormatIdentifier(wire)
		}
		return err
	}, func(p *T) string { return *at(p) }).mono()
}

// tells is a field that sets a DHCP option of its part. It may be left empty.
func tells[T any](name, label string, code uint8, at func(*T) *[]Option) *Field {
	find := func(p *T) int {
		return slices.IndexFunc(*at(p), func(o Option) bool { return o.Code == code })
	}
	f := typed(name, label, func(r *Reading, p *T, t string) error {
		value := ""
		if t != "" {
			var err error
			if value, err = r.Site.Own().Canonical(code, t); err != nil {
				return err
			}
		}
		rest := slices.DeleteFunc(slices.Clone(*at(p)), func(o Option) bool { return o.Code == code })
		if value != "" {
			rest = append(rest, Option{Code: code, Value: value})
		}
		*at(p) = sortedOptions(rest)
		return nil
	}, func(p *T) string {
		if i := find(p); i >= 0 {
			return (*at(p))[i].Value
		}
		return ""
	})
	f.Option = code
	f.show = func(*Site, any) []string { return nil } // effective options show it
	return f
}
