package zone

import (
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// The most that a zone or hosts file holds.
const (
	MaxFile    = 32 << 20 // octets
	MaxRecords = 200_000
)

// Left is a line of a file that could not be taken, with why. Line is 0 where the file does not say.
type Left struct {
	Line int
	Text string
	Why  string
}

// A FileError says why a file cannot be read at all. Line is counted from 1.
type FileError struct {
	Line int
	Says string
}

func (e *FileError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Says) }

// SOA is what a zone's start of authority says (RFC 1035 section 3.3.13), in seconds.
type SOA struct {
	Primary, Contact                 string
	Serial                           uint32
	Refresh, Retry, Expire, Negative int
}

// File is what a zone file holds.
type File struct {
	Origin  string
	TTL     int // $TTL, 0 where there is none
	SOA     *SOA
	Records []Record // in the order of the file
	Left    []Left   // records of types that Lithos does not keep
	// Otherwise are records that were taken otherwise than they are written, with how.
	Otherwise []Left
}

// MaxTTL is the longest that others may keep a record, in seconds: a week.
const MaxTTL = 604_800

// noTTL stands for the TTL of a record that says none, in a file that says none for all.
const noTTL = 1<<31 - 2

// Parse reads a zone file (RFC 1035 section 5.1): $ORIGIN, $TTL, parentheses, escapes and relative
// names. origin is the zone's name, which the file may also say itself; records outside it are left.
// $INCLUDE and $GENERATE are refused.
func Parse(r io.Reader, origin string) (File, error) {
	raw, err := readAll(r)
	if err != nil {
		return File{}, err
	}
	f := File{Origin: Tidy(origin)}
	if f.Origin == "" {
		if f.Origin, err = firstOrigin(raw); err != nil {
			return File{}, err
		}
	}
	if f.Origin == "" {
		return File{}, &FileError{
			1,
			"the file does not say which zone it is; begin it with $ORIGIN and the zone's name",
		}
	}
	upperDirectives(raw)
	if err := f.refuseDirectives(raw); err != nil {
		return File{}, err
	}
	err = f.parse(string(raw), bytes.Count(raw, []byte("$TTL")) == 1)
	if err != nil {
		return File{}, err
	}
	return f, nil
}

// part has the message library read a part of a file that begins on a line, where the names are relative to
// an origin and the record before was of owner. directed is that the file's $TTL came before.
func (f *File) part(raw []byte, line int, origin, owner string, directed bool) (last string, err error) {
	head := "$ORIGIN " + dns.Fqdn(origin) + "\n"
	skip := 0
	if directed { // a line that begins with a blank is of the owner before
		head += fmt.Sprintf("$TTL %d\n%s IN A 192.0.2.1\n", f.TTL, owner)
		skip = 1
	}
	first := line
	line -= strings.Count(head, "\n")
	p := dns.NewZoneParser(io.MultiReader(strings.NewReader(head), bytes.NewReader(raw)), dns.Fqdn(f.Origin), "")
	p.SetDefaultTTL(uint32(cmp.Or(f.TTL, noTTL)))
	for rr, ok := p.Next(); ok; rr, ok = p.Next() {
		if skip--; skip >= 0 {
			continue
		}
		if err := f.full(); err != nil {
			return owner, err
		}
		f.take(rr)
		owner = rr.Header().Name
	}
	if err := p.Err(); err != nil {
		return owner, parserError(raw, first, line, err)
	}
	return owner, nil
}

func (f *File) full() error {
	if len(f.Records) == MaxRecords {
		return &FileError{1, fmt.Sprintf("holds more than %d records; read it in parts", MaxRecords)}
	}
	return nil
}

// readAll reads a file, without the mark at its beginning that says it is UTF-8.
func readAll(r io.Reader) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, MaxFile+1))
	raw = bytes.TrimPrefix(raw, []byte{0xef, 0xbb, 0xbf})
	if err == nil && len(raw) > MaxFile {
		err = &FileError{1, fmt.Sprintf("the file is larger than %d MiB; read it in parts", MaxFile>>20)}
	}
	return raw, err
}

// upperDirectives writes directives in capitals, as they are looked for: they are not told apart by that (RFC 1035
// section 5.1). It writes to raw.
func upperDirectives(raw []byte) {
	for line := range bytes.Lines(raw) {
		if line[0] != '$' {
			continue
		}
		for i := 1; i < len(line) && letter(line[i]); i++ {
			line[i] &^= 'a' - 'A'
		}
	}
}

func letter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// firstOrigin is the zone that a file names first; empty where it names none.
func firstOrigin(raw []byte) (string, error) {
	number := 0
	for line := range bytes.Lines(raw) {
		number++
		name, ok := originIn(string(line))
		if !ok {
			continue
		}
		if err := CheckName(Tidy(name)); err != nil {
			return "", &FileError{number, err.Error()}
		}
		return Tidy(name), nil
	}
	return "", nil
}

// originIn is the name that a line makes the origin; ok is false for a line that does not. A comment may follow it at
// once.
func originIn(line string) (name string, ok bool) {
	said, _, _ := strings.Cut(line, ";")
	words := strings.Fields(said)
	if len(words) < 2 || !strings.EqualFold(words[0], "$ORIGIN") {
		return "", false
	}
	return words[1], true
}

// refuseDirectives reads $TTL, and refuses what would read other files or make records from a pattern.
func (f *File) refuseDirectives(raw []byte) error {
	number := 0
	for line := range bytes.Lines(raw) {
		number++
		if line[0] != '$' {
			continue
		}
		words := strings.Fields(string(line))
		switch words[0] {
		case "$INCLUDE":
			return &FileError{number, "$INCLUDE is not followed; put the other file's lines here"}
		case "$GENERATE":
			return &FileError{number, "$GENERATE is not carried out; write its records out"}
		case "$TTL":
			if len(words) > 1 && f.TTL == 0 {
				if rr, err := parseRR("x. " + words[1] + " IN A 192.0.2.1"); err == nil {
					f.TTL = int(rr.Header().Ttl)
				}
				if f.TTL > MaxTTL {
					f.Otherwise = append(f.Otherwise, Left{Line: number, Text: strings.TrimSpace(string(line)),
						Why: "a TTL of more than a week is taken as one"})
				}
			}
		}
	}
	return nil
}

// parserError gives an error of the message library about a part of a file its line, in words of our own. first
// is the line of the file that the part begins on, begins that of what the library was given.
func parserError(raw []byte, first, begins int, err error) error {
	text := strings.TrimPrefix(err.Error(), "dns: ")
	line := 1
	if at := strings.LastIndex(text, "at line: "); at >= 0 {
		_, _ = fmt.Sscanf(text[at:], "at line: %d", &line)
		text = strings.TrimSuffix(strings.TrimSpace(text[:at]), ",")
	}
	lines := bytes.Split(raw, []byte{'\n'})
	if at := begins + line - 1 - first; at >= 0 && at < len(lines) {
		text = fmt.Sprintf("%q cannot be read: %s", clip(strings.TrimSpace(string(lines[at]))), text)
	}
	return &FileError{max(1, begins+line-1), text}
}

func (f *File) take(rr dns.RR) {
	h := rr.Header()
	typ := dns.TypeToString[h.Rrtype]
	owner, inside := Relative(Tidy(h.Name), f.Origin)
	left := func(why string) {
		f.Left = append(f.Left, Left{Text: strings.ReplaceAll(rr.String(), "\t", " "), Why: why})
	}
	if soa, ok := rr.(*dns.SOA); ok && owner == Apex {
		f.SOA = &SOA{Tidy(soa.Ns), Tidy(soa.Mbox), soa.Serial, int(soa.Refresh), int(soa.Retry), int(soa.Expire),
			int(soa.Minttl)}
		return
	}
	if _, known := kindOf(typ); !known {
		left(typ + " records are not kept")
		return
	}
	if !inside {
		left("it is not in " + f.Origin)
		return
	}
	if h.Class != dns.ClassINET {
		left("its class is not IN")
		return
	}
	data, err := ReadData(typ, DataOf(rr, f.Origin), f.Origin)
	if err == nil && owner != Apex {
		err = CheckName(owner)
	}
	if err != nil {
		left(err.Error())
		return
	}
	r := Record{Owner: owner, Type: typ, Data: data, TTL: int(h.Ttl)}
	otherwise := func(ttl int, how string) {
		r.TTL = ttl
		f.Otherwise = append(f.Otherwise, Left{Text: strings.ReplaceAll(rr.String(), "\t", " "), Why: how})
	}
	switch {
	case r.TTL == f.TTL && f.TTL != 0, r.TTL == noTTL:
		r.TTL = 0
	case r.TTL == 0:
		otherwise(1, "a TTL of 0 is taken as 1 second")
	case r.TTL > MaxTTL:
		otherwise(MaxTTL, fmt.Sprintf("a TTL of %d seconds is taken as a week", h.Ttl))
	}
	f.Records = append(f.Records, r)
}

// Sort puts records in the order in which they are written: the zone itself first, then by name and
// type.
func Sort(list []Record) {
	slices.SortStableFunc(list, func(a, b Record) int {
		return cmp.Or(cmp.Compare(apexFirst(a.Owner), apexFirst(b.Owner)), cmp.Compare(a.Owner, b.Owner),
			cmp.Compare(order(a.Type), order(b.Type)), cmp.Compare(a.Data, b.Data))
	})
}

func apexFirst(owner string) int {
	if owner == Apex {
		return 0
	}
	return 1
}

func order(typ string) int {
	return slices.IndexFunc(kinds, func(k kind) bool { return k.name == typ })
}

// Write writes a zone file that Parse reads back as it was.
func (f File) Write(w io.Writer) error {
	out := bufio.NewWriter(w)
	fmt.Fprintf(out, "$ORIGIN %s\n", dns.Fqdn(f.Origin))
	if f.TTL != 0 {
		fmt.Fprintf(out, "$TTL %d\n", f.TTL)
	}
	if s := f.SOA; s != nil {
		fmt.Fprintf(out, "@ IN SOA %s %s ( %d %d %d %d %d )\n", dns.Fqdn(s.Primary), dns.Fqdn(s.Contact), s.Serial,
			s.Refresh, s.Retry, s.Expire, s.Negative)
	}
	for _, r := range f.Records {
		data, err := expand(r.Type, r.Data, f.Origin)
		if err != nil {
			return err
		}
		ttl := ""
		if r.TTL != 0 {
			ttl = fmt.Sprintf("%d ", r.TTL)
		}
		fmt.Fprintf(out, "%s %sIN %s %s\n", r.Owner, ttl, r.Type, data)
	}
	return out.Flush()
}

// Host is a line of a hosts file: an address and its names, the first of which it is called by.
type Host struct {
	Address netip.Addr
	Names   []string
}

// ParseHosts reads a hosts file: an address and names on each line, # before what is a comment.
func ParseHosts(r io.Reader) (hosts []Host, left []Left, err error) {
	raw, err := readAll(r)
	if err != nil {
		return nil, nil, err
	}
	number := 0
	for line := range bytes.Lines(raw) {
		number++
		text, _, _ := strings.Cut(string(line), "#")
		words := strings.Fields(text)
		if len(words) == 0 {
			continue
		}
		leave := func(why string) { left = append(left, Left{number, strings.TrimSpace(text), why}) }
		a, err := netip.ParseAddr(words[0])
		switch {
		case err != nil || a.Zone() != "":
			leave(fmt.Sprintf("%q is not an address", clip(words[0])))
			continue
		case len(words) == 1:
			leave("it has no name")
			continue
		case len(hosts) == MaxRecords:
			return nil, nil, &FileError{number, fmt.Sprintf("holds more than %d lines; read it in parts", MaxRecords)}
		}
		h := Host{Address: a}
		for _, w := range words[1:] {
			name := Tidy(w)
			if err := CheckName(name); err != nil {
				leave(err.Error())
				continue
			}
			h.Names = append(h.Names, name)
		}
		if len(h.Names) > 0 {
			hosts = append(hosts, h)
		}
	}
	return hosts, left, nil
}

// WriteHosts writes a hosts file that ParseHosts reads back as it was.
func WriteHosts(w io.Writer, hosts []Host) error {
	out := bufio.NewWriter(w)
	for _, h := range hosts {
		fmt.Fprintf(out, "%s\t%s\n", h.Address, strings.Join(h.Names, " "))
	}
	return out.Flush()
}
