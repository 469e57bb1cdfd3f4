package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/zone"
)

func serviceOutsideOnly(f *facts, report func(Finding)) {
	for i := range f.Services {
		v := &f.Services[i]
		name := v.Whole(f.Domain)
		home := f.hiddenBy(name)
		if v.Inside || !v.Outside || home == nil {
			continue
		}
		now := *v
		now.Inside = true
		report(Finding{
			Title: fmt.Sprintf("%s is there outside only", name), Parts: []site.Ref{serviceRef(v.ID)},
			Says: fmt.Sprintf("From the internet it leads to %s. Inside, %s is answered for by the site itself, "+
				"which says that there is no such name.", v.Base, home.Name),
			Fix: change("Let it be there inside too", site.KindService, v.ID, site.Ref{}, *v, now),
		})
	}
}

// serviceNowhere is about services that are to be on a side where no zone of the site has their name.
func serviceNowhere(f *facts, report func(Finding)) {
	for i := range f.Services {
		v := &f.Services[i]
		name := v.Whole(f.Domain)
		nowhere := func(side, says string, now site.Service) {
			if _, ok := f.ZoneOf(name, side); ok {
				return
			}
			report(Finding{
				Title: fmt.Sprintf("%s is in no %s zone", name, side), Parts: []site.Ref{serviceRef(v.ID)},
				Value: name + " " + side,
				Says: fmt.Sprintf("It is to be there %s, and no %s zone of the site holds it. ", side, side) + says +
					" Add the zone that does.",
				Fix: change("Leave it out "+side, site.KindService, v.ID, site.Ref{}, *v, now),
			})
		}
		inside, outside := *v, *v
		inside.Inside, outside.Outside = false, false
		if v.Outside {
			nowhere(site.Outside, "The world is told nothing of it.", outside)
		}
		if v.Inside {
			nowhere(site.Inside, "Resolvers here ask others for it.", inside)
		}
	}
}

func serviceRef(id string) site.Ref { return site.Ref{Kind: site.KindService, ID: id} }

// claimed is a name that another site's document claims too.
type claimed struct{ name, by string }

// outsideNameTwice is about outside names that several sites of a customer claim.
func outsideNameTwice(a *around, report func(Finding)) {
	others := map[string]claimed{}
	for _, n := range a.Neighbors {
		for _, name := range n.Outside {
			others[name] = claimed{name, n.Name}
		}
	}
	if len(others) == 0 {
		return
	}
	for _, p := range a.book().Outside {
		owners(p, func(owner string, list []compile.Entry) {
			c, ok := others[zone.Absolute(owner, p.Name)]
			if !ok {
				return
			}
			report(Finding{
				Title: fmt.Sprintf("%s is claimed by %s too", c.name, c.by), Parts: refs(p, list...), Value: c.name,
				Says: "Both sites say what the world is told of it. Whichever is pushed last counts, and the other " +
					"is reached no more. Keep it at one of them.",
				Fix: a.removingEntry("Leave it to "+c.by, list[0]),
			})
		})
	}
}

// mostDiffering is how many names of a zone are reported that the world has something else for; of a
// zone that another tool writes all may.
const mostDiffering = 20

// outsideDiffers is about what the world is told that is not what the document says, as it was last read
// from the servers of the zones. Names that the document does not have are their servers' own.
func outsideDiffers(a *around, report func(Finding)) {
	for _, p := range a.book().Outside {
		told, read := a.AtServer[p.Zone.ID]
		if !read {
			continue
		}
		changes := zone.Changes(told, zone.Merged(told, nil, compile.PublishedRecords(p)))
		for i, c := range changes {
			if i == mostDiffering {
				break
			}
			name := zone.Absolute(c.Owner, p.Name)
			found := Finding{
				Title: "The world has something else for " + name, Parts: []site.Ref{zoneRef(p.Zone.ID)},
				Value: name + "/" + c.Type,
				Says: fmt.Sprintf("%s is %s where %s was read, and %s here. The next push that changes the zone "+
					"writes what is here.", c.Type, data(c.Was), p.Zone.Server.Address, data(c.Now)),
			}
			at := slices.IndexFunc(p.Zone.Records, func(r *site.Record) bool {
				return strings.EqualFold(r.Owner, c.Owner) && r.Type == c.Type
			})
			if at >= 0 && len(c.Was) == 1 && len(c.Now) == 1 {
				was := p.Zone.Records[at]
				now := *was
				now.Data, now.TTL = c.Was[0].Data, c.Was[0].TTL
				found.Parts = append([]site.Ref{{Kind: site.KindRecord, ID: was.ID}}, found.Parts...)
				found.Fix = change("Write down what the world is told", site.KindRecord, was.ID,
					zoneRef(p.Zone.ID), *was, now)
			}
			report(found)
		}
	}
}

// data is what records say, in words.
func data(list []zone.Record) string {
	var out []string
	for _, r := range list {
		out = append(out, r.Data)
	}
	return cmp.Or(strings.Join(out, ", "), "not there")
}

// challengeKeyWide is about certificates whose key is one that writes a zone.
func challengeKeyWide(f *facts, report func(Finding)) {
	for i := range f.Certificates {
		c := &f.Certificates[i]
		at := slices.IndexFunc(f.Zones, func(z site.Zone) bool { return c.Key != "" && z.Key == c.Key })
		if at < 0 {
			continue
		}
		now := *c
		now.Key, now.Secret = "", ""
		report(Finding{
			Title: fmt.Sprintf("The key for %s can rewrite %s", c.Name, f.Zones[at].Name),
			Parts: []site.Ref{{Kind: site.KindCertificate, ID: c.ID}}, Value: c.Key,
			Says: fmt.Sprintf("%s lies on the machine that asks for the certificate. Whoever breaks into that can "+
				"point every name of %s elsewhere. Have a key made that may write %s alone.", c.Key, f.Zones[at].Name,
				c.Challenge()),
			Fix: change("Take the key away", site.KindCertificate, c.ID, site.Ref{}, *c, now),
		})
	}
}

// challengeNowhere is about certificates for names that no outside zone of the site has.
func challengeNowhere(f *facts, report func(Finding)) {
	for i := range f.Certificates {
		c := &f.Certificates[i]
		if _, ok := f.ZoneOf(strings.TrimPrefix(c.Name, "*."), site.Outside); ok {
			continue
		}
		report(Finding{
			Title: "Nobody can prove " + c.Name, Value: c.Name,
			Parts: []site.Ref{{Kind: site.KindCertificate, ID: c.ID}},
			Says: fmt.Sprintf("No outside zone of the site holds it, and an authority looks for %s from outside. It "+
				"issues nothing.", c.Challenge()),
		})
	}
}
