package device

import (
	"cmp"

	"github.com/miekg/dns"

	"context"
	"net/http"
	"net/netip"
	"time"

	"lithos/core/yang"
)

// Resolve asks a name server from the device, as a machine of one of its networks would. An invalid
// source is the device itself, an invalid server its own resolver. took is how long the answer took;
// problem is why there is none.
func (r *RESTCONF) Resolve(
	ctx context.Context, source, server netip.Addr, name string, typ uint16,
) (m *dns.Msg, took time.Duration, problem string, err error) {
	input := map[string]any{"name": cmp.Or(name, "."), "type": typ}
	if source.IsValid() {
		input["source"] = source
	}
	if server.IsValid() {
		input["server"] = server
	}
	var out struct {
		Output struct {
			Message      []byte `json:"message"`
			Problem      string `json:"problem"`
			Microseconds int64  `json:"microseconds"`
		} `json:"lithos-config:output"`
	}
	if err := r.operate(ctx, "resolve", input, &out); err != nil {
		return nil, 0, "", err
	}
	took = time.Duration(out.Output.Microseconds) * time.Microsecond
	if out.Output.Problem != "" {
		return nil, took, clean(out.Output.Problem), nil
	}
	m = new(dns.Msg)
	if err := m.Unpack(out.Output.Message); err != nil {
		return nil, took, "its answer cannot be read: " + clean(err.Error()), nil
	}
	return m, took, "", nil
}

// ResolverState reads what the device's resolver keeps and was asked. There is a RefusedError where it has
// none.
func (r *RESTCONF) ResolverState(ctx context.Context) (yang.ResolverState, error) {
	var doc struct {
		State yang.ResolverState `json:"lithos-resolver:resolver"`
	}
	_, err := r.do(ctx, http.MethodGet, "/restconf/data/lithos-resolver:resolver?content=nonconfig", nil, &doc)
	s := &doc.State
	for i := range s.Answer {
		a := &s.Answer[i]
		a.Name, a.Type, a.Code = clean(a.Name), clean(a.Type), clean(a.Code)
		for k := range a.Data {
			a.Data[k] = clean(a.Data[k])
		}
	}
	for i := range s.Question {
		q := &s.Question[i]
		q.From, q.Name, q.Type, q.Code = clean(q.From), clean(q.Name), clean(q.Type), clean(q.Code)
		q.Data, q.Layer = clean(q.Data), clean(q.Layer)
	}
	for i := range s.Listener {
		l := &s.Listener[i]
		l.Program, l.Protocol = clean(l.Program), clean(l.Protocol)
		for k := range l.Interface {
			l.Interface[k] = clean(l.Interface[k])
		}
	}
	return doc.State, err
}

// FlushNames makes the resolver forget a name, or every one where it is empty. It says how many answers
// that were.
func (r *RESTCONF) FlushNames(ctx context.Context, name string) (int, error) {
	var out struct {
		Output struct {
			Flushed int `json:"flushed"`
		} `json:"lithos-config:output"`
	}
	input := map[string]any{}
	if name != "" {
		input["name"] = name
	}
	err := r.operate(ctx, "flush-names", input, &out)
	return out.Output.Flushed, err
}

// WatchNames makes the resolver write questions down for a time, of whole seconds up to an hour.
func (r *RESTCONF) WatchNames(ctx context.Context, timeout time.Duration) error {
	return r.operate(ctx, "watch-names", map[string]any{"timeout": int(timeout / time.Second)}, nil)
}
