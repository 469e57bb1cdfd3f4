package site

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"lithos/core/address"
)

// Schema is the site file's JSON Schema (draft 2020-12), made from the types
// themselves so that the two cannot differ.
func Schema() ([]byte, error) {
	defs := map[string]any{}
	root := schemaOf(reflect.TypeFor[Site](), defs)
	raw, err := json.MarshalIndent(map[string]any{
		"$schema":     "https://json-schema.org/draft/2020-12/schema",
		"title":       "Lithos site file",
		"description": "The intended addressing of one site.",
		"$ref":        root["$ref"],
		"$defs":       defs,
	}, "", "  ")
	return shown(raw), err
}

// shown is a JSON text in which the characters that nobody sees are escapes.
func shown(raw []byte) []byte {
	var out bytes.Buffer
	for _, r := range string(raw) {
		if r > unicode.MaxASCII && !unicode.IsPrint(r) {
			fmt.Fprintf(&out, `\u%04x`, r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.Bytes()
}

// form is what a text must look like: in the schema's words, in code, and what to
// write instead of one that does not.
type form struct {
	pattern string
	check   func(string) error
}

// parsed is a form that is what can be parsed, with what to write instead.
func parsed[T any](pattern, says string, parse func(string) (T, error)) form {
	return form{pattern, func(s string) error {
		_, err := parse(s)
		if err == nil || errors.As(err, new(*ipv6Error)) {
			return err
		}
		return fmt.Errorf("%q is not %s", clip(s), says)
	}}
}

// dotted is an IPv4 address, each of its numbers without leading zeros.
const dotted = `((25[0-5]|2[0-4]\d|1\d\d|[1-9]?\d)\.){3}(25[0-5]|2[0-4]\d|1\d\d|[1-9]?\d)`

// unshown is what CheckText refuses, blank what else a name may not be all of, and oneLine text without the first. They
// are characters, not escapes: those beyond Latin 1 are written in one way in ECMA-262, which JSON Schema asks for, and
// in another in Go.
const (
	unshown = `\x00-\x1f\x7f-\x9f` + "\u202a-\u202e\u2066-\u2069\u2028\u2029"
	blank   = " \u00a0\u1680\u2000-\u200a\u202f\u205f\u3000"
	oneLine = `^[^` + unshown + `]*$`
)

// forms are the texts that must look a certain way, by the name of the format in the
// schema.
var forms = map[string]form{
	"text":    {oneLine, CheckText},
	"address": parsed("^"+dotted+"$", "an address; write it as 10.84.18.57", ipv4),
	"cidr":    parsed("^"+dotted+`/(3[0-2]|[12]?\d)$`, "a prefix; write it as 10.84.18.0/23", ipv4Prefix),
	"mac":     parsed(`^([0-9a-f]{2}:){5}[0-9a-f]{2}$`, "a MAC; write it as 00:00:5e:00:53:1c", writtenMAC),
	"day":     parsed(`^\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])$`, "a date; write it as 2027-03-31", ParseDate),
	"code": {`^[a-z0-9][a-z0-9-]{0,63}$`, func(s string) error {
		if err := CheckText(s); err != nil {
			return err
		}
		if !ValidID(s) {
			return fmt.Errorf("%q is not a code; use small letters, digits and hyphens, at most 64, for example "+
				"kelder-bridge", clip(s))
		}
		return nil
	}},
	"name": {oneLine[:len(oneLine)-2] + `*[^` + blank + unshown + `]` + oneLine[1:len(oneLine)-2] + "*$", func(
		s string) error {
		if strings.TrimSpace(s) == "" {
			return fmt.Errorf("%q is empty; write what people call it", clip(s))
		}
		return CheckText(s)
	}},
	"zone": {`^([A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+)*)?$`, func(s string) error {
		if _, err := time.LoadLocation(s); s != "" && err != nil || s == "Local" {
			return fmt.Errorf("%q is not a time zone; write one of the IANA's names, for example Europe/London",
				clip(s))
		}
		return nil
	}},
	"prefix": {"^" + dotted + `/([89]|[12]\d|3[0-2])$`, func(s string) error {
		p, err := ipv4Prefix(s)
		switch {
		case errors.As(err, new(*ipv6Error)):
			return err
		case err != nil:
			return fmt.Errorf("%q is not a prefix; write it as 10.84.18.0/23", clip(s))
		case p.Bits() < 8:
			return fmt.Errorf("%q is larger than any site's network; write a length from 8 to 32", s)
		}
		return nil
	}},
}

// writtenMAC reads a MAC in the one way that site files write it.
func writtenMAC(s string) (address.MAC, error) {
	m, err := address.ParseMAC(s)
	if err == nil && m.String() != s {
		err = errors.New("written in another way")
	}
	return m, err
}

type ipv6Error struct{ says string }

func (e *ipv6Error) Error() string { return e.says }

func ipv4(s string) (netip.Addr, error) {
	a, err := netip.ParseAddr(s)
	if err == nil && !a.Is4() {
		err = &ipv6Error{s + " is an IPv6 address, and site files hold IPv4 alone; write an address as 10.84.18.57"}
	}
	return a, err
}

func ipv4Prefix(s string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(s)
	if err == nil && !p.Addr().Is4() {
		err = &ipv6Error{s + " is an IPv6 address, and site files hold IPv4 alone; write a prefix as 10.84.18.0/23"}
	}
	return p, err
}

// formats are the forms of the types that are written as text.
var formats = map[reflect.Type]string{
	reflect.TypeFor[netip.Addr]():   "address",
	reflect.TypeFor[netip.Prefix](): "cidr",
	reflect.TypeFor[address.MAC]():  "mac",
	reflect.TypeFor[Date]():         "day",
}

func schemaOf(t reflect.Type, defs map[string]any) map[string]any {
	if format, ok := formats[t]; ok {
		return formed(format)
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem(), defs)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), defs)}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer", "minimum": -1 << 31, "maximum": 1<<31 - 1}
	case reflect.Uint8:
		return map[string]any{"type": "integer", "minimum": 0, "maximum": 255}
	case reflect.String:
		return formed("text")
	}
	if _, done := defs[t.Name()]; !done {
		props, required := map[string]any{}, []string{}
		defs[t.Name()] = nil
		for _, f := range reflect.VisibleFields(t) {
			if f.Anonymous {
				continue
			}
			name, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
			if props[name] = property(f, defs); opts == "" {
				required = append(required, name)
			}
		}
		defs[t.Name()] = map[string]any{"type": "object", "properties": props, "required": required,
			"additionalProperties": false}
	}
	return map[string]any{"$ref": "#/$defs/" + t.Name()}
}

func formed(format string) map[string]any {
	out := map[string]any{"type": "string", "format": format}
	if pattern := forms[format].pattern; pattern != "" {
		out["pattern"] = pattern
	}
	return out
}

// property is the schema of one key, with what its tags say of it.
func property(f reflect.StructField, defs map[string]any) map[string]any {
	p := schemaOf(f.Type, defs)
	if format := f.Tag.Get("form"); format != "" {
		p = formed(format)
	}
	p["description"] = f.Tag.Get("doc")
	if limits := f.Tag.Get("range"); limits != "" {
		var least, most int
		if _, err := fmt.Sscanf(limits, "%d-%d", &least, &most); err != nil {
			panic("the range of " + f.Name + ": " + err.Error())
		}
		p["minimum"], p["maximum"] = least, most
	}
	if allowed := f.Tag.Get("enum"); allowed != "" {
		of := p
		if items, list := p["items"].(map[string]any); list {
			of = items
		}
		of["enum"] = strings.Split(allowed, ",")
	}
	return p
}

// compiled is the schema as the validator reads it.
var compiled = sync.OnceValue(func() *jsonschema.Schema {
	raw, err := Schema()
	if err != nil {
		panic("the schema of site files: " + err.Error())
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		panic("the schema of site files: " + err.Error())
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	for name, f := range forms {
		c.RegisterFormat(&jsonschema.Format{Name: name, Validate: func(v any) error {
			if s, ok := v.(string); ok {
				return f.check(s)
			}
			return nil
		}})
	}
	if err := c.AddResource("site.json", doc); err != nil {
		panic("the schema of site files: " + err.Error())
	}
	return c.MustCompile("site.json")
})

// againstSchema finds what of a file does not fit the schema, in the order of its lines.
func againstSchema(root *node) []Mistake {
	err := compiled().Validate(root.plain())
	var wrong *jsonschema.ValidationError
	if !errors.As(err, &wrong) {
		return nil
	}
	var out []Mistake
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		for _, cause := range e.Causes {
			walk(cause)
		}
		if len(e.Causes) == 0 {
			out = append(out, mistakes(root, e)...)
		}
	}
	walk(wrong)
	slices.SortStableFunc(out, func(a, b Mistake) int { return cmp.Or(a.Line-b.Line, strings.Compare(a.Path, b.Path)) })
	return out
}

// mistakes puts what the validator says of one place in words.
func mistakes(root *node, e *jsonschema.ValidationError) []Mistake {
	n, path := root.follow(e.InstanceLocation)
	one := func(says string) []Mistake { return []Mistake{{n.line, path, says}} }
	switch k := e.ErrorKind.(type) {
	case *kind.Type:
		if n.kind == isNumber && slices.Contains(k.Want, "integer") {
			return one(n.text + " is not a whole number")
		}
		return one(fmt.Sprintf("has %s where %s belongs", kindNames[n.kind], wantNames[k.Want[0]]))
	case *kind.AdditionalProperties:
		var out []Mistake
		slices.Sort(k.Properties)
		for _, key := range k.Properties[:min(len(k.Properties), maxMistakes)] {
			v, at := root.follow(append(slices.Clone(e.InstanceLocation), key))
			out = append(out, Mistake{v.line, clipPath(at),
				"is not a field of the site file; the fields here are " + strings.Join(keysAt(e), ", ")})
		}
		return out
	case *kind.Required:
		var out []Mistake
		for _, key := range k.Missing {
			at := key
			if path != "" {
				at = path + "." + key
			}
			out = append(out, Mistake{n.line, at, "is missing"})
		}
		return out
	case *kind.Enum:
		var allowed []string
		for _, v := range k.Want {
			allowed = append(allowed, fmt.Sprint(v))
		}
		return one(fmt.Sprintf("%q is not one of %s", clip(n.text), strings.Join(allowed, ", ")))
	case *kind.Format:
		return one(k.Err.Error())
	case *kind.Pattern:
		return nil // every pattern has a format, which says what to write instead
	case *kind.Minimum:
		return one(limitSays(n.text, k.Want.FloatString(0), "at least"))
	case *kind.Maximum:
		return one(limitSays(n.text, k.Want.FloatString(0), "at most"))
	}
	return one(e.Error())
}

func limitSays(got, limit, which string) string {
	return fmt.Sprintf("is %s; write a whole number, %s %s", got, which, limit)
}

var kindNames = map[byte]string{isObject: "an object", isArray: "a list", isText: "text", isNumber: "a number",
	isTruth: "true or false", isNull: "nothing"}

var wantNames = map[string]string{"object": "an object", "array": "a list", "string": "text", "integer": "a number",
	"boolean": "true or false"}

// keysAt lists the keys of the type that the schema has at an error's place, in the
// order of the site file.
func keysAt(e *jsonschema.ValidationError) []string {
	name := e.SchemaURL[strings.LastIndexByte(e.SchemaURL, '/')+1:]
	return fieldOrder()[name]
}

// fieldOrder lists the keys of each type of the document, by the type's name.
var fieldOrder = sync.OnceValue(func() map[string][]string {
	out := map[string][]string{}
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		if _, text := formats[t]; text || t.Kind() != reflect.Struct || out[t.Name()] != nil {
			return
		}
		out[t.Name()] = []string{}
		for _, f := range reflect.VisibleFields(t) {
			if f.Anonymous {
				continue
			}
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			out[t.Name()] = append(out[t.Name()], name)
			walk(f.Type)
		}
	}
	walk(reflect.TypeFor[Site]())
	return out
})
