package order

import (
	"maps"
	"net/netip"
	"net/url"
	"reflect"
	"slices"
	"time"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/drawing"
	"lithos/core/drift"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/yang"
)

// Access is how a device is reached, and how it was when it was read last.
type Access struct {
	SiteID      string
	DeviceID    string
	URL         string
	Account     string
	Sealed      []byte // the password, encrypted
	Shared      string // id of the credential that signs in here and at others; empty for an account of its own
	Fingerprint []byte // of its certificate
	ReadAt      *time.Time
	Problem     string
	TriedAt     *time.Time     // when it was last read or tried to; nil for never
	ProblemAt   *time.Time     // since when it cannot be read; nil where it can
	Programs    []yang.Program // that listen for names there beside its resolver
	// Drifted is how many things it held otherwise than the site's revision when it was read, what Lithos did not put
	// there apart; DriftedAt is since when. Held is what it held, where that is anything else than the revision's.
	Drifted   int
	DriftedAt *time.Time
	Running   *yang.Config
	// Cuts are the networks that it cuts off, as it was read, and would not if it held what the site's revision gives
	// it.
	Cuts []check.Cut
	// Tag is what the device called its configuration when that was judged, on revision JudgedOn; empty for not yet.
	Tag      string
	JudgedOn int32
}

// HeldBy is what a device holds otherwise than a site gives it, and which networks that cuts off.
func HeldBy(doc *site.Site, device string, held yang.Config) (list []drift.Difference, cuts []check.Cut) {
	given := compile.Device(doc, device)
	if list = drift.Between(doc.Own(), given, held, given); len(list) > 0 {
		cuts = rehearse.Cuts(time.Now(), doc, map[string]yang.Config{device: held})
	}
	return list, cuts
}

// Programs are what listens for names beside the resolvers of devices, by device id, as they were last read.
func Programs(access []Access) map[string][]yang.Program {
	out := map[string][]yang.Program{}
	for _, a := range access {
		out[a.DeviceID] = a.Programs
	}
	return out
}

// On finds how a device is reached; nil where Lithos does not reach it.
func On(access []Access, device string) *Access {
	i := slices.IndexFunc(access, func(a Access) bool { return a.DeviceID == device })
	if i < 0 {
		return nil
	}
	return &access[i]
}

// reading is what rules need of it.
func (a *Access) reading() check.Reading {
	out := check.Reading{Problem: a.Problem, ProblemAt: a.ProblemAt, ReadAt: a.ReadAt, Drifted: a.Drifted,
		DriftedAt: a.DriftedAt, Cuts: a.Cuts}
	if u, err := url.Parse(a.URL); err == nil {
		out.At, _ = netip.ParseAddr(u.Hostname()) // a name is no address that a draft could move
	}
	if a.Running != nil {
		out.Interfaces = a.Running.Interfaces.Interface
	}
	return out
}

// Target is a device whose configuration a draft changes.
type Target struct {
	ID, Name, Kind string
	Access         *Access // nil when Lithos cannot reach it
}

// Configs is what a draft's base and the draft make of the device.
func (t Target) Configs(d *Draft) (base, wanted yang.Config) {
	return compile.Device(d.Base.Site, t.ID), compile.Device(d.Doc(), t.ID)
}

// Drift is what the device holds otherwise than the draft's base has it.
func (t Target) Drift(d *Draft) []drift.Difference {
	if t.Access == nil || t.Access.Running == nil {
		return nil
	}
	base, wanted := t.Configs(d)
	return drift.Between(d.Doc().Own(), base, *t.Access.Running, wanted)
}

// Undecided is what a push to the device would undo without anybody having said so.
func (t Target) Undecided(d *Draft) []drift.Difference {
	return drift.Undecided(t.Drift(d), d.PutBack(t.ID))
}

// Differing is as much of Configs as it takes to plan the way from one to the other:
// the networks in which they are the same are left out.
func (t Target) Differing(d *Draft) (base, wanted yang.Config) {
	if d.differs[piece{device: t.ID}] {
		return t.Configs(d)
	}
	base, wanted = compile.Frame(d.Base.Site, t.ID), compile.Frame(d.Doc(), t.ID)
	add := func(c *yang.Config, s yang.DHCPServer) {
		c.DHCP.Pool = append(c.DHCP.Pool, s.Pool...)
		c.DHCP.Reservation = append(c.DHCP.Reservation, s.Reservation...)
	}
	if d.differs[piece{device: t.ID, names: true}] {
		base.Resolver = compile.Resolver(d.Base.Site, t.ID, d.Base.Book())
		wanted.Resolver = compile.Resolver(d.Doc(), t.ID, d.Scene.Book())
	}
	// A name that is kept as it was is the same on both sides, and no step.
	base.Outside, wanted.Outside = compile.Outside(d.Base.Site, t.ID), compile.Outside(d.Doc(), t.ID)
	for p := range d.differs {
		if p.device == t.ID && !p.names {
			add(&base, serving(d.Base, t.ID, p.network))
			add(&wanted, serving(d.Scene, t.ID, p.network))
		}
	}
	return base.Sorted(), wanted.Sorted()
}

// Targets lists the devices a draft changes, those Lithos reaches first, each in the
// order a push visits them.
func (d *Draft) Targets(access []Access) []Target {
	var reached, byHand []Target
	for _, dev := range inPushOrder(d.Doc().Devices) {
		if !d.differs.on(dev.ID) && len(d.PutBack(dev.ID)) == 0 {
			continue
		}
		t := Target{dev.ID, dev.Name, dev.Kind, On(access, dev.ID)}
		if t.Access != nil {
			reached = append(reached, t)
		} else {
			byHand = append(byHand, t)
		}
	}
	return append(reached, byHand...)
}

// inPushOrder lists devices in the order a push visits them: what carries frames
// first, then servers, then what relays to servers and leads outside.
func inPushOrder(devices []site.Device) []site.Device {
	rank := map[string]int{site.L2Switch: 0, site.Server: 1, site.L3Switch: 2, site.Router: 3, site.Firewall: 3}
	out := slices.Clone(devices)
	slices.SortStableFunc(out, func(a, b site.Device) int { return rank[a.Kind] - rank[b.Kind] })
	return out
}

// differences is where what a document makes of the devices is something else than
// what its base makes of them: by device, for each network that it serves, for the names
// it answers for, and as a whole, with an empty network. It is never written to; after
// makes the next.
type differences map[piece]bool

type piece struct {
	device, network string
	names           bool
}

func (d differences) on(device string) bool {
	for p := range d {
		if p.device == device {
			return true
		}
	}
	return false
}

// after compares again what the scene now was made anew of, all of it where d is nil. was is the
// scene before.
func (d differences) after(base, was, now *check.Scene) differences {
	renewed := now.Renewed()
	networks := renewed.Networks
	out := maps.Clone(d)
	if renewed.All || out == nil {
		out = differences{}
		networks = nil
		for _, n := range now.Networks {
			networks = append(networks, n.ID)
		}
		for _, n := range base.Networks {
			if _, stays := now.Network(n.ID); !stays {
				networks = append(networks, n.ID)
			}
		}
		for _, dev := range now.Devices {
			out.note(piece{device: dev.ID}, compile.Frame(base.Site, dev.ID), compile.Frame(now.Site, dev.ID))
		}
	}
	if renewed.All || renewed.Names || d == nil {
		out.names(base, now)
	}
	for _, id := range networks {
		for _, dev := range servers(id, base, was, now) {
			out.note(piece{device: dev, network: id}, serving(base, dev, id), serving(now, dev, id))
			// A device that begins or ceases to serve is told of the vendor classes.
			if len(base.VendorClasses)+len(now.VendorClasses) > 0 {
				out.note(piece{device: dev}, compile.Frame(base.Site, dev), compile.Frame(now.Site, dev))
			}
		}
	}
	return out
}

// names compares what the devices of resolvers answer, and the outside names that devices keep.
func (d differences) names(base, now *check.Scene) {
	type kept struct {
		yang.Resolver
		yang.OutsideNames
	}
	of := func(sc *check.Scene, device string) kept {
		return kept{compile.Resolver(sc.Site, device, sc.Book()), compile.Outside(sc.Site, device)}
	}
	devices := map[string]bool{}
	for _, sc := range []*check.Scene{base, now} {
		for _, r := range sc.Resolvers {
			devices[r.Device] = true
		}
		for _, f := range sc.Following {
			if dev, _, ok := sc.Interface(f.Uplink); ok {
				devices[dev.ID] = true
			}
		}
	}
	for device := range devices {
		d.note(piece{device: device, names: true}, of(base, device), of(now, device))
	}
}

func (d differences) note(p piece, was, is any) {
	delete(d, p)
	if !reflect.DeepEqual(was, is) {
		d[p] = true
	}
}

// servers lists the devices that serve a network in one of two scenes.
func servers(network string, scenes ...*check.Scene) []string {
	var out []string
	for _, sc := range scenes {
		if n, ok := sc.Network(network); ok {
			for _, p := range sc.PoolsOn(n) {
				if !slices.Contains(out, p.Server) {
					out = append(out, p.Server)
				}
			}
		}
	}
	return out
}

func serving(sc *check.Scene, device, network string) yang.DHCPServer {
	n, on := sc.Network(network)
	d, there := sc.Device(device)
	if !on || !there {
		return yang.DHCPServer{}
	}
	name, _ := sc.HomeOf(n, device)
	return compile.Serving(sc.Site, d, n, name, sc.PoolsOn(n), sc.On(n))
}

// Configurations is what devices hold, as they were read last.
func Configurations(access []Access) map[string]yang.Config {
	out := map[string]yang.Config{}
	for _, a := range access {
		if a.Running != nil {
			out[a.DeviceID] = *a.Running
		}
	}
	return out
}

// backAt is what the draft puts back, by the devices that were read: the ids of the differences.
func (d *Draft) backAt(held map[string]yang.Config) map[string]map[string]bool {
	out := map[string]map[string]bool{}
	for _, dev := range d.Base.Devices {
		back := d.PutBack(dev.ID)
		if _, read := held[dev.ID]; read && len(back) > 0 {
			out[dev.ID] = back
		}
	}
	return out
}

// putBackParts are the parts of which something is put back at devices.
func (d *Draft) putBackParts(held map[string]yang.Config) []site.Ref {
	var out []site.Ref
	for device, back := range d.backAt(held) {
		pushed := compile.Device(d.Base.Site, device)
		for _, one := range drift.Between(d.Base.Own(), pushed, held[device], compile.Device(d.Doc(), device)) {
			if back[one.ID] {
				out = append(out, site.ParseRef(one.Part))
			}
		}
	}
	return out
}

// HeldByTargets is what the devices that a push changes hold, as they were read last, by id.
func (d *Draft) HeldByTargets(access []Access) map[string]yang.Config {
	all, out := Configurations(access), map[string]yang.Config{}
	for _, t := range d.Targets(nil) {
		if c, read := all[t.ID]; read {
			out[t.ID] = c
		}
	}
	return out
}

// Networks lists the networks that a push changes something of, in address order: those that the draft's edits concern,
// and those of what is put back at devices. held is what devices hold, by id.
func (d *Draft) Networks(held map[string]yang.Config) []string {
	hit, about := map[string]bool{}, map[site.Ref]bool{}
	parts := d.putBackParts(held)
	for _, e := range Live(d.Steps) {
		parts = append(parts, e.Part, e.In)
	}
	for _, ref := range parts {
		about[ref] = true
	}
	for device := range d.backAt(held) {
		for _, c := range rehearse.Cuts(time.Now(), d.Base.Site, map[string]yang.Config{device: held[device]}) {
			hit[c.Network] = true // whom putting back gives service again
		}
	}
	now, was := drawing.Places(d.Doc(), about), drawing.Places(d.Base.Site, about)
	for _, ref := range parts {
		if ref.Kind == site.KindSite {
			for _, n := range d.Doc().Networks {
				hit[n.ID] = true
			}
		}
		hit[now[ref]], hit[was[ref]] = true, true
	}
	out := []string{}
	for _, n := range d.Doc().Networks {
		if hit[n.ID] {
			out = append(out, n.ID)
		}
	}
	return out
}
