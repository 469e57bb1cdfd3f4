package work

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/device"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// SiteRow is one site on Rounds.
type SiteRow struct {
	Code     string    `json:"code"`
	Name     string    `json:"name"`
	Customer string    `json:"customer"`
	Block    string    `json:"block"`
	Networks int       `json:"networks"`
	Revision int32     `json:"revision"`
	Changed  time.Time `json:"changed"`
	By       string    `json:"by,omitempty"`
	Orders   int       `json:"orders"` // open work orders
	Blocks   int       `json:"blocks"` // findings by severity
	Warns    int       `json:"warns"`
	Findings int       `json:"findings"`
	Worst    *Brief    `json:"worst,omitempty"` // the gravest
}

// Brief is a finding in one line.
type Brief struct {
	ID       string         `json:"id"`
	Severity check.Severity `json:"severity" enum:"blocks,warns,notes"`
	Title    string         `json:"title"`
}

func inBrief(findings []check.Finding) []Brief {
	out := make([]Brief, len(findings))
	for i, f := range findings {
		out[i] = Brief{f.ID, f.Severity, f.Title}
	}
	return out
}

// Sites lists every site with what is wrong there, the gravest first.
func (s *Service) Sites(ctx context.Context) ([]SiteRow, error) {
	rows, err := s.store.ListSites(ctx)
	if err != nil {
		return nil, err
	}
	out := []SiteRow{}
	for _, r := range rows {
		sum, err := s.summarise(ctx, revisionKey{r.ID, r.Head})
		if err != nil {
			return nil, err
		}
		row := SiteRow{
			Code: r.Code, Name: r.Name, Customer: r.Customer, Block: sum.block, Networks: int(r.Networks), Revision: r.Head, Changed: r.MadeAt,
			By: r.MadeBy, Orders: int(r.OpenOrders),
		}
		row.count(sum.findings)
		if len(r.Around) > len("[]") {
			var around []Brief
			if err := json.Unmarshal(r.Around, &around); err != nil {
				return nil, fmt.Errorf("what was found around %s: %w", r.Code, err)
			}
			row.count(around)
		}
		out = append(out, row)
	}
	// What is worst comes first; the rest stays by customer and name.
	slices.SortStableFunc(out, func(a, b SiteRow) int { return cmp.Or(b.Blocks-a.Blocks, b.Warns-a.Warns, b.Findings-a.Findings) })
	return out, nil
}

// count adds findings, gravest first, to what Rounds says of a site.
func (r *SiteRow) count(found []Brief) {
	r.Findings += len(found)
	for _, f := range found {
		switch f.Severity {
		case check.Blocks:
			r.Blocks++
		case check.Warns:
			r.Warns++
		}
	}
	if len(found) > 0 && (r.Worst == nil || found[0].Severity.Graver(r.Worst.Severity)) {
		r.Worst = &found[0]
	}
}

// summary is what Rounds says of one revision of a site.
type summary struct {
	block    string
	findings []Brief // of the document, gravest first
}

func (s *Service) summarise(ctx context.Context, key revisionKey) (summary, error) {
	sum, ok := s.summaries.Get(key)
	if ok {
		return sum, nil
	}
	head, err := s.examine(ctx, key.site, key.revision)
	if err != nil {
		return summary{}, err
	}
	sum.block, sum.findings = words(head.doc.Block), inBrief(head.findings)
	s.summaries.Add(key, sum)
	return sum, nil
}

// Revision is one entry of a site's history.
type Revision struct {
	Revision int32     `json:"revision"`
	Note     string    `json:"note"`
	Order    string    `json:"order,omitempty"`
	OrderID  int64     `json:"orderId,omitempty"`
	By       string    `json:"by,omitempty"`
	At       time.Time `json:"at"`
	// Unverified says what its push did not prove, and who has seen to it since.
	Unverified []string `json:"unverified"`
}

// History lists the revisions of a site, newest first.
func (s *Service) History(ctx context.Context, code string) ([]Revision, error) {
	row, err := s.siteByCode(ctx, code)
	if err != nil {
		return nil, err
	}
	rows, err1 := s.store.ListRevisions(ctx, row.ID)
	gaps, err2 := s.store.UnverifiedOfSite(ctx, row.ID)
	out := []Revision{}
	for _, r := range rows {
		v := Revision{Revision: r.Revision, Note: r.Note, By: r.MadeBy, At: r.MadeAt, Unverified: []string{}}
		if r.OrderID != nil {
			v.Order, v.OrderID = OrderName(*r.OrderID), *r.OrderID
		}
		for _, u := range gaps {
			switch {
			case u.OrderID != v.OrderID:
			case u.VerifiedAt == nil:
				v.Unverified = append(v.Unverified, u.Name+" not verified")
			default:
				v.Unverified = append(v.Unverified, u.Name+" verified by hand by "+u.Verifier)
			}
		}
		out = append(out, v)
	}
	return out, errors.Join(err1, err2)
}

// Export reads a site's newest revision.
func (s *Service) Export(ctx context.Context, code string) (*site.Site, error) {
	return s.document(ctx, code, 0)
}

// ExportFor is Export for somebody who takes the file away, which is audited.
func (s *Service) ExportFor(ctx context.Context, by Technician, code string) (*site.Site, error) {
	doc, err := s.Export(ctx, code)
	if err != nil {
		return nil, err
	}
	return doc, audit(ctx, s.store.Queries, by, "site-exported", code, "The site file of "+doc.Name)
}

// Import makes a site file the newest revision of its site, or adds the site.
// by is 0 for the command line. A file equal to the newest revision changes
// nothing; it returns the revision that holds the file.
func (s *Service) Import(ctx context.Context, doc *site.Site, by int64, note string) (revision int32, err error) {
	row, err := store.Found(s.store.SiteByID(ctx, doc.ID))
	if errors.Is(err, store.ErrNotFound) {
		if _, err := s.store.SiteByCode(ctx, doc.Code); err == nil {
			return 0, refuse(Conflict, "the code %q belongs to another site; give the file's site another code", doc.Code)
		}
		return 1, s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
			if err := store.AddSite(ctx, q, doc, store.Author{Note: note, By: by}); err != nil {
				return err
			}
			if err := audit(ctx, q, Technician{ID: by, FullName: note}, "site-imported", doc.Code, "Added "+doc.Name); err != nil {
				return err
			}
			return publish(ctx, q, Event{Topic: "site", ID: doc.Code})
		})
	}
	if err != nil {
		return 0, err
	}
	head, err := s.examine(ctx, row.ID, row.Head)
	if err != nil {
		return 0, err
	}
	was, err1 := site.Encode(head.doc)
	now, err2 := site.Encode(doc)
	if err := errors.Join(err1, err2); err != nil || bytes.Equal(was, now) {
		return row.Head, err
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		// A push that starts now waits, and finds the new head.
		if _, err := store.LockSite(ctx, tx, doc.ID); err != nil {
			return err
		}
		var pushing bool
		if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM push WHERE site_id = $1 AND state NOT IN ('landed', 'failed'))", doc.ID).Scan(&pushing); err != nil {
			return err
		}
		if pushing {
			return refuse(Conflict, "a push to %s is under way; import when it has ended", row.Name)
		}
		if err := store.AddRevision(ctx, q, doc, row.Head, store.Author{Note: note, By: by}); err != nil {
			return err
		}
		if err := audit(ctx, q, Technician{ID: by, FullName: note}, "site-imported", doc.Code, fmt.Sprintf("Revision %d of %s", row.Head+1, doc.Name)); err != nil {
			return err
		}
		return publish(ctx, q, Event{Topic: "site", ID: doc.Code})
	})
	return row.Head + 1, err
}

// PutAccess records how a device is reached. The password is encrypted before
// it is stored and never returned. by says who did it.
func (s *Service) PutAccess(ctx context.Context, by, siteID, deviceID string, a device.Access) error {
	if err := a.Check(); err != nil {
		return refuse(Invalid, "%s", err)
	}
	row, err := store.Found(s.store.SiteByID(ctx, siteID))
	if errors.Is(err, store.ErrNotFound) {
		return refuse(Missing, "there is no site with the id %q; lithos export CODE shows a site's id", siteID)
	}
	if err != nil {
		return err
	}
	head, err := s.examine(ctx, row.ID, row.Head)
	if err != nil {
		return err
	}
	d, ok := head.doc.Device(deviceID)
	if !ok {
		return refuse(Missing, "%s has no device with the id %q", row.Name, deviceID)
	}
	sealed, err := s.vault.Seal(a.Password)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		return errors.Join(
			q.PutAccess(ctx, gen.PutAccessParams{SiteID: siteID, DeviceID: deviceID, Url: a.URL, Account: a.Account, Secret: sealed, Fingerprint: a.Fingerprint}),
			audit(ctx, q, Technician{FullName: by}, "device-access", d.Name+" of "+row.Name, "Reached at "+a.URL+" as "+a.Account),
		)
	})
}

func (s *Service) reach(row gen.DeviceAccess) (*device.RESTCONF, error) {
	password, err := s.vault.Open(row.Secret)
	if err != nil {
		return nil, err
	}
	return device.NewRESTCONF(device.Access{URL: row.Url, Account: row.Account, Password: password, Fingerprint: row.Fingerprint}), nil
}

// Hit is one answer to Find.
type Hit struct {
	Kind    string `json:"kind"`   // site, network, reservation, fixed, interface
	Title   string `json:"title"`  // what it is called
	Detail  string `json:"detail"` // address, MAC, VLAN
	Site    string `json:"site"`   // name
	Code    string `json:"code"`
	Network string `json:"network,omitempty"`
	Ref     string `json:"ref,omitempty"`
}

const maxQuery = 100

// Find looks for an address, MAC, VLAN id or part of a name over all sites.
func (s *Service) Find(ctx context.Context, text string) ([]Hit, error) {
	text = strings.TrimSpace(text)
	hits := []Hit{}
	if text == "" || len(text) > maxQuery {
		return hits, nil
	}
	network := func(code, siteName, part, name string, vlan int32, p netip.Prefix) {
		detail := p.String()
		if vlan > 0 {
			detail += " · VLAN " + strconv.Itoa(int(vlan))
		}
		hits = append(hits, Hit{"network", name, detail, siteName, code, site.ParseRef(part).ID, part})
	}
	owner := func(code, siteName, part, in, name string, a netip.Addr, mac net.HardwareAddr) {
		detail := a.String()
		if len(mac) > 0 {
			detail += " · " + mac.String()
		}
		hits = append(hits, Hit{site.ParseRef(part).Kind, name, detail, siteName, code, in, part})
	}
	if a, err := netip.ParseAddr(text); err == nil && a.Is4() {
		rows, err := s.store.FindByAddress(ctx, a)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			owner(r.Code, r.Site, r.Part, r.Network, r.Name, r.Address, r.Mac)
		}
		nets, err := s.store.FindPrefixes(ctx, a)
		for _, r := range nets {
			network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
		}
		return hits, err
	}
	if m, err := address.ParseMAC(text); err == nil {
		rows, err := s.store.FindByMAC(ctx, net.HardwareAddr(m[:]))
		for _, r := range rows {
			owner(r.Code, r.Site, r.Part, r.Network, r.Name, r.Address, r.Mac)
		}
		return hits, err
	}
	if id, err := strconv.Atoi(strings.TrimPrefix(strings.ToLower(text), "vlan ")); err == nil && id > 0 && id < 4095 {
		rows, err := s.store.FindByVLAN(ctx, int32(id))
		for _, r := range rows {
			network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
		}
		if err != nil || len(hits) > 0 {
			return hits, err
		}
	}
	like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
	sites, err1 := s.store.FindSites(ctx, like)
	for _, r := range sites {
		hits = append(hits, Hit{Kind: "site", Title: r.Name, Detail: r.Customer, Site: r.Name, Code: r.Code})
	}
	nets, err2 := s.store.FindNetworksByName(ctx, like)
	for _, r := range nets {
		network(r.Code, r.Site, r.Part, r.Name, r.Vlan, r.Prefix)
	}
	names, err3 := s.store.FindByName(ctx, like)
	for _, r := range names {
		owner(r.Code, r.Site, r.Part, r.Network, r.Name, r.Address, r.Mac)
	}
	return slices.Clip(hits), errors.Join(err1, err2, err3)
}

// StandardView is an addressing standard with the sites that follow it.
type StandardView struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Windows []string `json:"windows"`
	Options []Told   `json:"options"`
	Sites   []Level  `json:"sites"` // code and name
	Differs []string `json:"differs"`
}

// Standards lists the standards the sites carry. Sites whose copy of a standard
// differs from the first one's are named.
func (s *Service) Standards(ctx context.Context) ([]StandardView, error) {
	rows, err := s.store.ListSites(ctx)
	if err != nil {
		return nil, err
	}
	byID := map[string]*StandardView{}
	for _, r := range rows {
		head, err := s.examine(ctx, r.ID, r.Head)
		if err != nil {
			return nil, err
		}
		std := head.doc.Standard
		if std.ID == "" {
			continue
		}
		v := StandardView{ID: std.ID, Name: std.Name, Windows: []string{}, Options: []Told{}, Sites: []Level{}, Differs: []string{}}
		for _, w := range std.Windows {
			v.Windows = append(v.Windows, fmt.Sprintf("%s: addresses %d to %d of every network", w.Use, w.From, w.To))
		}
		v.Options = standardOptions(std)
		first := byID[std.ID]
		if first == nil {
			byID[std.ID], first = &v, &v
		} else if !slices.Equal(first.Windows, v.Windows) || !slices.Equal(first.Options, v.Options) {
			first.Differs = append(first.Differs, r.Name)
		}
		first.Sites = append(first.Sites, Level{r.Code, r.Name})
	}
	out := []StandardView{}
	for _, id := range sortedKeys(byID) {
		out = append(out, *byID[id])
	}
	return out, nil
}
