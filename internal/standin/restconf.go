package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"io"
	"math/big"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/dhcp"
	"lithos/core/dynamicnames"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

const (
	mediaType = "application/yang-data+json"  // RFC 8040 section 11.3.2
	patchType = "application/yang-patch+json" // RFC 8072 section 4
	maxBody   = 4 << 20
)

func (d *Device) routes() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/host-meta", hostMeta)
	mux.HandleFunc("GET /restconf", root)
	mux.HandleFunc("GET /restconf/yang-library-version", func(w http.ResponseWriter, _ *http.Request) {
		write(w, http.StatusOK, map[string]string{"ietf-restconf:yang-library-version": library})
	})
	mux.HandleFunc("GET /restconf/data", d.get)
	mux.HandleFunc("GET /restconf/data/{path...}", d.getBelow)
	mux.HandleFunc("GET /restconf/ds/ietf-datastores:startup",
		func(w http.ResponseWriter, _ *http.Request) { write(w, http.StatusOK, d.Startup()) })
	mux.HandleFunc("PUT /restconf/data/{path...}", d.edit)
	mux.HandleFunc("DELETE /restconf/data/{path...}", d.edit)
	mux.HandleFunc("PATCH /restconf/data", d.edit)
	mux.HandleFunc("POST /restconf/operations/{name}", d.operate)
	mux.HandleFunc("POST "+misbehave, d.misbehave)
	mux.HandleFunc("POST "+listSockets, d.listsSockets)
	return d.failing(d.authorised(mux))
}

func (d *Device) authorised(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d.mu.Lock()
		own := d.config.Password
		d.mu.Unlock()
		account, password, _ := r.BasicAuth()
		same := subtle.ConstantTimeCompare([]byte(account),
			[]byte(d.config.Account)) & subtle.ConstantTimeCompare([]byte(password), []byte(own))
		if same != 1 {
			w.Header().Set("WWW-Authenticate", `Basic realm="device"`)
			refuse(w, http.StatusUnauthorized, "access-denied", "The account or password is wrong.")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func write(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// refuse answers with the error document of RFC 8040 section 7.1.
func refuse(w http.ResponseWriter, status int, tag, message string) {
	refuseAt(w, status, tag, "", message)
}

// refuseAt is refuse for what is wrong at one node.
func refuseAt(w http.ResponseWriter, status int, tag, path, message string) {
	type item struct {
		Type    string `json:"error-type"`
		Tag     string `json:"error-tag"`
		Path    string `json:"error-path,omitempty"`
		Message string `json:"error-message"`
	}
	kind := "application"
	if tag == "malformed-message" || tag == "access-denied" || status == http.StatusUnsupportedMediaType {
		kind = "protocol"
	}
	write(w, status,
		map[string]any{"ietf-restconf:errors": map[string][]item{"error": {{kind, tag, path, message}}}})
}

// tagOf is the entity tag of a configuration (RFC 8040 section 3.4.1.2).
func tagOf(c yang.Config) string {
	raw, err := json.Marshal(c.Sorted())
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(raw)
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

func (d *Device) get(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if r.URL.Query().Get("content") == "nonconfig" {
		write(w, http.StatusOK, d.operational())
		return
	}
	tag := tagOf(d.running)
	w.Header().Set("ETag", tag)
	w.Header().Set("Last-Modified", d.changed.UTC().Format(http.TimeFormat))
	if none := r.Header.Get("If-None-Match"); none != "" && named(none, tag) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	write(w, http.StatusOK, d.running)
}

func (d *Device) operational() yang.Operational {
	var o yang.Operational
	for _, i := range d.running.Interfaces.Interface {
		state := yang.InterfaceState{Name: i.Name, OperStatus: "down"}
		if d.up(i) {
			state.OperStatus = "up"
		}
		state.IPv4.Address, state.IPv6.Address = d.addressesOf(i, "A"), d.addressesOf(i, "AAAA")
		for a, h := range d.heard {
			if h.on == i.Name {
				state.IPv4.Neighbor = append(state.IPv4.Neighbor, yang.Neighbor{IP: a, MAC: h.mac})
			}
		}
		o.Interfaces.Interface = append(o.Interfaces.Interface, state)
	}
	now := time.Now()
	for _, l := range d.db.Leases() {
		o.DHCP.Lease = append(o.DHCP.Lease, yang.Lease{
			Address: l.Address, MAC: l.MAC, ClientID: l.ClientID, HostName: l.HostName, Class: l.Class,
			Pool:  l.Pool,
			State: string(l.StateAt(now)), Since: l.Since, Expires: l.Expires, AnsweredBy: l.AnsweredBy,
		})
	}
	for a, h := range d.servers {
		o.DHCP.Heard = append(o.DHCP.Heard, yang.HeardServer{Address: a, MAC: h.mac, Interface: h.on, Last: h.last})
	}
	for mac, port := range d.learnt {
		o.Stations.Station = append(o.Stations.Station, yang.Station{MAC: mac, Interface: port})
	}
	o.Links.Neighbor = d.config.Links
	o.Links.Local = yang.LinkSystem{SystemName: d.config.System, Capability: capabilities[d.config.Kind]}
	for name, wire := range d.wires {
		o.Wires.Wire = append(o.Wires.Wire, yang.Wire{Interface: name, Endpoint: wire.network.LocalAddr().String(),
			Routed: wire.routed.LocalAddr().String()})
	}
	for name, plug := range d.plugs {
		o.Wires.Wire = append(o.Wires.Wire, yang.Wire{Interface: name, Endpoint: plug.conn.LocalAddr().String()})
	}
	o.Resolver, o.Outside = d.listening(), d.outsideState()
	return o
}

// capabilities are what devices of a kind say that they do (IEEE 802.1AB section 8.5.8).
var capabilities = map[string][]string{
	site.Router:   {yang.CapabilityRouter},
	site.Firewall: {yang.CapabilityRouter},
	site.L3Switch: {yang.CapabilityBridge, yang.CapabilityRouter},
	site.L2Switch: {yang.CapabilityBridge},
	site.Server:   {yang.CapabilityStation},
}

// addressesOf is what an interface has now in a family: of an uplink that gets its address from a line, what that
// gives.
func (d *Device) addressesOf(i yang.Interface, typ string) []yang.Address {
	if l, given := d.lines[i.Name]; given && i.Uplink != nil {
		a := l.Of(typ)
		if !a.IsValid() {
			return nil
		}
		return []yang.Address{{IP: a, PrefixLength: a.BitLen()}}
	}
	if i.IPv4 == nil || typ != "A" {
		return nil
	}
	return i.IPv4.Address
}

// Learnt is what a line teaches an uplink.
type Learnt struct {
	Servers []netip.Addr
	Domain  string
}

// SetLearnt has the line of an uplink teach other name servers and another domain: clients are told them from
// then on, where the configuration says so.
func (d *Device) SetLearnt(uplink string, l Learnt) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.learns[uplink] = l
	d.server = dhcp.NewServer(d.withLearnt(d.running), d.db)
}

// withLearnt is a configuration with what uplinks have learnt in the place of what was recorded of it.
func (d *Device) withLearnt(c yang.Config) yang.Config {
	c.DHCP.Pool = slices.Clone(c.DHCP.Pool)
	for i := range c.DHCP.Pool {
		p := &c.DHCP.Pool[i]
		p.Option = slices.Clone(p.Option)
		for k := range p.Option {
			o := &p.Option[k]
			l, has := d.learns[o.Learnt]
			switch {
			case !has || o.Learnt == "":
			case o.Code == option.NameServers && len(l.Servers) > 0:
				o.Value = nil
				for _, a := range l.Servers {
					o.Value = append(o.Value, a.AsSlice()...)
				}
			case o.Code == option.DomainName && l.Domain != "":
				o.Value = []byte(l.Domain)
			}
		}
	}
	return c
}

func (d *Device) edit(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodDelete && !isYANG(w, r) {
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		refuse(w, http.StatusRequestEntityTooLarge, "too-big", "The body is too large.")
		return
	}
	d.mu.Lock()
	slow := d.faults.SlowWrite
	d.faults.SlowWrite = 0
	d.mu.Unlock()
	time.Sleep(slow)
	d.mu.Lock()
	d.writes++
	at := func(write int) bool { return write > 0 && d.writes == write }
	if at(d.faults.HoldWrite) {
		d.mu.Unlock()
		<-r.Context().Done()
		return
	}
	defer d.mu.Unlock()
	switch {
	case at(d.faults.ResetWrite):
		panic(http.ErrAbortHandler)
	case at(d.faults.Restart):
		d.restarts()
		panic(http.ErrAbortHandler)
	case at(d.faults.RefuseWrite):
		refuse(w, http.StatusConflict, "operation-failed", "The device has run out of memory for pools.")
		return
	}
	if why := d.unmet(r); why != "" {
		refuse(w, http.StatusPreconditionFailed, "operation-failed", why)
		return
	}
	next := d.running
	status, err := d.edited(&next, r, body)
	if err != nil {
		refuseFor(w, err)
		return
	}
	if err := d.apply(next); err != nil {
		refuse(w, http.StatusConflict, "operation-failed", err.Error())
		return
	}
	if at(d.faults.DropWrite) {
		panic(http.ErrAbortHandler)
	}
	if r.Method == http.MethodPatch {
		write(w, status, map[string]any{"ietf-yang-patch:yang-patch-status": map[string]any{"ok": []any{nil}}})
		return
	}
	w.WriteHeader(status)
}

// edited makes the change of a request in a configuration, and says with which status that is answered.
func (d *Device) edited(next *yang.Config, r *http.Request, body []byte) (status int, err error) {
	// The path is taken as it was sent: its keys may hold escaped slashes.
	path := strings.TrimPrefix(r.URL.EscapedPath(), "/restconf/data")
	switch r.Method {
	case http.MethodDelete:
		if err := next.Delete(path); err != nil {
			return 0, no(http.StatusNotFound, "invalid-value", err.Error())
		}
		return http.StatusNoContent, nil
	case http.MethodPatch:
		return http.StatusOK, d.patched(next, body)
	}
	status = http.StatusNoContent
	if !holdsNode(d.running, path) {
		status = http.StatusCreated
	}
	if err := d.schema.body(path, body); err != nil {
		return 0, err
	}
	if err := next.Put(path, body); err != nil {
		return 0, no(http.StatusBadRequest, "invalid-value", err.Error())
	}
	return status, nil
}

// patched carries a patch out on a configuration, each value of it checked against its module.
func (d *Device) patched(c *yang.Config, body []byte) error {
	p, err := yang.ReadPatch(body)
	if err != nil {
		return err
	}
	for _, e := range p.Doc.Edit {
		if e.Operation == "replace" {
			if err := d.schema.body(e.Target, e.Value); err != nil {
				return err
			}
		}
	}
	return p.Apply(c)
}

type input struct {
	Token       string     `json:"token"`
	Timeout     int        `json:"timeout"`
	Expected    string     `json:"expected"`
	Interface   string     `json:"interface"`
	Destination netip.Addr `json:"destination"`
	Source      netip.Addr `json:"source"`
	Server      netip.Addr `json:"server"`
	Type        int        `json:"type"`
	Name        string     `json:"name"`
	ID          string     `json:"id"`
	Value       string     `json:"value"`
}

func (d *Device) operate(w http.ResponseWriter, r *http.Request) {
	if !isYANG(w, r) {
		return
	}
	var doc map[string]input
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody)).Decode(&doc); err != nil {
		refuse(w, http.StatusBadRequest, "malformed-message", err.Error())
		return
	}
	in := doc["lithos-config:input"]
	if hold := d.holding(r.PathValue("name")); hold != nil {
		select {
		case <-hold:
		case <-r.Context().Done():
			return
		}
	}
	do := operations[r.PathValue("name")]
	if do == nil {
		refuse(w, http.StatusNotFound, "operation-not-supported", "There is no such operation.")
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	out, err := do(d, in)
	switch {
	case err != nil:
		refuseFor(w, err)
	case out != nil:
		write(w, http.StatusOK, map[string]any{"lithos-config:output": out})
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}

// refused is why an operation was not done, as RESTCONF tells it (RFC 8040 section 7).
type refused struct {
	status    int
	tag, says string
}

func (r *refused) Error() string { return r.says }

func no(status int, tag, says string) error { return &refused{status, tag, says} }

// operations are what a device does when asked, by name. Each is called with the device locked, and gives what it
// answers; nil for nothing.
var operations = map[string]func(d *Device, in input) (out any, err error){
	"lithos-config:begin":       (*Device).beginChange,
	"lithos-config:confirm":     func(d *Device, in input) (any, error) { return nil, d.settle(in, d.confirm, true) },
	"lithos-config:cancel":      func(d *Device, in input) (any, error) { return nil, d.settle(in, d.rollBack, false) },
	"lithos-config:change":      (*Device).changeState,
	"lithos-config:keep-secret": (*Device).takeSecret,
	"lithos-config:resolve":     (*Device).askName,
	"lithos-config:tell-name":   (*Device).tellName,
	"lithos-config:flush-names": (*Device).flushNames,
	"lithos-config:watch-names": (*Device).watchNames,
	"lithos-config:ping":        (*Device).pingTo,
}

func (d *Device) beginChange(in input) (any, error) {
	switch {
	case in.Token == "" || in.Timeout < 1 || in.Timeout > 3600:
		return nil, no(http.StatusBadRequest, "invalid-value", "A token and a timeout from 1 to 3600 seconds are "+
			"needed.")
	case in.Expected != "" && d.aside == nil && in.Expected != tagOf(d.running):
		return nil, no(http.StatusPreconditionFailed, "operation-failed",
			"The running configuration was changed by somebody else.")
	}
	if err := d.begin(in.Token, time.Duration(in.Timeout)*time.Second); err != nil {
		return nil, no(http.StatusConflict, "in-use", err.Error())
	}
	return nil, nil
}

// settle ends the change that waits, with the faults that a device may have at that.
func (d *Device) settle(in input, end func() error, confirms bool) error {
	if d.aside == nil || d.aside.token != in.Token {
		return no(http.StatusConflict, "operation-failed", "No such change is waiting to be confirmed.")
	}
	if confirms && d.faults.fails(&d.faults.ConfirmsFull) {
		return no(http.StatusInternalServerError, "operation-failed", "The startup storage is full.")
	}
	if d.faults.fails(&d.faults.SettlesLost) {
		panic(http.ErrAbortHandler)
	}
	err := end()
	if d.faults.fails(&d.faults.SettleAnswersLost) {
		panic(http.ErrAbortHandler)
	}
	return failed(err)
}

// failed is why an operation that may be done was not.
func failed(err error) error {
	if err == nil {
		return nil
	}
	return no(http.StatusInternalServerError, "operation-failed", err.Error())
}

func (d *Device) changeState(in input) (any, error) {
	out := map[string]any{"state": "absent"}
	switch {
	case d.aside != nil && d.aside.token == in.Token:
		out["state"], out["returns-in"] = "waiting", max(0, int(time.Until(d.aside.returns)/time.Second))
	case slices.Contains(d.confirmed, in.Token):
		out["state"] = "confirmed"
	}
	return out, nil
}

func (d *Device) takeSecret(in input) (any, error) {
	if in.Name == "" || in.Value == "" {
		return nil, no(http.StatusBadRequest, "invalid-value", "A name and a value are needed.")
	}
	return nil, failed(d.keepSecret(in.Name, in.Value))
}

func (d *Device) askName(in input) (any, error) {
	if in.Name != "." && zone.CheckName(in.Name) != nil || in.Type < 1 || in.Type > 65535 {
		return nil, no(http.StatusBadRequest, "invalid-value", "A name and a type are needed.")
	}
	d.mu.Unlock() // the question comes back here, or to another device
	reply, took, err := d.resolveAs(in.Source, in.Server, in.Name, uint16(in.Type))
	d.mu.Lock()
	out := map[string]any{"microseconds": took.Microseconds()}
	if err != nil {
		out["problem"] = err.Error()
	} else if raw, err := reply.Pack(); err == nil {
		out["message"] = raw
	}
	return out, nil
}

func (d *Device) tellName(in input) (any, error) {
	d.mu.Unlock()
	taken, says := d.tellNow(in.ID)
	d.mu.Lock()
	return map[string]any{"taken": taken, "says": says}, nil
}

func (d *Device) flushNames(in input) (any, error) {
	flushed := 0
	if d.names.cache != nil {
		flushed = d.names.cache.Flush(flushes(in.Name))
	}
	return map[string]int{"flushed": flushed}, nil
}

func (d *Device) watchNames(in input) (any, error) {
	if in.Timeout < 0 || in.Timeout > 3600 {
		return nil, no(http.StatusBadRequest, "invalid-value", "A timeout from 0 to 3600 seconds is needed.")
	}
	d.names.watched = time.Now().Add(time.Duration(in.Timeout) * time.Second)
	return nil, nil
}

func (d *Device) pingTo(in input) (any, error) {
	replies := d.ping(in.Interface, in.Destination)
	if from, ok := d.addressOf(in.Interface); ok && replies == 0 && !d.onSite(in.Destination) {
		d.mu.Unlock() // another device may have to be asked
		if d.config.Fabric.outside(from, d) {
			replies = 3
		}
		d.mu.Lock()
	}
	return map[string]int{"replies": replies}, nil
}

// holding is what an operation waits for before it is done, nil for nothing.
func (d *Device) holding(operation string) <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	if operation == "lithos-config:confirm" {
		return d.faults.HoldConfirm
	}
	return nil
}

// addressOf is the address of an interface.
func (d *Device) addressOf(iface string) (netip.Addr, bool) {
	for _, i := range d.running.Interfaces.Interface {
		if i.Name == iface && i.IPv4 != nil && len(i.IPv4.Address) > 0 {
			return i.IPv4.Address[0].IP, true
		}
	}
	return netip.Addr{}, false
}

// onSite reports whether an address is on a subnet of the device.
func (d *Device) onSite(a netip.Addr) bool {
	return slices.ContainsFunc(d.running.Interfaces.Interface, func(i yang.Interface) bool {
		return i.IPv4 != nil && i.Uplink == nil &&
			slices.ContainsFunc(i.IPv4.Address, func(p yang.Address) bool { return p.Prefix().Contains(a) })
	})
}

// translates reports whether packets from an address get out by an uplink whose line is up, and so whether the outside,
// where everything answers, is reached. Of several uplinks any does, so that one takes over when another's line drops.
func (d *Device) translates(from netip.Addr) bool {
	return slices.ContainsFunc(d.running.Interfaces.Interface, func(i yang.Interface) bool {
		if l, given := d.lines[i.Name]; given && l.Line == (dynamicnames.Line{}) {
			return false
		}
		return i.Uplink != nil && i.Enabled &&
			slices.ContainsFunc(i.Uplink.Translate, func(p netip.Prefix) bool { return p.Contains(from) })
	})
}

// ping counts the replies to three echo requests: the device's own addresses
// and its neighbours answer, and the outside where the uplink translates.
func (d *Device) ping(iface string, to netip.Addr) int {
	if from, ok := d.addressOf(iface); ok && !d.onSite(to) && d.translates(from) {
		return 3
	}
	for _, i := range d.running.Interfaces.Interface {
		if i.IPv4 == nil || !i.Enabled || iface != "" && i.Name != iface {
			continue
		}
		for _, a := range i.IPv4.Address {
			if a.IP == to {
				return 3
			}
			_, near := d.heard[to]
			if _, device := d.config.Fabric.holder(to); (near || device) && a.Prefix().Contains(to) {
				return 3
			}
		}
	}
	return 0
}

// Certificate makes a self-signed one; Lithos pins its fingerprint.
func Certificate(name string) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	now := time.Now()
	template := &x509.Certificate{
		SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(1, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}
