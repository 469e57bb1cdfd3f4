package edit

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"lithos/core/site"
	"lithos/core/zone"
)

// PasteNames reads many names into a zone, a line each: of a hosts file, of CSV (name, type, value, TTL),
// or of a zone file, in any mixture. There is a Line for every line, and the edits are those of the
// lines that add or change. newID makes the ids of what is added, from the line's number.
func PasteNames(s *site.Site, in, text string, newID func(line int) string) ([]Line, []Edit, error) {
	z, ok := s.Zone(in)
	if !ok {
		return nil, nil, site.FieldErrors{{Field: "in", Says: fmt.Sprintf("%q is not a zone of this site; choose one",
			in)}}
	}
	rows, err := pastedRows(text)
	if err != nil {
		return nil, nil, err
	}
	p := namePaster{zone: z, origin: z.Name, taken: map[string]int{}, alias: map[string]bool{}}
	for _, r := range z.Records {
		p.alias[r.Owner] = r.Type == "CNAME"
	}
	lines := make([]Line, len(rows))
	var edits []Edit
	rows[0] = strings.TrimPrefix(rows[0], "\ufeff")
	for i := 0; i < len(rows); i++ {
		row, more := whole(rows[i:])
		lines[i] = p.line(i+1, row, newID)
		edits = append(edits, lines[i].edits...)
		for k := range more {
			lines[i+1+k] = Line{Number: i + 2 + k, Text: rows[i+1+k], Outcome: LineSkipped,
				Says: fmt.Sprintf("Belongs to line %d", i+1)}
		}
		i += more
	}
	return lines, edits, nil
}

// whole is a line of a zone file with those that it goes on on, in parentheses (RFC 1035 section 5.1), as one. more is
// how many those are.
func whole(rows []string) (row string, more int) {
	depth, parts := 0, []string{}
	for i, text := range rows {
		text = strings.TrimRight(text, "\r")
		said, _, _ := strings.Cut(text, ";")
		if strings.Contains(text, `"`) {
			said = text // what is quoted may hold any of these
		} else {
			depth += strings.Count(said, "(") - strings.Count(said, ")")
		}
		if i == 0 && depth <= 0 {
			return text, 0
		}
		parts = append(parts, said)
		if depth <= 0 {
			return strings.NewReplacer("(", " ", ")", " ").Replace(strings.Join(parts, " ")), i
		}
	}
	return strings.TrimRight(rows[0], "\r"), 0
}

// pastedRows splits what was pasted into lines.
func pastedRows(text string) ([]string, error) {
	if len(text) > MaxPaste {
		return nil, site.FieldErrors{{Field: "text",
			Says: fmt.Sprintf("has %d octets; paste at most %d at a time", len(text), MaxPaste)}}
	}
	rows := strings.Split(strings.TrimRight(text, "\r\n"), "\n")
	if len(rows) > MaxPasteLines {
		return nil, site.FieldErrors{{Field: "text",
			Says: fmt.Sprintf("has %d lines; paste at most %d at a time", len(rows), MaxPasteLines)}}
	}
	return rows, nil
}

type namePaster struct {
	zone   *site.Zone
	origin string         // as $ORIGIN last said
	last   string         // owner of the zone-file line before
	ttl    int            // as $TTL last said; 0 for none
	taken  map[string]int // lines, by what they say
	// alias is of each name that there is whether it is an alias, which has nothing beside it (RFC 1034
	// section 3.6.2).
	alias map[string]bool
}

func (p *namePaster) line(number int, row string, newID func(line int) string) Line {
	l := Line{Number: number, Text: row, Outcome: LineRefused}
	text := strings.TrimSpace(row)
	switch {
	case text == "" || text[0] == '#' || text[0] == ';':
		l.Outcome, l.Says = LineSkipped, "Nothing on this line"
		return l
	case strings.HasPrefix(text, "$"):
		l.Outcome, l.Says = p.directive(text)
		return l
	case strings.HasPrefix(strings.ToLower(text), "name,"):
		l.Outcome, l.Says = LineSkipped, "A heading"
		return l
	}
	if a, err := netip.ParseAddr(strings.Trim(strings.Fields(text)[0], ",")); err == nil && zone.OwnAddress(a) != "" {
		l.Outcome, l.Says = LineSkipped, "Left out: "+zone.OwnAddress(a)
		return l
	}
	records, err := p.records(row)
	if err != nil {
		l.Says = sentence(err.Error())
		return l
	}
	var says []string
	for n, r := range records {
		if r.TTL == 0 {
			r.TTL = p.ttl
		}
		if l.Name == "" {
			l.Name = zone.Absolute(r.Owner, p.zone.Name)
			l.Address, _ = netip.ParseAddr(r.Data)
		}
		outcome, one, edits := p.put(number, r, n > 0 && r.Type == "A", func() string { return newID(number*100 + n) })
		says = append(says, one)
		l.edits = append(l.edits, edits...)
		if l.Outcome == LineRefused || l.Outcome == LineSame {
			l.Outcome = outcome
		}
	}
	l.Says = strings.Join(says, "; ")
	return l
}

func sentence(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// directive is about a line of a zone file that says how others are read.
func (p *namePaster) directive(text string) (outcome, says string) {
	words := strings.Fields(text)
	switch name := strings.ToUpper(words[0]); {
	case name == "$ORIGIN" && len(words) > 1:
		p.origin = zone.Tidy(words[1])
		return LineSkipped, "Names after it are in " + p.origin
	case name == "$TTL" && len(words) > 1:
		f, err := zone.Parse(strings.NewReader("$TTL "+words[1]+"\n"), p.zone.Name)
		if err != nil || f.TTL == 0 {
			return LineRefused, fmt.Sprintf("%q is not a TTL; write a number of seconds", words[1])
		}
		if p.ttl = min(f.TTL, zone.MaxTTL); p.ttl == cmp.Or(p.zone.TTL, site.DefaultTTL) {
			p.ttl = 0
		}
		return LineSkipped, fmt.Sprintf("Lines after it without a TTL have %d seconds", min(f.TTL, zone.MaxTTL))
	}
	return LineRefused, words[0] + " is not carried out; write its records out"
}

// records reads one line: of a hosts file, of CSV, or of a zone file.
func (p *namePaster) records(row string) ([]zone.Record, error) {
	words := strings.Fields(row)
	if a, err := netip.ParseAddr(words[0]); err == nil && len(words) > 1 {
		f, err := zone.Read(strings.NewReader(row), p.zone.Name)
		return oneOf(f, err, "it names nothing in "+p.zone.Name+"; "+a.String()+" needs a name of it")
	}
	if cells, err := csv.NewReader(strings.NewReader(row)).Read(); err == nil && len(cells) > 1 {
		f, err := zone.Read(strings.NewReader(row), p.zone.Name)
		return oneOf(f, err, "it cannot be read")
	}
	if strings.ContainsAny(row, "()") && !strings.Contains(row, `"`) {
		return nil, fmt.Errorf("its parentheses are not closed; close them, or write the record on one line")
	}
	if len(words) == 2 {
		if a, err := netip.ParseAddr(words[1]); err == nil && row[0] != ' ' && row[0] != '\t' { // the name first
			row = fmt.Sprintf("%s %s %s", words[0], zone.TypeOfAddress(a), a)
			words = strings.Fields(row)
		}
	}
	if err := unlike(words); err != nil && row[0] != ' ' && row[0] != '\t' {
		return nil, err
	}
	if row[0] == ' ' || row[0] == '\t' {
		row = p.last + " " + row
	}
	p.last = strings.Fields(row)[0]
	text := fmt.Sprintf("$ORIGIN %s.\n%s\n", p.origin, row)
	f, err := zone.Parse(strings.NewReader(text), p.zone.Name)
	if bad, ok := err.(*zone.FileError); ok {
		return nil, fmt.Errorf("%s", bad.Says)
	}
	return oneOf(f, err, "it is no record")
}

// unlike says why words are no line of a zone file, where none of them is a type of record.
func unlike(words []string) error {
	for _, w := range words[1:] {
		w = strings.ToUpper(w)
		if slices.Contains(zone.Types(), w) || w == "SOA" || strings.HasPrefix(w, "TYPE") ||
			dns.StringToType[w] != dns.TypeNone {
			return nil
		}
	}
	for _, w := range words {
		looks := strings.Trim(w, "0123456789.") == "" && strings.Contains(w, ".")
		if _, err := netip.ParseAddr(w); looks && err != nil {
			return fmt.Errorf("%q is no address: it has four numbers from 0 to 255", w)
		}
	}
	if len(words) == 1 {
		if _, err := netip.ParseAddr(words[0]); err == nil {
			return fmt.Errorf("%s has no name; type one behind it", words[0])
		}
		return fmt.Errorf("%q has no value; type an address behind it, or a type and its data", words[0])
	}
	return fmt.Errorf("it is no record: type a name and an address, or a name, a type such as CNAME, and its data")
}

func oneOf(f zone.File, err error, none string) ([]zone.Record, error) {
	switch {
	case err != nil:
		return nil, err
	case len(f.Records) > 0:
		return f.Records, nil
	case len(f.Left) > 0:
		return nil, fmt.Errorf("%s", f.Left[0].Why)
	case f.SOA != nil:
		return nil, fmt.Errorf("a SOA is not taken: the zone's contact and timers are in its form")
	}
	return nil, fmt.Errorf("%s", none)
}

// put decides what becomes of one record. another says that its address has a name on the same line, which counts in
// reverse.
func (p *namePaster) put(number int, r zone.Record, another bool, newID func() string) (outcome, says string,
	edits []Edit) {
	what := fmt.Sprintf("%s %s %s", r.Owner, r.Type, r.Data)
	if other, dup := p.taken[what]; dup {
		return LineSkipped, fmt.Sprintf("%s is on line %d already", what, other), nil
	}
	p.taken[what] = number
	in := site.Ref{Kind: site.KindZone, ID: p.zone.ID}
	for _, was := range p.zone.Records {
		if was.Owner != r.Owner || was.Type != r.Type {
			continue
		}
		if was.Data == r.Data && (r.TTL == 0 || was.TTL == r.TTL) {
			return LineSame, what + " is recorded already", nil
		}
		if was.Data != r.Data && r.Type != "CNAME" {
			continue // a name may have several
		}
		now := *was
		now.Data = r.Data
		if r.TTL != 0 {
			now.TTL = r.TTL
		}
		if e, differs := Changing(site.KindRecord, was.ID, in, was, &now); differs {
			return LineChanges, fmt.Sprintf("%s, was %s", what, was.Data), []Edit{e}
		}
	}
	if alias, there := p.alias[r.Owner]; there && (alias || r.Type == "CNAME") {
		return LineRefused, fmt.Sprintf("%s has other data; an alias has nothing beside it", r.Owner), nil
	}
	p.alias[r.Owner] = r.Type == "CNAME"
	id := newID()
	fresh := &site.Record{ID: id, Owner: r.Owner, Type: r.Type, Data: r.Data, TTL: r.TTL, NoReverse: another}
	if another {
		what += " (reverse names the first of the line)"
	}
	return LineAdds, what, []Edit{Adding(site.KindRecord, id, in, fresh)}
}
