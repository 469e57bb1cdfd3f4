package work

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"

	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Technician is who is signed in.
type Technician struct {
	ID       int64  `json:"id"`
	Name     string `json:"name"`
	FullName string `json:"fullName"`
	Initials string `json:"initials"`
}

const (
	attemptsWithin    = 15 * time.Minute
	attemptsByName    = 8
	attemptsBySource  = 40
	minPasswordLength = 12
)

// hashing is the cost of argon2id: 64 MiB, as its RFC 9106 recommends for
// servers with little memory.
var hashing = &argon2id.Params{Memory: 64 * 1024, Iterations: 3, Parallelism: 2, SaltLength: 16, KeyLength: 32}

// decoy is compared with when the name is unknown, so that an answer takes as
// long as for one that is.
var decoy, _ = argon2id.CreateHash("nobody's password", hashing)

// PutTechnician makes an account, or changes its name and password.
func (s *Service) PutTechnician(ctx context.Context, name, fullName, password string) (int64, error) {
	if len(password) < minPasswordLength {
		return 0, refuse(Invalid, "the password has %d characters; use at least %d", len(password), minPasswordLength)
	}
	hash, err := argon2id.CreateHash(password, hashing)
	if err != nil {
		return 0, err
	}
	return s.store.PutTechnician(ctx, gen.PutTechnicianParams{Name: strings.ToLower(name), FullName: fullName, PasswordHash: hash})
}

// SignIn checks a password. source is where the attempt comes from. After too
// many failures for a name or from a source it refuses for a while, even the
// right password.
func (s *Service) SignIn(ctx context.Context, name, password, source string) (Technician, error) {
	name = strings.ToLower(strings.TrimSpace(name))
	since := time.Now().Add(-attemptsWithin)
	failed, err := s.store.FailedSignIns(ctx, gen.FailedSignInsParams{Name: name, Source: source, Since: since})
	if err != nil {
		return Technician{}, err
	}
	if failed.ByName >= attemptsByName || failed.BySource >= attemptsBySource {
		return Technician{}, refuse(Busy, "Too many failed attempts. Wait a quarter of an hour, then try again.")
	}
	row, err := store.Found(s.store.TechnicianByName(ctx, name))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Technician{}, err
	}
	hash := row.PasswordHash
	if err != nil {
		hash = decoy
	}
	match, hashErr := argon2id.ComparePasswordAndHash(password, hash)
	if hashErr != nil {
		return Technician{}, hashErr
	}
	if err != nil || !match {
		if err := s.store.NoteFailedSignIn(ctx, gen.NoteFailedSignInParams{Name: name, Source: source}); err != nil {
			return Technician{}, err
		}
		return Technician{}, refuse(Denied, "The name or password is wrong. Check both and try again.")
	}
	if err := s.store.ForgetFailedSignIns(ctx, gen.ForgetFailedSignInsParams{Name: name, Before: since}); err != nil {
		return Technician{}, err
	}
	return technician(row), nil
}

// TechnicianByID finds who a session belongs to.
func (s *Service) TechnicianByID(ctx context.Context, id int64) (Technician, error) {
	row, err := store.Found(s.store.TechnicianByID(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return Technician{}, refuse(Missing, "There is no such account.")
	}
	return technician(row), err
}

func technician(row gen.Technician) Technician {
	t := Technician{ID: row.ID, Name: row.Name, FullName: row.FullName}
	for _, word := range strings.Fields(row.FullName) {
		t.Initials += strings.ToUpper(word[:1])
	}
	return t
}
