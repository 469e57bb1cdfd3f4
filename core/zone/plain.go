package zone

import (
	"net/netip"
	"strconv"
	"strings"
)

// Most lines of large zones are plain: a name, an address, and perhaps a class and a TTL. They are read here,
// many times faster than by the message library, which reads everything else.

// parse reads a file: runs of plain lines itself, and what is between them by the message library. oneTTL is
// that the file has one $TTL: only behind that is what a line without a TTL has plain, too.
func (f *File) parse(raw string, oneTTL bool) error {
	f.Records = make([]Record, 0, min(strings.Count(raw, "\n"), MaxRecords))
	origin, owner := f.Origin, f.Origin+"."
	number, begins, from, at := 0, 1, 0, 0 // lines and offsets: of what is left to the library
	depth, quoted := 0, false
	next := origin                   // what the lines that are left so far make the origin
	directed, before := false, false // whether the $TTL was read, and whether it was before those lines
	flush := func(to int) (err error) {
		if from < to {
			owner, err = f.part([]byte(raw[from:to]), begins, origin, absoluteName(owner, f.Origin)+".", before)
		}
		return err
	}
	for line := range strings.Lines(raw) {
		number++
		start := at
		at += len(line)
		if depth == 0 && !quoted && line[0] == '$' {
			if name, ok := originIn(line); ok {
				next = absoluteName(name, next)
			}
			directed = directed || strings.HasPrefix(line, "$TTL")
		}
		if oneTTL && directed && depth == 0 && !quoted {
			if r, name, ok := f.plain(line, next); ok {
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
	err := flush(len(raw))
	if len(f.Records) == 0 {
		f.Records = nil
	}
	return err
}

// nesting counts the parentheses and the quotes that a line leaves open.
func nesting(line string, depth int, quoted bool) (int, bool) {
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
func (f *File) plain(line, origin string) (r Record, name string, ok bool) {
	at, n, ok := plainWords(strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r"))
	if !ok || n < 3 || at[n-2] != "A" {
		return r, "", false
	}
	ttl, ok := plainTTL(at[1 : n-2])
	if !ok {
		return r, "", false
	}
	data := at[n-1]
	if a, err := netip.ParseAddr(data); err != nil || !a.Is4() {
		return r, "", false
	}
	owner := at[0]
	if simple := lowerLabel(owner) && origin == f.Origin; !simple {
		owner = strings.ToLower(owner)
		if strings.HasSuffix(owner, ".") || origin != f.Origin {
			if owner, ok = Relative(absoluteName(owner, origin), f.Origin); !ok {
				return r, "", false
			}
		}
		if owner != Apex && CheckName(owner) != nil {
			return r, "", false
		}
	}
	if len(owner)+len(f.Origin) >= maxName {
		return r, "", false
	}
	if ttl == f.TTL {
		ttl = 0
	}
	if name = owner; owner == Apex {
		name = f.Origin + "."
	}
	return Record{Owner: owner, Type: "A", Data: data, TTL: ttl}, name, true
}

// plainWords are the words of a line, of which there are n; ok is false where there is anything else in it.
func plainWords(text string) (at [5]string, n int, ok bool) {
	if text == "" || text[0] <= ' ' {
		return at, 0, false
	}
	for from, i := 0, 0; i <= len(text); i++ {
		if i < len(text) {
			c := text[i]
			if special[c] {
				return at, n, false
			}
			if c != ' ' && c != '\t' {
				continue
			}
		}
		if i > from {
			if n == len(at) {
				return at, n, false
			}
			at[n] = text[from:i]
			n++
		}
		from = i + 1
	}
	return at, n, true
}

// plainTTL reads the words between a name and its type: a class, and a TTL in seconds, 0 where there is none.
func plainTTL(words []string) (ttl int, ok bool) {
	for _, w := range words {
		if w == "IN" {
			continue
		}
		seconds, err := strconv.ParseUint(w, 10, 31)
		if err != nil || ttl != 0 || seconds == 0 || seconds > MaxTTL {
			return 0, false
		}
		ttl = int(seconds)
	}
	return ttl, true
}

// lowerLabel reports whether a name is one label of small letters and digits: what most are.
func lowerLabel(name string) bool {
	for i := range len(name) {
		if c := name[i]; (c < 'a' || c > 'z') && (c < '0' || c > '9') && (c != '-' || i == 0 || i == len(name)-1) {
			return false
		}
	}
	return name != "" && len(name) <= maxLabel
}

// special are the octets of a line that the message library is to read.
var special = func() (out [256]bool) {
	for _, c := range []byte(";()\"\\$@*") {
		out[c] = true
	}
	for c := range ' ' {
		out[c] = c != '\t'
	}
	return out
}()

// absoluteName is a name as a file writes it, whole.
func absoluteName(text, origin string) string {
	if strings.HasSuffix(text, ".") {
		return Tidy(text)
	}
	return Tidy(text) + "." + origin
}
