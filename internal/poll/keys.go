package poll

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/dynamicnames"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/actor"
	"lithos/internal/store"
	"lithos/internal/store/gen"
	"lithos/internal/zonetransfer"
)

// readKeys reads the keys of an outside zone from its provider, and who writes its records.
func (s *Service) readKeys(ctx context.Context, siteID string, z site.Zone) error {
	if z.KeysAt == "" {
		return nil
	}
	note := gen.NoteKeysParams{SiteID: siteID, ZoneID: z.ID, Keys: []byte("[]"), Sets: []byte("[]")}
	var keys []dynamicnames.Key
	var sets []dynamicnames.Set
	account, err := s.devices.Account(ctx, siteID, z)
	if err == nil {
		keys, err = account.Keys(ctx)
	}
	if err == nil {
		sets, err = account.Records(ctx)
	}
	if err == nil && len(keys)+len(sets) > mostTold {
		err = fmt.Errorf("%s has %d keys and records; more than %d are not looked at", z.Name, len(keys)+len(sets),
			mostTold)
	}
	if err == nil {
		var err1, err2 error
		note.Keys, err1 = json.Marshal(printable(keys))
		note.Sets, err2 = json.Marshal(sets)
		err = errors.Join(err1, err2)
	}
	if err != nil {
		note.Problem = store.ForPeople(err)
		note.Keys, note.Sets = []byte("[]"), []byte("[]")
	}
	return s.store.NoteKeys(ctx, note)
}

// printable is keys with names that can be kept and shown.
func printable(keys []dynamicnames.Key) []dynamicnames.Key {
	for i := range keys {
		keys[i].Name = site.Printable(keys[i].Name, 253)
		for k := range keys[i].Names {
			keys[i].Names[k] = site.Printable(keys[i].Names[k], 253)
		}
	}
	return keys
}

// account is the account of a zone of a site as it stands.
func (s *Service) account(ctx context.Context, code, zoneID string) (*site.Site, zonetransfer.Account, error) {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		return nil, zonetransfer.Account{}, err
	}
	sc, _, _, err := s.sites.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, zonetransfer.Account{}, err
	}
	z, ok := sc.Zone(zoneID)
	if !ok || z.KeysAt == "" {
		return nil, zonetransfer.Account{}, actor.Refuse(actor.Missing,
			"The site as it stands does not say where keys of this zone are made; say so in its form and push it.")
	}
	a, err := s.accountOf(ctx, sc.Site.ID, *z)
	return sc.Site, a, err
}

// accountOf is the account of a zone at its provider, or a refusal that says why it cannot be had.
func (s *Service) accountOf(ctx context.Context, siteID string, z site.Zone) (zonetransfer.Account, error) {
	a, err := s.devices.Account(ctx, siteID, z)
	if err != nil {
		return a, actor.Refuse(actor.Conflict, "%s.", sentence(err))
	}
	return a, nil
}

// KeyWish is a key that a technician wants made, as typed.
type KeyWish struct {
	Name       string `json:"name" maxLength:"300" doc:"what it is called"`
	Names      string `json:"names,omitempty" maxLength:"5000" doc:"whole names that it may write, with commas; every one of the zone when empty"`
	Types      string `json:"types,omitempty" maxLength:"200" doc:"record types that it may write, with commas; all when empty"`
	UpdateOnly bool   `json:"updateOnly,omitempty" doc:"it may neither read the zone nor take a name away"`
	From       string `json:"from,omitempty" maxLength:"1000" doc:"prefixes that it may come from, with commas; anywhere when empty"`
	Ends       string `json:"ends,omitempty" maxLength:"20" doc:"the last day on which it is taken, 2027-03-31; never when empty"`
	Follow     bool   `json:"follow,omitempty" doc:"lets addresses of its names that were written by hand follow from its first update"`
}

// read is the wish as a provider takes it. Every field at fault is named.
func (w KeyWish) read(in *time.Location) (zonetransfer.KeyWish, error) {
	var wrong []site.FieldError
	fail := func(field, says string, args ...any) {
		wrong = append(wrong, site.FieldError{Field: field, Says: fmt.Sprintf(says, args...)})
	}
	out := zonetransfer.KeyWish{Name: zone.Tidy(w.Name), Follow: w.Follow,
		Limits: dynamicnames.Limits{UpdateOnly: w.UpdateOnly}}
	if err := zone.CheckName(out.Name); w.Name == "" || err != nil {
		fail("name", "a key is called by a name; type for example home.garret")
	}
	for _, name := range listed(w.Names) {
		tidy := zone.Tidy(name)
		if err := zone.CheckName(strings.TrimPrefix(tidy, "*.")); err != nil {
			fail("names", "%s", err)
			break
		}
		out.Names = append(out.Names, tidy)
	}
	for _, typ := range listed(w.Types) {
		if typ = strings.ToUpper(typ); !slices.Contains(zone.Types(), typ) {
			fail("types", "%q is no type of record; type for example A, AAAA", typ)
			break
		}
		out.Types = append(out.Types, typ)
	}
	for _, text := range listed(w.From) {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			fail("from", "%q is no range; type for example 203.0.113.0/24", text)
			break
		}
		out.From = append(out.From, p.Masked())
	}
	if w.Ends != "" {
		day, err := time.ParseInLocation(time.DateOnly, w.Ends, in)
		if err != nil {
			fail("ends", "%q is no day; type for example 2027-03-31, or nothing", w.Ends)
		}
		out.Ends = day.AddDate(0, 0, 1)
	}
	if len(wrong) > 0 {
		return out, actor.RefuseFields("No key was made", wrong)
	}
	return out, nil
}

func listed(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == '\n' })
}

// MakeKey has a key made by the provider of a zone. It is shown this once; Lithos does not keep it.
func (s *Service) MakeKey(
	ctx context.Context, by actor.Technician, code, zoneID string, w KeyWish,
) (*zonetransfer.MadeKey, error) {
	doc, a, err := s.account(ctx, code, zoneID)
	if err != nil {
		return nil, err
	}
	wish, err := w.read(doc.Location())
	if err != nil {
		return nil, err
	}
	made, err := a.Make(ctx, wish)
	if err != nil {
		return nil, asked(err)
	}
	return &made, s.keyDone(ctx, by, doc, code, "had the key "+made.Name+" made for "+a.Zone)
}

// asked is why a provider did not do what it was asked for.
func asked(err error) error {
	if err == nil {
		return nil
	}
	var refused *zonetransfer.RefusedError
	if errors.As(err, &refused) && refused.Code == zonetransfer.FixedRecord {
		return &actor.Refusal{Kind: actor.Conflict, Says: refused.Says,
			Fields: site.FieldErrors{{Field: "follow", Says: refused.Says}}}
	}
	if errors.As(err, &refused) {
		return actor.Refuse(actor.Conflict, "%s", refused.Says)
	}
	return actor.Refuse(actor.Conflict, "%s.", sentence(err))
}

// keptAfter is for how long an old key is taken after it was replaced.
const keptAfter = 7 * 24 * time.Hour

// ReplaceKey has a key made in the place of another, which is taken for a week yet. It is shown this once.
func (s *Service) ReplaceKey(
	ctx context.Context, by actor.Technician, code, zoneID, key string,
) (*zonetransfer.MadeKey, error) {
	doc, a, err := s.account(ctx, code, zoneID)
	if err != nil {
		return nil, err
	}
	made, err := a.Replace(ctx, key, keptAfter)
	if err != nil {
		return nil, asked(err)
	}
	return &made, s.keyDone(ctx, by, doc, code, "had the key "+key+" replaced by "+made.Name)
}

// RevokeKey ends a key now.
func (s *Service) RevokeKey(ctx context.Context, by actor.Technician, code, zoneID, key string) error {
	doc, a, err := s.account(ctx, code, zoneID)
	if err != nil {
		return err
	}
	if err := a.Revoke(ctx, key); err != nil {
		return asked(err)
	}
	return s.keyDone(ctx, by, doc, code, "had the key "+key+" of "+a.Zone+" revoked")
}

// keyDone writes down what was done with a key, and reads the keys again.
func (s *Service) keyDone(ctx context.Context, by actor.Technician, doc *site.Site, code, says string) error {
	for _, z := range doc.Zones {
		if z.Side == site.Outside {
			if err := s.readKeys(ctx, doc.ID, z); err != nil {
				return err
			}
		}
	}
	return errors.Join(actor.Record(ctx, s.store.Queries, by, "outside-key", code, says),
		actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "seen", ID: code}))
}

// KeyMaking is what a technician says to what is asked before a key is made for a dynamic name.
type KeyMaking struct {
	// Follow lets a record written by hand follow, which its provider does at once.
	Follow bool
	// Before is what becomes of the key that was made for the name before: empty to be asked.
	Before string
}

// What becomes of a key when another is made.
const (
	KeepBefore = "keep"
	EndBefore  = "end"
)

// KeyFor has a key made that may do nothing but write the addresses of a dynamic name, for who keeps it. It is
// handed to hand and not shown; where that fails it is revoked. What of it is not with the push is asked before, as a
// refusal with the field follow or before.
func (s *Service) KeyFor(
	ctx context.Context, doc *site.Site, w *site.Following, say KeyMaking, hand func(zonetransfer.MadeKey) error,
) error {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		return err
	}
	z, ok := doc.ZoneOf(w.Name, site.Outside)
	if !ok || z.KeysAt == "" {
		return actor.Refuse(actor.Conflict, "Nothing says where keys of the zone of %s are made; say so in its form.",
			w.Name)
	}
	a, err := s.accountOf(ctx, doc.ID, *z)
	if err != nil {
		return err
	}
	wish := zonetransfer.KeyWish{Follow: say.Follow, Limits: dynamicnames.Limits{Names: []string{w.Name},
		Types:      w.Types(),
		UpdateOnly: true}}
	if w.Wildcard {
		wish.Names = append(wish.Names, "*."+w.Name)
	}
	keys, err := a.Keys(ctx)
	if err != nil {
		return asked(err)
	}
	taken := map[string]bool{}
	for _, k := range keys {
		taken[k.Name] = true
	}
	before := madeBefore(keys, w)
	if before != "" && say.Before == "" {
		says := fmt.Sprintf("%s was made for it before, and its provider takes it for as long as it is not ended. "+
			"Ending it is at once: who still has it tells nothing more.", before)
		return &actor.Refusal{Kind: actor.Conflict, Says: says, Fields: site.FieldErrors{{Field: "before", Says: says}}}
	}
	for i := 1; ; i++ {
		if wish.Name = fmt.Sprintf("key-%d.%s", i, w.Name); !taken[wish.Name] {
			break
		}
	}
	made, err := a.Make(ctx, wish)
	var refusal *actor.Refusal
	if err = asked(err); errors.As(err, &refusal) && len(refusal.Fields) > 0 {
		refusal.Says += " It does so at its provider as soon as the key is made, before this draft is pushed, and " +
			"taking the draft back does not undo that."
	}
	if err != nil {
		return err
	}
	if err := handOver(ctx, a, made, hand); err != nil {
		return err
	}
	if before != "" && say.Before == EndBefore {
		if err := a.Revoke(ctx, before); err != nil {
			return actor.Refuse(actor.Conflict, "The new key is in the draft, and %s could not be ended: %s.", before,
				sentence(err))
		}
	}
	return s.readKeys(ctx, doc.ID, *z) // so that nothing says that the provider does not have it
}

// madeBefore is the key of a name that may write that name alone, as its provider has it; empty for none.
func madeBefore(keys []dynamicnames.Key, w *site.Following) string {
	for _, k := range keys {
		if k.Name == w.Key && len(k.Names) > 0 && !k.Wider(w.Name, w.Wildcard) {
			return k.Name
		}
	}
	return ""
}

// ReplaceFor has a key made in the place of one that a document uses, which is taken for a week yet. The new one is
// handed to hand and not shown; where that fails it is revoked.
func (s *Service) ReplaceFor(
	ctx context.Context, doc *site.Site, z *site.Zone, key string, hand func(zonetransfer.MadeKey) error,
) error {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		return err
	}
	a, err := s.accountOf(ctx, doc.ID, *z)
	if err != nil {
		return err
	}
	made, err := a.Replace(ctx, key, keptAfter)
	if err != nil {
		return asked(err)
	}
	if err := handOver(ctx, a, made, hand); err != nil {
		return err
	}
	return s.readKeys(ctx, doc.ID, *z)
}

// handOver hands a new key over; where that fails it is revoked.
func handOver(ctx context.Context, a zonetransfer.Account, made zonetransfer.MadeKey,
	hand func(zonetransfer.MadeKey) error) error {
	err := hand(made)
	if err == nil {
		return nil
	}
	cleanUp, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUpWithin)
	defer cancel()
	return errors.Join(err, a.Revoke(cleanUp, made.Name))
}
