package draft

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Change is what a technician asks of a draft: entries typed into forms, the
// fix of a finding, or the removal of a part. One change is one step to undo.
type Change struct {
	Version int32        `json:"version" doc:"the draft's version the change was made on"`
	Entries []edit.Entry `json:"entries,omitempty" maxItems:"50"`
	Fix     string       `json:"fix,omitempty" doc:"id of the finding to fix"`
	Other   bool         `json:"other,omitempty" doc:"fix it in the other of two ways"`
	Remove  string       `json:"remove,omitempty" doc:"kind:id of the part to remove"`
	In      string       `json:"in,omitempty" doc:"kind:id of the owner of what is removed"`
	FixAll  string       `json:"fixAll,omitempty" doc:"rule whose findings are all fixed"`
	// Paste adds or changes many reservations or fixed devices.
	Paste *PasteRequest `json:"paste,omitempty"`
	// Resize gives a pool's range or an exclusion other ends.
	Resize *Resize `json:"resize,omitempty"`
	// Edits are taken as they are; they come from within.
	Edits []edit.Edit `json:"-"`
	// PutBack is what devices hold that the push is to undo; it comes from within.
	PutBack []order.PutBack `json:"-"`
}

// Resize is a run of addresses that was dragged to other ends.
type Resize struct {
	Part  string `json:"part" doc:"kind:id of the pool or exclusion"`
	In    string `json:"in,omitempty" doc:"kind:id of the pool of an exclusion"`
	Range int    `json:"range" minimum:"0" doc:"which of the pool's ranges, in their order"`
	To    string `json:"to" maxLength:"100" doc:"the addresses it holds from now on"`
}

// entry is what somebody would have typed.
func (r Resize) entry(doc *site.Site) (edit.Entry, error) {
	part := site.ParseRef(r.Part)
	if part.Kind != site.KindPool {
		return edit.Entry{Kind: part.Kind, ID: part.ID, In: r.In, Fields: map[string]string{"range": r.To}}, nil
	}
	p, ok := doc.Pool(part.ID)
	if !ok || r.Range >= len(p.Ranges) {
		return edit.Entry{}, actor.Refuse(actor.Conflict, "The range is not there any more. Look at the ruler again.")
	}
	var ranges []string
	for i, run := range p.Ranges {
		if i == r.Range {
			ranges = append(ranges, r.To)
		} else {
			ranges = append(ranges, run.String())
		}
	}
	return edit.Entry{Kind: part.Kind, ID: part.ID, Fields: map[string]string{"ranges": strings.Join(ranges, ", ")}},
		nil
}

// Edited is the result of an edit.
type Edited struct {
	Before, After *order.Draft
	Edits         []edit.Edit
	Made          string // kind:id of the first part that is new
	Beside        order.Beside
}

// Edit applies a change to a draft, checks the result and stores it, all or
// nothing. draw is given the edited draft while it is stored, so that the
// page and the database are worked on at once; nothing it makes counts when Edit
// fails. It may be nil.
func (s *Service) Edit(
	ctx context.Context, by actor.Technician, id int64, c Change, draw func(*Edited),
) (*Edited, error) {
	before, err := s.toEdit(ctx, id, c)
	if err != nil {
		return nil, err
	}
	out := &Edited{Before: before, After: before}
	var unread error
	var read sync.WaitGroup
	siteID, customer := before.Order.SiteID, before.Doc().Customer.Name
	read.Go(func() { out.Beside, unread = s.store.Beside(ctx, siteID, customer) })
	defer read.Wait()
	secrets, err := s.sealTyped(by, before, c.Entries)
	if err != nil {
		return nil, err
	}
	edits, doc, made, err := s.read(ctx, c, before)
	if err != nil {
		return nil, err
	}
	if err := s.goElsewhere(ctx, before.Doc(), doc, secrets, c.Entries); err != nil {
		return nil, err
	}
	for _, secret := range secrets {
		secret.GoesTo = doc.GoesTo(secret.Name)
		if err := s.store.PutSecret(ctx, secret); err != nil {
			return nil, err
		}
	}
	out.Edits, out.Made = edits, made
	finish := func() error {
		if read.Wait(); unread == nil && draw != nil {
			draw(out)
		}
		return unread
	}
	if len(edits)+len(c.PutBack) == 0 {
		return out, finish()
	}
	return out, s.makeStep(ctx, by, out, doc, c.PutBack, finish)
}

// makeStep stores an edit as a step, and works out the draft after it.
func (s *Service) makeStep(
	ctx context.Context, by actor.Technician, out *Edited, doc *site.Site, back []order.PutBack, finish func() error,
) error {
	d := out.Before
	step := d.NextStep(by, doc, out.Edits)
	step.Says = saysWith(step.Says, back)
	step.PutBack = back
	var unread error
	var worked sync.WaitGroup
	worked.Go(func() {
		next := d.With(append(d.Standing(), step), doc, out.Edits)
		next.Order.Version++
		out.After = next
		unread = finish()
	})
	head, err := s.takeStep(ctx, d, step)
	worked.Wait()
	if err != nil {
		return err
	}
	if out.After.Order.Head != head { // a revision has landed meanwhile: the tray says so
		out.After.Order.Head = head
		unread = finish()
	}
	s.drafts.Add(d.Order.ID, out.After)
	return unread
}

// written is a step as it is stored.
func written(step order.Step) (edits, back []byte, err error) {
	if step.Edits == nil {
		step.Edits = []edit.Edit{}
	}
	if step.PutBack == nil {
		step.PutBack = []order.PutBack{}
	}
	edits, err1 := json.Marshal(step.Edits)
	back, err2 := json.Marshal(step.PutBack)
	return edits, back, errors.Join(err1, err2)
}

// saysWith is a step in words with what it puts back.
func saysWith(says string, back []order.PutBack) string {
	if len(back) == 0 {
		return says
	}
	put := "Put back " + back[0].What
	if n := len(back) - 1; n > 0 {
		put += fmt.Sprintf("; %d more", n)
	}
	if says != "" {
		return says + "; " + put
	}
	return put
}

// toEdit finds the draft a change is made to. A draft in memory at the change's
// version need not be asked for: the change is refused where it is stored when the
// draft has moved on. One that has moved on takes the change all the same when
// none of the parts it is about has changed.
func (s *Service) toEdit(ctx context.Context, id int64, c Change) (*order.Draft, error) {
	if kept, ok := s.drafts.Get(id); ok && kept.Order.Version == c.Version && kept.Order.State == "open" {
		return kept, nil
	}
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := d.Order.Open(); err != nil {
		return nil, err
	}
	if d.Order.Version != c.Version && !apart(d, c) {
		return nil, d.MovedOn()
	}
	return d, nil
}

// apart reports whether all that happened to a draft since a change's version
// is steps about other parts than the change is about.
func apart(d *order.Draft, c Change) bool {
	about := c.about()
	if len(about) == 0 {
		return false
	}
	since := int32(0)
	for _, st := range d.Steps {
		if st.Version <= c.Version {
			continue
		}
		if since++; st.Undone {
			return false
		}
		for _, e := range st.Edits {
			if slices.Contains(about, e.Part) || slices.Contains(about, e.In) {
				return false
			}
		}
	}
	return since == d.Order.Version-c.Version
}

// about lists the parts a change is about; none where it depends on the whole draft,
// as a fix or a paste does.
func (c Change) about() []site.Ref {
	var out []site.Ref
	add := func(refs ...site.Ref) {
		for _, r := range refs {
			if r.ID != "" {
				out = append(out, r)
			}
		}
	}
	for _, e := range c.Entries {
		add(site.Ref{Kind: e.Kind, ID: e.ID}, site.ParseRef(e.In),
			site.Ref{Kind: site.KindNetwork, ID: e.Fields["network"]})
	}
	if c.Resize != nil {
		add(site.ParseRef(c.Resize.Part), site.ParseRef(c.Resize.In))
	}
	add(site.ParseRef(c.Remove), site.ParseRef(c.In))
	return out
}

// takeStep stores an edit of a draft, unless another change came first. It
// returns the site's newest revision.
func (s *Service) takeStep(ctx context.Context, d *order.Draft, step order.Step) (head int32, err error) {
	edits, back, err := written(step)
	if err != nil {
		return 0, err
	}
	event, err := json.Marshal(actor.OrderEvent(d.Order.ID, d.Order.Version+1))
	if err != nil {
		return 0, err
	}
	row, err := store.Found(s.store.TakeStep(ctx, gen.TakeStepParams{
		OrderID: d.Order.ID, Version: d.Order.Version, Seq: step.Seq, Says: step.Says, Edits: edits, PutBack: back,
		MadeBy: step.ByID, MadeAt: step.At, Event: string(event),
	}))
	if errors.Is(err, store.ErrNotFound) {
		err = store.ErrMoved
	}
	return row.Head, s.unlessMoved(ctx, d, err)
}

// read turns the change into edits and the document after them.
func (s *Service) read(
	ctx context.Context, c Change, d *order.Draft,
) (edits []edit.Edit, doc *site.Site, made string, err error) {
	doc = d.Doc()
	if edits, err = s.ready(ctx, c, d); err != nil {
		return nil, nil, "", err
	}
	if edits != nil {
		if doc, err = edit.Apply(doc, edits...); err != nil {
			return nil, nil, "", actor.Refuse(actor.Conflict, "%s.", err)
		}
	}
	entries := c.Entries
	if c.Resize != nil {
		e, err := c.Resize.entry(doc)
		if err != nil {
			return nil, nil, "", err
		}
		entries = append(entries, e)
	}
	for i, e := range entries {
		if e.New && e.ID == "" {
			e.ID = newID(e.Kind)
		}
		if e.New && made == "" {
			made = e.Kind + ":" + e.ID
		}
		one, err := edit.Read(doc, e)
		if err != nil {
			return nil, nil, "", ofEntry(i, err)
		}
		if doc, err = edit.Apply(doc, one...); err != nil {
			return nil, nil, "", actor.Refuse(actor.Conflict, "%s.", err)
		}
		edits = append(edits, one...)
	}
	return edits, doc, made, nil
}

// ready are the edits that a change brings or names whole: nil where it has entries of a form alone.
func (s *Service) ready(ctx context.Context, c Change, d *order.Draft) (edits []edit.Edit, err error) {
	switch {
	case c.Edits != nil:
		return c.Edits, nil
	case c.Fix != "":
		return s.fixOf(ctx, d, c.Fix, c.Other)
	case c.FixAll != "":
		_, edits, err = s.fixAll(ctx, d, c.FixAll)
	case c.Paste != nil:
		_, edits, err = c.Paste.read(d.Doc())
	case c.Remove != "":
		if edits, err = edit.Removing(d.Doc(), site.ParseRef(c.Remove), site.ParseRef(c.In)); err != nil {
			err = actor.Refuse(actor.Conflict, "It cannot be removed: %s.", err)
		}
	}
	return edits, err
}

// ofEntry says of mistakes in fields which entry they are in.
func ofEntry(number int, err error) error {
	var fields site.FieldErrors
	if !errors.As(err, &fields) {
		return err
	}
	r := actor.RefuseFields("Nothing was changed", fields)
	r.Fields = nil
	for _, f := range fields {
		f.Field = fmt.Sprintf("entries[%d].fields.%s", number, f.Field)
		r.Fields = append(r.Fields, f)
	}
	return r
}

// fixOf finds the fix of a finding, of the document or of its surroundings.
func (s *Service) fixOf(ctx context.Context, d *order.Draft, id string, other bool) ([]edit.Edit, error) {
	of := func(list []check.Finding) int {
		return slices.IndexFunc(list, func(f check.Finding) bool { return f.ID == id })
	}
	found := d.Scene.Findings
	i := of(found)
	if i < 0 {
		b, err := s.store.Beside(ctx, d.Order.SiteID, d.Doc().Customer.Name)
		if err != nil {
			return nil, err
		}
		found = check.Around(d.Scene, b.Around(d.Doc()))
		i = of(found)
	}
	switch {
	case i < 0:
		return nil, actor.Refuse(actor.Conflict, "That finding is gone already; there is nothing left to fix.")
	case other && found[i].Other != nil:
		return found[i].Other.Edits, nil
	case other || found[i].Fix == nil:
		return nil, actor.Refuse(actor.Invalid, "There is no ready fix for this finding; change what it names.")
	}
	return found[i].Fix.Edits, nil
}

func newID(kind string) string {
	begins := kind
	if k, ok := site.KindNamed(kind); ok {
		begins = k.Begins
	}
	return begins + "-" + strings.ToLower(rand.Text()[:10])
}

const maxSecret = 200 // characters

// goElsewhere refuses an edit that sends a kept password or key to another place than the one that it was typed for: it
// has to be typed again.
func (s *Service) goElsewhere(
	ctx context.Context, was, now *site.Site, typed []gen.PutSecretParams, entries []edit.Entry,
) error {
	for _, name := range now.Secrets() {
		to := now.GoesTo(name)
		fresh := slices.ContainsFunc(typed, func(p gen.PutSecretParams) bool { return p.Name == name })
		if to == "" || fresh || was.GoesTo(name) == to {
			continue
		}
		row, err := store.Found(s.store.SecretNamed(ctx, gen.SecretNamedParams{SiteID: now.ID, Name: name}))
		switch {
		case errors.Is(err, store.ErrNotFound) || err == nil && row.GoesTo == to:
			continue
		case err != nil:
			return err
		}
		says := "type it again: the one that is kept was typed for another place, and does not go to " + to
		return actor.RefuseFields("Nothing was changed",
			site.FieldErrors{{Field: keptFieldOf(now, name, entries), Says: says}})
	}
	return nil
}

// keptFieldOf is the field of a form that a kept password or key is typed in.
func keptFieldOf(doc *site.Site, name string, entries []edit.Entry) string {
	for i, e := range entries {
		for _, z := range doc.Zones {
			if z.Account == name && e.Kind == site.KindZone && e.ID == z.ID {
				return fmt.Sprintf("entries[%d].fields.account", i)
			}
		}
		for _, f := range doc.Following {
			if f.Secret == name && e.Kind == site.KindFollowing && e.ID == f.ID {
				return fmt.Sprintf("entries[%d].fields.secret", i)
			}
		}
	}
	return "secret"
}

// secretField is a field of a password or a key, and how the names begin under which those are secretField.
type secretField struct {
	kind, field, begins string
	key                 bool // a TSIG key
}

var keptFields = []secretField{{site.KindInterface, "secret", "line", false}, {site.KindZone, "secret", "key", true},
	{site.KindZone, "account", "account", false}, {site.KindCertificate, "secret", "key", true},
	{site.KindFollowing, "secret", "key", true}}

// sealTyped takes the passwords out of what was typed and leaves in their place
// the names they are to be kept under. A draft holds only those. Each gets a name
// of its own, so that the one in use stays what it was until the push.
func (s *Service) sealTyped(by actor.Technician, d *order.Draft, entries []edit.Entry) ([]gen.PutSecretParams, error) {
	var out []gen.PutSecretParams
	for i, e := range entries {
		for _, f := range keptFields {
			value := e.Fields[f.field]
			if f.kind != e.Kind || value == "" {
				continue
			}
			problem, what := "", "password"
			if len(value) > maxSecret {
				problem = fmt.Sprintf("has %d characters; type at most %d", len(value), maxSecret)
			}
			if err := site.CheckKey(value); f.key && err != nil {
				problem, what = err.Error(), "key"
			}
			if problem != "" {
				return nil, &actor.Refusal{Kind: actor.Invalid,
					Says:   "Nothing was changed: the " + what + " " + problem + ".",
					Fields: []site.FieldError{{Field: fmt.Sprintf("entries[%d].fields.%s", i, f.field), Says: problem}}}
			}
			sealed, err := s.sealer.Seal(value)
			if err != nil {
				return nil, err
			}
			name := newID(f.begins)
			e.Fields[f.field] = name
			out = append(out, gen.PutSecretParams{SiteID: d.Order.SiteID, Name: name, Sealed: sealed, PutBy: by.ID,
				OrderID: d.Order.ID})
		}
	}
	return out, nil
}
