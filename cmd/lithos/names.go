package main

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lithos/core/compile"
	"lithos/core/names"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/standin"
	"lithos/internal/standin/resolve"
)

type askCommand struct {
	File string `arg:"" name:"SITE-FILE" help:"Site file, JSON or YAML; - for standard input."`
	Name string `arg:"" name:"NAME" help:"As it is typed; an address is looked up in reverse."`
	Type string `arg:"" name:"TYPE" optional:"" default:"A" help:"Type of record."`
	From string `required:"" name:"from" help:"Who asks: the name or address of a client, a network, a device, or internet."`
}

// Run prints the way of the question and the answer. The exit code is 1 where there is none.
func (c *askCommand) Run(out io.Writer) error {
	doc, err := readSite(c.File)
	if err != nil {
		return err
	}
	who, err := asker(doc, c.From)
	if err != nil {
		return err
	}
	a, err := names.NewWorld(time.Now(), doc, compile.Names(doc), nil).Ask(
		names.Question{Who: who, Name: c.Name, Type: c.Type})
	if err != nil {
		return err
	}
	for _, s := range a.Steps {
		line := s.Title
		if s.Says != "" {
			line += ": " + s.Says
		}
		fmt.Fprintf(out, "%-9s %s\n", s.State, line)
	}
	if a.Outcome != names.Found {
		fmt.Fprintf(out, "%s\n", a.Outcome)
		return errFound
	}
	for _, v := range a.Values {
		fmt.Fprintf(out, "%s\n", v)
	}
	return nil
}

// asker finds who is meant by a name, an address or an id.
func asker(doc *site.Site, who string) (string, error) {
	if who == names.Internet {
		return who, nil
	}
	at, _ := netip.ParseAddr(who)
	for _, kind := range []string{site.KindNetwork, site.KindReservation, site.KindFixedDevice, site.KindDevice} {
		k, _ := site.KindNamed(kind)
		found := ""
		k.Each(doc, func(_ site.Ref, list site.List, i int) bool {
			address := ""
			if f, ok := k.Field("address"); ok {
				address = f.Text(list.At(i))
			}
			if list.ID(i) == who || strings.EqualFold(k.Called(list.At(i)), who) || at.IsValid() && address == who {
				found = site.Ref{Kind: kind, ID: list.ID(i)}.String()
			}
			return found == ""
		})
		if found != "" {
			return found, nil
		}
	}
	if n, ok := doc.NetworkOf(at); ok && at.IsValid() {
		return site.Ref{Kind: site.KindNetwork, ID: n.ID}.String(), nil
	}
	return "", fmt.Errorf("--from: nobody at %s is called %q; name a network, a client, a device, or internet",
		doc.Name, who)
}

type zoneCommand struct {
	Export zoneExport `cmd:"" help:"Write a zone: what is written by hand, the services, and the names of addresses."`
	Import zoneImport `cmd:"" help:"Read a zone file, a hosts file or CSV, and write the site file with its records in a zone."`
}

type zoneExport struct {
	File   string `arg:"" name:"SITE-FILE" help:"Site file, JSON or YAML; - for standard input."`
	Zone   string `arg:"" name:"ZONE" help:"Name of the zone."`
	Side   string `help:"inside or outside." enum:"inside,outside" default:"inside"`
	Format string `help:"zone, hosts, csv or transfer." enum:"zone,hosts,csv,transfer" default:"zone"`
}

// Run writes the zone. What the format cannot carry goes to standard error, a line each.
func (c *zoneExport) Run(out io.Writer) error {
	doc, err := readSite(c.File)
	if err != nil {
		return err
	}
	book := compile.Names(doc)
	p, ok := names.FindPages(book, c.Side, c.Zone)
	if !ok {
		return fmt.Errorf("%s has no zone %s %s; it has %s", doc.Name, c.Zone, c.Side, strings.Join(zonesOf(book),
			", "))
	}
	// A serial is that of the moment, as a device's is.
	left, err := names.Write(out, doc, p, c.Format, uint32(time.Now().Unix()))
	for _, l := range left {
		fmt.Fprintf(os.Stderr, "left out: %s\n", l)
	}
	return err
}

func zonesOf(b *compile.Book) []string {
	var out []string
	for _, p := range slices.Concat(b.Inside, b.Outside) {
		out = append(out, p.Name+" "+p.Side)
	}
	return out
}

type zoneImport struct {
	File   string `arg:"" name:"SITE-FILE" help:"Site file, JSON or YAML."`
	Zone   string `arg:"" name:"ZONE" help:"Name of the zone; it is added where the site has none."`
	Source string `arg:"" name:"FILE" help:"What is read; - for standard input."`
	Side   string `help:"inside or outside." enum:"inside,outside" default:"inside"`
}

// Run writes the site file with the records of the file to standard output. What is there already stays;
// what could not be taken goes to standard error, a line each.
func (c *zoneImport) Run(out io.Writer) error {
	doc, err := readSite(c.File)
	if err != nil {
		return err
	}
	raw, err := source(c.Source)
	if err != nil {
		return err
	}
	name := zone.Tidy(c.Zone)
	if err := zone.CheckName(name); err != nil {
		return err
	}
	read, err := zone.Read(bytes.NewReader(raw), name)
	if err != nil {
		return err
	}
	takeRecords(zoneFor(doc, name, c.Side, read), read)
	for _, l := range read.Left {
		fmt.Fprintf(os.Stderr, "left out: %s: %s\n", l.Text, l.Why)
	}
	for _, l := range read.Otherwise {
		fmt.Fprintf(os.Stderr, "taken otherwise: %s: %s\n", l.Text, l.Why)
	}
	encode := site.EncodeYAML
	if strings.EqualFold(filepath.Ext(c.File), ".json") {
		encode = site.Encode
	}
	text, err := encode(doc)
	if err == nil {
		_, err = out.Write(text)
	}
	return err
}

// zoneFor is the zone of a site that records are read into, made with what the file says of it where it is not there.
func zoneFor(doc *site.Site, name, side string, read zone.File) *site.Zone {
	at := slices.IndexFunc(doc.Zones, func(z site.Zone) bool { return z.Name == name && z.Side == side })
	if at < 0 {
		doc.Zones = append(doc.Zones, site.Zone{ID: "zone-" + strings.NewReplacer(".", "-", "/", "-").Replace(name),
			Name: name, Side: side, TTL: min(read.TTL, zone.MaxTTL)})
		at = len(doc.Zones) - 1
		if soa := read.SOA; soa != nil {
			z := &doc.Zones[at]
			z.Contact = soa.Contact
			z.Refresh, z.Retry = within(soa.Refresh, zone.MaxTTL), within(soa.Retry, zone.MaxTTL)
			z.Expire, z.Negative = within(soa.Expire, 31_536_000), within(soa.Negative, 86_400)
		}
	} else if read.SOA != nil {
		fmt.Fprintf(os.Stderr, "left out: the SOA's contact and timers; %s keeps its own\n", name)
	}
	if read.SOA != nil {
		fmt.Fprintf(os.Stderr, "left out: the SOA's server and serial; they are of whoever answers the zone\n")
	}
	return &doc.Zones[at]
}

// takeRecords adds the records of a file that a zone does not have yet.
func takeRecords(z *site.Zone, read zone.File) {
	given := map[string]bool{} // addresses that have a name by now
	for _, r := range z.Records {
		given[r.Data] = given[r.Data] || r.Type == "A" && !r.NoReverse
	}
	for i, r := range read.Records {
		if slices.ContainsFunc(z.Records, func(o *site.Record) bool {
			return o.Owner == r.Owner && o.Type == r.Type && o.Data == r.Data
		}) {
			continue
		}
		ttl := r.TTL
		if ttl == 0 && read.TTL != 0 && read.TTL != cmp.Or(z.TTL, site.DefaultTTL) {
			ttl = min(read.TTL, zone.MaxTTL) // what the file says of all is said of each: the zone says something else
		}
		// Of several names of an address the first counts in reverse.
		z.Records = append(z.Records, &site.Record{ID: freshRecord(z, i), Owner: r.Owner, Type: r.Type, Data: r.Data,
			TTL: ttl, NoReverse: r.Type == "A" && given[r.Data]})
		given[r.Data] = given[r.Data] || r.Type == "A"
	}
}

// within is a time of a SOA where a zone can have it; 0, the usual one, where not.
func within(seconds, most int) int {
	if seconds < 1 || seconds > most {
		return 0
	}
	return seconds
}

// freshRecord is an id that no record of the zone has.
func freshRecord(z *site.Zone, i int) string {
	for {
		id := fmt.Sprintf("rec-%s-%d", strings.TrimPrefix(z.ID, "zone-"), i+1)
		if !slices.ContainsFunc(z.Records, func(r *site.Record) bool { return r.ID == id }) {
			return id
		}
		i++
	}
}

func source(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(io.LimitReader(os.Stdin, zone.MaxFile+1))
	}
	return os.ReadFile(file)
}

type standinDNS struct {
	Listen string `required:"" help:"Address and port, for example 127.0.0.1:5353."`
	Site   string `required:"" help:"Site file."`
	Device string `required:"" help:"Id or name of the device in the site file."`
	TLS    int    `name:"tls" help:"Port of the TLS listener; none when not given. Its certificate signs itself."`
}

// Run serves the resolver of a device until the program is told to end. Who asks from the machine itself
// asks as the device; others are answered as the resolver's list says.
func (c *standinDNS) Run(ctx context.Context, out io.Writer) error {
	doc, dev, err := readDevice(c.Site, c.Device)
	if err != nil {
		return err
	}
	config := compile.Device(doc, dev.ID)
	s := config.Resolver.Settings
	if s == nil {
		return fmt.Errorf("%s has no resolver in %s", dev.Name, c.Site)
	}
	server := names.NewServer(config, names.Around{Cache: names.NewCache(s.CacheEntries), Up: resolve.Wire,
		Serial: uint32(time.Now().Unix())})
	var certs *tls.Config
	if c.TLS != 0 {
		cert, err := standin.Certificate(s.TLSName)
		if err != nil {
			return err
		}
		certs = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	}
	l, err := resolve.Listen(c.Listen, resolve.Options{Certs: certs, TLSPort: c.TLS}, resolve.Real(server))
	if err != nil {
		return fmt.Errorf("--listen: %w", err)
	}
	defer l.Close()
	fmt.Fprintf(out, "%s answers names at %s\n", dev.Name, l.Addr())
	<-ctx.Done()
	return nil
}
