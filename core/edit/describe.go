package edit

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"lithos/core/site"
)

// noun is what people call a kind of part in a sentence.
func noun(kind string) string {
	if k, ok := site.KindNamed(kind); ok {
		return k.Noun
	}
	return kind
}

// wordOf is what people call a field of a kind in a sentence. key is the field's in
// the site file.
func wordOf(kind, key string) string {
	if f, ok := fieldOf(kind, key); ok {
		return f.Sentence()
	}
	return key
}

func fieldOf(kind, key string) (*site.Field, bool) {
	k, ok := site.KindNamed(kind)
	if !ok {
		return nil, false
	}
	return k.Key(key)
}

// Describe says in one line what an edit does. s is the document before or after the edit; it is where names are looked
// up. Those of parts that it does not have are looked up in others, such as the document on the other side of the edit.
func Describe(s *site.Site, e Edit, others ...*site.Site) string {
	in := append([]*site.Site{s}, others...)
	var part map[string]any
	_ = json.Unmarshal(e.Value, &part)
	what := noun(e.Part.Kind) + " " + title(s, e, part)
	if e.Part.Kind == site.KindOption {
		return describeOption(s, e, part)
	}
	switch e.Op {
	case Add:
		return "Add " + what + detail(part)
	case Remove:
		return "Remove " + what
	default:
		var changes []string
		for _, f := range e.Fields {
			var was, now any
			_, _ = json.Unmarshal(f.From, &was), json.Unmarshal(f.To, &now)
			changes = append(changes, turned(in, e.Part.Kind, f.Name, was, now)...)
		}
		return "Change " + what + ": " + strings.Join(changes, "; ")
	}
}

// turned says what became of a field: of one with fields of its own, of each.
func turned(in []*site.Site, kind, name string, was, now any) []string {
	before, had := was.(map[string]any)
	after, has := now.(map[string]any)
	_, known := fieldOf(kind, name)
	switch {
	case !known && (had || has): // an object with fields of its own
		var out []string
		for _, key := range slices.Sorted(maps.Keys(before)) {
			if _, stays := after[key]; !stays {
				out = append(out, turned(in, kind, key, before[key], nil)...)
			}
		}
		for _, key := range slices.Sorted(maps.Keys(after)) {
			if !reflect.DeepEqual(before[key], after[key]) {
				out = append(out, turned(in, kind, key, before[key], after[key])...)
			}
		}
		return out
	case now == true || now == false || was == true && now == nil:
		return []string{switched(kind, name, now == true)}
	}
	if name == "options" {
		return optionsTurned(in[0], was, now)
	}
	f, _ := fieldOf(kind, name)
	if f != nil && f.Input == site.InputSecret && now != nil {
		return []string{"another " + f.Sentence()}
	}
	label := wordOf(kind, name)
	if says := regrouped(in, f, was, now); says != "" {
		return []string{label + " " + says}
	}
	say := func(v any) string {
		if v == nil && strings.HasSuffix(label, " to") {
			return "nothing" // "relays to not set" is no sentence
		}
		return named(in, f, v)
	}
	return []string{fmt.Sprintf("%s %s, was %s", label, say(now), say(was))}
}

// optionsTurned says what became of each option of a list, by its name: those that are there now, then those that are
// gone.
func optionsTurned(s *site.Site, was, now any) (out []string) {
	read := func(v any) (list []site.Option) {
		raw, err := json.Marshal(v)
		if err == nil {
			err = json.Unmarshal(raw, &list)
		}
		if err != nil {
			return nil
		}
		return list
	}
	with := func(list []site.Option, code uint8) site.Option {
		i := slices.IndexFunc(list, func(o site.Option) bool { return o.Code == code })
		if i < 0 {
			return site.Option{Value: "not set"}
		}
		return list[i]
	}
	before, after := read(was), read(now)
	own := s.Own()
	name := func(code uint8) string {
		if def, ok := own.Lookup(code); ok {
			return def.InSentence()
		}
		return fmt.Sprintf("option %d", code)
	}
	for _, o := range after {
		old := with(before, o.Code)
		says := name(o.Code) + " " + o.Value
		if old.Value != o.Value {
			says += ", was " + old.Value
		}
		switch {
		case o.Always && !old.Always:
			says += ", also to clients that do not ask for it"
		case old.Always && !o.Always:
			says += ", only to clients that ask for it"
		case o == old:
			continue
		}
		out = append(out, says)
	}
	for _, o := range before {
		if with(after, o.Code).Code == 0 {
			out = append(out, fmt.Sprintf("%s not set, was %s", name(o.Code), o.Value))
		}
	}
	return out
}

// switched says what a switch is now: of the one that puts a part on or off, that; of another what
// its choice is called.
func switched(kind, name string, on bool) string {
	f, ok := fieldOf(kind, name)
	switch {
	case ok && name != "enabled" && len(f.Choices) == 2:
		label := f.Choices[1].Label
		if on {
			label = f.Choices[0].Label
		}
		return strings.ToLower(f.Label) + ": " + strings.ToLower(label[:1]) + label[1:]
	case on:
		return "switched on"
	default:
		return "switched off"
	}
}

// regrouped says what came to a list and what left it, where some of it stays.
func regrouped(in []*site.Site, f *site.Field, was, now any) string {
	before, _ := was.([]any)
	after, _ := now.([]any)
	without := func(list, other []any) []any {
		return slices.DeleteFunc(slices.Clone(list), func(v any) bool {
			return slices.ContainsFunc(other, func(o any) bool { return reflect.DeepEqual(v, o) })
		})
	}
	came, left := without(after, before), without(before, after)
	var says []string
	if len(came) > 0 {
		says = append(says, "also "+named(in, f, came))
	}
	if len(left) > 0 {
		says = append(says, "no longer "+named(in, f, left))
	}
	if len(left) == len(before) { // nothing stays
		return ""
	}
	return strings.Join(says, ", ")
}

// named puts a value in words, parts by their names in the first document that has them. f may be nil.
func named(in []*site.Site, f *site.Field, v any) string {
	if f == nil || f.Of == "" || f.Named {
		return sayAny(v)
	}
	if list, ok := v.([]any); ok {
		var out []string
		for _, item := range list {
			out = append(out, named(in, f, item))
		}
		return strings.Join(out, ", ")
	}
	id, ok := v.(string)
	if !ok {
		return sayAny(v)
	}
	for _, s := range in {
		_, owner, _, found := site.Find(s, site.Ref{Kind: f.Of, ID: id})
		if !found {
			continue
		}
		name, _ := site.NameOf(s, site.Ref{Kind: f.Of, ID: id})
		if of, ok := site.NameOf(s, owner); ok {
			name += " of " + of
		}
		return name
	}
	return id
}

func describeOption(s *site.Site, e Edit, part map[string]any) string {
	o := site.Option{}
	_, _ = fmt.Sscan(e.Part.ID, &o.Code)
	def, _ := s.Own().Lookup(o.Code)
	value := fmt.Sprint(part["value"])
	for _, f := range e.Fields {
		if f.Name == "value" {
			value = say(f.To)
		}
	}
	verb, tail := "Set", " to "+value
	if e.Op == Remove {
		verb, tail = "Stop setting", ""
	}
	always := part["always"] == true
	for _, f := range e.Fields {
		if f.Name == "always" {
			always = string(f.To) == "true"
			if len(e.Fields) == 1 {
				tail = map[bool]string{true: "", false: ": only to clients that ask for it"}[always]
			}
		}
	}
	if always && e.Op != Remove {
		tail += ", also to clients that do not ask for it"
	}
	name, _ := site.NameOf(s, e.In)
	return fmt.Sprintf("%s %s (option %d) on %s%s", verb, def.InSentence(), o.Code, name, tail)
}

func title(s *site.Site, e Edit, part map[string]any) string {
	if owner, ok := part["owner"].(string); ok {
		return fmt.Sprint(owner, " ", part["type"])
	}
	for _, key := range []string{"name", "reason"} {
		if v, ok := part[key].(string); ok && v != "" {
			return v
		}
	}
	if name, ok := site.NameOf(s, e.Part); ok {
		return name
	}
	if v, ok := part["address"].(string); ok {
		return v
	}
	return e.Part.ID
}

func detail(part map[string]any) string {
	for _, key := range []string{"prefix", "address", "range", "ranges", "addresses", "data", "base"} {
		if v, ok := part[key]; ok && v != nil {
			return " " + sayAny(v)
		}
	}
	return ""
}

func say(raw json.RawMessage) string {
	var v any
	_ = json.Unmarshal(raw, &v)
	return sayAny(v)
}

func sayAny(v any) string {
	switch v := v.(type) {
	case nil:
		return "not set"
	case string:
		return v
	case []any:
		var items []string
		for _, item := range v {
			items = append(items, sayAny(item))
		}
		return strings.Join(items, ", ")
	case map[string]any:
		if from, ok := v["from"]; ok {
			if from == v["to"] {
				return fmt.Sprint(from)
			}
			return fmt.Sprintf("%v – %v", from, v["to"])
		}
		if says, ok := server(v); ok {
			return says
		}
		var items []string
		for _, key := range slices.Sorted(maps.Keys(v)) {
			items = append(items, key+" "+sayAny(v[key]))
		}
		return strings.Join(items, ", ")
	}
	return fmt.Sprint(v)
}

// server is a name server as it is typed, with the domain it is asked for where there is one.
func server(v map[string]any) (says string, ok bool) {
	raw, err := json.Marshal(v)
	if err != nil {
		return "", false
	}
	if domain, is := v["domain"].(string); is {
		return domain + " at " + sayAny(v["servers"]), true
	}
	var f site.Forwarder
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if dec.Decode(&f) != nil || !f.Address.IsValid() {
		return "", false
	}
	return f.String(), true
}
