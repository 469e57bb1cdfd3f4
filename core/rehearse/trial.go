package rehearse

import (
	"fmt"
	"net/netip"
	"strings"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/site"
)

// Acts of a trial client.
const (
	ActLease   = "lease"   // it starts and asks for an address
	ActRenew   = "renew"   // half its lease has gone
	ActRelease = "release" // it gives its address back
	ActReboot  = "reboot"  // it starts again and remembers its address
	ActStale   = "stale"   // it starts again with an address that is another network's
	ActMove    = "move"    // it is plugged into another network
	ActFill    = "fill"    // others take every address first
)

// Act is one thing a trial client does: what, and for ActMove where to.
type Act struct {
	Do string `json:"do" enum:"lease,renew,release,reboot,stale,move,fill"`
	To string `json:"to,omitempty"` // network id
}

// Scene is what came of one act.
type Scene struct {
	Do       string         `json:"do" enum:"lease,renew,release,reboot,stale,move,fill"`
	Network  string         `json:"network"` // name
	Says     string         `json:"says"`
	Messages []dhcp.Message `json:"messages"`
	Address  string         `json:"address,omitempty"` // what the client holds afterwards
}

// Plug gives the wire of a network.
type Plug func(n *site.Network) (dhcp.Wire, error)

// Trial is a client that is tried on the networks of a site.
type Trial struct {
	site   *site.Site
	client *dhcp.Client
	at     *site.Network
	plug   Plug
	stage  *Stage // nil on a device, where time is the world's
}

// NewTrial plugs a client into a network of a stage.
func NewTrial(st *Stage, n *site.Network, c *dhcp.Client) *Trial {
	return &Trial{st.site, c, n, func(n *site.Network) (dhcp.Wire, error) { return st.Wire(n), nil }, st}
}

// NewTrialOn plugs a client into real networks, by plug.
func NewTrialOn(s *site.Site, n *site.Network, c *dhcp.Client, plug Plug) *Trial {
	return &Trial{s, c, n, plug, nil}
}

// Do lets the client act. The error is of the wire; what a server refuses is
// part of the scene.
func (t *Trial) Do(a Act) (Scene, error) {
	if a.Do == ActMove {
		n, ok := t.site.Network(a.To)
		if !ok {
			return Scene{}, fmt.Errorf("%q is not a network of this site; choose one of the list", a.To)
		}
		t.at = n
	}
	wire, err := t.plug(t.at)
	if err != nil {
		return Scene{}, err
	}
	talk := t.client.Talk(wire, dhcp.Words{Own: t.site.Own(), Vendor: t.site.ClassOf(t.client.Class).Definitions()})
	scene := Scene{Do: a.Do, Network: t.at.Name}
	switch a.Do {
	case ActLease:
		err = talk.Lease()
	case ActMove:
		err = t.reboot(talk)
	case ActRenew:
		if !t.client.Address.IsValid() {
			scene.Says = "It holds no address to renew."
			break
		}
		if t.stage != nil {
			t.stage.Pass(t.client.Lease / 2)
		}
		err = t.renew(talk)
	case ActRelease:
		if !t.client.Address.IsValid() {
			scene.Says = "It holds no address to give back."
			break
		}
		_, err = talk.Tell(t.client.Release())
		scene.Says = fmt.Sprintf("It gave %s back.", t.client.Address)
		t.client.Address = netip.Addr{}
	case ActReboot:
		err = t.reboot(talk)
	case ActStale:
		t.client.Address = stale(t.site, t.at)
		err = t.reboot(talk)
	case ActFill:
		scene.Says, err = t.fill(wire)
	default:
		return Scene{}, fmt.Errorf("%q is not something a client does", a.Do)
	}
	scene.Messages = append([]dhcp.Message{}, talk.Messages...)
	if t.client.Address.IsValid() {
		scene.Address = t.client.Address.String()
	}
	if scene.Says == "" {
		scene.Says = t.outcome(talk)
	}
	return scene, err
}

// renew asks the server that gave the address, and when that is silent any other (RFC 2131
// section 4.4.5): RENEWING, then REBINDING.
func (t *Trial) renew(talk *dhcp.Talk) error {
	reply, err := talk.Tell(t.client.Renew())
	if err != nil || reply != nil || !t.client.ServerID.IsValid() {
		return err
	}
	if t.stage != nil {
		t.stage.Pass(t.client.Lease * 3 / 8)
	}
	_, err = talk.Say(t.client.Renew())
	return err
}

// reboot asks for the remembered address, and starts over when that is refused
// or nobody answers (RFC 2131 section 3.2).
func (t *Trial) reboot(talk *dhcp.Talk) error {
	if t.client.Address.IsValid() {
		reply, err := talk.Say(t.client.Reboot())
		if err != nil || reply != nil && reply.MessageType() == dhcpv4.MessageTypeAck {
			return err
		}
		t.client.Address = netip.Addr{}
	}
	return talk.Lease()
}

// stale is an address that the client cannot have on n: the first of another
// network, else one that is nobody's.
func stale(s *site.Site, n *site.Network) netip.Addr {
	for i := range s.Networks {
		if s.Networks[i].ID != n.ID && !s.Networks[i].Prefix.Overlaps(n.Prefix) {
			return address.Usable(s.Networks[i].Prefix).To
		}
	}
	return netip.AddrFrom4([4]byte{192, 0, 2, 99})
}

// outcome says in one sentence how a conversation ended.
func (t *Trial) outcome(talk *dhcp.Talk) string {
	var words []string
	for _, m := range talk.Messages {
		if m.Type == "nak" {
			words = append(words, "The old address was refused.")
		}
	}
	switch {
	case t.client.Address.IsValid():
		words = append(words, fmt.Sprintf("It has %s for %s.", t.client.Address, option.FormatDuration(t.client.Lease)))
	case len(talk.Messages) > 0 && talk.Messages[len(talk.Messages)-1].Why != "":
		words = append(words, "It has no address. "+talk.Messages[len(talk.Messages)-1].Why)
	default:
		words = append(words, "It has no address.")
	}
	return strings.Join(words, " ")
}

// maxFill bounds how many clients fill a pool.
const maxFill = 70_000

// fill lets strangers take addresses until none is left. Devices are not filled.
func (t *Trial) fill(wire dhcp.Wire) (string, error) {
	if t.stage == nil {
		return "A device's pool is not filled; try that on the draft.", nil
	}
	for i := range maxFill {
		stranger := &dhcp.Client{MAC: address.MAC{0x02, 0xff, byte(i >> 16), byte(i >> 8), byte(i), 0x01},
			Class: t.client.Class}
		passed, err := stranger.Exchange(wire)
		if err != nil {
			return "", err
		}
		if !stranger.Address.IsValid() {
			return fmt.Sprintf("%d others took an address; there is none for one more: %s", i,
				passed[len(passed)-1].Why), nil
		}
	}
	return fmt.Sprintf("%d others took an address, and there are more.", maxFill), nil
}
