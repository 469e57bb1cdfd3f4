package site

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"lithos/core/option"
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
		return nil, fmt.Errorf("the file is larger than %d MiB; a site file never is: check that it is the right one",
			MaxFile>>20)
	}
	root, err := tree(data)
	if err != nil {
		return nil, err
	}
	found := repeated(root, "")
	found = append(found, againstSchema(root)...)
	if len(found) == 0 { // ids mean something only where they are texts in their places
		found = ids(root)
	}
	if len(found) > 0 {
		errs := make([]error, 0, maxMistakes)
		for _, m := range found[:min(len(found), maxMistakes)] {
			errs = append(errs, m)
		}
		return nil, errors.Join(errs...)
	}
	return decode(root)
}

// decode fills a site from a tree that fits the schema.
func decode(root *node) (*Site, error) {
	raw, err := json.Marshal(root.plain())
	if err != nil {
		return nil, fmt.Errorf("read the site file: %w", err)
	}
	var s Site
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&s); err != nil {
		return nil, fmt.Errorf("read the site file: %w", err)
	}
	out := Normal(&s)
	timesInSeconds(out)
	return out, nil
}

// timesInSeconds gives times that a file has as a number their unit: a program that writes one means seconds. A person
// who types one into a form is asked. It writes to the options in place: nobody else has the document yet.
func timesInSeconds(s *Site) {
	own := s.Own()
	for _, k := range kinds {
		if k.every == nil {
			continue
		}
		k.every(s, func(options []Option) {
			for i := range options {
				o := &options[i]
				def, known := own.Lookup(o.Code)
				n, err := strconv.ParseUint(o.Value, 10, 32)
				if known && def.Type == option.Seconds && err == nil && n > 0 {
					o.Value = option.FormatDuration(time.Duration(n) * time.Second)
				}
			}
		})
	}
}

// repeated finds keys that are given twice.
func repeated(n *node, path string) []Mistake {
	var out []Mistake
	given := make(map[string]bool, len(n.keys))
	for i, v := range n.values {
		at := n.pathOf(path, i)
		if n.kind == isObject {
			if given[n.keys[i]] {
				out = append(out, Mistake{v.line, clipPath(at), "is given twice; keep one"})
			}
			given[n.keys[i]] = true
		}
		if len(out) >= maxMistakes {
			return out
		}
		out = append(out, repeated(v, at)...)
	}
	return out
}

// ids finds ids that are malformed or used twice anywhere in the document.
func ids(root *node) []Mistake {
	var out []Mistake
	first := map[string]string{}
	var walk func(n *node, path string)
	walk = func(n *node, path string) {
		for i, v := range n.values {
			at := n.pathOf(path, i)
			if n.kind == isObject && n.keys[i] == "id" {
				was, dup := first[v.text]
				switch {
				case dup:
					out = append(out, Mistake{v.line, at, fmt.Sprintf("id %q is already used at %s", v.text, was)})
				case !ValidID(v.text):
					out = append(out, Mistake{v.line, at,
						fmt.Sprintf("%q is not an id; use small letters, digits and hyphens, at most 64",
							clip(v.text))})
				default:
					first[v.text] = at
				}
			}
			walk(v, at)
		}
	}
	walk(root, "")
	return out
}

// ValidID reports whether id is 1 to 64 of a-z, 0-9 and hyphen, no hyphen first.
func ValidID(id string) bool {
	if id == "" || len(id) > 64 || id[0] == '-' {
		return false
	}
	return strings.Trim(id, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// clip keeps what is quoted in a mistake short.
func clip(s string) string {
	const most = 80
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

// clipPath keeps a path to a key that somebody made up short.
func clipPath(path string) string {
	at := strings.LastIndexByte(path, '.') + 1
	return path[:at] + clip(path[at:])
}
