package zone

import (
	"strings"

	"github.com/miekg/dns"
	"golang.org/x/net/publicsuffix"
)

// Above is the name one label above another; empty for a name of one label and for the root. A dot that is escaped
// (RFC 1035 section 5.1) is part of its label.
func Above(name string) string {
	next, end := dns.NextLabel(name, 0)
	if end {
		return ""
	}
	return name[next:]
}

// Labels counts the labels of a name; the root has none.
func Labels(name string) int {
	if name == "" {
		return 0
	}
	return dns.CountLabel(name)
}

// Octets is what a label is on the wire: what is escaped in text (RFC 1035 section 5.1) as the octets that it stands
// for.
func Octets(label string) string {
	if !strings.Contains(label, `\`) {
		return label
	}
	out := make([]byte, 0, len(label))
	for i := 0; i < len(label); i++ {
		if label[i] != '\\' || i+1 == len(label) {
			out = append(out, label[i])
			continue
		}
		if i+3 < len(label) && digits(label[i+1:i+4]) {
			out = append(out, (label[i+1]-'0')*100+(label[i+2]-'0')*10+label[i+3]-'0')
			i += 3
			continue
		}
		i++
		out = append(out, label[i])
	}
	return string(out)
}

func digits(s string) bool {
	return strings.Trim(s, "0123456789") == ""
}

// below reports whether a name ends with a domain at the dot between two labels.
func below(name, domain string) bool {
	head, ok := strings.CutSuffix(name, "."+domain)
	if !ok {
		return false
	}
	escapes := len(head) - len(strings.TrimRight(head, `\`))
	return escapes%2 == 0
}

// documented is the top-level domain that stands in documentation for those that are registered under (RFC 2606).
const documented = "example"

// Registrable is the domain of a name that somebody registers, one label below a public suffix: larkrise.example of
// www.larkrise.example. It is empty for a name that nobody can register, such as one of home.arpa.
func Registrable(name string) string {
	suffix, public := publicsuffix.PublicSuffix(name)
	if Within(name, "arpa") || !public && !strings.Contains(suffix, ".") && suffix != documented {
		return ""
	}
	domain, err := publicsuffix.EffectiveTLDPlusOne(name)
	if err != nil {
		return ""
	}
	return domain
}
