package site

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// The kinds of values of a site file.
const (
	isObject = 'o'
	isArray  = 'a'
	isText   = 't'
	isNumber = 'n'
	isTruth  = 'b'
	isNull   = '0'
)

// node is a value of a site file with its line, whichever syntax it came in.
type node struct {
	line   int
	kind   byte
	text   string
	keys   []string
	values []*node // of an object beside keys, or the items of an array
}

// plain is the node as the schema and the decoder read it.
func (n *node) plain() any {
	switch n.kind {
	case isObject:
		out := make(map[string]any, len(n.keys))
		for i, key := range n.keys {
			out[key] = n.values[i].plain()
		}
		return out
	case isArray:
		out := make([]any, len(n.values))
		for i, v := range n.values {
			out[i] = v.plain()
		}
		return out
	case isNumber:
		return json.Number(n.text)
	case isTruth:
		return n.text == "true"
	case isNull:
		return nil
	}
	return n.text
}

// pathOf is the path to value i of the node, which is at a path itself.
func (n *node) pathOf(path string, i int) string {
	switch {
	case n.kind == isArray:
		return fmt.Sprintf("%s[%d]", path, i)
	case path == "":
		return n.keys[i]
	}
	return path + "." + n.keys[i]
}

// follow follows the tokens of a JSON pointer (RFC 6901), and says what the place is called.
func (n *node) follow(tokens []string) (found *node, path string) {
	for _, t := range tokens {
		i, err := strconv.Atoi(t)
		if n.kind == isObject || err != nil {
			for i = len(n.keys) - 1; i >= 0 && n.keys[i] != t; i-- {
			}
		}
		if i < 0 || i >= len(n.values) {
			return n, path
		}
		path, n = n.pathOf(path, i), n.values[i]
	}
	return n, path
}

// maxDepth is how deep values may be nested; a site's own are nested six deep.
const maxDepth = 32

func tree(data []byte) (*node, error) {
	trimmed := bytes.TrimSpace(data)
	if len(trimmed) == 0 {
		return nil, Mistake{1, "", "the file is empty; it must hold one site"}
	}
	if trimmed[0] == '{' {
		return jsonTree(data)
	}
	var doc, more yaml.Node
	dec := yaml.NewDecoder(bytes.NewReader(data))
	if err := dec.Decode(&doc); err != nil {
		return nil, Mistake{yamlLine(err), "", "not YAML or JSON: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	if len(doc.Content) != 1 {
		return nil, Mistake{1, "", "the file must hold one site"}
	}
	if err := dec.Decode(&more); !errors.Is(err, io.EOF) {
		return nil, Mistake{
			max(more.Line, 1),
			"",
			"the file holds several documents; put each site in a file of its own",
		}
	}
	return yamlTree(doc.Content[0], 0)
}

func yamlLine(err error) int {
	_, rest, _ := strings.Cut(err.Error(), "line ")
	digits, _, _ := strings.Cut(rest, ":")
	n, _ := strconv.Atoi(digits)
	return max(n, 1)
}

var yamlKinds = map[string]byte{"!!int": isNumber, "!!float": isNumber, "!!bool": isTruth, "!!null": isNull}

func yamlTree(y *yaml.Node, depth int) (*node, error) {
	n := &node{line: y.Line, text: y.Value, kind: isText}
	items := y.Content
	switch y.Kind {
	case yaml.MappingNode:
		n.kind = isObject
		items = nil
		for i := 0; i+1 < len(y.Content); i += 2 {
			n.keys = append(n.keys, y.Content[i].Value)
			items = append(items, y.Content[i+1])
		}
	case yaml.SequenceNode:
		n.kind = isArray
	case yaml.ScalarNode:
		if kind, ok := yamlKinds[y.ShortTag()]; ok {
			n.kind = kind
		}
		if n.kind == isNumber && !json.Valid([]byte(n.text)) {
			n.kind = isText // written as only YAML writes numbers
		}
	default:
		return nil, Mistake{y.Line, "", "anchors and aliases are not read; write the value out"}
	}
	if depth > maxDepth {
		return nil, Mistake{y.Line, "", "nested deeper than any site file"}
	}
	for _, c := range items {
		v, err := yamlTree(c, depth+1)
		if err != nil {
			return nil, err
		}
		n.values = append(n.values, v)
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
			return nil, Mistake{p.reached(), "", "something follows the end of the site; one file holds one site"}
		}
		return n, nil
	}
	if m := (Mistake{}); errors.As(err, &m) {
		return nil, err
	}
	return nil, Mistake{p.reached(), "", "not JSON: " + err.Error()}
}

type jsonParser struct {
	dec  *json.Decoder
	data []byte
	off  int64
	line int
}

// reached is the line the decoder has reached, counted on from the last call.
func (p *jsonParser) reached() int {
	to := min(p.dec.InputOffset(), int64(len(p.data)))
	p.line += bytes.Count(p.data[p.off:to], []byte{'\n'})
	p.off = to
	return p.line
}

func (p *jsonParser) value(depth int) (*node, error) {
	if depth > maxDepth {
		return nil, Mistake{p.reached(), "", "nested deeper than any site file"}
	}
	tok, err := p.dec.Token()
	if err != nil {
		return nil, err
	}
	n := &node{line: p.reached()}
	switch v := tok.(type) {
	case json.Delim:
		return n, p.items(n, v, depth)
	case string:
		n.kind, n.text = isText, v
	case json.Number:
		n.kind, n.text = isNumber, v.String()
	case bool:
		n.kind, n.text = isTruth, strconv.FormatBool(v)
	default:
		n.kind = isNull
	}
	return n, nil
}

// items reads the values of an object or array up to its end.
func (p *jsonParser) items(n *node, begin json.Delim, depth int) error {
	n.kind = isArray
	if begin == '{' {
		n.kind = isObject
	}
	for p.dec.More() {
		if n.kind == isObject {
			key, err := p.dec.Token()
			if err != nil {
				return err
			}
			n.keys = append(n.keys, key.(string))
		}
		item, err := p.value(depth + 1)
		if err != nil {
			return err
		}
		n.values = append(n.values, item)
	}
	_, err := p.dec.Token()
	return err
}
