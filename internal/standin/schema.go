package standin

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	goyang "github.com/openconfig/goyang/pkg/yang"

	"lithos/core/yang"
)

// schema is the modules of a stand-in, against which it checks what it is given.
type schema struct {
	roots map[string]*goyang.Entry // by qualified name
	names []module
}

// module is one row of the YANG library (RFC 8525).
type module struct{ name, revision, namespace string }

// modules are read once; that they parse is the test's to say.
var modules = sync.OnceValue(func() *schema {
	ms := goyang.NewModules()
	err := fs.WalkDir(yang.Modules, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := fs.ReadFile(yang.Modules, name)
		if err != nil {
			return err
		}
		return ms.Parse(string(raw), path.Base(name))
	})
	if errs := ms.Process(); err == nil && len(errs) > 0 {
		err = errs[0]
	}
	if err != nil {
		panic("the modules that ship with Lithos do not parse: " + err.Error())
	}
	s := &schema{roots: map[string]*goyang.Entry{}}
	for name, m := range ms.Modules {
		if strings.Contains(name, "@") {
			continue
		}
		s.names = append(s.names, module{name, m.Current(), m.Namespace.Name})
		for child, e := range goyang.ToEntry(m).Dir {
			s.roots[name+":"+child] = e
		}
	}
	slices.SortFunc(s.names, func(a, b module) int { return strings.Compare(a.name, b.name) })
	return s
})

// wrong is why data does not fit the modules, with the error tag of RFC 8040 section 7.
type wrong struct{ tag, path, says string }

func (w *wrong) Error() string { return w.path + ": " + w.says }

// entryAt finds what a path of a datastore names, and the qualified name of its body.
func (s *schema) entryAt(p string) (e *goyang.Entry, member string, err error) {
	in := ""
	for segment := range strings.SplitSeq(strings.Trim(p, "/"), "/") {
		name, _, _ := strings.Cut(segment, "=")
		if name, err = url.PathUnescape(name); err != nil {
			return nil, "", &wrong{"malformed-message", p, "the path is not encoded as RFC 3986 says"}
		}
		next := s.roots[name]
		if e != nil {
			next, _ = child(e, name)
		}
		if next == nil {
			return nil, "", &wrong{"unknown-element", p, fmt.Sprintf("%s is no node of this device's modules", name)}
		}
		if e = next; strings.Contains(name, ":") {
			in, name, _ = strings.Cut(name, ":")
		}
		member = in + ":" + name
	}
	return e, member, nil
}

// child finds a node by its name, which is qualified where its module is another than its
// parent's (RFC 7951 section 4).
func child(e *goyang.Entry, name string) (*goyang.Entry, bool) {
	in, local, qualified := strings.Cut(name, ":")
	if !qualified {
		in, local = moduleOf(e), name
	}
	c := e.Dir[local]
	if c == nil || moduleOf(c) != in {
		return nil, false
	}
	return c, true
}

func moduleOf(e *goyang.Entry) string {
	name, err := e.InstantiatingModule()
	if err != nil {
		return ""
	}
	return name
}

// body checks the body of a request to replace the node at a path.
func (s *schema) body(p string, raw []byte) error {
	e, member, err := s.entryAt(p)
	if err != nil {
		return err
	}
	var doc map[string]any
	dec := json.NewDecoder(strings.NewReader(string(raw)))
	dec.UseNumber()
	if err := dec.Decode(&doc); err != nil {
		return &wrong{"malformed-message", p, "the body is not JSON: " + err.Error()}
	}
	v, ok := doc[member]
	if !ok || len(doc) != 1 {
		return &wrong{"malformed-message", p, fmt.Sprintf("the body must hold one %s", member)}
	}
	return s.node(e, s.instance(p), v)
}

// instance is a path as an instance identifier (RFC 7951 section 6.11), without the key of its last
// segment: /lithos-dhcp-server:dhcp-server/pool.
func (s *schema) instance(p string) string {
	segments := strings.Split(strings.Trim(p, "/"), "/")
	out := ""
	for i, segment := range segments {
		name, key, keyed := strings.Cut(segment, "=")
		name, _ = url.PathUnescape(name)
		out += "/" + name
		e, _, err := s.entryAt(strings.Join(segments[:i+1], "/"))
		if keyed && err == nil && i+1 < len(segments) {
			key, _ = url.PathUnescape(key)
			out += predicate(e.Key, key)
		}
	}
	return out
}

// predicate names one entry of a list.
func predicate(key string, value any) string { return fmt.Sprintf("[%s='%v']", key, value) }

func (s *schema) node(e *goyang.Entry, at string, v any) error {
	switch {
	case e.IsList():
		return s.list(e, at, v)
	case e.IsLeafList():
		return s.leafList(e, at, v)
	case e.IsLeaf():
		return s.leaf(e.Type, at, v)
	default:
		return s.object(e, at, v)
	}
}

func (s *schema) object(e *goyang.Entry, at string, v any) error {
	members, ok := v.(map[string]any)
	if !ok {
		return &wrong{"malformed-message", at, "must be an object"}
	}
	seen := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(members)) {
		c, ok := child(e, name)
		if !ok {
			return &wrong{"unknown-element", at, fmt.Sprintf("has no %s", name)}
		}
		if c.Config == goyang.TSFalse {
			return &wrong{"invalid-value", at + "/" + name, "is state of the device and is not configured"}
		}
		seen[c.Name] = true
		if err := s.node(c, at+"/"+name, members[name]); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(e.Dir)) {
		c := e.Dir[name]
		must := c.Mandatory == goyang.TSTrue && c.Config != goyang.TSFalse
		if c.ListAttr != nil && c.ListAttr.MinElements > 0 {
			must = true
		}
		if must && !seen[name] {
			return &wrong{"data-missing", at, fmt.Sprintf("must have a %s", name)}
		}
	}
	return nil
}

func (s *schema) list(e *goyang.Entry, at string, v any) error {
	entries, ok := v.([]any)
	if !ok {
		return &wrong{"malformed-message", at, "must be a list"}
	}
	keys := map[string]bool{}
	for i, entry := range entries {
		here := at
		for name := range strings.FieldsSeq(e.Key) {
			members, _ := entry.(map[string]any)
			value, ok := members[name]
			if !ok {
				return &wrong{"missing-element", fmt.Sprintf("%s[%d]", at, i+1), "must have its key " + name}
			}
			here += predicate(name, value)
		}
		if err := s.object(e, here, entry); err != nil {
			return err
		}
		if keys[here] {
			return &wrong{"invalid-value", here, "is there twice"}
		}
		keys[here] = true
	}
	return nil
}

func (s *schema) leafList(e *goyang.Entry, at string, v any) error {
	values, ok := v.([]any)
	if !ok {
		return &wrong{"malformed-message", at, "must be a list of values"}
	}
	if uint64(len(values)) < e.ListAttr.MinElements {
		return &wrong{"data-missing", at, fmt.Sprintf("must have at least %d", e.ListAttr.MinElements)}
	}
	for _, value := range values {
		if err := s.leaf(e.Type, at, value); err != nil {
			return err
		}
	}
	return nil
}

// leaf checks a value as RFC 7951 section 6 writes it.
func (s *schema) leaf(t *goyang.YangType, at string, v any) error {
	bad := func(format string, args ...any) error {
		return &wrong{"invalid-value", at, fmt.Sprintf("%v ", v) + fmt.Sprintf(format, args...)}
	}
	text, isText := v.(string)
	switch t.Kind {
	case goyang.Yint8, goyang.Yint16, goyang.Yint32, goyang.Yuint8, goyang.Yuint16, goyang.Yuint32:
		n, ok := v.(json.Number)
		if !ok {
			return bad("is not a number")
		}
		value, err := strconv.ParseInt(n.String(), 10, 64)
		if err != nil || !inRange(t.Range, value) {
			return bad("is not a whole number in %s", t.Range)
		}
		return nil
	case goyang.Ybool:
		if _, ok := v.(bool); !ok {
			return bad("is neither true nor false")
		}
		return nil
	}
	if !isText {
		return bad("is not text")
	}
	switch t.Kind {
	case goyang.Yenum:
		if !t.Enum.IsDefined(text) {
			return bad("is none of %s", strings.Join(t.Enum.Names(), ", "))
		}
	case goyang.Yidentityref:
		_, local, _ := strings.Cut(text, ":")
		if !t.IdentityBase.IsDefined(local) {
			return bad("is no identity of %s", t.IdentityBase.Name)
		}
	case goyang.Ybinary:
		raw, err := base64.StdEncoding.DecodeString(text)
		switch {
		case err != nil:
			return bad("is not base64")
		case !fits(t, len(raw)):
			return bad("has %d octets, which are not in %s", len(raw), t.Length)
		}
	case goyang.Ystring:
		if !fits(t, len([]rune(text))) {
			return bad("has %d characters, which are not in %s", len([]rune(text)), t.Length)
		}
		for _, p := range t.Pattern {
			if !pattern(p).MatchString(text) {
				return bad("is not a %s", t.Name)
			}
		}
	}
	return nil
}

// fits reports whether a type allows so many characters or octets.
func fits(t *goyang.YangType, n int) bool { return len(t.Length) == 0 || inRange(t.Length, int64(n)) }

func inRange(r goyang.YangRange, n int64) bool {
	return len(r) == 0 || slices.ContainsFunc(r, func(part goyang.YRange) bool {
		low, errLow := part.Min.Int()
		high, errHigh := part.Max.Int()
		return (errLow != nil || n >= low) && (errHigh != nil || n <= high)
	})
}

var patterns sync.Map // by text

// pattern is one of a module's, which matches the whole value.
func pattern(text string) *regexp.Regexp {
	if p, ok := patterns.Load(text); ok {
		return p.(*regexp.Regexp)
	}
	p := regexp.MustCompile("^(?:" + text + ")$")
	patterns.Store(text, p)
	return p
}

// without is the schema of a device that does not speak some modules.
func (s *schema) without(names []string) *schema {
	if len(names) == 0 {
		return s
	}
	out := &schema{roots: map[string]*goyang.Entry{}}
	for root, e := range s.roots {
		if name, _, _ := strings.Cut(root, ":"); !slices.Contains(names, name) {
			out.roots[root] = e
		}
	}
	for _, m := range s.names {
		if !slices.Contains(names, m.name) {
			out.names = append(out.names, m)
		}
	}
	return out
}

// SmallRouter is what a small router does not speak: it serves DHCP, and neither names nor relayed clients.
var SmallRouter = []string{"lithos-resolver", "lithos-outside-names", "lithos-dhcp-relay"}
