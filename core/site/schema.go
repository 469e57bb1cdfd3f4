package site

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"lithos/core/address"
)

// field is what a struct tag says of one key of the site file.
type field struct {
	name     string
	index    []int
	doc      string
	enum     []string
	required bool
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
