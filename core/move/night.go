package move

import (
	"cmp"
	"container/heap"
	"hash/fnv"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/rehearse"
	"lithos/core/site"
)

// # The simulated night
//
// Every known client is a DHCP client (RFC 2131) on a virtual clock. It has the lease that it was last seen with, or,
// where it was never seen, one that it was given at a moment of its own in the last renewal time, which is chosen by
// its hardware address, so that the same site gives the same night. It renews at T1 with the server that it has its
// lease from, tries again after half of what is left until T2 and at least a minute (RFC 2131 section 4.4.5), asks
// every server from T2 on, and starts over when its lease ends or is refused; nobody answering, it asks again after 4,
// 8, 16, 32 and from then on every 64 seconds. One that is asleep does nothing until it wakes, and then asks for the
// address that it remembers.
//
// The servers and relays are the engine that answers in rehearsals and in the stand-ins. At the end of each phase they
// go on with the next document and the leases they hold. A message to one server reaches it while the client's address
// is of the subnet that its network has.
//
// A client has service while its lease runs, its address is of the subnet of its network, the router that it was told
// is there, and the steps of a phase leave its network served (prove.Gap). It has name servers while it has service and
// one of those that it was told is there. The name of a client with a reservation leads to the address of the
// reservation, that of any other to the address it has. Renewals that change nothing between two phases are passed
// over.

// Client is a client as it is known before a move.
type Client struct {
	Name    string
	MAC     address.MAC
	ID      []byte // option 61, where it sends one
	Class   string // option 60, where it sends one
	Network string // id
	Address netip.Addr
	Renewed time.Time // when its lease was given or last extended; zero where that is not known
	Wakes   time.Time // it is asleep until then; zero for one that is awake
}

// World is the devices of a site that a night is played to: simulated ones, or others on real sockets.
type World interface {
	// Become has them hold what a document says from now on, and the leases that they have.
	Become(now time.Time, doc *site.Site)
	// Pass moves their clock.
	Pass(now time.Time)
	// Wire carries messages to those that hear the clients of a network.
	Wire(n *site.Network) dhcp.Wire
}

// simulated is the devices of a site without sockets.
type simulated struct {
	*rehearse.Stage
	now time.Time
}

// Become implements World.
func (w *simulated) Become(now time.Time, doc *site.Site) {
	var leases rehearse.Leases
	if w.Stage != nil {
		leases = w.Leases()
	}
	w.Stage, w.now = rehearse.NewStage(now, doc, leases), now
}

// Pass implements World.
func (w *simulated) Pass(now time.Time) {
	w.Stage.Pass(now.Sub(w.now))
	w.now = now
}

// Act is a change of the site at a moment.
type Act struct {
	At    time.Time
	Takes time.Duration // until the devices hold what they must
	Doc   *site.Site
	Downs []Down            // what is not served meanwhile
	Into  map[string]string // by the id of a network that becomes part of another: that one's
}

// Down is a time in which the clients of a network are not served, counted from the beginning of an act.
type Down struct {
	Network     string // id
	From, Until time.Duration
}

// Fate is what a night brings one client.
type Fate struct {
	Name        string     `json:"name"`
	MAC         string     `json:"mac"`
	Network     string     `json:"network"`
	Was         netip.Addr `json:"was,omitzero"`
	Will        netip.Addr `json:"will,omitzero"`
	Likely      bool       `json:"likely,omitempty" doc:"the new address is out of a pool: it may get another"`
	Lost        *time.Time `json:"lost,omitempty" doc:"when it first loses service"`
	Regained    *time.Time `json:"regained,omitempty" doc:"when it has service for good; none where it never has"`
	Seconds     int        `json:"seconds" doc:"without service, in all"`
	NameServers Lack       `json:"nameServers" doc:"without name servers"`
	OwnName     Lack       `json:"ownName" doc:"its own name leads to an address that it does not have"`
	Asleep      bool       `json:"asleep,omitempty"`
}

// Lack is what a client is without for a time, or for several.
type Lack struct {
	Seconds int        `json:"seconds" doc:"in all"`
	From    *time.Time `json:"from,omitempty" doc:"when it begins"`
	Until   *time.Time `json:"until,omitempty" doc:"when it ends for good; none where it does not"`
}

// Night is what a move does to the clients of a site.
type Night struct {
	Begin       time.Time `json:"begin" doc:"of the curve"`
	End         time.Time `json:"end"`
	Clients     int       `json:"clients"`
	Affected    int       `json:"affected" doc:"clients that lose service for a time"`
	Stranded    int       `json:"stranded" doc:"clients that never have service again"`
	Minutes     float64   `json:"minutes" doc:"client-minutes without service"`
	NameMinutes float64   `json:"nameMinutes" doc:"client-minutes without name servers"`
	Mean        int       `json:"mean" doc:"seconds without service of those affected, on average"`
	Longest     int       `json:"longest" doc:"seconds without service of who waits the longest"`
	Curve       []int     `json:"curve" doc:"clients without service, at equal steps from begin to end"`
	Fates       []Fate    `json:"fates" doc:"those worst off first"`
}

// curvePoints is how many steps a curve has.
const curvePoints = 96

type night struct {
	doc     *site.Site
	world   World
	now     time.Time
	begin   time.Time
	acts    []Act
	down    map[string]bool
	actors  []*actor
	clock   clock
	routers map[netip.Addr]bool
	names   map[address.MAC]netip.Addr // where the names of reserved clients lead
}

// Simulate plays acts to the clients of a site, from a moment before the first of them until every client has settled,
// and at most for three leases after the last.
func Simulate(s *site.Site, clients []Client, acts []Act) Night {
	return Play(&simulated{}, s, clients, acts)
}

// Play is Simulate in a world of the caller's.
func Play(world World, s *site.Site, clients []Client, acts []Act) Night {
	acts = slices.Clone(acts)
	slices.SortStableFunc(acts, func(a, b Act) int { return a.At.Compare(b.At) })
	if len(acts) == 0 || len(clients) == 0 {
		return Night{Fates: []Fate{}, Curve: []int{}}
	}
	n := &night{world: world, doc: s, acts: acts, begin: acts[0].At}
	n.prepare(clients)
	if len(n.actors) == 0 {
		return Night{Fates: []Fate{}, Curve: []int{}}
	}
	for _, a := range n.acts {
		n.until(a.At)
		n.steps(a)
		n.until(a.At.Add(a.Takes))
		n.become(a.Doc, a.Into)
	}
	n.settle()
	return n.outcome()
}

// steps plays what clients do while the steps of an act are taken.
func (n *night) steps(a Act) {
	var turns []time.Duration
	for _, d := range a.Downs {
		turns = append(turns, d.From, d.Until)
	}
	slices.Sort(turns)
	for _, at := range slices.Compact(turns) {
		n.until(a.At.Add(at))
		n.down = map[string]bool{}
		for _, d := range a.Downs {
			if d.From <= at && at < d.Until {
				n.down[d.Network] = true
			}
		}
		n.judgeAll()
	}
}

// prepare gives each client the lease that it has before the first act.
func (n *night) prepare(clients []Client) {
	for _, c := range clients {
		net, ok := n.doc.Network(c.Network)
		if !ok {
			continue
		}
		lease := n.longest(net)
		a := &actor{known: c, Client: dhcp.Client{MAC: c.MAC, ID: c.ID, Class: c.Class, Address: c.Address,
			HostName: c.Name}}
		a.bound = c.Renewed
		if a.bound.IsZero() || a.bound.After(n.begin) || n.begin.Sub(a.bound) > lease {
			a.bound = n.begin.Add(-time.Duration(float64(lease/2) * spread(c.MAC)))
		}
		n.actors = append(n.actors, a)
	}
	slices.SortStableFunc(n.actors, func(a, b *actor) int { return a.bound.Compare(b.bound) })
	if len(n.actors) == 0 {
		return
	}
	n.now = n.actors[0].bound
	n.world.Become(n.now, n.doc)
	n.learnRouters()
	for _, a := range n.actors {
		n.pass(a.bound)
		if a.Address.IsValid() {
			n.say(a, a.Reboot(), false)
		}
		if a.lease == 0 {
			n.discover(a)
		}
	}
	for _, a := range n.actors {
		a.asleep = a.known.Wakes.After(n.begin)
		if a.known.Address = cmp.Or(a.Address, a.known.Address); a.asleep {
			a.at = a.known.Wakes
		}
		heap.Push(&n.clock, a)
	}
}

func (n *night) longest(net *site.Network) time.Duration {
	out := time.Duration(0)
	for i := range n.doc.Pools {
		if p := &n.doc.Pools[i]; p.Network == net.ID {
			out = max(out, LeaseTime(n.doc, net, p))
		}
	}
	return cmp.Or(out, option.DefaultLease)
}

// spread is a number from 0 to 1 that is a machine's own.
func spread(mac address.MAC) float64 {
	h := fnv.New32a()
	_, _ = h.Write(mac[:])
	x := h.Sum32()
	x ^= x >> 15 // the last octets of neighbours differ by one: mix them well
	x *= 0x2c1b3c6d
	x ^= x >> 12
	return float64(x) / float64(1<<32)
}

func (n *night) pass(to time.Time) {
	if to.After(n.now) {
		n.world.Pass(to)
		n.now = to
	}
}

// until plays what clients do before a moment.
func (n *night) until(end time.Time) {
	for len(n.clock) > 0 && n.clock[0].at.Before(end) {
		a := n.clock[0]
		if skip := n.idle(a, end); skip > 0 {
			a.bound, a.at = a.bound.Add(skip), a.at.Add(skip)
			heap.Fix(&n.clock, 0)
			continue
		}
		n.pass(a.at)
		n.turn(a)
		n.judge(a)
		heap.Fix(&n.clock, a.place)
	}
	n.pass(end)
}

// idle is how much of a client's time passes in renewals that change nothing before the end of a stretch.
func (n *night) idle(a *actor, end time.Time) time.Duration {
	if a.asleep || a.tries > 0 || a.t1 <= 0 || a.lease == 0 || !a.at.Equal(a.bound.Add(a.t1)) || !n.served(a) {
		return 0
	}
	if a.at.Before(n.acted()) || a.bound.Before(n.acted()) {
		return 0 // it has not renewed since the last change
	}
	times := end.Sub(a.at)/a.t1 - 1
	return max(times, 0) * a.t1
}

// acted is when the site was changed last.
func (n *night) acted() time.Time {
	var last time.Time
	for _, a := range n.acts {
		if done := a.At.Add(a.Takes); !done.After(n.now) {
			last = done
		}
	}
	return last
}

// judge notes when a client loses service and when it has it again.
func (n *night) judge(a *actor) {
	if a.asleep || n.now.Before(n.begin) {
		return
	}
	last := len(a.outages) - 1
	down := last >= 0 && a.outages[last].to.IsZero()
	switch served := n.served(a); {
	case served && down:
		a.outages[last].to = n.now
	case !served && !down:
		a.outages = append(a.outages, outage{from: n.now})
	}
	a.nameless.is(!n.named(a), n.now)
	told, has := n.names[a.MAC]
	a.name.is(has && told != a.Address, n.now)
}

func (n *night) judgeAll() {
	for _, a := range n.actors {
		n.judge(a)
	}
}

// become has the devices go on with another document and the leases they hold.
func (n *night) become(doc *site.Site, into map[string]string) {
	n.doc, n.down = doc, nil
	n.world.Become(n.now, doc)
	n.learnRouters()
	for _, a := range n.actors {
		a.settled = false
	}
	n.replug(into)
	n.judgeAll()
}

// replug moves the clients whose network has become part of another into that, and those whose reservation is in
// another network now into that one.
func (n *night) replug(into map[string]string) {
	reserved := map[address.MAC][]string{}
	for _, r := range n.doc.Reservations {
		reserved[r.MAC] = append(reserved[r.MAC], r.Network)
	}
	for _, a := range n.actors {
		if to, joined := into[a.known.Network]; joined {
			a.known.Network = to
		}
		if in := reserved[a.MAC]; len(in) > 0 && !slices.Contains(in, a.known.Network) {
			a.known.Network = in[0]
		}
	}
}

// learnRouters notes every address that a device, or a machine with an address of its own, has.
func (n *night) learnRouters() {
	n.routers = map[netip.Addr]bool{}
	for _, d := range n.doc.Devices {
		for _, i := range d.Interfaces {
			for _, at := range i.Addresses {
				n.routers[at.Addr()] = true
			}
		}
	}
	for _, x := range n.doc.FixedDevices {
		n.routers[x.Address] = true
	}
	n.names = map[address.MAC]netip.Addr{}
	for _, r := range n.doc.Reservations {
		n.routers[r.Address] = true
		if !r.MAC.IsZero() && r.Name != "" {
			n.names[r.MAC] = r.Address
		}
	}
}

// settle plays on until every client has renewed once since the last act, or three leases have passed.
func (n *night) settle() {
	longest := time.Duration(0)
	for _, a := range n.actors {
		longest = max(longest, a.lease, a.known.Wakes.Sub(n.now))
	}
	end := n.now.Add(3 * longest)
	for len(n.clock) > 0 && n.clock[0].at.Before(end) {
		a := n.clock[0]
		n.pass(a.at)
		n.turn(a)
		n.judge(a)
		if a.settled && n.served(a) {
			heap.Pop(&n.clock)
			continue
		}
		heap.Fix(&n.clock, a.place)
	}
	if len(n.clock) > 0 {
		n.pass(end)
	}
}

func (n *night) outcome() Night {
	out := Night{Begin: n.begin, End: n.begin, Clients: len(n.actors), Fates: []Fate{}}
	for _, a := range n.acts {
		out.End = latest(out.End, a.At.Add(a.Takes))
	}
	begin, end := out.End, n.begin
	reserved := map[netip.Addr]bool{}
	for _, r := range n.doc.Reservations {
		reserved[r.Address] = true
	}
	for _, a := range n.actors {
		f := Fate{Name: cmp.Or(a.known.Name, a.MAC.String()), MAC: a.MAC.String(), Network: a.known.Network,
			Was: a.known.Address, Will: a.Address, Asleep: !a.known.Wakes.IsZero()}
		f.Likely = a.Address.IsValid() && !reserved[a.Address]
		for _, o := range a.outages {
			if f.Lost == nil {
				f.Lost = &o.from
			}
			to := o.to
			if to.IsZero() {
				to = n.now
				out.Stranded++
				f.Regained = nil
			} else {
				f.Regained = &o.to
			}
			f.Seconds += int(to.Sub(o.from).Seconds())
			begin, end = earliest(begin, o.from), latest(end, to)
		}
		f.NameServers, f.OwnName = a.nameless.lack(n.now), a.name.lack(n.now)
		out.NameMinutes += float64(f.NameServers.Seconds) / 60
		if f.Seconds > 0 {
			out.Affected++
			out.Minutes += float64(f.Seconds) / 60
			out.Longest = max(out.Longest, f.Seconds)
		}
		out.Fates = append(out.Fates, f)
	}
	if out.Affected > 0 {
		out.Mean = int(out.Minutes * 60 / float64(out.Affected))
	}
	if begin.Before(end) { // who is without service is shown, and a little before and after
		margin := end.Sub(begin)/12 + time.Minute
		out.Begin, out.End = begin.Add(-margin), end.Add(margin)
	}
	out.Curve = n.curve(out.Begin, out.End)
	slices.SortStableFunc(out.Fates, func(a, b Fate) int {
		return cmp.Or(cmp.Compare(b.Seconds, a.Seconds), cmp.Compare(b.NameServers.Seconds, a.NameServers.Seconds),
			cmp.Compare(b.OwnName.Seconds, a.OwnName.Seconds), a.Was.Compare(b.Was))
	})
	return out
}

func earliest(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func latest(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// curve is how many clients are without service at equal steps between two moments.
func (n *night) curve(begin, end time.Time) []int {
	out := make([]int, curvePoints+1)
	step := end.Sub(begin) / curvePoints
	for _, a := range n.actors {
		for _, o := range a.outages {
			to := o.to
			if to.IsZero() {
				to = end
			}
			for i := range out {
				if at := begin.Add(time.Duration(i) * step); !at.Before(o.from) && at.Before(to) {
					out[i]++
				}
			}
		}
	}
	return out
}
