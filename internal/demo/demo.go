// Package demo loads the made-up sites of the scenario into a database, and starts
// their simulated devices.
package demo

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"lithos/core/compile"
	"lithos/core/dynamicnames"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/outbound"
	"lithos/internal/standin"
	"lithos/internal/standin/internet"
	"lithos/internal/work"
	"lithos/internal/zonetransfer"
)

// The demonstration's made-up account.
const (
	Account  = "mk"
	FullName = "Maren Kolb"
	Password = "slate-and-lichen"
)

// Options of a demonstration.
type Options struct {
	// Sites are those that are loaded; all of the scenario when empty.
	Sites []string
	State string // folder the devices' startup configurations survive in; empty for none
	Pace  time.Duration
	Log   *slog.Logger
	// Past gives lines what they had in the day before.
	Past bool
	// Programs are what holds port 53 of devices beside a resolver, which could not be put there for them, by
	// device id.
	Programs map[string]string
	// ByHand is whether somebody has changed devices before, and plugged in what nobody recorded.
	ByHand bool
}

// Start loads what is missing and starts the devices. Stop them with Close.
func Start(ctx context.Context, w *work.Service, o Options) (_ *Devices, err error) {
	if err := account(ctx, w); err != nil {
		return nil, err
	}
	w.Pushes.Outside, w.Poll.OutsideEcho, w.Store.Documents = scenario.Outside, scenario.Outside, true
	ctx, stop := context.WithCancel(ctx)
	running := &Devices{ByID: map[string]*standin.Device{}, stop: stop,
		secrets: map[string]string{}, fabrics: map[string]*standin.Fabric{}}
	if running.Internet, err = internet.Start(); err != nil {
		return nil, err
	}
	world := &standin.Outer{Internet: running.Internet}
	if o.State != "" {
		if err := os.MkdirAll(o.State, 0o700); err != nil {
			return nil, err
		}
		if err := running.Internet.Keep(filepath.Join(o.State, "provider.json")); err != nil {
			return nil, err
		}
	}
	w.Accounts.Web = zonetransfer.Web{Trust: running.Internet.Certifier().Pool(), At: running.Internet.Web()}
	w.Accounts.Outbound.Allowed = append(w.Accounts.Outbound.Allowed,
		outbound.Loopback().Allowed...) // where all of it runs
	w.Accounts.Reaches, w.Poll.Resolvers = running.Internet.Reaches(),
		[]netip.Addr{internet.Resolver1, internet.Resolver2}
	w.Poll.CertificateAuthority = running.Internet.Authority()
	defer func() {
		if err != nil {
			running.Close()
		}
	}()
	for siteID, list := range scenario.Passwords {
		for name, password := range list {
			running.secrets[name] = password
			if err := w.Accounts.KeepSecret(ctx, &site.Site{ID: siteID}, name, password); err != nil {
				return nil, err
			}
		}
	}
	sites := o.Sites
	if len(sites) == 0 {
		sites = scenario.Names
	}
	for _, name := range sites {
		if err := running.startSite(ctx, w, name, world, o); err != nil {
			return nil, err
		}
	}
	return running, nil
}

// startSite loads a site, as earlier runs left it, with its devices and its clients.
func (running *Devices) startSite(
	ctx context.Context, w *work.Service, name string, world *standin.Outer, o Options,
) (err error) {
	doc := scenario.Site(name)
	if now, err := w.Sites.Export(ctx, name); err == nil {
		doc = now // as earlier runs left it
	} else if refusal := (*actor.Refusal)(nil); !errors.As(err, &refusal) || refusal.Kind != actor.Missing {
		return err
	} else if _, err := w.Sites.Import(ctx, doc, 0, "loaded with the demonstration"); err != nil {
		return err
	}
	fabric := standin.NewFabric()
	running.fabrics[doc.Code] = fabric
	world.Join(fabric)
	// What the provider has already.
	if err := running.Internet.Hold(compile.Names(scenario.Site(name))); err != nil {
		return err
	}
	if err := running.makeKeys(ctx, w, doc); err != nil {
		return err
	}
	if o.Past {
		if err := before(ctx, w, doc); err != nil {
			return err
		}
	}
	for _, dev := range doc.Devices {
		d, password, err := o.start(fabric, doc, dev, running.secrets)
		if err != nil {
			return err
		}
		running.ByID[dev.ID] = d
		for uplink, a := range scenario.Lines[dev.ID] {
			d.SetLine(uplink, a)
		}
		if scenario.Unreached[dev.ID] {
			continue
		}
		access := device.Access{URL: d.URL, Account: "lithos", Password: password, Fingerprint: d.Fingerprint}
		if err := w.Accounts.PutAccess(ctx, by, doc.ID, dev.ID, access); err != nil {
			return err
		}
	}
	if stray, ok := scenario.Strays[name]; ok && o.ByHand {
		if running.strays, err = plugIn(fabric, stray, running.strays); err != nil {
			return err
		}
	}
	if o.Pace > 0 {
		running.done.Go(func() { fabric.RunClients(ctx, Clients(scenario.Site(name)), o.Pace) })
	}
	return nil
}

// plugIn has a DHCP server answer that nobody recorded, beside others.
func plugIn(f *standin.Fabric, s scenario.Stray, others []*standin.Stray) ([]*standin.Stray, error) {
	one, err := f.PlugIn(s.VLAN, s.MAC, s.At, s.From, s.To)
	if err != nil {
		return others, err
	}
	return append(others, one), nil
}

// by is who the demonstration's doings are attributed to.
const by = "the demonstration"

// account makes the demonstration's account, once: making it again would end the
// sessions of whoever is still signed in.
func account(ctx context.Context, w *work.Service) error {
	there, err := w.Accounts.Accounts(ctx)
	if err != nil || slices.ContainsFunc(there, func(a accounts.Account) bool { return a.Name == Account }) {
		return err
	}
	_, err = w.Accounts.PutTechnician(ctx, by, Account, FullName, Password)
	return err
}

func (o Options) start(
	fabric *standin.Fabric, doc *site.Site, dev site.Device, secrets map[string]string,
) (*standin.Device, string, error) {
	password, state := rand.Text(), ""
	if o.State != "" {
		if err := os.MkdirAll(o.State, 0o700); err != nil {
			return nil, "", err
		}
		state = filepath.Join(o.State, dev.ID+".json")
	}
	initial := compile.Device(doc, dev.ID)
	if program := o.Programs[dev.ID]; program != "" {
		initial.Resolver = yang.Resolver{Program: []yang.Program{{Name: program, Port: 53, Runs: true}}}
	}
	if change := scenario.ByHand[dev.ID]; change != nil && o.ByHand {
		change(&initial)
	}
	d, err := standin.Start(standin.Config{
		Name: dev.ID, System: dev.Name, Kind: dev.Kind, Fabric: fabric, Initial: initial, Account: "lithos",
		Password: password,
		Secrets:  ownSecrets(initial, secrets), Links: Links(doc, dev), State: state, Log: o.Log,
	})
	return d, password, err
}

// ownSecrets are the passwords and keys that a device's configuration names: it has no use for those of others.
func ownSecrets(c yang.Config, all map[string]string) map[string]string {
	own := map[string]string{}
	keep := func(name string) {
		if value, ok := all[name]; ok {
			own[name] = value
		}
	}
	for _, i := range c.Interfaces.Interface {
		if i.Uplink != nil {
			keep(i.Uplink.PasswordName)
		}
	}
	for _, n := range c.Outside.Name {
		keep(n.SecretName)
	}
	return own
}

// Links is what the ports of a device hear of those at the other ends of their cables.
func Links(doc *site.Site, dev site.Device) []yang.LinkNeighbor {
	var out []yang.LinkNeighbor
	for _, d := range doc.Devices {
		for _, i := range d.Interfaces {
			other, far, ok := doc.Interface(i.Peer)
			switch {
			case !ok:
			case d.ID == dev.ID:
				out = append(out, yang.LinkNeighbor{Interface: i.Name, SystemName: other.Name, PortID: far.Name})
			case other.ID == dev.ID:
				out = append(out, yang.LinkNeighbor{Interface: far.Name, SystemName: d.Name, PortID: i.Name})
			}
		}
	}
	return out
}

// before gives the lines of a site what they had in the day before, where nothing is known of them.
func before(ctx context.Context, w *work.Service, doc *site.Site) error {
	known, err := w.Store.Lines(ctx, doc.ID)
	if err != nil || len(known) > 0 {
		return err
	}
	for _, f := range doc.Following {
		list := scenario.Before[f.Name]
		for i, had := range list {
			ago := func(minutes int) time.Time { return time.Now().Add(-time.Duration(minutes) * time.Minute) }
			until := time.Now()
			if i+1 < len(list) {
				until = ago(list[i+1].Ago)
			}
			_, stuck := scenario.Told[f.Name] // at its first
			told := i == 0 || !stuck
			if err := w.Store.PastLine(ctx, doc.ID, f, had.Address, told, ago(had.Ago), until); err != nil {
				return err
			}
		}
	}
	return nil
}

// makeKeys makes the keys that a site names, at the provider and here.
func (d *Devices) makeKeys(ctx context.Context, w *work.Service, doc *site.Site) error {
	add := func(k internet.Key, secret string) error {
		if k.Name == "" {
			return nil
		}
		if made, ok := d.Internet.Key(k.Name); ok {
			k = made // by an earlier run
		} else {
			raw := make([]byte, 32)
			_, _ = rand.Read(raw)
			k.Secret, k.Made = base64.StdEncoding.EncodeToString(raw), time.Now()
			d.Internet.AddKey(k)
		}
		d.secrets[secret] = k.Secret
		return w.Accounts.KeepSecret(ctx, doc, secret, k.Secret)
	}
	for _, z := range doc.Zones {
		if err := add(internet.Key{Name: z.Key, Zone: z.Name, Reads: true}, z.Secret); err != nil {
			return err
		}
		if z.KeysAt != "" {
			password := rand.Text()
			d.Internet.AddAccount(z.Name, password)
			if err := w.Accounts.KeepSecret(ctx, doc, z.Account, password); err != nil {
				return err
			}
		}
	}
	for _, c := range doc.Certificates {
		z, ok := doc.ZoneOf(c.Challenge(), site.Outside)
		if !ok || c.Key == z.Key {
			continue
		}
		k := internet.Key{Name: c.Key, Zone: z.Name,
			Limits: dynamicnames.Limits{Names: []string{c.Challenge()}, Types: []string{"TXT"}}}
		if err := add(k, c.Secret); err != nil {
			return err
		}
	}
	for _, f := range doc.Following {
		z, ok := doc.ZoneOf(f.Name, site.Outside)
		if !ok || f.Key == z.Key {
			continue
		}
		k := internet.Key{Name: f.Key, Zone: z.Name,
			Limits: dynamicnames.Limits{Names: []string{f.Name}, Types: f.Types(), UpdateOnly: true}}
		if f.Wildcard {
			k.Names = append(k.Names, "*."+f.Name)
		}
		if scenario.LostKeys[f.Key] {
			k.Zone = "" // nothing
		}
		if err := add(k, f.Secret); err != nil {
			return err
		}
		if err := d.tell(z.Name, f.Name); err != nil {
			return err
		}
	}
	return nil
}

// tell is what the world is told of a name already, where the provider has nothing of it.
func (d *Devices) tell(in, name string) error {
	a, ok := scenario.Told[name]
	if !ok {
		return nil
	}
	return d.Internet.Change(in, func(z *yang.Zone) {
		owner, _ := zone.Relative(name, z.Name)
		if !slices.ContainsFunc(z.Record, func(r yang.Record) bool { return r.Owner == owner }) {
			z.Record = append(z.Record, yang.Record{ID: owner, Owner: owner, Type: "A", Data: a.String(), TTL: 120})
		}
	})
}

// Devices are the running ones, by id.
type Devices struct {
	ByID     map[string]*standin.Device
	Internet *internet.Internet
	secrets  map[string]string // that devices keep from the start, by name
	fabrics  map[string]*standin.Fabric
	strays   []*standin.Stray
	stop     context.CancelFunc
	done     sync.WaitGroup
}

// Fabric is what joins the devices of a site; nil where there is no such site.
func (d *Devices) Fabric(site string) *standin.Fabric { return d.fabrics[site] }

// Close ends them.
func (d *Devices) Close() {
	if d.stop != nil {
		d.stop()
	}
	d.done.Wait()
	for _, one := range d.strays {
		one.Close()
	}
	for _, one := range d.ByID {
		one.Close()
	}
	if d.Internet != nil {
		d.Internet.Close()
	}
}

// Clients are the simulated machines of a made-up site.
func Clients(doc *site.Site) []standin.Client {
	var out []standin.Client
	for _, c := range scenario.Clients(doc) {
		out = append(out, standin.Client(c))
	}
	return out
}
