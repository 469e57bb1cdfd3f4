package sites

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Beginning is what a new site may begin with.
type Beginning struct {
	Customers []KnownCustomer `json:"customers"`
	Standards []KnownStandard `json:"standards"`
	TimeZone  string          `json:"timeZone" doc:"that of most sites"`
	Block     string          `json:"block" doc:"proposed for a site of a new customer; empty where no private address is left"`
}

// KnownCustomer is a customer with sites.
type KnownCustomer struct {
	ID       string   `json:"id"`
	Name     string   `json:"name"`
	Sites    []string `json:"sites" doc:"their names"`
	Block    string   `json:"block" doc:"proposed for one more"`
	Standard string   `json:"standard,omitempty" doc:"id of the one that most of its sites follow"`
}

// KnownStandard is a standard that a site follows.
type KnownStandard struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Domain string `json:"domain,omitempty" doc:"pattern of the domains of its sites, with {code} for the site's code"`
}

// allSites reads every site as it stands, in the order of customers and names.
func (s *Service) allSites(ctx context.Context) ([]*site.Site, error) {
	rows, err := s.store.ListSites(ctx, gen.ListSitesParams{Rules: rules})
	if err != nil {
		return nil, err
	}
	var out []*site.Site
	for _, r := range rows {
		head, err := s.sites.Head(ctx, r.ID, r.Head)
		if err != nil {
			return nil, err
		}
		out = append(out, head.Site)
	}
	return out, nil
}

// Beginning says what a new site may begin with.
func (s *Service) Beginning(ctx context.Context) (*Beginning, error) {
	all, err := s.allSites(ctx)
	if err != nil {
		return nil, err
	}
	out := &Beginning{Customers: []KnownCustomer{}, Standards: []KnownStandard{}}
	zones, follow := map[string]int{}, map[[2]string]int{} // sites by time zone, and by customer and standard
	for _, doc := range all {
		if zones[doc.TimeZone]++; zones[doc.TimeZone] > zones[out.TimeZone] {
			out.TimeZone = doc.TimeZone
		}
		i := slices.IndexFunc(out.Customers, func(c KnownCustomer) bool { return c.ID == doc.Customer.ID })
		if i < 0 {
			i = len(out.Customers)
			out.Customers = append(out.Customers, KnownCustomer{ID: doc.Customer.ID, Name: doc.Customer.Name,
				Block: blockFor(all, doc.Customer.ID)})
		}
		c := &out.Customers[i]
		own := [2]string{doc.Customer.ID, doc.Standard.ID}
		if follow[own]++; doc.Standard.ID != "" && follow[own] > follow[[2]string{doc.Customer.ID, c.Standard}] {
			c.Standard = doc.Standard.ID
		}
		out.Customers[i].Sites = append(out.Customers[i].Sites, doc.Name)
	}
	out.Block = blockFor(all, "")
	levels, err := s.Standards(ctx)
	for _, l := range levels {
		if l.Kind == store.LevelStandard {
			out.Standards = append(out.Standards, KnownStandard{l.Standard.ID, l.Standard.Name, l.Standard.Domain})
		}
	}
	return out, err
}

// blockFor proposes the block of one more site of a customer; empty where there is none.
func blockFor(all []*site.Site, customer string) string {
	var own, others []netip.Prefix
	for _, doc := range all {
		used := slices.Clone(doc.Block)
		for _, n := range doc.Networks {
			if !slices.ContainsFunc(used, func(b netip.Prefix) bool { return b.Overlaps(n.Prefix) }) {
				used = append(used, n.Prefix)
			}
		}
		if customer != "" && doc.Customer.ID == customer {
			own = append(own, used...)
		} else {
			others = append(others, used...)
		}
	}
	p, ok := address.NextBlock(own, others)
	if !ok {
		return ""
	}
	return p.String()
}

// NewSite is a site to begin with, as typed.
type NewSite struct {
	Customer string `json:"customer" maxLength:"300" doc:"id of a customer, or the name of a new one"`
	Name     string `json:"name" maxLength:"300"`
	Code     string `json:"code" maxLength:"100" doc:"in addresses of pages; made from the name when empty"`
	Block    string `json:"block" maxLength:"1000" doc:"prefixes, with commas"`
	TimeZone string `json:"timeZone" maxLength:"100"`
	Domain   string `json:"domain" maxLength:"300"`
	Standard string `json:"standard,omitempty" maxLength:"100" doc:"id of a standard that it follows; none when empty"`
}

const longestName = 100 // characters

var notInCode = regexp.MustCompile(`[^a-z0-9]+`)

// codeOf makes a code from a name.
func codeOf(name string) string {
	return strings.Trim(notInCode.ReplaceAllString(strings.ToLower(name), "-"), "-")
}

// AddSite adds a site without networks and devices. Every field at fault is named.
func (s *Service) AddSite(ctx context.Context, by actor.Technician, n NewSite) (code string, err error) {
	all, err := s.allSites(ctx)
	if err != nil {
		return "", err
	}
	levels, err := s.Standards(ctx)
	if err != nil {
		return "", err
	}
	doc, wrong := n.read(all, levels)
	if len(wrong) > 0 {
		return "", actor.RefuseFields("No site was added", wrong)
	}
	if _, err := s.store.SiteByCode(ctx, doc.Code); err == nil {
		return "", actor.RefuseFields("No site was added", site.FieldErrors{{Field: "code",
			Says: fmt.Sprintf("an archived site has the code %q; type another, or bring it back", doc.Code)}})
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := store.AddSite(ctx, q, doc, store.Author{Note: "begun in the browser", By: by.ID}); err != nil {
			return err
		}
		return errors.Join(actor.Record(ctx, q, by, "site-added", doc.Code, "Added "+doc.Name),
			actor.Publish(ctx, q, actor.Event{Topic: "site", ID: doc.Code}))
	})
	return doc.Code, err
}

// Archive puts a site away that is looked after no more, or brings it back. One that was put away keeps its history;
// it is on no list but its own, its devices are not read, and no work order is opened there.
func (s *Service) Archive(ctx context.Context, by actor.Technician, code string, away bool) error {
	row, err := s.store.Site(ctx, code)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, says := int64(0), "Brought back "+row.Name
		if away {
			says = "Archive " + row.Name
			n, err = q.ArchiveSite(ctx, row.ID)
		} else {
			n, err = q.BringSiteBack(ctx, row.ID)
		}
		switch {
		case err != nil:
			return err
		case n == 0 && away:
			return actor.Refuse(actor.Conflict,
				"%s is archived already, or has an open work order: drop or push that first.",
				row.Name)
		case n == 0:
			return actor.Refuse(actor.Conflict, "%s is not archived.", row.Name)
		}
		return errors.Join(actor.Record(ctx, q, by, "site-archived", code, says),
			actor.Publish(ctx, q, actor.Event{Topic: "site", ID: code}))
	})
}

// read is the document of a new site beside those there are.
func (n NewSite) read(all []*site.Site, levels []Level) (*site.Site, site.FieldErrors) {
	var wrong site.FieldErrors
	fail := func(field, says string, args ...any) {
		wrong = append(wrong, site.FieldError{Field: field, Says: fmt.Sprintf(says, args...)})
	}
	doc := &site.Site{ID: "site-" + strings.ToLower(rand.Text()[:10]), Name: strings.TrimSpace(n.Name),
		Code: strings.TrimSpace(n.Code), TimeZone: n.TimeZone, Domain: strings.ToLower(strings.TrimSpace(n.Domain))}
	named := func(field, text, say string) {
		switch {
		case text == "":
			fail(field, "%s", say)
		case len([]rune(text)) > longestName:
			fail(field, "has %d characters; type at most %d", len([]rune(text)), longestName)
		}
	}
	customer := strings.TrimSpace(n.Customer)
	named("customer", customer, "a site is somebody’s; choose a customer, or type the name of a new one")
	doc.Customer = site.Level{ID: "cust-" + strings.ToLower(rand.Text()[:10]), Name: customer}
	named("name", doc.Name, "a site needs a name; type for example Kelder Bridge surgery")
	if doc.Code == "" {
		doc.Code = codeOf(doc.Name)
	}
	if !site.ValidID(doc.Code) || doc.Code != codeOf(doc.Code) {
		fail("code", "%q is no code; type lower-case letters, digits and hyphens, for example kelder-bridge", doc.Code)
	}
	for _, other := range all {
		if other.Code == doc.Code {
			fail("code", "%s has the code %q; type another", other.Name, doc.Code)
		}
	}
	n.under(doc, all, levels)
	if n.Standard != "" && doc.Standard.ID == "" {
		fail("standard", "there is no such standard any more; choose another")
	}
	if doc.Domain == "" {
		doc.Domain = DomainOf(doc.Standard, doc.Code)
	}
	var err error
	if doc.Block, err = readBlock(n.Block); err != nil {
		fail("block", "%s", err)
	}
	if _, err := time.LoadLocation(n.TimeZone); err != nil || n.TimeZone == "" {
		fail("timeZone", "%q is no time zone; type for example Europe/London", n.TimeZone)
	}
	if doc.Domain != "" {
		if err := option.CheckDomain(doc.Domain); err != nil {
			wrong = append(wrong, site.ErrorAt("domain", err))
		}
	}
	return site.Normal(doc), wrong
}

// under gives a new site its customer, who may have other sites, and its standard, as they are kept.
func (n NewSite) under(doc *site.Site, all []*site.Site, levels []Level) {
	customer := doc.Customer.Name
	for _, other := range all {
		if other.Customer.ID == customer || strings.EqualFold(other.Customer.Name, customer) {
			doc.Customer = other.Customer
		}
	}
	for _, l := range levels {
		switch {
		case l.Kind == store.LevelStandard && l.Standard.ID == n.Standard:
			doc.Standard = l.Standard
		case l.Kind == store.LevelCustomer && l.Standard.ID == doc.Customer.ID:
			doc.Customer = l.Standard.Level
		}
	}
}

// readBlock reads the prefixes of a site, separated by commas or spaces.
func readBlock(text string) (block []netip.Prefix, err error) {
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("networks are given addresses of it; type for example 10.84.16.0/20")
	}
	for item := range strings.FieldsFuncSeq(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := address.ParsePrefix(item)
		if err == nil && p != p.Masked() {
			err = fmt.Errorf("%s has host bits; type %s", p, p.Masked())
		}
		if err != nil {
			return block, err
		}
		block = append(block, p)
	}
	return block, nil
}
