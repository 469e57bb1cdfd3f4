// Package actor is what every act of a technician has: who acts, how it is refused, the
// line of the audit that records it, and the event that tells browsers of it.
package actor

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"lithos/core/site"
	"lithos/internal/store/gen"
)

// Technician is who is signed in.
type Technician struct {
	ID       int64  `json:"id"`
	Name     string `json:"name"`
	FullName string `json:"fullName"`
	Initials string `json:"initials"`
	// Source is the address a request of theirs came from.
	Source string `json:"-"`
}

// Known is the technician of an account.
func Known(id int64, name, fullName string) Technician {
	return Technician{ID: id, Name: name, FullName: fullName, Initials: initials(fullName)}
}

// initials are the first letters of at most three words of a name.
func initials(fullName string) string {
	out := ""
	words := strings.Fields(fullName)
	for _, word := range words[:min(3, len(words))] {
		first, _ := utf8.DecodeRuneInString(word)
		out += string(unicode.ToUpper(first))
	}
	return out
}

// Kind tells refusals apart.
type Kind int

// The kinds of refusal.
const (
	Missing  Kind = iota + 1 // what was asked for is not there
	Invalid                  // the input is at fault
	Conflict                 // somebody else was faster, or the state does not allow it
	Denied                   // the account or password is wrong
	Busy                     // too often; try again later
)

// Refusal is an error for people: a sentence, and the fields at fault.
type Refusal struct {
	Kind   Kind
	Says   string
	Fields []site.FieldError
}

func (r *Refusal) Error() string { return r.Says }

// Refuse makes a refusal.
func Refuse(kind Kind, format string, args ...any) *Refusal {
	return &Refusal{Kind: kind, Says: fmt.Sprintf(format, args...)}
}

// RefuseFields refuses what was typed into fields. nothing says what was not done, for
// example "Nothing was changed".
func RefuseFields(nothing string, fields site.FieldErrors) *Refusal {
	var says []string
	for _, f := range fields {
		says = append(says, strings.TrimSuffix(f.Says, "."))
	}
	return &Refusal{Kind: Invalid, Says: nothing + ": " + strings.Join(says, "; ") + ".", Fields: fields}
}

// Record writes a line of the audit, in the transaction of what it tells of. by without
// an id is the command line, or somebody who could not sign in.
func Record(ctx context.Context, q *gen.Queries, by Technician, what, about, says string) error {
	return q.WriteAudit(ctx, gen.WriteAuditParams{TechnicianID: by.ID, Who: by.FullName, Source: by.Source, Act: what,
		About: about, Says: says})
}

// RefuseWhileHeld refuses work on devices while it is held.
func RefuseWhileHeld(ctx context.Context, q *gen.Queries) error {
	now, err := q.ReadInstallation(ctx)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return nil
	case err != nil:
		return err
	case now.HeldSince != nil:
		return Refuse(Conflict,
			"Pushes and readings are held. %s. Whoever runs Lithos releases them with: lithos release", now.HeldBecause)
	}
	return nil
}
