// Package rehearse computes what a draft will do before anything is touched:
// the DHCP reply every known client would get, by running the real engine over
// real packets, and the ladder of each network.
package rehearse

import (
	"bytes"
	"cmp"
	"fmt"
	"hash/fnv"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

// Report is a rehearsal, but for the clients, of which there may be many: Run
// hands those on one by one, in the order in which they are shown.
type Report struct {
	At       time.Time `json:"at"`
	From     time.Time `json:"from,omitzero"` // what times are counted from, where that is later: the change window opens then
	Zone     string    `json:"zone"`          // the site's time zone
	Networks []Network `json:"networks"`
	Clients  int       `json:"clients"` // known ones
	Moving   int       `json:"moving"`  // of those, that are told something else
	// Known is for each thing that clients are told otherwise when all of them know.
	Known []Known `json:"known"`
}

// Known is by when all clients are told one thing that changes.
type Known struct {
	What    string    `json:"what"`            // an option's name, or address
	Clients int       `json:"clients"`         // that are told otherwise
	By      time.Time `json:"by,omitzero"`     // when the last that holds a lease renews; zero where none does
	Asking  int       `json:"asking,omitzero"` // of them, that hold no lease and learn it when they next ask
}

// Network is the ladder of one network, seen by a client plugged into it.
type Network struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	VLAN    int    `json:"vlan,omitempty"`
	Clients int    `json:"clients"` // known ones
	Rungs   []Rung `json:"rungs"`
}

// Rung states.
const (
	Pass = "pass"
	Fail = "fail"
	Skip = "skip" // cannot be tried, because a lower rung fails or by design
)

// Rung is one step of the ladder with its value or the cause of its failure.
type Rung struct {
	Name  string `json:"name" enum:"link,lease,gateway,internet,local name,outside name,reverse"`
	State string `json:"state" enum:"pass,fail,skip"`
	Value string `json:"value"` // an address or a VLAN, or the cause
	Rule  string `json:"rule,omitempty"`
}

// Client is one known client before and after.
type Client struct {
	Name    string         `json:"name"`
	MAC     address.MAC    `json:"mac,omitzero"` // zero where it is known by its identifier alone
	Network string         `json:"network"`
	On      string         `json:"on"`               // name of the network
	Before  string         `json:"before,omitempty"` // address, empty for none
	After   string         `json:"after,omitempty"`
	Moves   bool           `json:"moves"` // it is told something else, or nothing any more
	Changes []OptionChange `json:"changes,omitempty"`
	When    string         `json:"when,omitempty"` // in words
	By      time.Time      `json:"by,omitzero"`    // the moment, where its lease tells
	Reply   *dhcp.Message  `json:"reply,omitempty"`
	Why     string         `json:"why,omitempty"` // why there is no address
}

// OptionChange is one thing that a client is told otherwise.
type OptionChange struct {
	Code uint8  `json:"code,omitempty"` // of an option; 0 for its address
	What string `json:"what"`
	Was  string `json:"was,omitempty"`
	Now  string `json:"now,omitempty"`
}

// Leases is what is held now, by the id of the serving device.
type Leases map[string][]dhcp.Lease

// Start is what a rehearsal compares with.
type Start struct {
	Now   time.Time
	Opens time.Time  // when the push may start at the earliest; zero for now
	Site  *site.Site // as it stands
	// Running is what devices hold and tell by now, by id, where that may be something else than the site says.
	Running map[string]yang.Config
	// Beside are the programs that listen for names beside the resolvers, by device id, as they were last read.
	Beside map[string][]yang.Program
}

// Run rehearses draft against base and gives each known client to each: those of
// networks that go or are renumbered first. An error of each ends it. leases is the
// observed state, as base has it; the time decides which of them still stand.
func Run(start Start, draft *site.Site, leases Leases, each func(Client) error) (Report, error) {
	now, base, opens := start.Now, start.Site, start.Opens
	r := Report{At: now, Zone: draft.TimeZone, Networks: []Network{}, Known: []Known{}}
	from := now
	if opens.After(now) {
		r.From, from = opens, opens
	}
	before, after := newStage(now, base, start.Running, leases), NewStage(now, draft, leases)
	before.beside, after.beside = start.Beside, start.Beside
	asks := everything(base, draft)
	count := map[string]int{}
	knows := map[string]*Known{}
	for _, k := range known(now, draft, base, leases) {
		was, _ := before.serve(k, k.base, asks, netip.Addr{})
		is, why := after.serve(k, k.draft, asks, serverOf(was))
		c := compare(from, k, was, is, why)
		count[k.network()]++
		if r.Clients++; c.Moves {
			r.Moving++
		}
		for _, told := range c.Changes {
			note(knows, told, c)
		}
		if err := each(c); err != nil {
			return r, err
		}
	}
	for _, what := range slices.Sorted(maps.Keys(knows)) {
		r.Known = append(r.Known, *knows[what])
	}
	walked := NewStage(now, draft, leases)
	walked.beside = start.Beside
	for i := range draft.Networks {
		n := &draft.Networks[i]
		r.Networks = append(r.Networks, Network{n.ID, n.Name, n.VLAN, count[n.ID], walked.ladder(n)})
	}
	return r, nil
}

// note counts a change of what one client is told.
func note(knows map[string]*Known, told OptionChange, c Client) {
	k := knows[told.What]
	if k == nil {
		k = &Known{What: told.What}
		knows[told.What] = k
	}
	k.Clients++
	switch {
	case c.By.IsZero():
		k.Asking++
	case c.By.After(k.By):
		k.By = c.By
	}
}

// everything is what a client asks for that is told all that the sites set.
func everything(sites ...*site.Site) []uint8 {
	all := slices.Clone(dhcp.DefaultParameters)
	add := func(options []site.Option) {
		for _, o := range options {
			if def, _ := option.Lookup(o.Code); !slices.Contains(all, o.Code) && !def.ServerOnly && len(all) < 255 {
				all = append(all, o.Code)
			}
		}
	}
	for _, s := range sites {
		add(s.Standard.Options)
		add(s.Customer.Options)
		add(s.Options)
		for i := range s.Networks {
			add(s.Networks[i].Options)
		}
		for i := range s.Pools {
			add(s.Pools[i].Options)
		}
		for i := range s.VendorClasses {
			add(s.VendorClasses[i].Options)
		}
		for _, r := range s.Reservations {
			add(r.Options)
		}
	}
	return all
}

type knownClient struct {
	mac         address.MAC
	id          []byte
	class       string // option 60, as last seen
	name        string
	base, draft *site.Network // where it is plugged in, nil for no longer or not yet
	has         netip.Addr    // what it holds now, invalid when nothing
	ends        time.Time     // of what it holds
}

// network is the id of where a client is, or was.
func (k knownClient) network() string {
	if k.draft != nil {
		return k.draft.ID
	}
	return k.base.ID
}

// shaken reports whether the network of a client goes or gets other addresses.
func (k knownClient) shaken() bool {
	return k.base != nil && (k.draft == nil || k.draft.Prefix != k.base.Prefix)
}

// known lists every client with a reservation or a lease that has not ended, of either site;
// those whose networks go or are renumbered come first.
func known(now time.Time, draft, base *site.Site, leases Leases) []knownClient {
	var out []knownClient
	at := map[string]int{}
	add := func(k knownClient) {
		if k.base == nil && k.draft == nil {
			return
		}
		key := fmt.Sprintf("%s/%s", k.network(), k.mac)
		if k.mac.IsZero() {
			key = fmt.Sprintf("%s/%x", k.network(), k.id)
		}
		i, dup := at[key]
		if !dup {
			at[key] = len(out)
			out = append(out, k)
			return
		}
		was := &out[i]
		was.base, was.draft = cmp.Or(was.base, k.base), cmp.Or(was.draft, k.draft)
		if k.has.IsValid() {
			was.has, was.ends, was.class, was.id = k.has, k.ends, k.class, k.id
		}
	}
	for _, s := range []*site.Site{draft, base} {
		for _, r := range s.Reservations {
			k := knownClient{mac: r.MAC, name: r.NameOrAddress()}
			if r.Client != "" {
				k.id, _ = option.ParseIdentifier(r.Client)
			}
			if k.mac.IsZero() && len(k.id) == 0 {
				continue
			}
			k.base, k.draft = where(base, draft, r.Network)
			add(k)
		}
	}
	for _, d := range base.Devices {
		for _, l := range leases[d.ID] {
			n, ok := base.NetworkOf(l.Address)
			if !ok || l.StateAt(now) != dhcp.Bound || l.MAC.IsZero() && len(l.ClientID) == 0 {
				continue
			}
			k := knownClient{mac: l.MAC, id: l.ClientID, class: l.Class, name: cmp.Or(l.HostName, l.MAC.String()),
				has: l.Address, ends: l.Expires}
			k.base, k.draft = where(base, draft, n.ID)
			add(k)
		}
	}
	slices.SortStableFunc(out, func(a, b knownClient) int {
		if x, y := a.shaken(), b.shaken(); x != y {
			return map[bool]int{true: -1, false: 1}[x]
		}
		return cmp.Or(cmp.Compare(a.network(), b.network()), cmp.Compare(a.name, b.name))
	})
	return out
}

// where finds a network before and after: by its id, and where the draft has another in its place
// by its VLAN, in which the client stays plugged.
func where(base, draft *site.Site, id string) (was, is *site.Network) {
	was, _ = base.Network(id)
	if n, ok := draft.Network(id); ok {
		return was, n
	}
	for i := range draft.Networks {
		if was != nil && was.VLAN != 0 && draft.Networks[i].VLAN == was.VLAN {
			return was, &draft.Networks[i]
		}
	}
	return was, nil
}

// serverOf is the server that a reply is from, invalid where it says none.
func serverOf(reply *dhcp.Message) netip.Addr {
	if reply == nil {
		return netip.Addr{}
	}
	server, err := netip.ParseAddr(reply.Option(option.ServerID))
	if err != nil {
		return netip.Addr{}
	}
	return server
}

// standIn is the hardware address of a client of which only the identifier is known, made from
// that and locally administered.
func standIn(id []byte) address.MAC {
	h := fnv.New32a()
	_, _ = h.Write(id)
	sum := h.Sum(nil)
	return address.MAC{0x02, 0x5e, sum[0], sum[1], sum[2], sum[3]}
}

// serve lets a known client do what it would on a network: renew what it holds with the
// server that gave it, then with any, and start over when that is refused.
func (st *Stage) serve(k knownClient, n *site.Network, asks []uint8, server netip.Addr) (*dhcp.Message, string) {
	if n == nil {
		return nil, "The network is not there."
	}
	wire := st.Wire(n)
	c := &dhcp.Client{MAC: k.mac, ID: k.id, HostName: k.name, Class: k.class, Parameters: asks, Address: k.has,
		ServerID: server, Largest: 1500}
	if c.MAC.IsZero() {
		c.MAC = standIn(k.id)
	}
	t := c.Talk(wire, dhcp.Words{Own: st.own})
	if k.has.IsValid() {
		reply, _ := t.Tell(c.Renew())
		if reply == nil && server.IsValid() {
			reply, _ = t.Say(c.Renew())
		}
		if reply != nil && reply.MessageType() == dhcpv4.MessageTypeAck {
			return &t.Messages[len(t.Messages)-1], ""
		}
		c.Address = netip.Addr{}
	}
	_ = t.Lease()
	last := t.Messages[len(t.Messages)-1]
	if !c.Address.IsValid() {
		return nil, last.Why
	}
	return &last, ""
}

// perMessage are the options that are of a message and not of what a client is told.
var perMessage = []uint8{option.MessageType, option.RelayInfo, option.ClientID, option.Overload}

func compare(from time.Time, k knownClient, was, is *dhcp.Message, why string) Client {
	c := Client{Name: cmp.Or(k.name, k.mac.String()), MAC: k.mac, Network: k.network(), Reply: is, Why: why}
	c.On = cmp.Or(k.draft, k.base).Name
	if k.mac.IsZero() && k.name == "" {
		c.Name = option.FormatIdentifier(k.id)
	}
	if k.has.IsValid() {
		c.Before = k.has.String()
	} else if was != nil {
		c.Before = was.Your
	}
	switch {
	case is != nil:
		c.After = is.Your
	case was == nil: // nobody answered it before either: it keeps what it has
		c.After = c.Before
	}
	if c.Before != c.After {
		c.Changes = append(c.Changes, OptionChange{What: "address", Was: c.Before, Now: c.After})
	}
	switch {
	case was != nil && is != nil:
		c.Changes = append(c.Changes, otherwise(was, is)...)
	case is != nil && len(c.Changes) == 0: // it keeps what nobody renews
		c.Changes = append(c.Changes, OptionChange{What: "answer", Was: "nobody answers", Now: "renewed by " +
			is.Option(option.ServerID)})
	}
	if c.Moves = len(c.Changes) > 0; c.Moves {
		c.When, c.By = learns(from, k, was, is)
	}
	return c
}

// otherwise lists the options that two replies say differently, and the fields of the header that
// boot loaders read.
func otherwise(was, is *dhcp.Message) (out []OptionChange) {
	codes := map[uint8]string{}
	for _, o := range slices.Concat(was.Options, is.Options) {
		codes[o.Code] = o.Name
	}
	for _, code := range slices.Sorted(maps.Keys(codes)) {
		before, after := was.Option(code), is.Option(code)
		if before != after && !bytes.Contains(perMessage, []byte{code}) {
			def := option.Definition{Name: codes[code]}
			out = append(out, OptionChange{Code: code, What: def.InSentence(), Was: before, Now: after})
		}
	}
	if was.Server != is.Server {
		out = append(out, OptionChange{What: "next server", Was: was.Server, Now: is.Server})
	}
	return out
}

// learns tells when a client notices what is pushed at a moment, from the lease that it holds: at its renewal, or when
// its lease ends where nobody answers any more. A client that stays renews until then.
func learns(from time.Time, k knownClient, was, is *dhcp.Message) (words string, by time.Time) {
	switch {
	case !k.has.IsValid():
		return "when it next asks", time.Time{}
	}
	lease, t1 := option.DefaultLease, time.Duration(0)
	if was != nil {
		lease, t1 = span(was, option.LeaseTime, lease), span(was, option.RenewalT1, 0)
	}
	t1 = cmp.Or(t1, lease/2)
	renewed := k.ends.Add(-lease)
	if k.ends.Before(from) && t1 > 0 { // by then it will have renewed, again and again
		renewed = renewed.Add(from.Sub(renewed) / t1 * t1)
	}
	ends := renewed.Add(lease)
	by = renewed.Add(t1)
	switch {
	case is == nil:
		return "keeps it until its lease ends", ends
	case by.Before(from): // it is overdue, and tried until the lease ends
		return "at its next renewal", ends
	}
	return "at its next renewal", by
}

func span(m *dhcp.Message, code uint8, otherwise time.Duration) time.Duration {
	d, err := option.ParseDuration(m.Option(code))
	if err != nil {
		return otherwise
	}
	return d
}
