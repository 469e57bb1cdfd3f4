package order

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/dynamicnames"
	"lithos/core/observed"
	"lithos/core/site"
	"lithos/core/zone"
)

// Beside is what is known of a site beside its document.
type Beside struct {
	Access    []Access // of its devices
	Orders    []Opened
	Seen      []observed.Heard
	Zones     []ZoneReading       // of its outside zones
	Lines     []LineReading       // the addresses its uplinks had, the oldest first of each
	Sent      []SentAddress       // what was sent of its names that follow, the oldest first of each
	Read      []ReadAddress       // what their servers answered, the oldest first of each
	Shared    check.SharedLevels  // the standard and the customer's options as they are kept for all sites
	Servers   []check.Stray       // DHCP servers that nobody recorded, as they were heard
	Moves     []check.Moving      // of networks of the customer's sites
	Meant     []Meant             // what somebody has said is meant so
	Elsewhere map[string][]string // devices of other sites that are the same machine, by device id
	Documents bool                // addresses of documents (RFC 5737) stand for public ones
	Neighbors []check.Neighbor    // the customer's sites; whether this one is among them does not matter
}

// Followed is a site with as much of its document as its dynamic names are about.
type Followed struct {
	Site   *site.Site
	Beside Beside
}

// ZoneReading is an outside zone as its server had it when it was last read.
type ZoneReading struct {
	ZoneID  string
	ReadAt  *time.Time // nil where it never was
	Problem string     // why it could not be read the last time
	Serial  uint32
	Records []zone.Record
	// Keys and Sets are what its provider tells of keys and of who writes the records; KeysProblem is why it
	// told nothing the last time.
	KeysReadAt  *time.Time // nil where it never told them
	Keys        []dynamicnames.Key
	Sets        []dynamicnames.Set
	KeysProblem string
}

// LineReading is an address that a line had (site.Following.Line), and from when to when it was read there.
type LineReading struct {
	Interface   string
	Address     netip.Addr
	First, Last time.Time
}

// SentAddress is an update of a dynamic name, with what came of it.
type SentAddress struct {
	Following string
	Address   netip.Addr
	At        time.Time
	Taken     bool
	Says      string
}

// ReadAddress is what the server of a dynamic name answered for one type, from when to when that was read.
type ReadAddress struct {
	Following   string
	Type        string
	Data        []string
	First, Last time.Time
}

// ReadOf is what the server of a name answered for a type, the oldest first.
func (b Beside) ReadOf(following, typ string) []ReadAddress {
	var out []ReadAddress
	for _, r := range b.Read {
		if r.Following == following && r.Type == typ {
			out = append(out, r)
		}
	}
	return out
}

// LineOf is what a line had when it was read last.
func (b Beside) LineOf(line string) dynamicnames.Line {
	var out dynamicnames.Line
	for _, l := range b.Lines {
		if l.Interface == line {
			out = out.With(l.Address)
		}
	}
	return out
}

// SentOf is what was sent of a name, the oldest first.
func (b Beside) SentOf(following string) []SentAddress {
	var out []SentAddress
	for _, s := range b.Sent {
		if s.Following == following {
			out = append(out, s)
		}
	}
	return out
}

// Opened is one of the open work orders of a site.
type Opened struct {
	ID    int64  `json:"id"`
	Name  string `json:"name"`
	Title string `json:"title"`
	By    string `json:"by"`
}

// Around is what rules need beside the document of a site.
func (b Beside) Around(doc *site.Site) check.Surroundings {
	with := check.Surroundings{Now: time.Now(), Seen: observed.Sightings(doc, b.Seen, time.Now()),
		Neighbors: slices.Clone(b.Neighbors), Programs: Programs(b.Access),
		AtServer: map[string][]zone.Record{}, Lines: map[string]dynamicnames.Line{},
		Keys: map[string][]dynamicnames.Key{},
		Sets: map[string][]dynamicnames.Set{}, Reached: map[string]bool{}, Readings: map[string]check.Reading{},
		Strays: b.Servers, Shared: b.Shared}
	with.Documents, with.Moves, with.Elsewhere = b.Documents, b.Moves, b.Elsewhere
	for _, l := range b.Lines {
		with.Lines[l.Interface] = with.Lines[l.Interface].With(l.Address)
	}
	for _, z := range b.Zones {
		if z.KeysReadAt != nil {
			with.Keys[z.ZoneID] = z.Keys
		}
		with.Sets[z.ZoneID] = z.Sets
		if z.ReadAt != nil {
			with.AtServer[z.ZoneID] = z.Records
		}
	}
	for _, a := range b.Access {
		with.Reached[a.DeviceID] = true
		with.Readings[a.DeviceID] = a.reading()
	}
	with.Neighbors = slices.DeleteFunc(with.Neighbors, func(n check.Neighbor) bool { return n.ID == doc.ID })
	if zone, err := time.LoadLocation(doc.TimeZone); err == nil {
		with.Now = with.Now.In(zone)
	}
	return with
}

// Judgement is what a site looks like with what is known beside it: everything the
// rules find, and which of that a draft brings in.
type Judgement struct {
	Findings []check.Finding
	Added    []check.Finding
	Meant    []Answered // findings that somebody has said are meant so: they are in neither of the others
	Seen     []observed.Sighting
}

// Judge finds what is wrong with a site as it is.
func Judge(sc *check.Scene, b Beside) Judgement {
	with := b.Around(sc.Site)
	found, meant := split(joined(sc.Findings, check.Around(sc, with)), b.Meant, with.Now)
	return Judgement{Findings: found, Meant: meant, Seen: with.Seen}
}

// Judge finds what is wrong with the site a draft proposes.
func (d *Draft) Judge(b Beside) Judgement {
	with := b.Around(d.Doc())
	found := check.Around(d.Scene, with)
	var was []check.Finding
	if len(found) > 0 {
		was = check.Around(d.Base, with)
	}
	// A draft changes what the world is to be told: what is told otherwise than the site says as it stands is
	// found, and not what the draft is about to tell.
	found = slices.DeleteFunc(found, func(f check.Finding) bool {
		return f.Rule == check.OutsideDiffers && !slices.ContainsFunc(was, func(o check.Finding) bool {
			return o.Rule == f.Rule && o.Value == f.Value
		})
	})
	added := slices.Concat(check.Added(was, found), d.again(stillThere(was, found), Configurations(b.Access)))
	all, meant := split(joined(d.Scene.Findings, found), b.Meant, with.Now)
	brought, _ := split(joined(d.Added(), added), b.Meant, with.Now)
	return Judgement{Findings: all, Added: brought, Meant: meant, Seen: with.Seen}
}

// stillThere are findings that were there before, and are with the draft.
func stillThere(was, found []check.Finding) []check.Finding {
	return slices.DeleteFunc(slices.Clone(found), func(f check.Finding) bool {
		return !slices.ContainsFunc(was, func(o check.Finding) bool { return o.ID == f.ID })
	})
}

func joined(document, around []check.Finding) []check.Finding {
	out := slices.Concat(document, around)
	if len(around) > 0 {
		check.Sort(out)
	}
	return out
}

// Brief is a finding in one line.
type Brief struct {
	ID       string         `json:"id"`
	Severity check.Severity `json:"severity" enum:"blocks,warns,notes"`
	Title    string         `json:"title"`
	Facts    string         `json:"facts" doc:"a digest of what it tells"`
}

// Before reports whether a finding comes before another in their order, as far as is known in brief.
func (b Brief) Before(other Brief) bool {
	rule := func(b Brief) string {
		slug, _, _ := strings.Cut(b.ID, ".")
		return slug
	}
	return check.Outweighs(check.Finding{Rule: rule(b), Severity: b.Severity},
		check.Finding{Rule: rule(other), Severity: other.Severity})
}

// InBrief is findings in one line each.
func InBrief(findings []check.Finding) []Brief {
	out := make([]Brief, len(findings))
	for i, f := range findings {
		out[i] = Brief{f.ID, f.Severity, f.Title, f.Facts()}
	}
	return out
}
