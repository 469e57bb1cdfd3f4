package edit

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/site"
)

// Entry is what a person typed into a form: the fields of one part as text. A
// field left out keeps its value; an empty one is cleared.
type Entry struct {
	Kind string `json:"kind" enum:"network,device,interface,pool,exclusion,reservation,fixed,class,definition,known,option,site"`
	// ID is the part to change; NewID reports whether the part is new and the
	// id one the caller made.
	ID     string            `json:"id"`
	New    bool              `json:"new,omitempty"`
	In     string            `json:"in,omitempty" doc:"kind:id of the owner of an exclusion, interface or option"`
	Fields map[string]string `json:"fields"`
}

// FieldError is what is wrong with one typed field, with what to type instead.
type FieldError struct {
	Field string `json:"field"`
	Says  string `json:"says"`
}

// FieldErrors is every field of an Entry that could not be read.
type FieldErrors []FieldError

func (f FieldErrors) Error() string {
	says := make([]string, len(f))
	for i, e := range f {
		says[i] = e.Field + ": " + e.Says
	}
	return strings.Join(says, "; ")
}

// maxWords bounds free text such as names, reasons and notes, in octets.
const maxWords = 400

// Read turns an entry into the edit it asks for; none when it changes nothing.
// The error is FieldErrors when the fields are at fault.
func Read(s *site.Site, e Entry) ([]Edit, error) {
	r := &reader{site: s, entry: e, in: site.ParseRef(e.In)}
	edit, ok := r.read()
	for name := range e.Fields {
		if len(r.known) > 0 && !slices.Contains(r.known, name) {
			r.fail(name, fmt.Sprintf("%q is not a field of %s; its fields are %s", name, e.Kind, strings.Join(r.known, ", ")))
		}
	}
	if len(r.errors) > 0 {
		slices.SortFunc(r.errors, func(a, b FieldError) int { return strings.Compare(a.Field, b.Field) })
		return nil, r.errors
	}
	if !ok {
		return nil, nil
	}
	return append([]Edit{edit}, r.followRename(edit)...), nil
}

type reader struct {
	site   *site.Site
	entry  Entry
	in     site.Ref
	errors FieldErrors
	known  []string // fields of this kind of part
}

func (r *reader) fail(field, says string) {
	r.errors = append(r.errors, FieldError{field, says})
}

// text hands a typed field to set, and records what set finds wrong with it.
func (r *reader) text(field string, set func(text string) error) {
	r.lines(field, func(text string) error {
		if err := site.CheckText(text); err != nil {
			return err
		}
		return set(text)
	})
}

// lines is text for a field of several lines.
func (r *reader) lines(field string, set func(text string) error) {
	r.known = append(r.known, field)
	text, given := r.entry.Fields[field]
	if !given {
		return
	}
	text = strings.TrimSpace(text)
	var err error
	for line := range strings.SplitSeq(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		if err == nil {
			err = site.CheckText(line)
		}
	}
	if err == nil {
		err = set(text)
	}
	if err != nil {
		r.fail(field, err.Error())
	}
}

func (r *reader) failed(field string) bool {
	return slices.ContainsFunc(r.errors, func(e FieldError) bool { return e.Field == field })
}

func (r *reader) words(field string, to *string, missing string) {
	r.text(field, func(t string) error {
		if t == "" && missing != "" {
			return fmt.Errorf("%s", missing)
		}
		if n := utf8.RuneCountInString(t); n > maxWords {
			return fmt.Errorf("has %d characters; use at most %d", n, maxWords)
		}
		*to = t
		return nil
	})
}

func (r *reader) hostname(field string, to *string, required bool) {
	r.text(field, func(t string) error {
		if t == "" && !required {
			*to = ""
			return nil
		}
		if err := option.CheckLabel(t); err != nil {
			return err
		}
		*to = strings.ToLower(t)
		return nil
	})
}

func (r *reader) address(field string, to *netip.Addr, within netip.Prefix, required bool) {
	r.text(field, func(t string) error {
		if t == "" && !required {
			*to = netip.Addr{}
			return nil
		}
		a, err := address.ParseAddr(t, within)
		if err == nil {
			*to = a
		}
		return err
	})
}

func (r *reader) mac(field string, to *address.MAC, required bool) {
	r.text(field, func(t string) error {
		if t == "" && !required {
			*to = address.MAC{}
			return nil
		}
		m, err := address.ParseMAC(t)
		if err == nil {
			*to = m
		}
		return err
	})
}

func (r *reader) vlan(field string, to *int) {
	r.text(field, func(t string) error {
		if t == "" {
			*to = 0
			return nil
		}
		n, err := strconv.Atoi(t)
		if err != nil || n < 1 || n > 4094 {
			return fmt.Errorf("%q is not a VLAN id; type a number from 1 to 4094, or nothing where untagged", t)
		}
		*to = n
		return nil
	})
}

// network resolves the network field and returns its prefix, to complete
// addresses with.
func (r *reader) network(to *string) netip.Prefix {
	r.text("network", func(t string) error {
		if _, ok := r.site.Network(t); !ok {
			return fmt.Errorf("%q is not a network of this site; choose one of the list", t)
		}
		*to = t
		return nil
	})
	if n, ok := r.site.Network(*to); ok {
		return n.Prefix
	}
	return netip.Prefix{}
}

func (r *reader) require(fields ...string) {
	for _, f := range fields {
		if _, given := r.entry.Fields[f]; r.entry.New && !given {
			r.entry.Fields[f] = ""
		}
	}
}

func (r *reader) read() (Edit, bool) {
	if r.entry.Fields == nil {
		r.entry.Fields = map[string]string{}
	}
	switch r.entry.Kind {
	case site.KindNetwork:
		r.require("name", "prefix")
		return finish(r, r.site.Network, func(n *site.Network) string { n.ID = r.entry.ID; return n.ID }, r.fillNetwork)
	case site.KindPool:
		r.require("name", "network", "ranges")
		return finish(r, r.site.Pool, func(p *site.Pool) string { p.ID = r.entry.ID; return p.ID }, r.fillPool)
	case site.KindReservation:
		r.require("network", "address")
		return finish(r, r.site.Reservation, func(v *site.Reservation) string { v.ID = r.entry.ID; return v.ID }, r.fillReservation)
	case site.KindFixedDevice:
		r.require("name", "network", "address")
		return finish(r, r.site.FixedDevice, func(f *site.FixedDevice) string { f.ID = r.entry.ID; return f.ID }, r.fillFixed)
	case site.KindInterface:
		r.require("name")
		d, ok := r.site.Device(r.in.ID)
		if !ok {
			r.fail("in", fmt.Sprintf("%q is not a device of this site; choose one of the list", r.in.ID))
			return Edit{}, false
		}
		return finish(r, among(d.Interfaces, func(i *site.Interface) string { return i.ID }),
			func(i *site.Interface) string { i.ID = r.entry.ID; return i.ID }, r.fillInterface)
	case site.KindExclusion:
		r.require("range", "reason")
		p, ok := r.site.Pool(r.in.ID)
		if !ok {
			r.fail("in", fmt.Sprintf("%q is not a pool of this site; choose one of the list", r.in.ID))
			return Edit{}, false
		}
		return finish(r, among(p.Exclusions, func(x *site.Exclusion) string { return x.ID }),
			func(x *site.Exclusion) string { x.ID = r.entry.ID; return x.ID }, func(x *site.Exclusion) { r.fillExclusion(x, p) })
	case site.KindDevice:
		r.require("name", "kind")
		return finish(r, r.site.Device, func(d *site.Device) string { d.ID = r.entry.ID; return d.ID }, r.fillDevice)
	case site.KindVendorClass:
		r.require("name", "match")
		return finish(r, r.site.VendorClass, func(c *site.VendorClass) string { c.ID = r.entry.ID; return c.ID }, r.fillClass)
	case site.KindDefinition:
		r.require("code", "name", "type")
		return finish(r, among(r.site.OptionDefinitions, func(d *site.OptionDefinition) string { return d.ID }),
			func(d *site.OptionDefinition) string { d.ID = r.entry.ID; return d.ID }, r.fillDefinition)
	case site.KindKnownClient:
		r.require("mac")
		return finish(r, among(r.site.KnownClients, func(k *site.KnownClient) string { return k.ID }),
			func(k *site.KnownClient) string { k.ID = r.entry.ID; return k.ID }, r.fillKnown)
	case KindOption:
		return r.readOption()
	case site.KindSite:
		was := identityOf(r.site)
		now := was
		r.words("name", &now.Name, "a site needs a name; type for example Kelder Bridge surgery")
		r.text("domain", func(t string) error {
			now.Domain = strings.ToLower(t)
			if t == "" {
				return nil
			}
			return option.CheckDomain(t)
		})
		r.text("timeZone", func(t string) error {
			now.TimeZone = t
			if _, err := time.LoadLocation(t); err != nil || t == "Local" {
				return fmt.Errorf("%q is not a time zone; type one of the IANA's names, for example Europe/London", t)
			}
			return nil
		})
		r.prefixes("block", &now.Block, withoutHostBits)
		return Changing(site.KindSite, r.site.ID, site.Ref{}, was, now)
	default:
		r.fail("kind", fmt.Sprintf("%q is not a part of a site", r.entry.Kind))
		return Edit{}, false
	}
}

func among[T any](list []T, id func(*T) string) func(string) (*T, bool) {
	return func(want string) (*T, bool) {
		i := slices.IndexFunc(list, func(t T) bool { return id(&t) == want })
		if i < 0 {
			return nil, false
		}
		return &list[i], true
	}
}

// finish fills a new or existing part from the entry and makes the edit of it.
func finish[T any](r *reader, find func(string) (*T, bool), setID func(*T) string, fill func(*T)) (Edit, bool) {
	var was, now T
	old, exists := find(r.entry.ID)
	switch {
	case r.entry.New && (exists || !site.ValidID(r.entry.ID)):
		r.fail("id", fmt.Sprintf("%q cannot be the id of something new", r.entry.ID))
	case !r.entry.New && !exists:
		r.fail("id", fmt.Sprintf("%s %q is not at this site; it may have been removed", r.entry.Kind, r.entry.ID))
	}
	if exists {
		was, now = *old, *old
	}
	setID(&now)
	fill(&now)
	if len(r.errors) > 0 {
		return Edit{}, false
	}
	if r.entry.New {
		return Adding(r.entry.Kind, r.entry.ID, r.in, now), true
	}
	return Changing(r.entry.Kind, r.entry.ID, r.in, was, now)
}

func withoutHostBits(p netip.Prefix) error {
	if p != p.Masked() {
		return fmt.Errorf("%s has host bits set; type %s", p, p.Masked())
	}
	return nil
}

// prefixes reads several, each of which must pass.
func (r *reader) prefixes(field string, to *[]netip.Prefix, pass func(netip.Prefix) error) {
	r.text(field, func(t string) error {
		out := []netip.Prefix{}
		for part := range strings.SplitSeq(t, ",") {
			if strings.TrimSpace(part) == "" {
				continue
			}
			p, err := address.ParsePrefix(part)
			if err == nil {
				err = pass(p)
			}
			if err != nil {
				return err
			}
			out = append(out, p)
		}
		*to = out
		return nil
	})
}

func (r *reader) fillNetwork(n *site.Network) {
	r.words("name", &n.Name, "a network needs a name; type for example Recovery")
	r.words("purpose", &n.Purpose, "")
	r.text("prefix", func(t string) error {
		p, err := address.ParsePrefix(t)
		if err == nil {
			err = withoutHostBits(p)
		}
		if err == nil && p.Bits() < 8 {
			return fmt.Errorf("%s is larger than any site's network; type a length from 8 to 32", p)
		}
		if err == nil {
			n.Prefix = p
		}
		return err
	})
	r.vlan("vlan", &n.VLAN)
	r.address("gateway", &n.Gateway, n.Prefix, false)
}

func (r *reader) fillPool(p *site.Pool) {
	r.words("name", &p.Name, "a pool needs a name; type who it is for, for example Clinic PCs")
	within := r.network(&p.Network)
	r.text("server", func(t string) error {
		if _, ok := r.site.Device(t); !ok {
			return fmt.Errorf("%q is not a device of this site; choose one of the list", t)
		}
		p.Server = t
		return nil
	})
	if n, ok := r.site.Network(p.Network); ok && p.Server == "" {
		if d, _, _, ok := r.site.InterfaceOn(n); ok {
			p.Server = d.ID
		}
	}
	r.text("ranges", func(t string) error {
		ranges, err := address.ParseRanges(t, within)
		if err == nil {
			p.Ranges = ranges
		}
		return err
	})
	r.text("enabled", func(t string) error {
		on, err := strconv.ParseBool(t)
		if err != nil {
			return fmt.Errorf("%q is neither on nor off; choose one", t)
		}
		p.Enabled = on
		return nil
	})
	r.text("forClass", func(t string) error {
		if _, ok := r.site.VendorClass(t); !ok && t != "" {
			return fmt.Errorf("%q is not a vendor class of this site; choose one of the list, or none", t)
		}
		p.ForClass = t
		return nil
	})
	r.identifier("forClient", &p.ForClient)
	r.words("note", &p.Note, "")
}

// identifier reads an optional client identifier, or the beginning of one.
func (r *reader) identifier(field string, to *string) {
	r.text(field, func(t string) error {
		if t == "" {
			*to = ""
			return nil
		}
		wire, err := option.ParseIdentifier(t)
		if err == nil {
			*to = option.FormatIdentifier(wire)
		}
		return err
	})
}

func (r *reader) fillExclusion(x *site.Exclusion, p *site.Pool) {
	var within netip.Prefix
	if n, ok := r.site.Network(p.Network); ok {
		within = n.Prefix
	}
	r.text("range", func(t string) error {
		v, err := address.ParseRange(t, within)
		if err == nil {
			x.Range = v
		}
		return err
	})
	r.words("reason", &x.Reason, "an exclusion needs a reason; type why, for example Analyser vendor, fixed by contract")
	r.text("until", func(t string) (err error) {
		x.Until = site.Date{}
		if t != "" {
			x.Until, err = site.ParseDate(t)
		}
		return err
	})
}

func (r *reader) fillReservation(v *site.Reservation) {
	within := r.network(&v.Network)
	r.address("address", &v.Address, within, true)
	r.mac("mac", &v.MAC, false)
	r.identifier("clientId", &v.Client)
	if _, unsaid := r.entry.Fields["mac"]; v.MAC.IsZero() && v.Client == "" && (unsaid || r.entry.New) && !r.failed("mac") && !r.failed("clientId") {
		r.fail("mac", "a MAC is missing; type twelve hex digits, for example 00:00:5e:00:53:1c, or give a client identifier")
	}
	r.hostname("name", &v.Name, false)
}

func (r *reader) fillFixed(f *site.FixedDevice) {
	within := r.network(&f.Network)
	r.address("address", &f.Address, within, true)
	r.mac("mac", &f.MAC, false)
	r.hostname("name", &f.Name, true)
	r.words("note", &f.Note, "")
}

// readOption sets an option of a level, or with an empty value stops setting it.
func (r *reader) readOption() (Edit, bool) {
	code, err := strconv.ParseUint(r.entry.ID, 10, 8)
	if err != nil {
		r.fail("code", fmt.Sprintf("%q is not an option code; choose one of the list", r.entry.ID))
		return Edit{}, false
	}
	scratch := *r.site
	options, ok := optionsOf(&scratch, r.in)
	if !ok {
		r.fail("in", fmt.Sprintf("%q sets no options at this site; choose one of the list", r.in))
		return Edit{}, false
	}
	now := site.Option{Code: uint8(code)}
	r.text("value", func(t string) error {
		if t == "" {
			return nil
		}
		now.Value, err = r.site.Own().Canonical(now.Code, t)
		return err
	})
	if len(r.errors) > 0 {
		return Edit{}, false
	}
	i := slices.IndexFunc(*options, func(o site.Option) bool { return o.Code == now.Code })
	ref := site.Ref{Kind: KindOption, ID: r.entry.ID}
	switch {
	case i < 0 && now.Value == "":
		return Edit{}, false
	case i < 0:
		return Adding(KindOption, r.entry.ID, r.in, now), true
	case now.Value == "":
		return Edit{Op: Remove, Part: ref, In: r.in, Value: mustMarshal((*options)[i])}, true
	default:
		return Changing(KindOption, r.entry.ID, r.in, (*options)[i], now)
	}
}
