package poll

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
)

// TryRequest is a test client, where to attach it and what it does.
type TryRequest struct {
	Network    string         `json:"network" doc:"id of the network it is plugged into"`
	Port       string         `json:"port,omitempty" maxLength:"64" doc:"id of the port it is plugged into instead; its network is then that of the port"`
	MAC        string         `json:"mac,omitempty" doc:"in any usual form; one is made up when empty"`
	HostName   string         `json:"hostName,omitempty" doc:"sent as option 12; at most 63 characters"`
	Class      string         `json:"class,omitempty" doc:"vendor class, sent as option 60; at most 255 octets"`
	ClientID   string         `json:"clientId,omitempty" doc:"client identifier, as option 61 is written"`
	Parameters string         `json:"parameters,omitempty" maxLength:"1000" doc:"codes of the options it asks for, with commas; the usual ones when empty"`
	Largest    string         `json:"largest,omitempty" doc:"largest reply it accepts in octets, 576 to 65535, sent as option 57"`
	Against    string         `json:"against" enum:"draft,device" doc:"the computed draft, or the real device"`
	Order      int64          `json:"order,omitempty" doc:"work order whose draft is tried"`
	Acts       []rehearse.Act `json:"acts,omitempty" maxItems:"20" doc:"what it does, in order; a lease alone when empty"`
}

// TryResult is what the client went through.
type TryResult struct {
	MAC     string           `json:"mac"`
	Address string           `json:"address,omitempty"`
	Why     string           `json:"why,omitempty"` // why it has none
	On      string           `json:"on"`            // what answered
	Scenes  []rehearse.Scene `json:"scenes"`
	Rungs   []rehearse.Rung  `json:"rungs"` // the ladder of the network it ends on
	// Strangers are DHCP servers that answered, and that none of the site's devices is.
	Strangers []string `json:"strangers"`
}

// Try lets a test client act and shows every message.
func (s *Service) Try(ctx context.Context, code string, r TryRequest) (*TryResult, error) {
	drafted := r.Order
	if r.Against == "device" {
		drafted = 0 // a device holds what was pushed, not what is drafted
	}
	sc, _, _, err := s.sites.SceneOf(ctx, code, drafted)
	if err != nil {
		return nil, err
	}
	doc := sc.Site
	n, ok := doc.Network(r.Network)
	if !ok {
		return nil, actor.Refuse(actor.Conflict,
			"The device does not have this network yet. Try the client against the draft, or push first.")
	}
	if r.Port != "" {
		if n, err = networkAt(doc, r.Port); err != nil {
			return nil, err
		}
	}
	c, err := r.client()
	if err != nil {
		return nil, err
	}
	heard, err := s.store.Heard(ctx, doc.ID)
	if err != nil {
		return nil, err
	}
	leases := rehearse.LeasesOf(doc, heard, time.Now())
	access, err := s.store.Access(ctx, doc.ID)
	if err != nil {
		return nil, err
	}
	out := &TryResult{MAC: c.MAC.String(), On: "the draft, computed", Scenes: []rehearse.Scene{},
		Strangers: []string{}}
	trial := rehearse.NewTrial(rehearse.NewStage(time.Now(), doc, leases), n, c)
	var on *bench
	if r.Against == "device" {
		on = &bench{s: s, doc: doc, access: access, port: r.Port, drivers: map[string]*device.RESTCONF{}}
		defer on.close()
		trial = rehearse.NewTrialOn(doc, n, c, on.plug(ctx))
	}
	if len(r.Acts) == 0 {
		r.Acts = []rehearse.Act{{Do: rehearse.ActLease}}
	}
	for _, a := range r.Acts {
		scene, err := trial.Do(a)
		if refusal, ok := err.(*actor.Refusal); ok {
			return nil, refusal
		}
		if err != nil {
			return nil, actor.Refuse(actor.Conflict, "The exchange broke off: %s.", err)
		}
		out.Scenes = append(out.Scenes, scene)
		if to, ok := doc.Network(a.To); ok && a.Do == rehearse.ActMove {
			n = to
		}
	}
	last := out.Scenes[len(out.Scenes)-1]
	if out.Address = last.Address; out.Address == "" {
		out.Why = last.Says
	}
	beside := order.Programs(access)
	if on == nil {
		out.Rungs = rehearse.LadderOf(time.Now(), doc, n, leases, last.Messages, beside)
		return out, nil
	}
	out.On, out.Strangers = on.attachedTo(), on.strangers()
	l := live{Service: s, ctx: ctx, site: doc, access: access, drivers: on.drivers}
	tried := on.tried(ctx, n, out.Scenes)
	out.Rungs = rehearse.LadderTried(time.Now(), doc, leases, beside, l.ask, tried)
	s.Observe(ctx, doc.ID)
	return out, nil
}

// networkAt is the network that comes out at a port.
func networkAt(doc *site.Site, port string) (*site.Network, error) {
	d, i, ok := doc.Interface(port)
	if !ok {
		return nil, actor.Refuse(actor.Missing, "There is no such port at this site.")
	}
	joined := topology.Learn(doc)
	for k := range doc.Networks {
		n := &doc.Networks[k]
		path := joined.Path(n)
		if slices.ContainsFunc(path.Plugs, func(e topology.End) bool { return e.Interface.ID == port }) {
			return n, nil
		}
		if untagged := topology.Untagged(d, i); untagged != 0 && n.VLAN == untagged {
			return nil, actor.Refuse(actor.Conflict, "A client at %s of %s is on VLAN %d, and %s does not reach it. %s",
				i.Name, d.Name, untagged, n.Name, path.Sentence(n))
		}
	}
	return nil, actor.Refuse(actor.Conflict, "No network comes out at %s of %s: a client there hears nothing.",
		i.Name, d.Name)
}

// client reads the request's client. Every field at fault is named.
func (r TryRequest) client() (*dhcp.Client, error) {
	now := time.Now().UnixNano()
	c := &dhcp.Client{HostName: r.HostName, Class: r.Class,
		MAC: address.MAC{0x02, 0x00, 0x5e, 0x54, byte(now >> 8), byte(now >> 16)}}
	var wrong []site.FieldError
	fail := func(field, says string) { wrong = append(wrong, site.FieldError{Field: field, Says: says}) }
	if r.MAC != "" {
		mac, err := address.ParseMAC(r.MAC)
		switch {
		case err != nil:
			fail("mac", err.Error())
		case mac.IsGroup() || mac.IsZero():
			fail("mac", "a client's own MAC is not a group address; type another, for example 00:00:5e:00:53:fe")
		default:
			c.MAC = mac
		}
	}
	if r.ClientID != "" {
		id, err := option.ParseIdentifier(r.ClientID)
		if err != nil {
			fail("clientId", err.Error())
		}
		c.ID = id
	}
	for item := range strings.FieldsFuncSeq(r.Parameters, func(r rune) bool { return r == ',' || r == ' ' }) {
		n, err := strconv.ParseUint(item, 10, 8)
		if err != nil || n == 0 || n == 255 {
			fail("parameters",
				fmt.Sprintf("%q is not an option code; type codes from 1 to 254 with commas, for example 1, 3, 6, 15",
					item))
			break
		}
		c.Parameters = append(c.Parameters, uint8(n))
	}
	const longest = 65535
	if text := strings.TrimSpace(r.Largest); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < dhcp.MinAccepted || n > longest {
			fail("largest", fmt.Sprintf("%q is not a number of octets; every client takes at least %d, type a number "+
				"from there to %d", text, dhcp.MinAccepted, longest))
		}
		c.Largest = n
	}
	short := func(field, text string, most int) {
		if len(text) > most {
			fail(field, fmt.Sprintf("has %d characters; type at most %d", len(text), most))
		}
	}
	short("hostName", r.HostName, 63)
	short("class", r.Class, 255)
	if len(wrong) > 0 {
		return nil, &actor.Refusal{Kind: actor.Invalid, Says: "The client was not tried: " + wrong[0].Says + ".",
			Fields: wrong}
	}
	return c, nil
}

// bench attaches test clients to the networks of a site's devices.
type bench struct {
	s       *Service
	doc     *site.Site
	access  []order.Access
	port    string                      // where the client is plugged in; empty for any of its network
	drivers map[string]*device.RESTCONF // of devices, by id
	open    []func()
	device  *site.Device // where a client was attached last
	iface   string
}

func (b *bench) close() {
	for _, f := range b.open {
		f()
	}
}

// attachedTo is where a client was attached last.
func (b *bench) attachedTo() string { return b.iface + " of " + b.device.Name }

// strangers are the servers that answered and are no device of the site.
func (b *bench) strangers() []string {
	out := []string{}
	for _, driver := range b.drivers {
		for _, at := range driver.Servers() {
			if _, _, own := b.doc.HolderOf(at); !own && !slices.Contains(out, at.String()) {
				out = append(out, at.String())
			}
		}
	}
	return out
}

// reach is the driver of a device; nil where Lithos does not reach it.
func (b *bench) reach(id string) (*device.RESTCONF, error) {
	a := order.On(b.access, id)
	if a == nil {
		return nil, nil
	}
	if driver := b.drivers[id]; driver != nil {
		return driver, nil
	}
	driver, err := b.s.devices.Reach(*a)
	if err != nil {
		return nil, err
	}
	b.drivers[id] = driver
	b.open = append(b.open, driver.Close)
	return driver, nil
}

// plug attaches to the port that was named, or the one of the network that is farthest from its router, so that the
// cables and VLANs in between are tried as well. Where there is none, it attaches to the interface that hears the
// network's clients: the one that serves or relays, else the gateway's.
func (b *bench) plug(ctx context.Context) rehearse.Plug {
	return func(n *site.Network) (dhcp.Wire, error) {
		driver, err := b.place(ctx, n)
		if err != nil {
			return nil, err
		}
		network, err := b.attach(ctx, driver, (*device.RESTCONF).Attach)
		if err != nil {
			return nil, err
		}
		return func(request []byte, to netip.Addr) ([]byte, string, error) {
			if !to.IsValid() {
				return network(request, to)
			}
			server, at, ok := b.doc.HolderOf(to)
			if !ok {
				return nil, fmt.Sprintf("No device of this site holds %s, which the client was served by.", to), nil
			}
			holder, err := b.reach(server.ID)
			if err != nil {
				return nil, "", err
			}
			if holder == nil {
				return nil, fmt.Sprintf("Lithos does not reach %s, which the client was served by.", server.Name), nil
			}
			wire, detach, err := holder.AttachTo(ctx, at.Name)
			if err != nil {
				return nil, fmt.Sprintf("%s is not to be had at %s: %s.", to, server.Name, err), nil
			}
			b.open = append(b.open, detach)
			return wire(request, to)
		}, nil
	}
}

// place chooses where a client of a network is attached.
func (b *bench) place(ctx context.Context, n *site.Network) (*device.RESTCONF, error) {
	plugs := topology.Learn(b.doc).Path(n).Plugs
	if i := slices.IndexFunc(plugs, func(e topology.End) bool { return e.Interface.ID == b.port }); i >= 0 {
		plugs = plugs[i : i+1]
	}
	driver, end, err := device.Farthest(ctx, plugs, b.reach)
	if err != nil {
		return nil, actor.Refuse(actor.Conflict, "The client cannot be attached: %s.", err)
	}
	if driver != nil {
		b.device, b.iface = end.Device, end.Interface.Name
		return driver, nil
	}
	d, i, ok := topology.Hearing(b.doc, n)
	if !ok {
		return nil, actor.Refuse(actor.Conflict,
			"No device has an interface in %s, so there is nothing to plug the client into.", n.Prefix)
	}
	b.device, b.iface = d, i.Name
	driver, err = b.reach(d.ID)
	if driver == nil && err == nil {
		err = actor.Refuse(actor.Conflict, "Lithos has no way to reach %s. Try the client against the draft.", d.Name)
	}
	return driver, err
}

// attach attaches to the interface that was chosen, by how.
func (b *bench) attach(
	ctx context.Context, driver *device.RESTCONF,
	how func(*device.RESTCONF, context.Context, string) (dhcp.Wire, func(), error),
) (dhcp.Wire, error) {
	wire, detach, err := how(driver, ctx, b.iface)
	if err != nil {
		return nil, actor.Refuse(actor.Conflict, "The client cannot be attached to %s: %s.", b.device.Name, err)
	}
	b.open = append(b.open, detach)
	return wire, nil
}

// tried is what came of the client on the network that it ended on. Echoes go out from the interface that hears that
// network: a client that is plugged in elsewhere asks across the same devices.
func (b *bench) tried(ctx context.Context, n *site.Network, scenes []rehearse.Scene) rehearse.Tried {
	out := rehearse.Tried{Network: n, At: b.attachedTo(), Scenes: scenes, Outside: b.s.OutsideEcho,
		Running: order.Configurations(b.access)}
	o, err := b.drivers[b.device.ID].Observe(ctx)
	out.Up = err == nil && slices.ContainsFunc(o.Interfaces.Interface, func(i yang.InterfaceState) bool {
		return i.Name == b.iface && i.OperStatus == "up"
	})
	out.Ping = func(to netip.Addr) (bool, string) {
		d, i, ok := topology.Hearing(b.doc, n)
		if !ok {
			return false, "no device has an interface in " + n.Name
		}
		driver, err := b.reach(d.ID)
		if err != nil || driver == nil {
			return false, "Lithos does not reach " + d.Name
		}
		replies, err := driver.Ping(ctx, i.Name, to)
		if err != nil {
			return false, d.Name + " says: " + err.Error()
		}
		return replies > 0, ""
	}
	return out
}
