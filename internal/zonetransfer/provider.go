package zonetransfer

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"time"

	"lithos/core/dynamicnames"
	"lithos/core/site"
	"lithos/internal/outbound"
)

// What a provider says over HTTPS, as docs/outside-names.json describes it.

// Outcomes of telling an address.
const (
	Changed   = "changed"
	Unchanged = "unchanged"
	Refused   = "refused"
	TooOften  = "too-often"
)

// Telling is an address for a name.
type Telling struct {
	Addresses []netip.Addr `json:"addresses,omitempty" maxItems:"2" doc:"at most one of each family; the address that the request comes from where none is given"`
	TTL       int          `json:"ttl,omitempty" minimum:"0" maximum:"604800" doc:"how long others may keep it, in seconds; 120 when not given"`
	Below     bool         `json:"below,omitempty" doc:"whether every name below it has the address, too"`
	Follow    bool         `json:"follow,omitempty" doc:"lets a record that was written by hand follow from now on; without it such a record is left alone and the request refused"`
}

// Verdict is what came of it.
type Verdict struct {
	Outcome   string       `json:"outcome" enum:"changed,unchanged,refused,too-often"`
	Reason    string       `json:"reason,omitempty" doc:"why it was refused"`
	Addresses []netip.Addr `json:"addresses,omitempty" doc:"what the name has now"`
	After     int          `json:"after,omitempty" doc:"of too-often: when to ask again, in seconds"`
}

// KeyWish is a key to be made.
type KeyWish struct {
	dynamicnames.Limits
	Name   string `json:"name" maxLength:"200" doc:"what it is called; a domain name"`
	Follow bool   `json:"follow,omitempty" doc:"lets addresses of its names that were written by hand follow from its first update"`
}

// MadeKey is a key with itself, which is shown this once.
type MadeKey struct {
	dynamicnames.Key
	Secret string `json:"secret" doc:"base64: for TSIG with hmac-sha256, -384 or -512, and as the bearer of a request"`
}

// maxAnswer is how much of an answer is read, in octets.
const maxAnswer = 1 << 20

// Web is how services are reached over HTTPS.
type Web struct {
	Trust *x509.CertPool    // whose certificates are taken; nil for those of the machine
	At    map[string]string // where a host and port really are; itself where it is not listed
	Rule  outbound.Rule     // where may be connected to
	Dial  func(ctx context.Context, network, addr string) (net.Conn, error)
}

// client reaches services; each call has its own connection, so that nothing is left open.
func (w Web) client() *http.Client {
	dial := w.Dial
	if dial == nil {
		dial = w.Rule.ToServers(patience).DialContext
	}
	return &http.Client{Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse // a key goes to nobody else
	}, Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{RootCAs: w.Trust, MinVersion: tls.VersionTLS12},
		DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			if real, ok := w.At[addr]; ok {
				addr = real
			}
			return dial(ctx, network, addr)
		}}}
}

// do sends a request; into takes the answer where the status is one of a success or of a verdict.
func (w Web) do(ctx context.Context, method, to, bearer string, in, into any) (status int, err error) {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return 0, err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, to, body)
	if err != nil {
		return 0, err
	}
	if bearer != "" {
		req.Header.Set("Authorization", "Bearer "+bearer)
	}
	req.Header.Set("Content-Type", "application/json")
	reply, err := w.client().Do(req)
	if err != nil {
		return 0, unreached(req.URL.Hostname(), err)
	}
	defer func() { _ = reply.Body.Close() }()
	raw, err := io.ReadAll(io.LimitReader(reply.Body, maxAnswer))
	if err != nil {
		return 0, unreached(req.URL.Hostname(), err)
	}
	if into != nil && len(raw) > 0 && json.Unmarshal(raw, into) == nil {
		return reply.StatusCode, nil
	}
	var problem struct{ Detail string }
	_ = json.Unmarshal(raw, &problem)
	switch {
	case (into == nil || len(raw) == 0) && reply.StatusCode < http.StatusBadRequest:
		return reply.StatusCode, nil
	case problem.Detail != "":
		return reply.StatusCode, &RefusedError{reply.StatusCode, site.Printable(problem.Detail, 300)}
	case reply.StatusCode < http.StatusBadRequest:
		return reply.StatusCode, fmt.Errorf("%s answers something that cannot be read", req.URL.Hostname())
	}
	return reply.StatusCode, &RefusedError{reply.StatusCode, "it answers " + reply.Status}
}

// unreached says in words why a service gave no answer.
func unreached(host string, err error) error {
	var timeout net.Error
	var unknown x509.UnknownAuthorityError
	var other x509.HostnameError
	refused := outbound.Refused(err)
	switch {
	case refused != nil:
		return refused
	case errors.As(err, &timeout) && timeout.Timeout():
		return fmt.Errorf("%s did not answer in time", host)
	case errors.As(err, &unknown):
		return fmt.Errorf("nobody who is trusted has signed the certificate of %s", host)
	case errors.As(err, &other):
		return fmt.Errorf("the certificate there is not that of %s", host)
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return fmt.Errorf("%s broke its answer off", host)
	}
	return fmt.Errorf("%s is not reached", host)
}

// Tell tells the address of a name with the key of it. A RefusedError says why it was not taken; after is how long
// to wait where that was asked for.
func (w Web) Tell(ctx context.Context, to, name, key string, t Telling) (v Verdict, after time.Duration, err error) {
	status, err := w.do(ctx, http.MethodPut, to+"/v1/names/"+url.PathEscape(name), key, t, &v)
	switch {
	case err != nil:
		return v, 0, err
	case v.Outcome == Changed, v.Outcome == Unchanged:
		return v, 0, nil
	case v.Outcome == TooOften:
		return v, time.Duration(v.After) * time.Second, &RefusedError{status, fmt.Sprintf(
			"it was asked too often; again in %d s", v.After)}
	case v.Outcome == Refused:
		return v, 0, &RefusedError{status, site.Printable(v.Reason, 300)}
	}
	return v, 0, &RefusedError{status, fmt.Sprintf("it answers with status %d", status)}
}

// OwnAddress asks a service which address a request comes from.
func (w Web) OwnAddress(ctx context.Context, to string) (netip.Addr, error) {
	var out struct{ Address netip.Addr }
	status, err := w.do(ctx, http.MethodGet, to, "", nil, &out)
	if err == nil && !out.Address.IsValid() {
		err = fmt.Errorf("%s tells no address (status %d)", to, status)
	}
	return out.Address, err
}

// Account is an account at a provider that makes keys.
type Account struct {
	Web
	To       string // its address
	Zone     string
	Password string
}

func (a Account) path(rest ...string) string {
	out := a.To + "/v1/zones/" + url.PathEscape(a.Zone)
	for _, r := range rest {
		out += "/" + url.PathEscape(r)
	}
	return out
}

// call asks the account for something; into has an answer of a success only.
func (a Account) call(ctx context.Context, method, to string, in, into any) error {
	var raw json.RawMessage
	status, err := a.do(ctx, method, to, a.Password, in, &raw)
	if err != nil {
		return err
	}
	if status >= http.StatusBadRequest {
		var problem struct{ Detail string }
		_ = json.Unmarshal(raw, &problem)
		if problem.Detail == "" {
			problem.Detail = fmt.Sprintf("it answers with status %d", status)
		}
		return &RefusedError{status, site.Printable(problem.Detail, 300)}
	}
	if into == nil {
		return nil
	}
	if json.Unmarshal(raw, into) != nil {
		return errors.New("it answers something that cannot be read")
	}
	return nil
}

// Keys are the keys of the zone.
func (a Account) Keys(ctx context.Context) (out []dynamicnames.Key, err error) {
	return out, a.call(ctx, http.MethodGet, a.path("keys"), nil, &out)
}

// Records are the sets of the zone with who writes them.
func (a Account) Records(ctx context.Context) (out []dynamicnames.Set, err error) {
	return out, a.call(ctx, http.MethodGet, a.path("records"), nil, &out)
}

// Make makes a key. It is a RefusedError with the code FixedRecord where it would make a record written by hand
// follow, and that is not said to be meant.
func (a Account) Make(ctx context.Context, wish KeyWish) (out MadeKey, err error) {
	return out, a.call(ctx, http.MethodPost, a.path("keys"), wish, &out)
}

// FixedRecord is the code of a RefusedError that asks whether a record written by hand shall follow from now on.
const FixedRecord = http.StatusConflict

// Replace makes a key in the place of one, which is taken for a while yet.
func (a Account) Replace(ctx context.Context, name string, keep time.Duration) (out MadeKey, err error) {
	return out, a.call(ctx, http.MethodPost, a.path("keys", name, "replacement"),
		map[string]int{"keep": int(keep / time.Second)}, &out)
}

// Revoke ends a key now.
func (a Account) Revoke(ctx context.Context, name string) error {
	return a.call(ctx, http.MethodDelete, a.path("keys", name), nil, nil)
}
