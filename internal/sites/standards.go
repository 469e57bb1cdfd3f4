package sites

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Level is a standard, or the options of a customer, as it is kept for all sites.
type Level struct {
	Kind      string        `json:"kind" enum:"standard,customer"`
	Version   int32         `json:"version" doc:"0 for one that is not kept yet"`
	Standard  site.Standard `json:"standard" doc:"what it sets; a customer has no windows and no pattern"`
	Sites     []Place       `json:"sites" doc:"those that have it"`
	Differs   []string      `json:"differs" doc:"names of sites that have another form of it"`
	ChangedBy string        `json:"changedBy,omitempty"`
	ChangedAt *time.Time    `json:"changedAt,omitempty"`
}

// Place is a site by its code and name.
type Place struct {
	Code string `json:"code"`
	Name string `json:"name"`
}

// Standards lists the standards and the customers' options as they are kept, with the sites that have them.
func (s *Service) Standards(ctx context.Context) ([]Level, error) {
	rows, err := s.store.Levels(ctx)
	if err != nil {
		return nil, err
	}
	all, err := s.allSites(ctx)
	if err != nil {
		return nil, err
	}
	out := []Level{}
	for _, r := range rows {
		l := Level{Kind: r.Kind, Version: r.Version, Sites: []Place{}, Differs: []string{}, ChangedBy: r.Changer}
		if r.Changer != "" {
			l.ChangedAt = &r.ChangedAt
		}
		if err := json.Unmarshal(r.Doc, &l.Standard); err != nil {
			return nil, fmt.Errorf("%s %s: %w", r.Kind, r.ID, err)
		}
		for _, doc := range all {
			if l.of(doc) {
				l.Sites = append(l.Sites, Place{doc.Code, doc.Name})
				if l.shared().Differs(doc) {
					l.Differs = append(l.Differs, doc.Name)
				}
			}
		}
		out = append(out, l)
	}
	// Standards come first, then customers; each by name.
	slices.SortStableFunc(out, func(a, b Level) int { return strings.Compare(b.Kind, a.Kind) })
	return out, nil
}

// of reports whether a site has the level.
func (l *Level) of(doc *site.Site) bool {
	if l.Kind == store.LevelCustomer {
		return doc.Customer.ID == l.Standard.ID
	}
	return doc.Standard.ID == l.Standard.ID
}

// shared is the level as rules take it.
func (l *Level) shared() check.SharedLevels {
	if l.Kind == store.LevelCustomer {
		return check.SharedLevels{Customer: &l.Standard.Level}
	}
	return check.SharedLevels{Standard: &l.Standard}
}

// In is a site with the level as it is here.
func (l *Level) In(doc *site.Site) *site.Site { return l.shared().In(doc) }

// LevelEntry is what was typed of a level.
type LevelEntry struct {
	Version int32         `json:"version" doc:"the one that was shown; 0 for a new standard"`
	Name    string        `json:"name" maxLength:"300"`
	Domain  string        `json:"domain,omitempty" maxLength:"300" doc:"pattern of the domains of sites that follow it"`
	Options []LevelOption `json:"options" maxItems:"254"`
	Windows []LevelWindow `json:"windows,omitempty" maxItems:"40"`
}

// LevelOption is an option as it was typed.
type LevelOption struct {
	Code   int    `json:"code" minimum:"1" maximum:"254"`
	Value  string `json:"value" maxLength:"4000"`
	Always bool   `json:"always,omitempty"`
}

// LevelWindow is a window as it was typed.
type LevelWindow struct {
	Use  string `json:"use" enum:"infrastructure,reserved,dynamic"`
	From int    `json:"from"`
	To   int    `json:"to"`
}

const mostOffset = 1 << 24

// Read is the level that was typed. Every field at fault is named.
func (e LevelEntry) Read(kind, id string) (*Level, error) {
	var wrong site.FieldErrors
	fail := func(field, says string, args ...any) {
		wrong = append(wrong, site.FieldError{Field: field, Says: fmt.Sprintf(says, args...)})
	}
	l := &Level{Kind: kind, Version: e.Version}
	l.Standard.ID, l.Standard.Name = id, strings.TrimSpace(e.Name)
	switch {
	case l.Standard.Name == "":
		fail("name", "it needs a name; type for example Clinic standard")
	case len([]rune(l.Standard.Name)) > longestName:
		fail("name", "has %d characters; type at most %d", len([]rune(l.Standard.Name)), longestName)
	}
	if err := site.CheckText(e.Name); err != nil {
		fail("name", "%s", err)
	}
	l.Standard.Domain = strings.ToLower(strings.TrimSpace(e.Domain))
	if d := l.Standard.Domain; d != "" && kind == store.LevelStandard {
		if !strings.Contains(d, "{code}") {
			fail("domain", "every site needs a domain of its own; type {code} where its code goes")
		} else if err := option.CheckDomain(DomainOf(l.Standard, "site")); err != nil {
			fail("domain", "%s", err)
		}
	}
	l.Standard.Options = e.readOptions(fail)
	l.Standard.Windows = e.readWindows(fail)
	if len(wrong) > 0 {
		return nil, actor.RefuseFields("Nothing was kept", wrong)
	}
	slices.SortFunc(l.Standard.Options, func(a, b site.Option) int { return int(a.Code) - int(b.Code) })
	return l, nil
}

// readOptions reads what a level sets. fail notes a mistake in a field.
func (e LevelEntry) readOptions(fail func(field, says string, args ...any)) (out []site.Option) {
	seen := map[int]bool{}
	for i, o := range e.Options {
		field := fmt.Sprintf("options[%d]", i)
		value, err := option.Own{}.Canonical(uint8(o.Code), o.Value)
		switch {
		case seen[o.Code]:
			fail(field, "option %d is there twice; leave one", o.Code)
		case err != nil:
			fail(field, "%s", err)
		case site.CheckText(o.Value) != nil:
			fail(field, "%s", site.CheckText(o.Value))
		}
		seen[o.Code] = true
		out = append(out, site.Option{Code: uint8(o.Code), Value: value, Always: o.Always})
	}
	return out
}

// readWindows reads where in a network a standard wants what.
func (e LevelEntry) readWindows(fail func(field, says string, args ...any)) (out []site.Window) {
	for i, w := range e.Windows {
		field := fmt.Sprintf("windows[%d]", i)
		if w.From < -mostOffset || w.From > mostOffset || w.To < -mostOffset || w.To > mostOffset {
			fail(field, "an offset is at most %d", mostOffset)
		}
		backwards := w.From > w.To && (w.From < 0) == (w.To < 0) || w.From < 0 && w.To >= 0
		if backwards {
			fail(field, "it ends before it begins; swap the two, or count from the other end")
		}
		out = append(out, site.Window{Use: w.Use, From: w.From, To: w.To})
	}
	return out
}

// DomainOf is the domain that a standard proposes for a site; empty where it says none.
func DomainOf(s site.Standard, code string) string {
	return strings.ReplaceAll(s.Domain, "{code}", code)
}

// SitesOf lists the sites that have a level.
func (s *Service) SitesOf(ctx context.Context, l *Level) ([]*site.Site, error) {
	if l.Standard.ID == "" {
		return nil, nil // a new one
	}
	rows, err := s.store.SitesOfLevel(ctx, gen.SitesOfLevelParams{Kind: l.Kind, ID: l.Standard.ID})
	if err != nil {
		return nil, err
	}
	var out []*site.Site
	for _, r := range rows {
		doc, err := s.Export(ctx, r.Code)
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

// Keep keeps a level in place of the version that was shown, or a new one.
func (s *Service) Keep(ctx context.Context, by actor.Technician, l *Level) error {
	var doc any = l.Standard
	if l.Kind == store.LevelCustomer {
		doc = l.Standard.Level
	}
	raw, err := json.Marshal(doc)
	if err != nil {
		return err
	}
	return s.store.KeepLevel(ctx, by, store.KeptLevel{Kind: l.Kind, ID: l.Standard.ID, Name: l.Standard.Name,
		Version: l.Version, Doc: raw})
}
