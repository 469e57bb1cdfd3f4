package accounts

import (
	"context"
	"time"

	"lithos/internal/store/gen"
)

// AuditEntry is one line of the audit: something somebody did.
type AuditEntry struct {
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	Source string    `json:"source"` // the address it came from; empty for the command line and for Lithos itself
	Act    string    `json:"act"`
	About  string    `json:"about"`
	Says   string    `json:"says"`
}

// Audited lists what was done since a time, newest first. Empty words leave a
// column open; who is a part of a name.
func (s *Service) Audited(
	ctx context.Context, since time.Time, act, about, who string, most int32,
) ([]AuditEntry, error) {
	rows, err := s.store.ListAudit(ctx, gen.ListAuditParams{Since: since, Act: act, About: about, Who: who, Most: most})
	out := []AuditEntry{}
	for _, r := range rows {
		out = append(out, AuditEntry{r.At, r.Who, r.Source, r.Act, r.About, r.Says})
	}
	return out, err
}
