package option

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
)

// CheckDomain says what is wrong with a domain name (RFC 1123 section 2.1: at
// most 253 octets, labels of 1 to 63 letters, digits and inner hyphens).
func CheckDomain(name string) error { return checkName(name, CheckLabel) }

// checkDNS is CheckDomain for names that need be no host's: their labels may hold
// underscores (RFC 2181 section 11, RFC 8552).
func checkDNS(name string) error {
	return checkName(name, func(label string) error {
		if bare := strings.ReplaceAll(label, "_", "x"); CheckLabel(bare) == nil {
			return nil
		}
		return CheckLabel(label)
	})
}

func checkName(name string, checkLabel func(string) error) error {
	name = strings.TrimSuffix(name, ".")
	if name == "" {
		return fmt.Errorf("a domain is missing; type for example kelder.larkrise.example")
	}
	if len(name) > 253 {
		return fmt.Errorf("the domain has %d characters; use at most 253", len(name))
	}
	for label := range strings.SplitSeq(name, ".") {
		if err := checkLabel(label); err != nil {
			return Meant(err, name, checkLabel)
		}
	}
	return nil
}

// NameError says that a text is no label of a host or domain name.
type NameError struct {
	Says    string
	Instead string // the nearest name there is; empty for none
}

func (e *NameError) Error() string { return e.Says }

// Meant is the error of one label of a name, with the whole name that may be meant: the labels that check refuses are
// replaced by the nearest that there are. Other errors, and nil, stay as they are.
func Meant(err error, name string, check func(label string) error) error {
	wrong, ok := errors.AsType[*NameError](err)
	if !ok {
		return err
	}
	labels := strings.Split(name, ".")
	for i, label := range labels {
		if check(label) == nil {
			continue
		}
		if labels[i], ok = LawfulLabel(label); !ok {
			return &NameError{Says: wrong.Says}
		}
	}
	return &NameError{Says: wrong.Says, Instead: strings.Join(labels, ".")}
}

// CheckLabel says what is wrong with one label of a host or domain name.
func CheckLabel(label string) error {
	if !isLabel(label) {
		instead, _ := LawfulLabel(label)
		return &NameError{fmt.Sprintf("%q is not a name; use 1 to 63 letters, digits and inner hyphens, for example %s",
			label, cmp.Or(instead, "recep-pc")), instead}
	}
	return nil
}

func isLabel(text string) bool {
	valid := text != "" && len(text) <= 63 && text[0] != '-' && text[len(text)-1] != '-'
	for _, c := range []byte(text) {
		valid = valid && (c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z')
	}
	return valid
}

// LawfulLabel is the host name (RFC 1123 section 2.1) that is nearest to some text, in
// small letters: "Plate Reader 2" becomes plate-reader-2. ok is false where nothing of
// the text can stand in one.
func LawfulLabel(text string) (label string, ok bool) {
	if isLabel(text) {
		return strings.ToLower(text), true
	}
	words := strings.FieldsFunc(plainLetters.Replace(strings.ToLower(text)), func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < '0' || c > '9')
	})
	label = strings.Join(words, "-")
	label = strings.TrimRight(label[:min(len(label), 63)], "-")
	return label, label != ""
}

// plainLetters are the letters of host names that people take for others, as they write them without.
var plainLetters = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss", "æ", "ae", "ø", "oe", "å",
	"aa",
	"é", "e", "è", "e", "ê", "e", "ë", "e", "à", "a", "á", "a", "â", "a", "ã", "a", "ç", "c", "ñ", "n", "í",
	"i",
	"î", "i",
	"ï", "i", "ó", "o", "ò", "o", "ô", "o", "õ", "o", "ú", "u", "ù", "u", "û", "u", "ł", "l", "ś", "s", "š",
	"s",
	"ž", "z",
	"č", "c", "ř", "r", "ý", "y", "'", "", "’", "")

func packDomains(names []string) ([]byte, error) {
	var wire []byte
	seen := map[string]int{} // suffix -> offset, for compression (RFC 3397 section 2)
	for _, name := range names {
		name = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(name), "."))
		if words := strings.Fields(name); len(words) > 1 {
			return nil, fmt.Errorf("%q has spaces; put commas between domains: %s", name, strings.Join(words, ", "))
		}
		if err := checkDNS(name); err != nil {
			return nil, err
		}
		rest := name
		for rest != "" {
			if at, ok := seen[rest]; ok {
				wire = append(wire, 0xc0|byte(at>>8), byte(at))
				break
			}
			if len(wire) < 0x4000 {
				seen[rest] = len(wire)
			}
			label, tail, _ := strings.Cut(rest, ".")
			wire = append(append(wire, byte(len(label))), label...)
			rest = tail
		}
		if rest == "" {
			wire = append(wire, 0)
		}
	}
	return wire, nil
}

func unpackDomains(wire []byte) ([]string, error) {
	bad := fmt.Errorf("malformed search list")
	var names []string
	for i := 0; i < len(wire); {
		var labels []string
		total := 0
		at, jumped := i, false
		for {
			if at >= len(wire) {
				return nil, bad
			}
			n := int(wire[at])
			if n == 0 {
				if at++; !jumped {
					i = at
				}
				break
			}
			if n >= 0xc0 {
				if at+1 >= len(wire) {
					return nil, bad
				}
				to := (n&0x3f)<<8 | int(wire[at+1])
				if to >= at { // a pointer only ever points back, so no loop can form
					return nil, bad
				}
				if !jumped {
					i, jumped = at+2, true
				}
				at = to
				continue
			}
			if n > 63 || at+1+n > len(wire) || total+n+1 > 254 {
				return nil, bad
			}
			label := strings.ToLower(string(wire[at+1 : at+1+n]))
			if checkDNS(label) != nil {
				return nil, bad
			}
			labels, total, at = append(labels, label), total+n+1, at+1+n
		}
		if len(labels) == 0 {
			return nil, bad
		}
		names = append(names, strings.Join(labels, "."))
	}
	if len(names) == 0 {
		return nil, bad
	}
	return names, nil
}
