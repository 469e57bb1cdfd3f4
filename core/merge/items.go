package merge

import (
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/sheet"
	"lithos/core/site"
)

// item is what a line of a table says.
type item struct {
	number int
	text   string // of the line, as it was read
	cells  []string
	kind   string // of site
	fields map[string]string
	// of says which network the line is about.
	network, prefix string
	vlan            string
	why             string // the line cannot be taken; skip says that it says nothing
	skip            bool
	asTyped         string // the name, where it is no lawful one
}

// kinds are the words that say what a line is.
var kinds = map[string]string{
	"reservation": site.KindReservation, "reserved": site.KindReservation, "dhcp": site.KindReservation,
	"reservierung": site.KindReservation, "réservation": site.KindReservation,
	"fixed": site.KindFixedDevice, "static": site.KindFixedDevice, "fest": site.KindFixedDevice,
	"statisch": site.KindFixedDevice, "statique": site.KindFixedDevice, "fixe": site.KindFixedDevice,
	"pool": site.KindPool, "range": site.KindPool, "scope": site.KindPool, "bereich": site.KindPool,
	"plage": site.KindPool, "network": site.KindNetwork, "subnet": site.KindNetwork, "netz": site.KindNetwork,
	"réseau": site.KindNetwork, "exclusion": site.KindExclusion, "interface": site.KindInterface,
}

// items reads the lines of a table. Cells of the columns that say where a line belongs are read on where they are
// empty, as the cells of merged ones are.
func items(rows []sheet.Row, head int, columns []string) []item {
	var out []item
	above := map[string]string{}
	for i, row := range rows {
		one := item{number: row.Number, text: strings.Join(row.Cells, " · "), cells: row.Cells,
			fields: map[string]string{}}
		if i <= head {
			one.skip, one.why = true, "A heading"
			if i < head {
				one.why = "Above the heading"
			}
			out = append(out, one)
			continue
		}
		cells := map[string]string{}
		for k, cell := range row.Cells {
			if k < len(columns) && columns[k] != ColumnNothing && cell != "" {
				cells[columns[k]] = strings.TrimPrefix(cell, "'")
			}
		}
		for _, c := range []string{ColumnNetwork, ColumnVLAN, ColumnPrefix, ColumnMask} {
			if cells[c] != "" {
				above[c] = cells[c]
				if c == ColumnNetwork { // another network: what was said of the one above does not hold of it
					delete(above, ColumnVLAN)
					delete(above, ColumnPrefix)
					delete(above, ColumnMask)
				}
			}
		}
		one.read(cells, above)
		out = append(out, one)
	}
	return out
}

// read reads the cells of a line; above is what lines above it said of their network.
func (o *item) read(cells, above map[string]string) {
	if len(cells) == 0 {
		o.skip, o.why = true, "Nothing on this line"
		return
	}
	of := func(c string) string {
		if cells[c] != "" {
			return cells[c]
		}
		return above[c]
	}
	o.network, o.vlan = of(ColumnNetwork), number(of(ColumnVLAN))
	o.prefix = prefix(of(ColumnPrefix), of(ColumnMask))
	at := tidyAddress(cells[ColumnAddress])
	if last := tidyAddress(cells[ColumnLast]); last != "" && at != "" && last != at {
		at += "-" + last
	}
	if p := strings.IndexByte(at, '/'); p > 0 && o.prefix == "" {
		o.prefix, at = masked(at), at[:p]
	}
	if _, err := netip.ParseAddr(at); err == nil && o.prefix == "" && of(ColumnMask) != "" {
		o.prefix = prefix(at, of(ColumnMask))
	}
	o.kind = o.kindOf(cells, at)
	name := cells[ColumnName]
	switch o.kind {
	case site.KindNetwork:
		o.set("name", cells[ColumnNetwork])
		if cells[ColumnNetwork] == "" {
			o.set("name", name)
		}
		o.set("prefix", o.prefix)
		o.set("vlan", number(cells[ColumnVLAN]))
		o.set("gateway", tidyAddress(cells[ColumnGateway]))
		if o.prefix == "" {
			o.why = "No prefix; type one, for example 10.84.20.64/26"
		}
	case site.KindPool:
		o.set("ranges", at)
		o.set("name", name)
		o.set("note", cells[ColumnNote])
	case site.KindReservation, site.KindFixedDevice:
		o.set("address", at)
		o.mac(cells[ColumnMAC])
		o.name(name)
		if o.kind == site.KindFixedDevice {
			o.set("note", cells[ColumnNote])
		}
	case site.KindInterface, site.KindExclusion:
		o.set("address", at)
	default:
		o.why = "Neither an address nor a MAC nor a prefix"
	}
}

func (o *item) set(field, text string) {
	if text != "" {
		o.fields[field] = text
	}
}

func (o *item) mac(cell string) {
	if cell == "" {
		return
	}
	if _, err := address.ParseMAC(cell); err != nil {
		if _, notID := option.ParseIdentifier(cell); notID == nil && o.kind == site.KindReservation {
			o.set("clientId", cell)
			return
		}
		o.why = strconv.Quote(clip(cell)) + " is no MAC"
		return
	}
	o.set("mac", cell)
}

// name takes a name; one that no host can have is made one that can.
func (o *item) name(cell string) {
	if cell == "" {
		return
	}
	lawful, ok := option.LawfulLabel(cell)
	if !ok {
		o.why = strconv.Quote(clip(cell)) + " is no host name; type letters, digits and hyphens"
		return
	}
	if !strings.EqualFold(lawful, cell) {
		o.asTyped = cell
	}
	o.set("name", lawful)
}

// kindOf is what a line is: what it says, or what its cells make of it.
func (o *item) kindOf(cells map[string]string, at string) string {
	for word := range strings.FieldsSeq(strings.ToLower(cells[ColumnKind])) {
		if k, ok := kinds[word]; ok {
			return k
		}
	}
	_, one := netip.ParseAddr(at)
	switch {
	case at != "" && one != nil && strings.ContainsAny(at, "-–"):
		return site.KindPool
	case cells[ColumnMAC] != "":
		return site.KindReservation
	case at != "":
		return site.KindFixedDevice
	case cells[ColumnPrefix] != "":
		return site.KindNetwork
	}
	return ""
}

var (
	wholeNumber = regexp.MustCompile(`^(\d{1,3}(?:[.,'’   ]\d{3})+|\d+)(?:[.,]0+)?$`)
	notDigits   = regexp.MustCompile(`\D`)
)

// number is a whole number as spreadsheets of other languages write it: 24,0 and 1.024 and 1 024.
func number(cell string) string {
	t := strings.TrimSpace(strings.TrimPrefix(strings.ToLower(cell), "vlan"))
	m := wholeNumber.FindStringSubmatch(t)
	if m == nil {
		return t
	}
	return notDigits.ReplaceAllString(m[1], "")
}

// tidyAddress is an address as it is written elsewhere: 10,84,18,57 and 010.084.018.057.
func tidyAddress(cell string) string {
	words := strings.Fields(strings.NewReplacer("–", " - ", "—", " - ", "-", " - ").Replace(cell))
	for i, w := range words {
		at, bits, prefixed := strings.Cut(w, "/")
		if words[i] = address.Plain(at); prefixed {
			words[i] += "/" + bits
		}
	}
	return strings.ReplaceAll(strings.Join(words, " "), " - ", "-")
}

// prefix is a prefix of an address and its length or mask, in one cell or two.
func prefix(cell, mask string) string {
	t := tidyAddress(cell)
	if t == "" {
		return ""
	}
	if !strings.ContainsAny(t, "/ ") && mask != "" {
		t += "/" + strings.TrimPrefix(tidyAddress(mask), "/")
	}
	return masked(strings.Replace(t, " ", "/", 1))
}

// masked is a prefix without host bits; what is none is left for the reader of the field to refuse.
func masked(text string) string {
	p, err := address.ParsePrefix(text)
	if err != nil {
		return text
	}
	return p.Masked().String()
}

func clip(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}
