package internet

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"lithos/core/zone"
)

// AuthorityName is what the simulated certificate authority is called, in CAA records for instance.
const AuthorityName = "ca.provider.example"

// authorityServer is a certificate authority that issues nothing: it says whether it would, after it has
// looked for the proof from outside (RFC 8555 section 8.4) and for who may issue (RFC 8659).
type authorityServer struct {
	*Internet
	http *http.Server
	url  string
}

// proof is what it is asked: whether a name shows a value.
type proof struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// verdict is what it says.
type verdict struct {
	Issues bool   `json:"issues"`
	Says   string `json:"says"`
}

func (n *Internet) startAuthority() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	a := &authorityServer{Internet: n, url: "http://" + l.Addr().String()}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /would-issue", a.wouldIssue)
	a.http = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	n.authority = a
	go func() { _ = a.http.Serve(l) }()
	return nil
}

// Authority is where the certificate authority is asked.
func (n *Internet) Authority() string { return n.authority.url }

const maxProof = 4096 // octets of a request

func (a *authorityServer) wouldIssue(w http.ResponseWriter, r *http.Request) {
	var p proof
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxProof))
	if err != nil || json.Unmarshal(raw, &p) != nil || zone.CheckName(zone.Tidy(p.Name)) != nil || p.Value == "" {
		http.Error(w, "send a name and a value", http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(a.judge(zone.Tidy(p.Name), p.Value))
}

func (a *authorityServer) judge(name, value string) verdict {
	name = strings.TrimPrefix(name, "*.")
	at := "_acme-challenge." + name
	values, code := a.look(at, dns.TypeTXT)
	switch {
	case code == dns.RcodeServerFailure:
		return verdict{Says: "The servers of " + at + " do not answer."}
	case len(values) == 0:
		return verdict{Says: "From outside, " + at + " has no TXT record."}
	case !slices.Contains(values, `"`+value+`"`):
		return verdict{Says: fmt.Sprintf("From outside, %s says %s, which is another value.", at,
			strings.Join(values, " "))}
	}
	for above := name; above != ""; {
		issuers, _ := a.look(above, dns.TypeCAA)
		if len(issuers) > 0 {
			if !slices.ContainsFunc(issuers, func(v string) bool { return strings.Contains(v, AuthorityName) }) {
				return verdict{Says: fmt.Sprintf("The CAA record of %s lets others issue: %s.", above,
					strings.Join(issuers, ", "))}
			}
			break
		}
		above = zone.Above(above)
	}
	return verdict{Issues: true, Says: "The proof is there, and nothing forbids it."}
}

// look asks from the root down.
func (a *authorityServer) look(name string, typ uint16) (values []string, code int) {
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	m := a.recurse(q)
	for _, rr := range m.Answer {
		if rr.Header().Rrtype == typ {
			values = append(values, zone.DataOf(rr, ""))
		}
	}
	return values, m.Rcode
}
