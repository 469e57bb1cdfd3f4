package zone

import (
	"bytes"
	"net/netip"
	"strconv"
	"strings"
)

// Most lines of large zones are plain: a name, an address, and perhaps a class and a TTL. They are read here,
// many times faster than by the message library, which reads everything else.

// parse reads a file: runs of plain lines itself, and what is between them by the message library. oneTTL is
// that the file has one $TTL: only behind that is what a line without a TTL has plain, too.
func (f *File) parse(raw []byte, oneTTL bool) error {
	origin, owner := f.Origin, f.Origin+"."
	number, begins, from, at := 0, 1, 0, 0 // lines and offsets: of what is left to the library
	depth, quoted := 0, false
	next := origin                   // what the lines that are left so far make the origin
	directed, before := false, false // whether the $TTL was read, and whether it was before those lines
	flush := func(to int) (err error) {
		if from < to {
			owner, err = f.part(raw[from:to], begins, origin, owner, before)
		}
		return err
	}
	for line := range bytes.Lines(raw) {
		number++
		start := at
		at += len(line)
		if depth == 0 && !quoted {
			if words := bytes.Fields(line); len(words) > 1 && string(words[0]) == "$ORIGIN" {
				next = absoluteName(string(words[1]), next)
			}
			directed = directed || bytes.HasPrefix(line, []byte("$TTL"))
			if r, name, ok := f.plain(line, next); ok && oneTTL && directed {
				if err := flush(start); err != nil {
					return err
				}
				if err := f.full(); err != nil {
					return err
				}
				f.Records = append(f.Records, r)
				origin, owner, from, begins, before = next, name, at, number+1, directed
				continue
			}
		}
		depth, quoted = nesting(line, depth, quoted)
	}
	return flush(len(raw))
}

// nesting counts the parentheses and the quotes that a line leaves open.
func nesting(line []byte, depth int, quoted bool) (int, bool) {
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == ';':
			return depth, quoted
		case c == '(':
			depth++
		case c == ')':
			depth--
		}
	}
	return depth, quoted
}

// plain reads a line that is nothing but a name, an address, and perhaps a class and a TTL; ok is false for
// any other, and for one that is wrong or not in the zone.
func (f *File) plain(line []byte, origin string) (r Record, name string, ok bool) {
	if len(line) == 0 || line[0] <= ' ' || bytes.ContainsAny(line, ";()\"\\$@*") {
		return r, "", false
	}
	words := bytes.Fields(line)
	if len(words) < 3 || len(words) > 5 || string(words[len(words)-2]) != "A" {
		return r, "", false
	}
	ttl, has := 0, false
	for _, w := range words[1 : len(words)-2] {
		if string(w) == "IN" {
			continue
		}
		n, err := strconv.ParseUint(string(w), 10, 31)
		if err != nil || has {
			return r, "", false
		}
		ttl, has = int(n), true
	}
	a, err := netip.ParseAddr(string(words[len(words)-1]))
	if err != nil || !a.Is4() {
		return r, "", false
	}
	name = absoluteName(string(words[0]), origin)
	owner, in := Relative(name, f.Origin)
	if !in || owner != Apex && CheckName(owner) != nil || len(name) > maxName {
		return r, "", false
	}
	if ttl == f.TTL {
		ttl = 0
	}
	return Record{Owner: owner, Type: "A", Data: a.String(), TTL: ttl}, name + ".", true
}

// absoluteName is a name as a file writes it, whole.
func absoluteName(text, origin string) string {
	if strings.HasSuffix(text, ".") {
		return Tidy(text)
	}
	return Tidy(text) + "." + origin
}
