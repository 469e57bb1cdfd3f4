package names

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/zone"
)

// The formats that a zone is written in.
const (
	ZoneFile  = "zone"     // RFC 1035 section 5
	HostsFile = "hosts"    // lines of a hosts file
	CSV       = "csv"      // name, type, value, TTL
	Transfer  = "transfer" // every record whole, the SOA first and last, as a transfer has them (RFC 5936)
)

// Formats lists them.
var Formats = []string{ZoneFile, HostsFile, CSV, Transfer}

// Write writes a zone of a site: what is written by hand, the services, and the names that follow
// addresses. left are the records that the format cannot carry.
func Write(out io.Writer, s *site.Site, p *compile.Pages, format string, serial uint32) (left []string, err error) {
	primary := "ns." + p.Name
	if p.Side == site.Inside && len(s.Resolvers) > 0 {
		if d, ok := s.Device(s.Resolvers[0].Device); ok {
			primary = zone.Absolute(d.Name, s.Domain)
		}
	}
	z := compile.Zone(p, primary)
	switch format {
	case ZoneFile:
		f := zone.File{Origin: z.Name, TTL: z.TTL, SOA: &zone.SOA{Primary: z.Primary, Contact: z.Contact,
			Serial: serial, Refresh: z.Refresh, Retry: z.Retry, Expire: z.Expire, Negative: z.Negative}}
		for _, r := range z.Record {
			f.Records = append(f.Records, r.Text())
		}
		zone.Sort(f.Records)
		return nil, f.Write(out)
	case HostsFile:
		hosts, left := hostsOf(p)
		return left, zone.WriteHosts(out, hosts)
	case CSV:
		return nil, writeCSV(out, p)
	case Transfer:
		all := Whole(z, serial)
		var b bytes.Buffer
		for _, rr := range append(all, all[0]) {
			fmt.Fprintln(&b, strings.ReplaceAll(rr.String(), "\t", " "))
		}
		_, err := out.Write(b.Bytes())
		return nil, err
	}
	return nil, fmt.Errorf("%q is not a format of a zone; choose %s", format, strings.Join(Formats, ", "))
}

// hostsOf is a zone as a hosts file, with what that cannot carry.
func hostsOf(p *compile.Pages) (hosts []zone.Host, left []string) {
	at := map[netip.Addr]int{}
	for _, e := range p.Entries {
		a, err := netip.ParseAddr(e.Data)
		if (e.Type != "A" && e.Type != "AAAA") || err != nil || strings.HasPrefix(e.Owner, "*") {
			left = append(left, p.Whole(e)+" "+e.Type+" "+e.Data)
			continue
		}
		if i, ok := at[a]; ok {
			hosts[i].Names = append(hosts[i].Names, p.Whole(e))
			continue
		}
		at[a] = len(hosts)
		hosts = append(hosts, zone.Host{Address: a, Names: []string{p.Whole(e)}})
	}
	return hosts, left
}

func writeCSV(out io.Writer, p *compile.Pages) error {
	w := csv.NewWriter(out)
	_ = w.Write([]string{"name", "type", "value", "ttl"})
	for _, e := range p.Entries {
		ttl := ""
		if e.Record.TTL != 0 {
			ttl = strconv.Itoa(e.Record.TTL)
		}
		_ = w.Write([]string{e.Owner, e.Type, e.Data, ttl})
	}
	w.Flush()
	return w.Error()
}

// FindPages is a zone of a side by its name.
func FindPages(b *compile.Book, side, name string) (*compile.Pages, bool) {
	list := b.Side(side)
	at := slices.IndexFunc(list, func(p *compile.Pages) bool { return p.Name == zone.Tidy(name) })
	if at < 0 {
		return nil, false
	}
	return list[at], true
}
