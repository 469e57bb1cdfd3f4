package site

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
)

// field is what a struct tag says of one key of the site file.
type field struct {
	name     string
	index    []int
	doc      string
	enum     []string
	required bool
	form     string  // names one of forms
	limits   *[2]int // least and greatest of a number
}

type fields []field

func (fs fields) find(name string) (field, bool) {
	i := slices.IndexFunc(fs, func(f field) bool { return f.name == name })
	if i < 0 {
		return field{}, false
	}
	return fs[i], true
}

func (fs fields) names() []string {
	var out []string
	for _, f := range fs {
		out = append(out, f.name)
	}
	return out
}

// fieldsOf lists the keys of a type of the document, those of embedded structs
// included.
func fieldsOf(t reflect.Type) fields {
	var out fields
	for _, sf := range reflect.VisibleFields(t) {
		if sf.Anonymous {
			continue
		}
		name, opts, _ := strings.Cut(sf.Tag.Get("json"), ",")
		f := field{name: name, index: sf.Index, doc: sf.Tag.Get("doc"), required: opts == ""}
		if e := sf.Tag.Get("enum"); e != "" {
			f.enum = strings.Split(e, ",")
		}
		f.form = sf.Tag.Get("form")
		if r := sf.Tag.Get("range"); r != "" {
			f.limits = new([2]int)
			if _, err := fmt.Sscanf(r, "%d-%d", &f.limits[0], &f.limits[1]); err != nil {
				panic("the range of " + sf.Name + ": " + err.Error())
			}
		}
		out = append(out, f)
	}
	return out
}

// form says in words what the text of a value must look like.
func form(t reflect.Type) string {
	switch t {
	case reflect.TypeFor[netip.Addr]():
		return "an address; write it as 10.84.18.57"
	case reflect.TypeFor[netip.Prefix]():
		return "a prefix; write it as 10.84.18.0/23"
	case reflect.TypeFor[Date]():
		return "a date; write it as 2027-03-31"
	default:
		return "a MAC; write it as 00:00:5e:00:53:1c"
	}
}

var patterns = map[reflect.Type]string{
	reflect.TypeFor[netip.Addr]():   `^(\d{1,3}\.){3}\d{1,3}$`,
	reflect.TypeFor[netip.Prefix](): `^(\d{1,3}\.){3}\d{1,3}/\d{1,2}$`,
	reflect.TypeFor[address.MAC]():  `^([0-9a-f]{2}:){5}[0-9a-f]{2}$`,
	reflect.TypeFor[Date]():         `^\d{4}-\d{2}-\d{2}$`,
}

// forms are the texts that must look a certain way: what fits, in the schema's words
// and in code, and what to write instead.
var forms = map[string]struct {
	pattern string
	fits    func(string) bool
	says    string
}{
	"code": {`^[a-z0-9][a-z0-9-]{0,63}$`, ValidID, "is not a code; use small letters, digits and hyphens, at most 64, for example kelder-bridge"},
	"name": {`\S`, func(s string) bool { return strings.TrimSpace(s) != "" }, "is empty; write what people call it"},
	"zone": {`^([A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+)*)?$`, validZone, "is not a time zone; write one of the IANA's names, for example Europe/London"},
	"prefix": {`^(\d{1,3}\.){3}\d{1,3}/([89]|[12]\d|3[0-2])$`, func(s string) bool {
		p, err := netip.ParsePrefix(s)
		return err != nil || p.Bits() >= 8 // what is no prefix is said already
	}, "is larger than any site's network; write a length from 8 to 32"},
}

// validZone reports whether a time zone is one of the IANA's names, or none.
func validZone(name string) bool {
	if name == "" {
		return true
	}
	_, err := time.LoadLocation(name)
	return err == nil && name != "Local"
}

// Schema is the site file's JSON Schema (draft 2020-12), made from the types
// themselves so that the two cannot differ.
func Schema() ([]byte, error) {
	defs := map[string]any{}
	root := schemaOf(reflect.TypeFor[Site](), defs)
	return json.MarshalIndent(map[string]any{
		"$schema":     "https://json-schema.org/draft/2020-12/schema",
		"title":       "Lithos site file",
		"description": "The intended addressing of one site.",
		"$ref":        root["$ref"],
		"$defs":       defs,
	}, "", "  ")
}

func schemaOf(t reflect.Type, defs map[string]any) map[string]any {
	if p, ok := patterns[t]; ok {
		return map[string]any{"type": "string", "pattern": p}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem(), defs)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), defs)}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Uint8:
		return map[string]any{"type": "integer", "minimum": 0, "maximum": 255}
	case reflect.String:
		return map[string]any{"type": "string"}
	}
	if _, done := defs[t.Name()]; !done {
		props, required := map[string]any{}, []string{}
		defs[t.Name()] = nil
		for _, f := range fieldsOf(t) {
			p := schemaOf(t.FieldByIndex(f.index).Type, defs)
			p["description"] = f.doc
			if f.limits != nil {
				p["minimum"], p["maximum"] = f.limits[0], f.limits[1]
			}
			if pattern := forms[f.form].pattern; pattern != "" {
				p["pattern"] = pattern
			}
			switch items, list := p["items"].(map[string]any); {
			case f.enum != nil && list:
				items["enum"] = f.enum
			case f.enum != nil:
				p["enum"] = f.enum
			}
			if f.required {
				required = append(required, f.name)
			}
			props[f.name] = p
		}
		defs[t.Name()] = map[string]any{"type": "object", "properties": props, "required": required, "additionalProperties": false}
	}
	return map[string]any{"$ref": "#/$defs/" + t.Name()}
}
