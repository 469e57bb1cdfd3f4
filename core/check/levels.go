package check

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"lithos/core/edit"
	"lithos/core/site"
)

// SharedLevels are the standard and the customer of a site as they are kept for all sites; nil where that is not known.
type SharedLevels struct {
	Standard *site.Standard
	Customer *site.Level
}

// In is the site, which is in normal form, with what is kept in place of its own copy.
func (k SharedLevels) In(s *site.Site) *site.Site {
	out := *s
	if k.Standard != nil && k.Standard.ID == s.Standard.ID {
		out.Standard = site.Normal(&site.Site{Standard: *k.Standard}).Standard
	}
	if k.Customer != nil && k.Customer.ID == s.Customer.ID {
		out.Customer = site.Normal(&site.Site{Customer: *k.Customer}).Customer
	}
	return &out
}

// Differs reports whether a site has another form of what is kept.
func (k SharedLevels) Differs(s *site.Site) bool {
	now := k.In(s)
	return !alike(now.Standard, s.Standard) || !alike(now.Customer, s.Customer)
}

// offStandard is about sites whose standard or customer is another than the one that is kept: it was changed since, or
// the site came with a file.
func offStandard(a *around, report func(Finding)) {
	for _, one := range []struct {
		ref   site.Ref
		title string
		kept  SharedLevels
	}{
		{site.Ref{Kind: site.KindStandard, ID: a.Standard.ID}, "Another form of the standard " + a.Standard.Name,
			SharedLevels{Standard: a.Shared.Standard}},
		{site.Ref{Kind: site.KindCustomer, ID: a.Customer.ID}, "Other options of " + a.Customer.Name,
			SharedLevels{Customer: a.Shared.Customer}},
	} {
		if !one.kept.Differs(a.Site) {
			continue
		}
		edits := edit.Between(a.Site, one.kept.In(a.Site))
		var says []string
		for _, e := range edits {
			says = append(says, edit.Describe(a.Site, e))
		}
		report(Finding{Title: one.title, Parts: []site.Ref{one.ref}, Value: strings.Join(says, "; "),
			Says: fmt.Sprintf("What is kept for all sites differs from what this site has. It would: %s.",
				strings.Join(says, "; ")),
			Fix: &Fix{Title: "Take what is kept", Edits: edits}})
	}
}

func alike(a, b any) bool {
	one, err1 := json.Marshal(a)
	other, err2 := json.Marshal(b)
	return err1 == nil && err2 == nil && bytes.Equal(one, other)
}
