package zone

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"strings"
)

// Read reads the records of a zone from a zone file, a hosts file or CSV (RFC 4180), whichever it is: a
// hosts file begins each line with an address; CSV has columns for name, type, value and TTL, which a
// first line may name.
func Read(r io.Reader, origin string) (File, error) {
	raw, err := readAll(r)
	if err != nil {
		return File{}, err
	}
	switch first := firstLine(raw); {
	case startsWithAddress(first):
		return fromHosts(raw, origin)
	case isCSV(first):
		return fromCSV(raw, origin)
	}
	return Parse(bytes.NewReader(raw), origin)
}

// firstLine is the first line that says something.
func firstLine(raw []byte) string {
	for line := range bytes.Lines(raw) {
		text := strings.TrimSpace(string(line))
		if text != "" && text[0] != '#' && text[0] != ';' {
			return text
		}
	}
	return ""
}

func startsWithAddress(line string) bool {
	words := strings.Fields(line)
	if len(words) < 2 {
		return false
	}
	_, err := netip.ParseAddr(words[0])
	return err == nil
}

func isCSV(line string) bool {
	cells := strings.Split(line, ",")
	return len(cells) >= 2 && !strings.ContainsAny(cells[0], " \t(\"")
}

func fromHosts(raw []byte, origin string) (File, error) {
	hosts, left, err := ParseHosts(bytes.NewReader(raw))
	f := File{Origin: Tidy(origin), Left: left}
	for _, h := range hosts {
		if why := OwnAddress(h.Address); why != "" {
			f.Left = append(f.Left, Left{Text: h.Address.String() + " " + strings.Join(h.Names, " "), Why: why})
			continue
		}
		typ := "A"
		if h.Address.Is6() {
			typ = "AAAA"
		}
		for _, name := range h.Names {
			owner, ok := Relative(name, f.Origin)
			if !strings.Contains(name, ".") {
				owner, ok = name, true
			}
			if !ok {
				f.Left = append(f.Left, Left{Text: h.Address.String() + " " + name, Why: "it is not in " + f.Origin})
				continue
			}
			f.Records = append(f.Records, Record{Owner: owner, Type: typ, Data: h.Address.String()})
		}
	}
	return f, err
}

// OwnAddress is why an address of a hosts file is no record's: each machine has one of its own; empty for any other.
func OwnAddress(a netip.Addr) string {
	switch {
	case a.IsLoopback():
		return "a loopback address is each machine's own"
	case a.IsLinkLocalUnicast():
		return "a link-local address means something on one link alone"
	case a.IsMulticast(), a.IsInterfaceLocalMulticast():
		return "it is the address of a group"
	case a.IsUnspecified():
		return "it is no address of a machine"
	}
	return ""
}

func fromCSV(raw []byte, origin string) (File, error) {
	f := File{Origin: Tidy(origin)}
	r := csv.NewReader(bytes.NewReader(raw))
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return f, nil
		}
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			return File{}, &FileError{wrong.Line, "it is not CSV: " + wrong.Err.Error()}
		}
		if err != nil {
			return File{}, err
		}
		line, _ := r.FieldPos(0)
		if len(f.Records) == MaxRecords {
			return File{}, &FileError{line, fmt.Sprintf("holds more than %d records; read it in parts", MaxRecords)}
		}
		if strings.EqualFold(cells[0], "name") {
			continue
		}
		record, err := csvRecord(cells, f.Origin)
		if err != nil {
			f.Left = append(f.Left, Left{line, strings.Join(cells, ","), err.Error()})
			continue
		}
		f.Records = append(f.Records, record)
	}
}

// csvRecord reads name, type, value and TTL. Without a type the value says it: an address or a name.
func csvRecord(cells []string, origin string) (Record, error) {
	if len(cells) < 2 {
		return Record{}, fmt.Errorf("it has no value")
	}
	typ, data := "", cells[1]
	if first, err := netip.ParseAddr(strings.TrimSpace(cells[0])); err == nil && len(cells) == 2 {
		if why := OwnAddress(first); why != "" {
			return Record{}, errors.New(why)
		}
		cells, data = []string{cells[1], cells[0]}, cells[0] // the address first, as in a hosts file
	}
	if len(cells) > 2 {
		typ, data = strings.ToUpper(strings.TrimSpace(cells[1])), cells[2]
	}
	var r Record
	if len(cells) > 3 && strings.TrimSpace(cells[3]) != "" {
		n, err := strconv.Atoi(strings.TrimSpace(cells[3]))
		if err != nil || n < 1 || n > 604800 {
			return r, fmt.Errorf("%q is not a TTL; write a number of seconds from 1 to 604800", clip(cells[3]))
		}
		r.TTL = n
	}
	if typ == "" {
		typ = TypeOf(data)
	}
	owner, err := ReadOwner(cells[0], origin)
	if err != nil {
		return r, err
	}
	if data, err = ReadData(typ, data, origin); err != nil {
		return r, err
	}
	r.Owner, r.Type, r.Data = owner, typ, data
	return r, nil
}

// TypeOfAddress is the type of record that holds an address.
func TypeOfAddress(a netip.Addr) string {
	if a.Unmap().Is4() {
		return "A"
	}
	return "AAAA"
}

// TypeOf is the type that a value looks like: of an address, also of one that is mistyped, else an alias. No name ends
// with a number (RFC 1123 section 2.1), and none has a colon.
func TypeOf(data string) string {
	data = strings.TrimSpace(data)
	last := data[strings.LastIndexByte(data, '.')+1:]
	_, err := strconv.ParseUint(last, 10, 64)
	switch {
	case strings.Contains(data, ":"):
		return "AAAA"
	case err == nil && strings.Contains(data, "."):
		return "A"
	}
	return "CNAME"
}
