// Package check is the rules a site's addressing must keep. Each rule says what
// will happen to whom, names the parts and addresses concerned, and where there
// is one carries its fix as edits.
//
// The rules run over a Scene: a document with what they made of it. After an edit
// only those run again that are about what the edit touched.
package check

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
)

// Severity says what a finding does to a push.
type Severity string

// The severities, gravest first.
const (
	Blocks Severity = "blocks" // nothing is pushed while a draft brings one in
	Warns  Severity = "warns"
	Notes  Severity = "notes"
)

// Graver reports whether s weighs more than other.
func (s Severity) Graver(other Severity) bool { return weight[s] < weight[other] }

// Finding is one broken rule with its evidence.
type Finding struct {
	// ID is the same in every revision for the same rule, parts, addresses and value:
	// another wrong value on the same part is another finding.
	ID        string          `json:"id"`
	Rule      string          `json:"rule"`
	Severity  Severity        `json:"severity" enum:"blocks,warns,notes"`
	Title     string          `json:"title"`
	Says      string          `json:"says"`
	Network   string          `json:"network,omitempty"`
	Parts     []site.Ref      `json:"parts"`
	Addresses []address.Range `json:"addresses,omitempty"`
	Fix       *Fix            `json:"fix,omitempty"`
	// Other is another fix, where there are two ways out of which neither is the usual.
	Other *Fix `json:"other,omitempty"`
	// Remedy is what helps and is no edit of the document.
	Remedy *Remedy `json:"remedy,omitempty"`
	// Value is what is wrong where that is neither a part nor an address: a VLAN id,
	// an option's value.
	Value string `json:"-"`

	scope scope // what was looked at when it was found
}

// Fix removes the cause of a finding.
type Fix struct {
	Title string      `json:"title"`
	Edits []edit.Edit `json:"edits"`
}

// Remedy is something that is done at once, whatever is drafted.
type Remedy struct {
	Title string   `json:"title"`
	Do    string   `json:"do" enum:"send,key" doc:"send: tell a dynamic name its address; key: have a key made for it"`
	On    site.Ref `json:"on"`
}

// What remedies do.
const (
	RemedySend = "send"
	RemedyKey  = "key"
)

// Rule is one row of the table of rules.
type Rule struct {
	Slug     string
	Family   string
	Severity Severity
	Promise  string // what holds where the rule is kept
	finder
}

// Rules is the table of all rules, by family.
func Rules() []Rule { return slices.Concat(rules, aroundRules()) }

// Site runs every rule that needs only the document. Findings come gravest
// first, then by address. The result is the same for equal documents.
func Site(s *site.Site) []Finding { return Of(site.Normal(s)).Findings }

// signed puts a rule's name under what it found.
func (r Rule) signed(found Finding) Finding {
	found.Rule, found.Severity = r.Slug, r.Severity
	found.ID = r.Slug
	for _, p := range found.Parts {
		found.ID += "." + p.ID
	}
	for i, a := range found.Addresses {
		if i == maxAddressesInID {
			break
		}
		found.ID += "." + strings.ReplaceAll(a.String(), " ", "")
	}
	if found.Value != "" {
		sum := fnv.New32a()
		_, _ = sum.Write([]byte(found.Value))
		found.ID += fmt.Sprintf(".%x", sum.Sum32())
	}
	return found
}

// Facts is a digest of what a finding tells: where it differs, something about it has changed.
func (f Finding) Facts() string {
	sum := fnv.New64a()
	_, _ = fmt.Fprintln(sum, f.Title, f.Says, f.Addresses)
	return fmt.Sprintf("%x", sum.Sum64())
}

// maxAddressesInID keeps ids short enough for the address of a page.
const maxAddressesInID = 4

// Sort puts findings in their order: gravest first; of those as grave what keeps clients from an
// address before what keeps them from a name; then by address.
func Sort(findings []Finding) { slices.SortStableFunc(findings, inOrder) }

func inOrder(a, b Finding) int {
	return cmp.Or(cmp.Compare(weight[a.Severity], weight[b.Severity]), cmp.Compare(aboutNames(a), aboutNames(b)),
		first(a).Compare(first(b)), strings.Compare(a.ID, b.ID))
}

// Outweighs reports whether a finding comes before another whatever their addresses.
func Outweighs(a, b Finding) bool {
	return cmp.Or(cmp.Compare(weight[a.Severity], weight[b.Severity]), cmp.Compare(aboutNames(a), aboutNames(b))) < 0
}

// aboutNames is 1 for a finding of a rule about names, 0 for any other.
func aboutNames(f Finding) int {
	if nameRules()[f.Rule] {
		return 1
	}
	return 0
}

var nameRules = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for _, r := range Rules() {
		out[r.Slug] = r.Family == "Names"
	}
	return out
})

var weight = map[Severity]int{Blocks: 0, Warns: 1, Notes: 2}

func first(f Finding) netip.Addr {
	if len(f.Addresses) == 0 {
		return netip.Addr{}
	}
	return f.Addresses[0].From
}

// Added lists the findings of a draft that its base did not have.
func Added(base, draft []Finding) []Finding {
	if len(draft) == 0 {
		return nil
	}
	had := map[string]bool{}
	for _, f := range base {
		had[f.ID] = true
	}
	var out []Finding
	for _, f := range draft {
		if !had[f.ID] {
			out = append(out, f)
		}
	}
	return out
}
