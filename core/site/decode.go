package site

import (
	"bytes"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MaxFile is the largest site file Read takes, in octets. A site of 50,000
// reservations is about 8 MiB.
const MaxFile = 16 << 20

// maxMistakes is how many mistakes one reading reports; a file with more is
// most likely not a site file at all.
const maxMistakes = 20

// Mistake is one thing wrong with the form of a site file, at its place.
type Mistake struct {
	Line int    `json:"line"` // counted from 1
	Path string `json:"path"` // for example networks[2].gateway
	Says string `json:"says"`
}

func (m Mistake) Error() string {
	if m.Path == "" {
		return fmt.Sprintf("line %d: %s", m.Line, m.Says)
	}
	return fmt.Sprintf("line %d, %s: %s", m.Line, m.Path, m.Says)
}

// Read reads a site file, JSON or YAML, and returns it in normal form. A file
// larger than MaxFile, one with unknown or repeated keys, repeated ids or
// values of the wrong form is refused with every Mistake's place (joined by
// errors.Join); nothing is returned of it.
func Read(r io.Reader) (*Site, error) {
	data, err := io.ReadAll(io.LimitReader(r, MaxFile+1))
	if err != nil {
		return nil, fmt.Errorf("read the site file: %w", err)
	}
	if len(data) > MaxFile {
		return nil, fmt.Errorf("the file is larger than %d MiB; a site file never is: check that it is the right one", MaxFile>>20)
	}
	root, err := tree(data)
	if err != nil {
		return nil, err
	}
	b := binder{}
	var s Site
	b.bind(root, reflect.ValueOf(&s).Elem(), "")
	b.ids(root)
	if len(b.mistakes) > 0 {
		errs := make([]error, len(b.mistakes))
		for i, m := range b.mistakes {
			errs[i] = m
		}
		return nil, errors.Join(errs...)
	}
	return Normal(&s), nil
}

// node is a value of a site file with its line, whichever syntax it came in.
type node struct {
	line   int
	kind   byte // 'o'bject, 'l'ist, 's'tring, 'n'umber, 'b'ool, '0' null
	text   string
	keys   []string
	values []*node // of an object beside keys, or the items of a list
}

func tree(data []byte) (*node, error) {
	trimmed := bytes.TrimSpace(data)
	if len(trimmed) == 0 {
		return nil, Mistake{1, "", "the file is empty; it must hold one site"}
	}
	if trimmed[0] == '{' {
		return jsonTree(data)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil {
		return nil, Mistake{yamlLine(err), "", "not YAML or JSON: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	if len(doc.Content) != 1 {
		return nil, Mistake{1, "", "the file must hold one site"}
	}
	return yamlTree(doc.Content[0])
}

func yamlLine(err error) int {
	_, rest, _ := strings.Cut(err.Error(), "line ")
	digits, _, _ := strings.Cut(rest, ":")
	n, _ := strconv.Atoi(digits)
	return max(n, 1)
}

func yamlTree(y *yaml.Node) (*node, error) {
	n := &node{line: y.Line, text: y.Value}
	switch y.Kind {
	case yaml.MappingNode:
		n.kind = 'o'
		for i := 0; i+1 < len(y.Content); i += 2 {
			v, err := yamlTree(y.Content[i+1])
			if err != nil {
				return nil, err
			}
			n.keys, n.values = append(n.keys, y.Content[i].Value), append(n.values, v)
		}
	case yaml.SequenceNode:
		n.kind = 'l'
		for _, c := range y.Content {
			v, err := yamlTree(c)
			if err != nil {
				return nil, err
			}
			n.values = append(n.values, v)
		}
	case yaml.ScalarNode:
		switch y.ShortTag() {
		case "!!int", "!!float":
			n.kind = 'n'
		case "!!bool":
			n.kind = 'b'
		case "!!null":
			n.kind = '0'
		default:
			n.kind = 's'
		}
	default:
		return nil, Mistake{y.Line, "", "anchors and aliases are not read; write the value out"}
	}
	return n, nil
}

func jsonTree(data []byte) (*node, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	p := jsonParser{dec: dec, data: data, line: 1}
	n, err := p.value(0)
	if err == nil {
		if _, extra := dec.Token(); extra != io.EOF {
			return nil, Mistake{p.at(), "", "something follows the end of the site; one file holds one site"}
		}
		return n, nil
	}
	if m := (Mistake{}); errors.As(err, &m) {
		return nil, err
	}
	return nil, Mistake{p.at(), "", "not JSON: " + err.Error()}
}

type jsonParser struct {
	dec  *json.Decoder
	data []byte
	off  int64
	line int
}

// at is the line the decoder has reached, counted on from the last call.
func (p *jsonParser) at() int {
	to := min(p.dec.InputOffset(), int64(len(p.data)))
	p.line += bytes.Count(p.data[p.off:to], []byte{'\n'})
	p.off = to
	return p.line
}

func (p *jsonParser) value(depth int) (*node, error) {
	if depth > 32 {
		return nil, Mistake{p.at(), "", "nested deeper than any site file"}
	}
	tok, err := p.dec.Token()
	if err != nil {
		return nil, err
	}
	n := &node{line: p.at()}
	switch v := tok.(type) {
	case json.Delim:
		n.kind = 'l'
		if v == '{' {
			n.kind = 'o'
		}
		for p.dec.More() {
			if n.kind == 'o' {
				key, err := p.dec.Token()
				if err != nil {
					return nil, err
				}
				n.keys = append(n.keys, key.(string))
			}
			item, err := p.value(depth + 1)
			if err != nil {
				return nil, err
			}
			n.values = append(n.values, item)
		}
		_, err = p.dec.Token()
		return n, err
	case string:
		n.kind, n.text = 's', v
	case json.Number:
		n.kind, n.text = 'n', v.String()
	case bool:
		n.kind, n.text = 'b', strconv.FormatBool(v)
	default:
		n.kind = '0'
	}
	return n, nil
}

// binder fills Go values from nodes and collects what does not fit.
type binder struct{ mistakes []Mistake }

func (b *binder) mistake(n *node, path, says string) {
	if len(b.mistakes) < maxMistakes {
		b.mistakes = append(b.mistakes, Mistake{n.line, path, says})
	}
}

var kindNames = map[byte]string{'o': "an object", 'l': "a list", 's': "text", 'n': "a number", 'b': "true or false", '0': "nothing"}

func (b *binder) want(n *node, path string, kind byte) bool {
	if n.kind == kind {
		return true
	}
	b.mistake(n, path, fmt.Sprintf("has %s where %s belongs", kindNames[n.kind], kindNames[kind]))
	return false
}

func (b *binder) bind(n *node, v reflect.Value, path string) {
	if u, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if b.want(n, path, 's') {
			if err := u.UnmarshalText([]byte(n.text)); err != nil || n.text == "" {
				b.mistake(n, path, fmt.Sprintf("%q is not %s", clip(n.text), form(v.Type())))
			} else if isIPv6(v) {
				b.mistake(n, path, fmt.Sprintf("%s is an IPv6 address, and site files hold IPv4 alone; write %s", n.text, strings.TrimPrefix(form(v.Type()), "an ")))
			}
		}
		return
	}
	if len(b.mistakes) >= maxMistakes {
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.Set(reflect.New(v.Type().Elem())); b.want(n, path, 'o') {
			b.object(n, v.Elem(), path)
		}
	case reflect.Struct:
		if b.want(n, path, 'o') {
			b.object(n, v, path)
		}
	case reflect.Slice:
		if !b.want(n, path, 'l') {
			return
		}
		list := reflect.MakeSlice(v.Type(), len(n.values), len(n.values))
		for i, item := range n.values {
			b.bind(item, list.Index(i), fmt.Sprintf("%s[%d]", path, i))
		}
		v.Set(list)
	case reflect.String:
		if b.want(n, path, 's') {
			if err := CheckText(n.text); err != nil {
				b.mistake(n, path, err.Error())
			}
			v.SetString(n.text)
		}
	case reflect.Bool:
		if b.want(n, path, 'b') {
			v.SetBool(n.text == "true")
		}
	case reflect.Int:
		if b.want(n, path, 'n') {
			i, err := strconv.ParseInt(n.text, 10, 32)
			if err != nil {
				b.mistake(n, path, n.text+" is not a whole number")
			}
			v.SetInt(i)
		}
	case reflect.Uint8:
		if b.want(n, path, 'n') {
			i, err := strconv.ParseUint(n.text, 10, 8)
			if err != nil {
				b.mistake(n, path, n.text+" is not a whole number from 0 to 255")
			}
			v.SetUint(i)
		}
	}
}

func (b *binder) object(n *node, v reflect.Value, path string) {
	fields := fieldsOf(v.Type())
	given := make(map[string]bool, len(n.keys))
	for i, key := range n.keys {
		if len(b.mistakes) >= maxMistakes {
			return
		}
		at := join(path, clip(key))
		if given[key] {
			b.mistake(n.values[i], at, "is given twice; keep one")
			continue
		}
		given[key] = true
		f, ok := fields.find(key)
		if !ok {
			b.mistake(n.values[i], at, "is not a field of the site file; the fields here are "+strings.Join(fields.names(), ", "))
			continue
		}
		b.bind(n.values[i], v.FieldByIndex(f.index), at)
		if f.enum != nil {
			b.oneOf(n.values[i], at, f.enum)
		}
		b.fits(n.values[i], at, f)
	}
	for _, f := range fields {
		if f.required && !given[f.name] {
			b.mistake(n, join(path, f.name), "is missing")
		}
	}
}

// fits refuses a text that does not look as it must, and a number out of its limits.
func (b *binder) fits(n *node, path string, f field) {
	form, formed := forms[f.form]
	switch {
	case formed && n.kind == 's' && !form.fits(n.text):
		b.mistake(n, path, fmt.Sprintf("%q %s", clip(n.text), form.says))
	case f.limits != nil && n.kind == 'n':
		if i, err := strconv.Atoi(n.text); err == nil && (i < f.limits[0] || i > f.limits[1]) {
			b.mistake(n, path, fmt.Sprintf("is %d; write a number from %d to %d", i, f.limits[0], f.limits[1]))
		}
	}
}

// clip keeps what is quoted in a mistake short.
func clip(s string) string {
	const most = 80
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

func isIPv6(v reflect.Value) bool {
	switch a := v.Interface().(type) {
	case netip.Addr:
		return !a.Is4()
	case netip.Prefix:
		return !a.Addr().Is4()
	}
	return false
}

// oneOf refuses a text, or an item of a list of texts, that is none of the
// values allowed.
func (b *binder) oneOf(n *node, path string, allowed []string) {
	for _, item := range append([]*node{n}, n.values...) {
		if item.kind == 's' && !slices.Contains(allowed, item.text) {
			b.mistake(item, path, fmt.Sprintf("%q is not one of %s", item.text, strings.Join(allowed, ", ")))
		}
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// ids refuses ids that are malformed or used twice anywhere in the document.
func (b *binder) ids(root *node) {
	first := map[string]string{}
	var walk func(n *node, path string)
	walk = func(n *node, path string) {
		for i, v := range n.values {
			at := fmt.Sprintf("%s[%d]", path, i)
			if n.kind == 'o' {
				at = join(path, n.keys[i])
			}
			if n.kind == 'o' && n.keys[i] == "id" && v.kind == 's' {
				switch was, dup := first[v.text]; {
				case dup:
					b.mistake(v, at, fmt.Sprintf("id %q is already used at %s", v.text, was))
				case !ValidID(v.text):
					b.mistake(v, at, fmt.Sprintf("%q is not an id; use small letters, digits and hyphens, at most 64", v.text))
				default:
					first[v.text] = at
				}
			}
			walk(v, at)
		}
	}
	walk(root, "")
}

// ValidID reports whether id is 1 to 64 of a-z, 0-9 and hyphen, no hyphen first.
func ValidID(id string) bool {
	if id == "" || len(id) > 64 || id[0] == '-' {
		return false
	}
	return strings.Trim(id, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}
