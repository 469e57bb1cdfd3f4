package work

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Draft is a work order with its steps and the proposed site they make.
type Draft struct {
	Order        gen.OrderByIDRow
	Steps        []Step
	Base         *site.Site
	Doc          *site.Site
	BaseFindings []check.Finding
	Findings     []check.Finding
	changes      []target               // the devices of which Doc makes something else than Base
	baseConfigs  map[string]yang.Config // what Base makes of each device
}

// judge works out what the rules and the devices make of the draft's document.
func (d *Draft) judge() {
	var both sync.WaitGroup
	both.Go(func() { d.changes = d.changed() })
	d.Findings = check.Site(d.Doc)
	both.Wait()
}

// Step is one thing a technician did to a draft: one or more edits that undo
// takes back together.
type Step struct {
	Seq    int32
	Says   string
	Edits  []edit.Edit
	Undone bool
	// Version is the draft's version that the step made.
	Version int32
	By      string
	ByID    int64
	At      time.Time
	// UndoneBy is who took it back.
	UndoneBy string
}

// live is the edits that are not undone, in order.
func live(steps []Step) []edit.Edit {
	var out []edit.Edit
	for _, s := range steps {
		if !s.Undone {
			out = append(out, s.Edits...)
		}
	}
	return out
}

// Added is the findings the draft brings in.
func (d *Draft) Added() []check.Finding { return check.Added(d.BaseFindings, d.Findings) }

// Blocking counts the added findings that keep the draft from being pushed.
func (d *Draft) Blocking() int {
	n := 0
	for _, f := range d.Added() {
		if f.Severity == check.Blocks {
			n++
		}
	}
	return n
}

const maxTitle = 120

// OpenOrder opens a work order on a site's newest revision.
func (s *Service) OpenOrder(ctx context.Context, by Technician, code, title, ticket string) (int64, error) {
	title, ticket = strings.TrimSpace(title), strings.TrimSpace(ticket)
	var fields []site.FieldError
	if n := utf8.RuneCountInString(title); n == 0 || n > maxTitle {
		fields = append(fields, site.FieldError{Field: "title", Says: fmt.Sprintf("A work order needs a title of 1 to %d characters; type what it is for, for example Recovery ward.", maxTitle)})
	} else if err := site.CheckText(title); err != nil {
		fields = append(fields, site.FieldError{Field: "title", Says: "The title " + err.Error() + "."})
	}
	if n := utf8.RuneCountInString(ticket); n > maxTitle {
		fields = append(fields, site.FieldError{Field: "ticket", Says: fmt.Sprintf("The ticket has %d characters; use at most %d.", n, maxTitle)})
	} else if err := site.CheckText(ticket); err != nil {
		fields = append(fields, site.FieldError{Field: "ticket", Says: "The ticket " + err.Error() + "."})
	}
	if len(fields) > 0 {
		return 0, &Refusal{Invalid, "The work order was not opened.", fields}
	}
	row, err := s.siteByCode(ctx, code)
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if id, err = q.OpenOrder(ctx, gen.OpenOrderParams{Title: title, Ticket: ticket, OpenedBy: by.ID, SiteID: row.ID}); err != nil {
			return fmt.Errorf("open a work order: %w", err)
		}
		return errors.Join(audit(ctx, q, by, "order-opened", OrderName(id), title+", at "+row.Name), publish(ctx, q, orderEvent(id, 0)))
	})
	return id, err
}

func (s *Service) siteByCode(ctx context.Context, code string) (gen.Site, error) {
	row, err := store.Found(s.store.SiteByCode(ctx, code))
	if errors.Is(err, store.ErrNotFound) {
		return row, refuse(Missing, "There is no site %q.", code)
	}
	return row, err
}

// Draft reads a work order with the site it proposes.
func (s *Service) Draft(ctx context.Context, id int64) (*Draft, error) {
	order, err := store.Found(s.store.OrderByID(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return nil, refuse(Missing, "There is no work order %s.", OrderName(id))
	}
	if err != nil {
		return nil, err
	}
	if kept, ok := s.drafts.Get(id); ok && kept.Order.Version == order.Version && kept.Order.BaseRevision == order.BaseRevision {
		now := *kept
		now.Order = order
		return &now, nil
	}
	rows, err := s.store.OrderSteps(ctx, id)
	if err != nil {
		return nil, err
	}
	d := &Draft{Order: order}
	for _, r := range rows {
		step := Step{Seq: r.Seq, Says: r.Says, Undone: r.Undone, Version: r.Version, By: r.MadeBy, ByID: r.ByID, At: r.MadeAt, UndoneBy: r.UndoneBy}
		if err := json.Unmarshal(r.Edits, &step.Edits); err != nil {
			return nil, fmt.Errorf("step %d of order %d: %w", r.Seq, id, err)
		}
		d.Steps = append(d.Steps, step)
	}
	base, err := s.examine(ctx, order.SiteID, order.BaseRevision)
	if err != nil {
		return nil, err
	}
	return s.keep(d, base)
}

// keep works out the rest of a draft from its order and steps, and remembers it.
func (s *Service) keep(d *Draft, base *examined) (*Draft, error) {
	doc, err := edit.Apply(base.doc, live(d.Steps)...)
	if err != nil {
		return nil, fmt.Errorf("order %d no longer applies to revision %d: %w", d.Order.ID, d.Order.BaseRevision, err)
	}
	d.Base, d.BaseFindings, d.baseConfigs = base.doc, base.findings, base.compiled
	d.Doc = doc
	d.judge()
	s.remember(d)
	return d, nil
}

func (s *Service) remember(d *Draft) {
	s.drafts.Add(d.Order.ID, d)
}

// OrderName is how people refer to a work order.
func OrderName(id int64) string { return fmt.Sprintf("WO-%04d", id) }

// Change is what a technician asks of a draft: entries typed into forms, the
// fix of a finding, or the removal of a part. One change is one step to undo.
type Change struct {
	Version int32        `json:"version" doc:"the draft's version the change was made on"`
	Entries []edit.Entry `json:"entries,omitempty" maxItems:"50"`
	Fix     string       `json:"fix,omitempty" doc:"id of the finding to fix"`
	Remove  string       `json:"remove,omitempty" doc:"kind:id of the part to remove"`
	In      string       `json:"in,omitempty" doc:"kind:id of the owner of what is removed"`
	FixAll  string       `json:"fixAll,omitempty" doc:"rule whose findings are all fixed"`
	// Paste adds or changes many reservations or fixed devices.
	Paste *PasteRequest `json:"paste,omitempty"`
}

// Edit applies a change to a draft, checks the result and stores it, all or
// nothing. It returns the draft after the change and, for a new part, its id.
func (s *Service) Edit(ctx context.Context, by Technician, id int64, c Change) (d *Draft, made string, err error) {
	if d, err = s.toEdit(ctx, id, c); err != nil {
		return nil, "", err
	}
	return s.edit(ctx, by, d, c)
}

// toEdit finds the draft a change is made to. A draft in memory at the change's
// version need not be asked for: the change is refused where it is stored when the
// draft has moved on. One that has moved on takes the change all the same when
// nothing the change speaks of is different.
func (s *Service) toEdit(ctx context.Context, id int64, c Change) (*Draft, error) {
	if kept, ok := s.drafts.Get(id); ok && kept.Order.Version == c.Version && kept.Order.State == "open" {
		return kept, nil
	}
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := d.open(); err != nil {
		return nil, err
	}
	if d.Order.Version != c.Version && !d.apartFrom(c) {
		return nil, movedOn(d)
	}
	return d, nil
}

// apartFrom reports whether all that happened to a draft since a change's version
// is steps about other parts than those the change speaks of.
func (d *Draft) apartFrom(c Change) bool {
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

// about lists the parts a change speaks of, none where that depends on the whole
// draft: what is fixed or pasted was shown with it.
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
		add(site.Ref{Kind: e.Kind, ID: e.ID}, site.ParseRef(e.In), site.Ref{Kind: site.KindNetwork, ID: e.Fields["network"]})
	}
	add(site.ParseRef(c.Remove), site.ParseRef(c.In))
	return out
}

func (s *Service) edit(ctx context.Context, by Technician, d *Draft, c Change) (after *Draft, made string, err error) {
	secrets, err := s.sealTyped(by, d, c.Entries)
	if err != nil {
		return nil, "", err
	}
	edits, doc, made, err := s.read(ctx, c, d)
	if err != nil {
		return nil, "", err
	}
	for _, secret := range secrets {
		if err := s.store.PutSecret(ctx, secret); err != nil {
			return nil, "", err
		}
	}
	if len(edits) == 0 {
		return d, made, nil
	}
	next := *d
	next.Steps = slices.DeleteFunc(slices.Clone(d.Steps), func(s Step) bool { return s.Undone })
	step := d.nextStep(by, doc, edits)
	next.Steps = append(next.Steps, step)
	next.Doc = doc
	raw, err := json.Marshal(edits)
	if err != nil {
		return nil, "", err
	}
	// The rules run while the database writes; neither needs the other.
	var judged sync.WaitGroup
	judged.Go(next.judge)
	head, err := s.takeStep(ctx, d, step, raw)
	judged.Wait()
	if err != nil {
		return nil, "", err
	}
	next.Order.Version++
	next.Order.Head = head
	s.remember(&next)
	return &next, made, nil
}

// nextStep is the step behind those a draft has, which makes doc of it.
func (d *Draft) nextStep(by Technician, doc *site.Site, edits []edit.Edit) Step {
	step := Step{Seq: 1, Says: describe(d.Doc, doc, edits), Edits: edits, Version: d.Order.Version + 1, By: by.FullName, ByID: by.ID, At: time.Now()}
	if n := len(d.Steps); n > 0 {
		step.Seq = d.Steps[n-1].Seq + 1
	}
	return step
}

// takeStep stores an edit of a draft, unless another change came first. It
// returns the site's newest revision.
func (s *Service) takeStep(ctx context.Context, d *Draft, step Step, edits []byte) (head int32, err error) {
	event, err := json.Marshal(orderEvent(d.Order.ID, d.Order.Version+1))
	if err != nil {
		return 0, err
	}
	row, err := store.Found(s.store.TakeStep(ctx, gen.TakeStepParams{
		OrderID: d.Order.ID, Version: d.Order.Version, Seq: step.Seq, Says: step.Says, Edits: edits, MadeBy: step.ByID, MadeAt: step.At, Event: string(event),
	}))
	if errors.Is(err, store.ErrNotFound) {
		err = store.ErrMoved
	}
	return row.Head, s.unlessMoved(ctx, d, err)
}

// editable reads a draft that may be changed and is at the version the caller saw.
func (s *Service) editable(ctx context.Context, id int64, version int32) (*Draft, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := d.open(); err != nil {
		return nil, err
	}
	if d.Order.Version != version {
		return nil, movedOn(d)
	}
	return d, nil
}

// open refuses a draft that takes no more edits.
func (d *Draft) open() error {
	switch name := OrderName(d.Order.ID); d.Order.State {
	case "open":
		return nil
	case "dropped":
		return refuse(Conflict, "%s was dropped by %s. Take it up again on its page, or open another work order.", name, d.Order.Closer)
	case "pushing":
		return refuse(Conflict, "%s is being pushed and takes no more edits now.", name)
	default:
		return refuse(Conflict, "%s is %s and takes no more edits. Open another work order.", name, d.Order.State)
	}
}

func movedOn(d *Draft) *Refusal {
	who, what := "Somebody", "changed the draft"
	if n := len(d.Steps); n > 0 {
		who, what = d.Steps[n-1].By, "made another edit ("+d.Steps[n-1].Says+")"
	}
	return refuse(Conflict, "%s %s meanwhile. Look at it, then do yours again; what you typed is still here.", who, what)
}

// touch stores a change to a draft, in one transaction that fails when another
// change came first, and remembers the draft after it.
func (s *Service) touch(ctx context.Context, d *Draft, do func(q *gen.Queries) error) error {
	err := s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.TouchOrder(ctx, gen.TouchOrderParams{ID: d.Order.ID, Version: d.Order.Version})
		if err != nil {
			return err
		}
		if n == 0 {
			return store.ErrMoved
		}
		if err := do(q); err != nil {
			return err
		}
		return publish(ctx, q, orderEvent(d.Order.ID, d.Order.Version+1))
	})
	if err == nil {
		d.Order.Version++
		s.remember(d)
	}
	return s.unlessMoved(ctx, d, err)
}

// unlessMoved says of a change that came second what came first.
func (s *Service) unlessMoved(ctx context.Context, d *Draft, err error) error {
	if errors.Is(err, store.ErrMoved) {
		if _, err := s.editable(ctx, d.Order.ID, d.Order.Version); err != nil {
			return err
		}
	}
	if err != nil {
		return fmt.Errorf("change %s: %w", OrderName(d.Order.ID), err)
	}
	return nil
}

// read turns the change into edits and the document after them.
func (s *Service) read(ctx context.Context, c Change, d *Draft) (edits []edit.Edit, doc *site.Site, made string, err error) {
	doc = d.Doc
	switch {
	case c.Fix != "":
		if edits, err = s.fixOf(ctx, d, c.Fix); err != nil {
			return nil, nil, "", err
		}
	case c.FixAll != "":
		if _, edits, _, err = s.fixAll(ctx, d, c.FixAll); err != nil {
			return nil, nil, "", err
		}
	case c.Paste != nil:
		if _, edits, err = c.Paste.read(doc); err != nil {
			return nil, nil, "", err
		}
	case c.Remove != "":
		if edits, err = edit.Removing(doc, site.ParseRef(c.Remove), site.ParseRef(c.In)); err != nil {
			return nil, nil, "", refuse(Conflict, "It cannot be removed: %s.", err)
		}
	}
	if edits != nil {
		if doc, err = edit.Apply(doc, edits...); err != nil {
			return nil, nil, "", refuse(Conflict, "%s.", err)
		}
	}
	for i, e := range c.Entries {
		if e.New && e.ID == "" {
			e.ID = newID(e.Kind)
		}
		if e.New && made == "" {
			made = e.Kind + ":" + e.ID
		}
		one, err := edit.Read(doc, e)
		var fields site.FieldErrors
		if errors.As(err, &fields) {
			r := &Refusal{Kind: Invalid, Says: "Nothing was changed: " + sentence(fields) + "."}
			for _, f := range fields {
				r.Fields = append(r.Fields, site.FieldError{Field: fmt.Sprintf("entries[%d].fields.%s", i, f.Field), Says: f.Says})
			}
			return nil, nil, "", r
		}
		if err != nil {
			return nil, nil, "", err
		}
		if doc, err = edit.Apply(doc, one...); err != nil {
			return nil, nil, "", refuse(Conflict, "%s.", err)
		}
		edits = append(edits, one...)
	}
	return edits, doc, made, nil
}

// fixOf finds the fix of a finding, of the document or of its surroundings.
func (s *Service) fixOf(ctx context.Context, d *Draft, id string) ([]edit.Edit, error) {
	of := func(list []check.Finding) int {
		return slices.IndexFunc(list, func(f check.Finding) bool { return f.ID == id })
	}
	found := d.Findings
	i := of(found)
	if i < 0 {
		with, err := s.surroundings(ctx, d.Doc)
		if err != nil {
			return nil, err
		}
		found = check.Around(d.Doc, with)
		i = of(found)
	}
	switch {
	case i < 0:
		return nil, refuse(Conflict, "That finding is gone already; there is nothing left to fix.")
	case found[i].Fix == nil:
		return nil, refuse(Invalid, "There is no ready fix for this finding; change what it names.")
	}
	return found[i].Fix.Edits, nil
}

func sentence(fields site.FieldErrors) string {
	var says []string
	for _, f := range fields {
		says = append(says, f.Says)
	}
	return strings.Join(says, "; ")
}

func newID(kind string) string {
	begins := kind
	if k, ok := site.KindNamed(kind); ok {
		begins = k.Begins
	}
	return begins + "-" + strings.ToLower(rand.Text()[:10])
}

// mostDescribed is how many edits of a step are put in words; it says how many more
// there are.
const mostDescribed = 3

func describe(before, after *site.Site, edits []edit.Edit) string {
	shown := edits
	if len(edits) > mostDescribed {
		shown = edits[:mostDescribed-1]
	}
	var says []string
	for _, e := range shown {
		part := e.Part
		if part.Kind == site.KindOption {
			part = e.In
		}
		doc := before // a part that is renamed is known by the name it had
		if _, had := site.NameOf(before, part); !had {
			doc = after
		}
		says = append(says, edit.Describe(doc, e))
	}
	if more := len(edits) - len(shown); more > 0 {
		says = append(says, fmt.Sprintf("%d more", more))
	}
	return strings.Join(says, "; ")
}

// Undo takes back the last step that stands. A step of another technician's is
// taken back only when others is set: the caller has been told whose it is.
func (s *Service) Undo(ctx context.Context, by Technician, id int64, version int32, others bool) (*Draft, error) {
	return s.flip(ctx, by, id, version, true, others, func(steps []Step) int {
		for i := len(steps) - 1; i >= 0; i-- {
			if !steps[i].Undone {
				return i
			}
		}
		return -1
	})
}

// Redo does the first step that was undone again.
func (s *Service) Redo(ctx context.Context, by Technician, id int64, version int32) (*Draft, error) {
	return s.flip(ctx, by, id, version, false, true, func(steps []Step) int {
		return slices.IndexFunc(steps, func(s Step) bool { return s.Undone })
	})
}

func (s *Service) flip(ctx context.Context, by Technician, id int64, version int32, undone, others bool, which func([]Step) int) (*Draft, error) {
	d, err := s.editable(ctx, id, version)
	if err != nil {
		return nil, err
	}
	i := which(d.Steps)
	if i < 0 {
		return d, nil
	}
	if step := d.Steps[i]; step.ByID != by.ID && !others {
		says := fmt.Sprintf("The last step is %s's (%s). Undo it all the same?", step.By, step.Says)
		return nil, &Refusal{Conflict, says, []site.FieldError{{Field: "others", Says: says}}}
	}
	next := *d
	next.Steps = slices.Clone(d.Steps)
	next.Steps[i].Undone, next.Steps[i].UndoneBy = undone, ""
	if undone {
		next.Steps[i].UndoneBy = by.FullName
	}
	if next.Doc, err = edit.Apply(d.Base, live(next.Steps)...); err != nil {
		return nil, fmt.Errorf("order %d: %w", id, err)
	}
	next.judge()
	err = s.touch(ctx, &next, func(q *gen.Queries) error {
		return q.MarkUndone(ctx, gen.MarkUndoneParams{OrderID: id, Seq: next.Steps[i].Seq, Undone: undone, By: by.ID})
	})
	return &next, err
}
