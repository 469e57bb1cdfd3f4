// Package device drives real devices: it reads what they hold, carries out the
// steps of a plan under a timed confirm, and attaches test clients.
package device

import (
	"cmp"

	"bytes"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"lithos/core/plan"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/outbound"
)

// Access is how a device is reached.
type Access struct {
	URL         string // https://host:port
	Account     string
	Password    string
	Fingerprint []byte // SHA-256 of the device's certificate; nothing else is trusted
}

// What is read of one answer at most. Entries are bounded by themselves: a few octets of an answer are a few hundred of
// memory.
const (
	maxAnswer  = 16 << 20 // octets
	maxEntries = 100_000  // of lists: leases, reservations, records
)

// RefusedError is a device's own word that it will not do something.
type RefusedError struct {
	Status int // of HTTP
	Says   string
}

func (e *RefusedError) Error() string { return e.Says }

// RESTCONF speaks RFC 8040 to one device. It is safe for concurrent use.
type RESTCONF struct {
	access Access
	to     outbound.Rule
	client *http.Client

	mu      sync.Mutex
	servers map[netip.Addr]bool // DHCP servers that answered its test clients
	at      string              // where it answered last
	also    string              // where it may be found instead; empty for nowhere else
}

// NewRESTCONF prepares to speak to a device; nothing is sent yet. to says where may be connected to.
func NewRESTCONF(a Access, to outbound.Rule) *RESTCONF {
	// The chain of a device's own certificate proves nothing; its pinned
	// fingerprint does, and is checked before anything is sent.
	trust := &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12,
		VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
			if len(raw) == 0 {
				return errors.New("the device shows no certificate")
			}
			sum := sha256.Sum256(raw[0])
			if subtle.ConstantTimeCompare(sum[:], a.Fingerprint) != 1 {
				return errors.New("the device shows another certificate than the one recorded for it")
			}
			return nil
		}}
	return &RESTCONF{access: a, to: to, at: a.URL, servers: map[netip.Addr]bool{}, client: &http.Client{
		Timeout: 15 * time.Second,
		Transport: &http.Transport{TLSClientConfig: trust, MaxIdleConnsPerHost: 2, IdleConnTimeout: 30 * time.Second,
			DialContext: to.ToDevices(10 * time.Second).DialContext},
		// A redirect would take the password elsewhere.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Check refuses an access that would send the password unprotected, or cannot be
// used: the address is https with a host and nothing behind it, the key is pinned.
func (a Access) Check() error {
	u, err := url.Parse(a.URL)
	switch {
	case err != nil || u.Host == "" || u.Hostname() == "":
		return errors.New("the device's address cannot be read; give it as https://192.0.2.1:443")
	case u.Scheme != "https":
		return fmt.Errorf("the device's address begins with %s; only https is used, so that its password stays secret",
			clean(u.Scheme))
	case u.User != nil:
		return errors.New("the device's address holds an account; give that on its own")
	case u.Path != "" && u.Path != "/" || u.RawQuery != "" || u.Fragment != "":
		return errors.New("the device's address goes on after its port; give only https://host:port")
	case len(a.Fingerprint) != sha256.Size:
		return errors.New(
			"the fingerprint of the device's certificate is missing; give the 64 hex digits of its SHA-256")
	case a.Account == "" || clean(a.Account) != a.Account:
		return errors.New("the account on the device is empty or holds a control character")
	case a.Password == "" || clean(a.Password) != a.Password:
		return errors.New("the password of the device is empty or holds a control character")
	}
	return nil
}

// maxText bounds a text taken from a device, in octets.
const maxText = 1000

// clean is text from a device as it can be kept and shown.
func clean(s string) string { return site.Printable(s, maxText) }

// Close ends idle connections.
func (r *RESTCONF) Close() { r.client.CloseIdleConnections() }

// The media types of what is sent: RFC 8040 section 11.3.2, RFC 8072 section 4.
const (
	mediaType = "application/yang-data+json"
	patchType = "application/yang-patch+json"
)

func (r *RESTCONF) do(ctx context.Context, method, path string, body []byte, into any) (http.Header, error) {
	return r.send(ctx, request{as: mediaType, method: method, path: path, body: body}, into)
}

// request is one request to a device.
type request struct {
	as, method, path string
	body             []byte
	known            string // the entity tag of what is known already; empty for nothing
}

// AlsoAt has the device be looked for at another address, too, where it does not answer: one it is given, or had
// before. It is known by the same certificate there.
func (r *RESTCONF) AlsoAt(url string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.also = url
}

// send sends a request where the device answered last, and where it is not found there, to the other address it may
// have.
func (r *RESTCONF) send(ctx context.Context, q request, into any) (http.Header, error) {
	r.mu.Lock()
	at, also := r.at, r.also
	r.mu.Unlock()
	header, err := r.sendTo(ctx, at, q, into)
	if err == nil || also == "" || ctx.Err() != nil || errors.As(err, new(*RefusedError)) {
		return header, err
	}
	there, failed := r.sendTo(ctx, also, q, into)
	if failed != nil && !errors.As(failed, new(*RefusedError)) {
		return header, err
	}
	r.mu.Lock()
	r.at, r.also = also, at
	r.mu.Unlock()
	return there, failed
}

func (r *RESTCONF) sendTo(ctx context.Context, at string, q request, into any) (http.Header, error) {
	access := r.access
	access.URL = at
	if err := access.Check(); err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, q.method, strings.TrimSuffix(at, "/")+q.path, bytes.NewReader(q.body))
	if err != nil {
		return nil, err
	}
	req.SetBasicAuth(r.access.Account, r.access.Password)
	req.Header.Set("Content-Type", q.as)
	if q.known != "" {
		req.Header.Set("If-None-Match", q.known)
	}
	req.Header.Set("Accept", mediaType)
	resp, err := r.client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // without the URL, which says where the device is
		}
		if refused := outbound.Refused(err); refused != nil {
			return nil, refused
		}
		if errors.Is(err, io.EOF) {
			err = errors.New("it closed the connection")
		}
		return nil, fmt.Errorf("the device does not answer: %w", err)
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, fmt.Errorf("the device's answer broke off: %w", err)
	}
	if len(answer) > maxAnswer || bytes.Count(answer, []byte("{")) > maxEntries {
		return nil, fmt.Errorf("the device tells more than Lithos reads at once: %d octets or %d entries", maxAnswer,
			maxEntries)
	}
	if resp.StatusCode >= 300 && resp.StatusCode < 400 {
		return nil, &RefusedError{resp.StatusCode,
			"the device sends Lithos to another address; record that address for it"}
	}
	if resp.StatusCode >= 400 {
		return nil, &RefusedError{resp.StatusCode, errorMessage(answer, resp.Status)}
	}
	// Something in between may answer in the device's place: what is no document of a device tells nothing of it.
	if kind, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type")); len(answer) > 0 && kind != mediaType {
		return nil, fmt.Errorf("the device's answer makes no sense: it is %s", clean(cmp.Or(kind, "of no kind")))
	}
	if into != nil {
		if err := json.Unmarshal(answer, into); err != nil {
			return nil, fmt.Errorf("the device's answer makes no sense: %w", err)
		}
	}
	return resp.Header, nil
}

// errorMessage finds the sentence in an error document (RFC 8040 section 7.1).
func errorMessage(answer []byte, status string) string {
	var doc struct {
		Errors struct {
			Error []struct {
				Message string `json:"error-message"`
			} `json:"error"`
		} `json:"ietf-restconf:errors"`
	}
	if json.Unmarshal(answer, &doc) == nil && len(doc.Errors.Error) > 0 && doc.Errors.Error[0].Message != "" {
		return clean(doc.Errors.Error[0].Message)
	}
	return "the device answers " + clean(status)
}

// Read is the running configuration with its entity tag.
func (r *RESTCONF) Read(ctx context.Context) (yang.Config, string, error) {
	c, tag, _, err := r.ReadChanged(ctx, "")
	return c, tag, err
}

// ReadChanged is Read where the device's entity tag is another than the one that is known (RFC 9110 section 13.1.2).
// changed is false where it is the same: nothing is read then.
func (r *RESTCONF) ReadChanged(ctx context.Context, known string) (c yang.Config, tag string, changed bool, err error) {
	header, err := r.send(ctx,
		request{as: mediaType, method: http.MethodGet, path: "/restconf/data", known: known}, &c)
	if err != nil {
		var refused *RefusedError
		if known != "" && errors.As(err, &refused) && refused.Status == http.StatusNotModified {
			return yang.Config{}, known, false, nil
		}
		return yang.Config{}, "", false, err
	}
	return c.Sorted(), header.Get("ETag"), true, nil
}

// Startup is what the device would hold after a restart (RFC 8527).
func (r *RESTCONF) Startup(ctx context.Context) (yang.Config, error) {
	var c yang.Config
	_, err := r.do(ctx, http.MethodGet, "/restconf/ds/ietf-datastores:startup", nil, &c)
	return c.Sorted(), err
}

// Observe is the operational state. Names in it can be kept and shown: what else a
// device sends in one is left out.
func (r *RESTCONF) Observe(ctx context.Context) (yang.Operational, error) {
	var o yang.Operational
	_, err := r.do(ctx, http.MethodGet, "/restconf/data?content=nonconfig", nil, &o)
	for i := range o.Interfaces.Interface {
		o.Interfaces.Interface[i].Name = clean(o.Interfaces.Interface[i].Name)
	}
	for i := range o.DHCP.Lease {
		l := &o.DHCP.Lease[i]
		l.HostName, l.Pool, l.State = clean(l.HostName), clean(l.Pool), clean(l.State)
	}
	o.Links.Local.SystemName = clean(o.Links.Local.SystemName)
	for i := range o.Links.Neighbor {
		l := &o.Links.Neighbor[i]
		l.Interface, l.SystemName, l.PortID = clean(l.Interface), clean(l.SystemName), clean(l.PortID)
	}
	for i := range o.DHCP.Heard {
		o.DHCP.Heard[i].Interface = clean(o.DHCP.Heard[i].Interface)
	}
	for i := range o.Stations.Station {
		o.Stations.Station[i].Interface = clean(o.Stations.Station[i].Interface)
	}
	if o.Outside != nil {
		for i := range o.Outside.Names {
			n := &o.Outside.Names[i]
			for k := range n.Attempt {
				n.Attempt[k].Says = clean(n.Attempt[k].Says)
			}
		}
	}
	if o.Resolver != nil {
		for i := range o.Resolver.Listener {
			o.Resolver.Listener[i].Program = clean(o.Resolver.Listener[i].Program)
		}
	}
	return o, err
}

func (r *RESTCONF) operate(ctx context.Context, name string, input map[string]any, into any) error {
	body, err := json.Marshal(map[string]any{"lithos-config:input": input})
	if err != nil {
		return err
	}
	_, err = r.do(ctx, http.MethodPost, "/restconf/operations/lithos-config:"+name, body, into)
	return err
}

// Begin starts a change named token. Unless Confirm follows within timeout the
// device returns to what it holds now. expected, where not empty, is the entity
// tag the running configuration must still have.
func (r *RESTCONF) Begin(ctx context.Context, token string, timeout time.Duration, expected string) error {
	return r.operate(ctx, "begin",
		map[string]any{"token": token, "timeout": int(timeout / time.Second), "expected": expected}, nil)
}

// Apply carries out one step. A step already done succeeds.
func (r *RESTCONF) Apply(ctx context.Context, s plan.Step) error {
	as := mediaType
	if s.Method == http.MethodPatch {
		as = patchType
	}
	_, err := r.send(ctx, request{as: as, method: s.Method, path: "/restconf/data" + s.Path, body: s.Body}, nil)
	var refused *RefusedError
	if s.Method == http.MethodDelete && errors.As(err, &refused) && refused.Status == http.StatusNotFound {
		return nil
	}
	return err
}

// Confirm keeps the change and writes it to startup.
func (r *RESTCONF) Confirm(ctx context.Context, token string) error {
	return r.operate(ctx, "confirm", map[string]any{"token": token}, nil)
}

// Cancel returns the device to what it held before Begin.
func (r *RESTCONF) Cancel(ctx context.Context, token string) error {
	return r.operate(ctx, "cancel", map[string]any{"token": token}, nil)
}

// ChangeState is what a device says of a change.
type ChangeState string

// The states of a change.
const (
	ChangeWaiting   ChangeState = "waiting"   // for the confirm, or for its time to run out
	ChangeConfirmed ChangeState = "confirmed" // and saved
	ChangeAbsent    ChangeState = "absent"    // it never began, was cancelled, or has returned by itself
)

// Change asks the device what became of a change.
func (r *RESTCONF) Change(ctx context.Context, token string) (ChangeState, error) {
	var out struct {
		Output struct {
			State ChangeState `json:"state"`
		} `json:"lithos-config:output"`
	}
	if err := r.operate(ctx, "change", map[string]any{"token": token}, &out); err != nil {
		return "", err
	}
	switch out.Output.State {
	case ChangeWaiting, ChangeConfirmed, ChangeAbsent:
		return out.Output.State, nil
	}
	return "", fmt.Errorf("the device says %q of the change, which means nothing", clean(string(out.Output.State)))
}

// Ping asks the device for three echo requests and counts the replies.
func (r *RESTCONF) Ping(ctx context.Context, iface string, to netip.Addr) (int, error) {
	var out struct {
		Output struct {
			Replies int `json:"replies"`
		} `json:"lithos-config:output"`
	}
	err := r.operate(ctx, "ping", map[string]any{"interface": iface, "destination": to}, &out)
	return out.Output.Replies, err
}

// KeepSecret gives the device a password to keep under a name.
func (r *RESTCONF) KeepSecret(ctx context.Context, name, value string) error {
	return r.operate(ctx, "keep-secret", map[string]any{"name": name, "value": value}, nil)
}

// TellName has the device tell an outside name that it keeps the address of its line now, whatever was told before.
// The error says why it was not taken.
func (r *RESTCONF) TellName(ctx context.Context, id string) error {
	var out struct {
		Output struct {
			Taken bool   `json:"taken"`
			Says  string `json:"says"`
		} `json:"lithos-config:output"`
	}
	if err := r.operate(ctx, "tell-name", map[string]any{"id": id}, &out); err != nil {
		return err
	}
	if !out.Output.Taken {
		return errors.New(clean(out.Output.Says))
	}
	return nil
}
