package device

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"lithos/core/yang"
	"lithos/internal/outbound"
)

// Whole is the address of a device as it is typed, with https and its port where they were left out: 192.168.1.1 is
// https://192.168.1.1:443. Another scheme is left as it is, for Check to refuse.
func Whole(typed string) string {
	text := strings.TrimSuffix(strings.TrimSpace(typed), "/")
	if !strings.Contains(text, "://") {
		text = "https://" + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "https" || u.Hostname() == "" || u.Port() != "" || strings.HasSuffix(u.Host, ":") {
		return text
	}
	u.Host += ":443"
	return u.String()
}

// greetWithin is how long a device has to show its certificate.
const greetWithin = 5 * time.Second

// Greet is the SHA-256 of the certificate that a device shows at its address. Nothing is sent to it: whether the device
// is the right one is for somebody to say who compares that with what the device itself shows. to says where may be
// connected to.
func Greet(ctx context.Context, address string, to outbound.Rule) ([]byte, error) {
	if err := (Access{URL: address, Account: "-", Password: "-", Fingerprint: make([]byte,
		sha256.Size)}).Check(); err != nil {
		return nil, err
	}
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	at := u.Host
	if u.Port() == "" {
		at = net.JoinHostPort(u.Hostname(), "443")
	}
	ctx, cancel := context.WithTimeout(ctx, greetWithin)
	defer cancel()
	// Any certificate is looked at; none is trusted by this.
	unchecked := &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, ServerName: u.Hostname()}
	dialer := tls.Dialer{NetDialer: to.ToDevices(greetWithin), Config: unchecked}
	conn, err := dialer.DialContext(ctx, "tcp", at)
	if refused := outbound.Refused(err); refused != nil {
		return nil, refused
	}
	if err != nil { // in the same words, whether a port is closed or speaks something else: this is no look around
		return nil, fmt.Errorf("no device answers over TLS at %s; are the address and the port right, and the "+
			"device up?", at)
	}
	defer func() { _ = conn.Close() }()
	shown := conn.(*tls.Conn).ConnectionState().PeerCertificates
	if len(shown) == 0 {
		return nil, errors.New("the device shows no certificate")
	}
	sum := sha256.Sum256(shown[0].Raw)
	return sum[:], nil
}

// Introduction is what a device says of itself.
type Introduction struct {
	Modules []string // that it speaks (RFC 8525), by name
	Config  yang.Config
	Own     yang.LinkSystem // what it tells its neighbours of itself
}

// Speaks reports whether the device speaks a module.
func (i Introduction) Speaks(module string) bool { return slices.Contains(i.Modules, module) }

// Introduce signs in and reads what the device is.
func (r *RESTCONF) Introduce(ctx context.Context) (Introduction, error) {
	var out Introduction
	var err error
	if out.Modules, err = r.Modules(ctx); err != nil {
		return out, err
	}
	if out.Config, _, err = r.Read(ctx); err != nil {
		return out, err
	}
	now, err := r.Observe(ctx)
	out.Own = now.Links.Local
	return out, err
}

// Modules are those that the device speaks (RFC 8525), by name.
func (r *RESTCONF) Modules(ctx context.Context) ([]string, error) {
	var doc struct {
		Library struct {
			Sets []struct {
				Modules []struct {
					Name string `json:"name"`
				} `json:"module"`
			} `json:"module-set"`
		} `json:"ietf-yang-library:yang-library"`
	}
	var out []string
	if _, err := r.do(ctx, http.MethodGet, "/restconf/data/ietf-yang-library:yang-library", nil, &doc); err != nil {
		return out, err
	}
	for _, set := range doc.Library.Sets {
		for _, m := range set.Modules {
			out = append(out, clean(m.Name))
		}
	}
	return out, nil
}

// StandinModule is spoken by simulated devices alone.
const StandinModule = "lithos-standin"

// Fault is something that is to go wrong with a simulated device, by its name in StandinModule; the rest is in what
// that says.
type Fault struct {
	Fault  string `json:"fault"`
	Amount int    `json:"amount,omitempty"`
	At     string `json:"at,omitempty"` // a port or an uplink
	Value  string `json:"value,omitempty"`
}

// Sockets is what of a simulated device can be plugged and unplugged.
type Sockets struct {
	Port []struct {
		Name string `json:"name"`
		Up   bool   `json:"up"`
	} `json:"port"`
	Line    []string `json:"line"` // uplinks whose line can be given another address
	Machine []struct {
		MAC  string `json:"hw-address"`
		Name string `json:"name"`
		At   string `json:"at"`
	} `json:"machine"`
}

// Sockets lists what of a simulated device can be plugged and unplugged.
func (r *RESTCONF) Sockets(ctx context.Context) (Sockets, error) {
	var out struct {
		Output Sockets `json:"lithos-standin:output"`
	}
	_, err := r.do(ctx, http.MethodPost, "/restconf/operations/"+StandinModule+":sockets", []byte("{}"), &out)
	s := &out.Output
	for i := range s.Port {
		s.Port[i].Name = clean(s.Port[i].Name)
	}
	for i := range s.Line {
		s.Line[i] = clean(s.Line[i])
	}
	for i := range s.Machine {
		m := &s.Machine[i]
		m.MAC, m.Name, m.At = clean(m.MAC), clean(m.Name), clean(m.At)
	}
	return *s, err
}

// Misbehave has something go wrong with a simulated device. It returns what is still to go wrong.
func (r *RESTCONF) Misbehave(ctx context.Context, f Fault) (armed []string, err error) {
	body, err := json.Marshal(map[string]any{StandinModule + ":input": f})
	if err != nil {
		return nil, err
	}
	var out struct {
		Output struct {
			Armed []string `json:"armed"`
		} `json:"lithos-standin:output"`
	}
	_, err = r.do(ctx, http.MethodPost, "/restconf/operations/"+StandinModule+":misbehave", body, &out)
	for i, name := range out.Output.Armed {
		out.Output.Armed[i] = clean(name)
	}
	return out.Output.Armed, err
}
