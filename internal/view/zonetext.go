package view

import (
	"strings"
	"time"

	"lithos/core/compile"
	"lithos/core/names"
	"lithos/core/site"
	"lithos/internal/actor"
)

// ZoneText is a zone in an open format.
type ZoneText struct {
	Name string   `json:"name" doc:"of the file"`
	Text string   `json:"text"`
	Left []string `json:"left" doc:"what the format cannot carry"`
}

// ZoneText writes a zone of the site out. told is of an outside zone: what its server told when it was
// read last, in place of what the document says.
func (p *Page) ZoneText(id, format string, told bool) (ZoneText, error) {
	z, ok := p.Zone(id)
	pages := (*compile.Pages)(nil)
	if ok {
		pages, ok = names.FindPages(p.Book(), z.Side, z.Name)
	}
	if !ok {
		return ZoneText{}, actor.Refuse(actor.Missing, "This site has no such zone; look at its names anew.")
	}
	out := ZoneText{Name: strings.ReplaceAll(z.Name, "/", "-") + "." + format, Left: []string{}}
	if told {
		read := p.ZoneReading(id)
		if read == nil || read.ReadAt == nil {
			return out, actor.Refuse(actor.Conflict, "The server of %s has not been read yet.", z.Name)
		}
		as := *pages
		as.Entries = nil
		for _, r := range read.Records {
			as.Entries = append(as.Entries, compile.Entry{Record: r, From: site.Ref{Kind: site.KindZone, ID: id}})
		}
		pages = &as
	}
	var b strings.Builder
	left, err := names.Write(&b, p.Site, pages, format, uint32(time.Now().Unix()))
	if err != nil {
		return out, actor.Refuse(actor.Invalid, "%s", err)
	}
	out.Text, out.Left = b.String(), append(out.Left, left...)
	return out, nil
}
