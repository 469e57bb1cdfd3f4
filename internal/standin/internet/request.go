package internet

import (
	"cmp"
	"context"
	"crypto/subtle"
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humago"
	"github.com/miekg/dns"

	"lithos/core/dynamicnames"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/standin/resolve"
	"lithos/internal/zonetransfer"
)

// RequestName is where the provider takes requests over HTTPS.
const RequestName = "names.provider.example"

// Limits of requests.
const (
	maxRequest = 16 << 10 // octets of a body
	// mostAsked is how many requests a key may send in a minute.
	mostAsked  = 30
	askedAgain = time.Minute
)

// startRequests serves the requests.
func (n *Internet) startRequests() error {
	cert, err := n.ca.Certificate(RequestName)
	if err != nil {
		return err
	}
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	n.holder.operations(mux)
	n.requests = &http.Server{Handler: n.holder.faulty(mux), ReadHeaderTimeout: 5 * time.Second,
		ReadTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)}
	l := tls.NewListener(resolve.Placed(plain),
		&tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS12})
	n.web[RequestName+":443"] = plain.Addr().String()
	go func() { _ = n.requests.Serve(l) }()
	return nil
}

// Web is where the services of the internet really are, by host and port.
func (n *Internet) Web() map[string]string { return n.web }

// faulty is the provider with what it is told to get wrong.
func (h *holder) faulty(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		silent, slow, half := h.faults.Silent, h.faults.Slow, h.faults.HalfAnswers > 0
		if half {
			h.faults.HalfAnswers--
		}
		h.mu.Unlock()
		select {
		case <-time.After(slow):
		case <-r.Context().Done():
		}
		switch {
		case silent:
			<-r.Context().Done()
		case half:
			next.ServeHTTP(discarded{http.Header{}}, r)
			w.Header().Set("Content-Length", "200")
			_, _ = io.WriteString(w, `{"outcome":"chan`)
			panic(http.ErrAbortHandler)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// discarded takes an answer that nobody gets.
type discarded struct{ header http.Header }

func (d discarded) Header() http.Header         { return d.header }
func (d discarded) Write(b []byte) (int, error) { return len(b), nil }
func (d discarded) WriteHeader(int)             {}

// RequestAPI is the description of the requests in the form of OpenAPI 3.1.
func RequestAPI() ([]byte, error) {
	return new(holder).operations(http.NewServeMux()).OpenAPI().MarshalJSON()
}

// Caller is where a request comes from and the key that it carries.
type Caller struct {
	Authorization string     `header:"Authorization" doc:"Bearer and the key, or the password of the account"`
	at            netip.Addr // set by Resolve
}

// Resolve implements huma.Resolver.
func (c *Caller) Resolve(ctx huma.Context) []error {
	at, err := netip.ParseAddrPort(ctx.RemoteAddr())
	if err == nil {
		c.at = at.Addr().Unmap()
	}
	return nil
}

func (c *Caller) bearer() string {
	secret, _ := strings.CutPrefix(c.Authorization, "Bearer ")
	return secret
}

// OfZone is a zone in a path.
type OfZone struct {
	Caller
	Zone string `path:"zone" maxLength:"253" doc:"name of the zone"`
}

// OfKey is a key of it.
type OfKey struct {
	OfZone
	Key string `path:"key" maxLength:"253" doc:"name of the key"`
}

type answered[T any] struct{ Body T }

func operation(method, path, id, summary string) huma.Operation {
	return huma.Operation{Method: method, Path: path, OperationID: id, Summary: summary, MaxBodyBytes: maxRequest,
		Security: []map[string][]string{{"key": {}}}}
}

// The library has one such setting for the whole process: several that are started at once must not each write it.
func init() { huma.DefaultArrayNullable = false }

// operations registers what is asked over HTTPS.
func (h *holder) operations(mux *http.ServeMux) huma.API {
	config := huma.DefaultConfig("Outside names", "1")
	config.Info.Description = "Telling the address of a dynamic name, and the keys that may. A key is a " +
		"TSIG key (RFC 8945) as well: the same octets sign an UPDATE (RFC 2136) and are the bearer of a request."
	config.CreateHooks, config.DocsPath, config.SchemasPath = nil, "", ""
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"key": {Type: "http", Scheme: "bearer"}}
	api := humago.New(mux, config)

	type verdict struct {
		Status     int
		RetryAfter int `header:"Retry-After"`
		Body       zonetransfer.Verdict
	}
	tell := operation(http.MethodPut, "/v1/names/{name}", "tell", "Tell the address of a name")
	tell.Responses = map[string]*huma.Response{}
	huma.Register(api, tell, func(_ context.Context, in *struct {
		Caller
		Name string `path:"name" maxLength:"253" doc:"the whole name"`
		Body zonetransfer.Telling
	}) (*verdict, error) {
		status, v := h.tell(time.Now(), in.bearer(), in.at, zone.Tidy(in.Name), in.Body)
		return &verdict{status, v.After, v}, nil
	})
	own := operation(http.MethodGet, "/v1/address", "own-address", "The address that a request comes from")
	own.Security = nil
	type ownAddress struct {
		Address netip.Addr `json:"address"`
	}
	huma.Register(api, own, func(_ context.Context, in *struct{ Caller }) (*answered[ownAddress], error) {
		return &answered[ownAddress]{ownAddress{in.at}}, nil
	})
	huma.Register(api, operation(http.MethodGet, "/v1/zones/{zone}/records", "records",
		"The records of a zone, with who writes them"),
		func(_ context.Context, in *OfZone) (*answered[[]dynamicnames.Set], error) {
			return managed(h, in, func(z yang.Zone) ([]dynamicnames.Set, error) { return h.origins(z), nil })
		})
	huma.Register(api, operation(http.MethodGet, "/v1/zones/{zone}/keys", "keys", "The keys of a zone"),
		func(_ context.Context, in *OfZone) (*answered[[]dynamicnames.Key], error) {
			return managed(h, in, func(z yang.Zone) ([]dynamicnames.Key, error) { return h.keysOf(z.Name), nil })
		})
	huma.Register(api, operation(http.MethodPost, "/v1/zones/{zone}/keys", "make-key",
		"Make a key; it is shown this once"),
		func(_ context.Context, in *struct {
			OfZone
			Body zonetransfer.KeyWish
		}) (*answered[zonetransfer.MadeKey], error) {
			return managed(h, &in.OfZone, func(z yang.Zone) (zonetransfer.MadeKey, error) { return h.make(z, in.Body) })
		})
	huma.Register(api, operation(http.MethodPost, "/v1/zones/{zone}/keys/{key}/replacement", "replace-key",
		"Make a key in the place of one, which is taken for a while yet"),
		func(_ context.Context, in *struct {
			OfKey
			Body struct {
				Keep int `json:"keep" minimum:"0" maximum:"2592000" doc:"for how long the old one is taken yet, in seconds"`
			}
		}) (*answered[zonetransfer.MadeKey], error) {
			return managed(h, &in.OfZone, func(z yang.Zone) (zonetransfer.MadeKey, error) {
				return h.replaceKey(z.Name, in.Key, time.Duration(in.Body.Keep)*time.Second)
			})
		})
	huma.Register(api, operation(http.MethodDelete, "/v1/zones/{zone}/keys/{key}", "revoke-key", "End a key now"),
		func(_ context.Context, in *OfKey) (*struct{}, error) {
			_, err := managed(h, &in.OfZone, func(z yang.Zone) (struct{}, error) {
				if k, ok := h.keys[in.Key]; !ok || k.Zone != z.Name {
					return struct{}{}, huma.Error404NotFound("The zone has no key " + in.Key + ".")
				}
				delete(h.keys, in.Key)
				return struct{}{}, h.save()
			})
			return nil, err
		})
	return api
}

// managed does something to a zone for who has its account.
func managed[T any](h *holder, in *OfZone, do func(z yang.Zone) (T, error)) (*answered[T], error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := time.Now()
	if again := h.guessing(in.at, now); again > 0 {
		return nil, huma.Error429TooManyRequests(fmt.Sprintf("Too many wrong passwords; again in %d s.",
			int((again+time.Second-1)/time.Second)))
	}
	z, at := h.zone(zone.Tidy(in.Zone))
	password := h.accounts[z.Name]
	if at < 0 || password == "" || subtle.ConstantTimeCompare([]byte(password), []byte(in.bearer())) != 1 {
		h.guessed(in.at, now)
		return nil, huma.Error401Unauthorized("The account or its password is wrong.")
	}
	out, err := do(z)
	if err != nil {
		return nil, err
	}
	return &answered[T]{out}, nil
}

// tell judges and makes a request.
func (h *holder) tell(
	now time.Time, secret string, from netip.Addr, name string, t zonetransfer.Telling,
) (status int, v zonetransfer.Verdict) {
	h.mu.Lock()
	defer h.mu.Unlock()
	refused := func(status int, reason string) (int, zonetransfer.Verdict) {
		return status, zonetransfer.Verdict{Outcome: zonetransfer.Refused, Reason: reason}
	}
	if again := h.guessing(from, now); again > 0 {
		return http.StatusTooManyRequests, zonetransfer.Verdict{Outcome: zonetransfer.TooOften,
			After: int((again + time.Second - 1) / time.Second)}
	}
	k, ok := h.bearer(secret)
	if !ok {
		h.guessed(from, now)
		return refused(http.StatusUnauthorized, "nobody has this key")
	}
	if again := h.tooOften(k.Name, now); again > 0 {
		return http.StatusTooManyRequests, zonetransfer.Verdict{Outcome: zonetransfer.TooOften,
			After: int((again + time.Second - 1) / time.Second)}
	}
	if err := k.alive(now, from); err != nil {
		return refused(http.StatusForbidden, err.Error())
	}
	if zone.CheckName(name) != nil {
		return refused(http.StatusBadRequest, "the name is none; send for example home.garret.example")
	}
	z, at := h.zone(k.Zone)
	if at < 0 || !zone.Within(name, z.Name) {
		return refused(http.StatusForbidden, fmt.Sprintf("the key %s is not of the zone of %s", k.Name, name))
	}
	if len(t.Addresses) == 0 {
		t.Addresses = []netip.Addr{from}
	}
	h.uses(k.Name, now)
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(z.Name))
	if err := updateOf(m, z, name, t); err != nil {
		return refused(http.StatusBadRequest, err.Error())
	}
	if t.Follow && k.narrow() && k.allowed(name, "A") {
		h.follow([]string{name})
	}
	serial := h.serial
	code, why := h.change(k, m)
	if code != dns.RcodeSuccess {
		return refused(http.StatusForbidden, cmp.Or(why, "the server says "+dns.RcodeToString[code]))
	}
	v = zonetransfer.Verdict{Outcome: zonetransfer.Changed, Addresses: t.Addresses}
	if h.serial == serial {
		v.Outcome = zonetransfer.Unchanged
	}
	return http.StatusOK, v
}

// updateOf is a request as an UPDATE that puts each set whole.
func updateOf(m *dns.Msg, z yang.Zone, name string, t zonetransfer.Telling) error {
	all := []string{name}
	if t.Below {
		all = append(all, "*."+name)
	}
	families := map[string]bool{}
	for _, a := range t.Addresses {
		typ := zone.TypeOfAddress(a)
		if families[typ] || !a.IsValid() || a.Zone() != "" {
			return fmt.Errorf("send one address of a family")
		}
		families[typ] = true
		for _, name := range all {
			owner, _ := zone.Relative(name, z.Name)
			r := zone.Record{Owner: owner, Type: typ, Data: a.Unmap().String(), TTL: cmp.Or(t.TTL, 120)}
			rr, err := r.RR(z.Name, r.TTL)
			if err != nil {
				return err
			}
			m.RemoveRRset([]dns.RR{rr})
			m.Insert([]dns.RR{rr})
		}
	}
	return nil
}

// mostGuesses is how many wrong passwords and keys one sender may try a minute.
const mostGuesses = 10

// mostGuessers is of how many senders at once that is remembered.
const mostGuessers = 10_000

// guessing is how long a sender has to wait who tried too many wrong passwords; 0 where it may ask now.
func (h *holder) guessing(from netip.Addr, now time.Time) (again time.Duration) {
	recent := slices.DeleteFunc(h.guesses[from], func(at time.Time) bool { return now.Sub(at) >= time.Minute })
	if len(recent) == 0 {
		delete(h.guesses, from)
		return 0
	}
	if h.guesses[from] = recent; len(recent) < mostGuesses {
		return 0
	}
	return time.Minute - now.Sub(recent[0])
}

// guessed counts a wrong password or key.
func (h *holder) guessed(from netip.Addr, now time.Time) {
	if h.guesses == nil {
		h.guesses = map[netip.Addr][]time.Time{}
	}
	if len(h.guesses) >= mostGuessers {
		clear(h.guesses)
	}
	h.guesses[from] = append(h.guesses[from], now)
}

// tooOften counts a request of a key; again is how long it has to wait, 0 where it may ask now.
func (h *holder) tooOften(key string, now time.Time) (again time.Duration) {
	recent := slices.DeleteFunc(h.asked[key], func(at time.Time) bool { return now.Sub(at) >= askedAgain })
	if len(recent) >= mostAsked {
		h.asked[key] = recent
		return askedAgain - now.Sub(recent[0])
	}
	h.asked[key] = append(recent, now)
	return 0
}

// origins are the sets of a zone with who writes them.
func (h *holder) origins(z yang.Zone) []dynamicnames.Set {
	out := []dynamicnames.Set{}
	for _, r := range z.Record {
		name := zone.Absolute(r.Owner, z.Name)
		if i := slices.IndexFunc(out, func(o dynamicnames.Set) bool {
			return o.Name == name && o.Type == r.Type
		}); i >= 0 {
			out[i].Data = append(out[i].Data, r.Data)
			continue
		}
		o := dynamicnames.Set{Name: name, Type: r.Type, Data: []string{r.Data}, Origin: "hand"}
		if f, follows := h.followed[name]; follows && slices.Contains(addressTypes, r.Type) {
			o.Origin, o.Key, o.At = "following", f.Key, f.At
		}
		out = append(out, o)
	}
	return out
}

func (k Key) described() dynamicnames.Key {
	return dynamicnames.Key{Limits: k.Limits, Name: k.Name, Reads: k.Reads, Made: k.Made, Uses: k.Uses, Used: k.Used}
}

func (h *holder) keysOf(zone string) []dynamicnames.Key {
	out := []dynamicnames.Key{}
	for _, k := range h.keys {
		if k.Zone == zone {
			out = append(out, k.described())
		}
	}
	slices.SortFunc(out, func(a, b dynamicnames.Key) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// make makes a key.
func (h *holder) make(z yang.Zone, wish zonetransfer.KeyWish) (zonetransfer.MadeKey, error) {
	wish.Name = zone.Tidy(wish.Name)
	if err := zone.CheckName(wish.Name); err != nil {
		return zonetransfer.MadeKey{}, huma.Error422UnprocessableEntity("The key's name: " + err.Error() + ".")
	}
	if _, has := h.keys[wish.Name]; has {
		return zonetransfer.MadeKey{}, huma.Error422UnprocessableEntity("There is a key " + wish.Name + " already.")
	}
	for i, name := range wish.Names {
		wish.Names[i] = zone.Tidy(name)
		if !zone.Within(wish.Names[i], z.Name) {
			return zonetransfer.MadeKey{}, huma.Error422UnprocessableEntity(name + " is not in " + z.Name + ".")
		}
		if data := h.fixed(z, wish.Names[i]); len(data) > 0 && !wish.Follow {
			return zonetransfer.MadeKey{}, huma.Error409Conflict(byHand(wish.Names[i], data))
		}
	}
	k := Key{Limits: wish.Limits, Name: wish.Name, Zone: z.Name, Secret: newSecret(), Made: time.Now(),
		Reads: !wish.UpdateOnly && len(wish.Names) == 0}
	h.keys[k.Name] = k
	if wish.Follow {
		h.follow(wish.Names)
	}
	return zonetransfer.MadeKey{Key: k.described(), Secret: k.Secret}, h.save()
}

// replaceKey makes a key that may do what another may, which ends after a while.
func (h *holder) replaceKey(in, name string, keep time.Duration) (zonetransfer.MadeKey, error) {
	old, ok := h.keys[name]
	if !ok || old.Zone != in {
		return zonetransfer.MadeKey{}, huma.Error404NotFound("The zone has no key " + name + ".")
	}
	k := old
	k.Secret, k.Made, k.Uses, k.Used, k.Ends = newSecret(), time.Now(), 0, time.Time{}, time.Time{}
	base, _, _ := strings.Cut(old.Name, "-r")
	for i := 2; ; i++ {
		if k.Name = fmt.Sprintf("%s-r%d", base, i); !h.taken(k.Name) {
			break
		}
	}
	if end := k.Made.Add(keep); old.Ends.IsZero() || end.Before(old.Ends) {
		old.Ends = end
	}
	h.keys[old.Name], h.keys[k.Name] = old, k
	return zonetransfer.MadeKey{Key: k.described(), Secret: k.Secret}, h.save()
}

func (h *holder) taken(key string) bool {
	_, has := h.keys[key]
	return has
}
