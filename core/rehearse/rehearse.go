// Package rehearse computes what a draft will do before anything is touched:
// the DHCP reply every known client would get, by running the real engine over
// real packets, and the ladder of each network.
package rehearse

import (
	"cmp"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/site"
)

// Report is a rehearsal, but for the clients, of which there may be many: Run
// hands those on one by one.
type Report struct {
	At       time.Time `json:"at"`
	Networks []Network `json:"networks"`
	Clients  int       `json:"clients"` // known ones
	Moving   int       `json:"moving"`  // of those, that are told something else
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
	Name  string `json:"name" enum:"link,lease,gateway,internet"`
	State string `json:"state" enum:"pass,fail,skip"`
	Value string `json:"value"` // an address or a VLAN, or the cause
	Rule  string `json:"rule,omitempty"`
}

// Client is one known client before and after.
type Client struct {
	Name    string        `json:"name"`
	MAC     address.MAC   `json:"mac"`
	Network string        `json:"network"`
	Before  string        `json:"before,omitempty"` // address, empty for none
	After   string        `json:"after,omitempty"`
	Moves   bool          `json:"moves"` // its address, router, name servers or domain changes
	Changes []string      `json:"changes,omitempty"`
	When    string        `json:"when,omitempty"`
	Reply   *dhcp.Message `json:"reply,omitempty"`
	Why     string        `json:"why,omitempty"` // why there is no address
}

// Leases is what is held now, by the id of the serving device.
type Leases map[string][]dhcp.Lease

// Run rehearses draft against base and gives each known client to each, in no
// order that means anything; an error of each ends it. leases is the observed
// state; now decides which of them still stand.
func Run(now time.Time, base, draft *site.Site, leases Leases, each func(Client) error) (Report, error) {
	r := Report{At: now, Networks: []Network{}}
	before, after := NewStage(now, base, leases), NewStage(now, draft, leases)
	count := map[string]int{}
	for _, k := range known(now, draft, base, leases) {
		was, _ := before.serve(k)
		is, why := after.serve(k)
		c := compare(k, was, is, why)
		count[k.network]++
		if r.Clients++; c.Moves {
			r.Moving++
		}
		if err := each(c); err != nil {
			return r, err
		}
	}
	walked := NewStage(now, draft, leases)
	for i := range draft.Networks {
		n := &draft.Networks[i]
		r.Networks = append(r.Networks, Network{n.ID, n.Name, n.VLAN, count[n.ID], walked.ladder(n)})
	}
	return r, nil
}

type knownClient struct {
	mac     address.MAC
	id      []byte
	name    string
	network string
	has     netip.Addr // what it holds now, invalid when nothing
}

// known lists every client with a reservation or a lease that has not ended.
func known(now time.Time, draft, base *site.Site, leases Leases) []knownClient {
	type key struct {
		mac     address.MAC
		network string
	}
	var out []knownClient
	at := map[key]int{}
	add := func(k knownClient) {
		i, dup := at[key{k.mac, k.network}]
		if !dup {
			at[key{k.mac, k.network}] = len(out)
			out = append(out, k)
		} else if k.has.IsValid() {
			out[i].has, out[i].id = k.has, k.id
		}
	}
	for _, s := range []*site.Site{draft, base} {
		for _, r := range s.Reservations {
			if _, ok := draft.Network(r.Network); ok && !r.MAC.IsZero() {
				add(knownClient{mac: r.MAC, name: r.Name, network: r.Network})
			}
		}
	}
	for _, d := range draft.Devices {
		for _, l := range leases[d.ID] {
			n, ok := draft.NetworkOf(l.Address)
			if ok && l.StateAt(now) == dhcp.Bound && !l.MAC.IsZero() {
				add(knownClient{l.MAC, l.ClientID, cmp.Or(l.HostName, l.MAC.String()), n.ID, l.Address})
			}
		}
	}
	return out
}

// serve lets a known client do what it would: renew what it holds, and start
// over when that is refused.
func (st *Stage) serve(k knownClient) (*dhcp.Message, string) {
	n, ok := st.site.Network(k.network)
	if !ok {
		return nil, "The network is not there yet."
	}
	wire := st.Wire(n)
	c := &dhcp.Client{MAC: k.mac, ID: k.id, HostName: k.name, Address: k.has}
	t := c.Talk(wire, dhcp.Words{Own: st.own})
	if k.has.IsValid() {
		if reply, _ := t.Say(c.Renew()); reply != nil && reply.MessageType() == dhcpv4.MessageTypeAck {
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

var watched = []struct {
	code uint8
	word string
}{{option.Router, "router"}, {option.NameServers, "name servers"}, {option.DomainName, "domain"}}

func compare(k knownClient, was, is *dhcp.Message, why string) Client {
	c := Client{Name: cmp.Or(k.name, k.mac.String()), MAC: k.mac, Network: k.network, Reply: is, Why: why}
	if k.has.IsValid() {
		c.Before = k.has.String()
	} else if was != nil {
		c.Before = was.Your
	}
	if is != nil {
		c.After = is.Your
	}
	if c.Before != c.After {
		c.Changes = append(c.Changes, "address")
	}
	if was != nil && is != nil {
		for _, w := range watched {
			if was.Option(w.code) != is.Option(w.code) {
				c.Changes = append(c.Changes, w.word)
			}
		}
	}
	c.Moves = len(c.Changes) > 0
	switch {
	case !c.Moves:
	case k.has.IsValid():
		c.When = "at its next renewal"
	default:
		c.When = "when it next asks"
	}
	return c
}
