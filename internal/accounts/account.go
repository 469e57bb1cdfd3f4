package accounts

import (
	"context"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/jackc/pgx/v5"
	"github.com/trustelem/zxcvbn"

	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// How often somebody may try within attemptsWithin. A browser the technician has
// signed in from before has attempts of its own, so that nobody elsewhere can keep
// them out of it.
const (
	attemptsWithin   = 15 * time.Minute
	attemptsByBoth   = 8 // at one name from one address, and at one name from one known browser
	attemptsBySource = 40
	attemptsByName   = 100
)

const (
	minPasswordLength = 12 // characters
	maxPasswordLength = 200
	maxAccountName    = 64
	maxFullName       = 80
)

// hashing is the cost of argon2id: 64 MiB, as its RFC 9106 recommends for
// servers with little memory.
var hashing = &argon2id.Params{Memory: 64 * 1024, Iterations: 3, Parallelism: 2, SaltLength: 16, KeyLength: 32}

// Hashing bounds how many passwords are looked at at once, 64 MiB each, and for
// how long an attempt waits for its turn.
const (
	hashesAtOnce = 4
	hashWait     = 3 * time.Second
)

// decoy is compared with when the name is unknown, so that an answer takes as
// long as for one that is.
var decoy, _ = argon2id.CreateHash("nobody's password", hashing)

// PutTechnician makes an account, or changes its name and password. The sessions
// the account had end. by says who did it.
func (s *Service) PutTechnician(ctx context.Context, by, name, fullName, password string) (int64, error) {
	name, fullName = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(fullName)
	if err := checkAccount(name, fullName, password); err != nil {
		return 0, err
	}
	hash, err := argon2id.CreateHash(password, hashing)
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		row, err := q.PutTechnician(ctx, gen.PutTechnicianParams{Name: name, FullName: fullName, PasswordHash: hash})
		if err != nil {
			return err
		}
		id = row.ID
		what, says := "account-changed", "Its password was changed, and its sessions ended"
		if row.Made {
			what, says = "account-made", "For "+fullName
		}
		return errors.Join(endSessions(ctx, q, id), actor.Record(ctx, q, actor.Technician{FullName: by}, what, name,
			says))
	})
	return id, err
}

func checkAccount(name, fullName, password string) error {
	for _, c := range []struct {
		wrong bool
		says  string
	}{
		{name == "", "the account needs a name to sign in with; give for example mk"},
		{strings.ContainsFunc(name, unicode.IsSpace) || site.CheckText(name) != nil,
			"the account's name holds a space or a control character; leave it out"},
		{utf8.RuneCountInString(name) > maxAccountName,
			fmt.Sprintf("the account's name is longer than %d characters; give a shorter one", maxAccountName)},
		{fullName == "", "the account needs a full name, for the history; give for example 'Maren Kolb'"},
		{site.CheckText(fullName) != nil, "the full name holds a control character; leave it out"},
		{utf8.RuneCountInString(fullName) > maxFullName,
			fmt.Sprintf("the full name is longer than %d characters; give a shorter one", maxFullName)},
	} {
		if c.wrong {
			return actor.Refuse(actor.Invalid, "%s", c.says)
		}
	}
	return checkPassword(password, name, fullName)
}

// guessable is how many guesses a password must withstand, by an estimate that
// knows the common passwords, names, dates and rows of keys.
const guessable = 1e8

func checkPassword(password string, about ...string) error {
	n := utf8.RuneCountInString(password)
	switch {
	case !utf8.ValidString(password):
		return actor.Refuse(actor.Invalid, "the password holds octets that are not UTF-8; type it again")
	case n < minPasswordLength:
		return actor.Refuse(actor.Invalid, "the password has %d characters; use at least %d", n, minPasswordLength)
	case n > maxPasswordLength:
		return actor.Refuse(actor.Invalid, "the password has %d characters; use at most %d", n, maxPasswordLength)
	}
	if zxcvbn.PasswordStrength(string([]rune(password)[:min(n, 64)]), about).Guesses < guessable {
		return actor.Refuse(actor.Invalid,
			"the password is among the commonly used ones, or near to one; use several words that do not belong "+
				"together")
	}
	return nil
}

// Attempt is somebody who wants to sign in.
type Attempt struct {
	Name, Password string
	Source         string // the address they come from
	Browser        string // names the browser when somebody signed in from it before, hashed
}

// SignIn checks a password. The attempt is counted before the password is looked
// at; after too many it is refused for a while, even the right password. stamp
// ties a session to the password it was begun with.
func (s *Service) SignIn(ctx context.Context, a Attempt) (t actor.Technician, stamp string, err error) {
	a.Name = strings.ToLower(strings.TrimSpace(a.Name))
	if site.CheckText(a.Name) != nil || !utf8.ValidString(a.Password) {
		return actor.Technician{}, "", wrongPassword()
	}
	outcome := "refused"
	defer func() { s.signIns.WithLabelValues(outcome).Inc() }()
	counted, err := s.countAttempt(ctx, &a)
	if err != nil {
		outcome = "throttled"
		return actor.Technician{}, "", err
	}
	row, err := store.Found(s.store.TechnicianByName(ctx, a.Name))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return actor.Technician{}, "", err
	}
	unknown := err != nil || row.OffAt != nil
	hash := row.PasswordHash
	if err != nil {
		hash = decoy
	}
	select {
	case s.hashes <- struct{}{}:
	case <-time.After(hashWait):
		outcome = "busy"
		if err := s.store.UncountSignIn(ctx, counted); err != nil {
			return actor.Technician{}, "", err
		}
		return actor.Technician{}, "", actor.Refuse(actor.Busy, "Many are signing in at this moment. Try again.")
	case <-ctx.Done():
		return actor.Technician{}, "", ctx.Err()
	}
	match, err := argon2id.ComparePasswordAndHash(a.Password, hash)
	<-s.hashes
	if err != nil {
		return actor.Technician{}, "", err
	}
	if unknown || !match {
		who := actor.Technician{FullName: a.Name, Source: a.Source}
		if err := actor.Record(ctx, s.store.Queries, who, "sign-in-refused", a.Name,
			"The name or password was wrong"); err != nil {
			return actor.Technician{}, "", err
		}
		return actor.Technician{}, "", wrongPassword()
	}
	t = actor.Known(row.ID, row.Name, row.FullName)
	t.Source = a.Source
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		return errors.Join(
			q.ForgetSignIns(ctx, gen.ForgetSignInsParams{Name: a.Name, Source: a.Source, Browser: a.Browser,
				Before: time.Now().Add(-attemptsWithin)}),
			actor.Record(ctx, q, t, "sign-in", a.Name, "Signed in"),
		)
	})
	if err != nil {
		return actor.Technician{}, "", err
	}
	outcome = "done"
	sum := md5.Sum([]byte(row.PasswordHash)) // of a salted hash: it tells two apart, and guards nothing
	return t, hex.EncodeToString(sum[:]), nil
}

func wrongPassword() error {
	return actor.Refuse(actor.Denied, "The name or password is wrong. Check both and try again.")
}

// countAttempt counts an attempt, or refuses it where there were too many. The
// browser is kept in the attempt only when the name has signed in from it before.
func (s *Service) countAttempt(ctx context.Context, a *Attempt) (id int64, err error) {
	var over bool
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := q.LockSignIns(ctx, gen.LockSignInsParams{Name: a.Name, Source: a.Source}); err != nil {
			return err
		}
		_, err := store.Found(q.TechnicianOfBrowser(ctx, gen.TechnicianOfBrowserParams{Token: a.Browser, Name: a.Name}))
		if errors.Is(err, store.ErrNotFound) {
			a.Browser, err = "", nil
		}
		if err != nil {
			return err
		}
		n, err := q.SignInsSince(ctx,
			gen.SignInsSinceParams{Name: a.Name, Source: a.Source, Browser: a.Browser,
				Since: time.Now().Add(-attemptsWithin)})
		if err != nil {
			return err
		}
		over = n.ByBoth >= attemptsByBoth || n.BySource >= attemptsBySource || n.ByName >= attemptsByName
		if a.Browser != "" {
			over = n.ByBrowser >= attemptsByBoth
		}
		if over {
			return actor.Record(ctx, q, actor.Technician{FullName: a.Name, Source: a.Source}, "sign-in-throttled",
				a.Name,
				"After too many attempts")
		}
		id, err = q.CountSignIn(ctx, gen.CountSignInParams{Name: a.Name, Source: a.Source, Browser: a.Browser})
		return err
	})
	if err == nil && over {
		err = actor.Refuse(actor.Busy,
			"Too many failed attempts. Wait a quarter of an hour, then try again, or sign in with a browser you "+
				"have signed in with before.")
	}
	return id, err
}

// Session is a technician's session as the store keeps it.
type Session struct {
	Technician int64
	Stamp      string // what SignIn gave
	Source     string
	Agent      string // what the browser calls itself
	Browser    string // hashed token the browser is known by from now on
	Expires    time.Time
}

// StartSession begins a session, unless the account was switched off or its
// password changed meanwhile.
func (s *Service) StartSession(ctx context.Context, token string, v Session) error {
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.StartSession(ctx, gen.StartSessionParams{
			Token: token, TechnicianID: v.Technician, Stamp: v.Stamp, Source: v.Source, Agent: v.Agent,
			ExpiresAt: v.Expires,
		})
		if err == nil && n == 0 {
			err = actor.Refuse(actor.Denied, "The account was changed meanwhile. Sign in again.")
		}
		if err != nil {
			return err
		}
		return q.KnowBrowser(ctx, gen.KnowBrowserParams{Token: v.Browser, TechnicianID: v.Technician})
	})
}

// SessionTechnician finds whose session a token names; ok is false when it has
// ended, or its account was switched off or is gone.
func (s *Service) SessionTechnician(
	ctx context.Context, token string,
) (t actor.Technician, expires time.Time, ok bool, err error) {
	row, err := store.Found(s.store.SessionTechnician(ctx, token))
	if errors.Is(err, store.ErrNotFound) {
		return actor.Technician{}, time.Time{}, false, nil
	}
	return actor.Known(row.ID, row.Name, row.FullName), row.ExpiresAt, err == nil, err
}

// EndSession ends one session: somebody signs out.
func (s *Service) EndSession(ctx context.Context, token string) error {
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		row, err := store.Found(q.SessionTechnician(ctx, token))
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if _, err := q.EndSession(ctx, token); err != nil {
			return err
		}
		return errors.Join(actor.Record(ctx, q, actor.Known(row.ID, row.Name, row.FullName), "sign-out", row.Name,
			"Signed out"), tellSessions(ctx, q, row.ID))
	})
}

// endSessions ends every session of an account, live events included.
func endSessions(ctx context.Context, q *gen.Queries, technician int64) error {
	if _, err := q.EndSessions(ctx, technician); err != nil {
		return err
	}
	return tellSessions(ctx, q, technician)
}

func tellSessions(ctx context.Context, q *gen.Queries, technician int64) error {
	return actor.Publish(ctx, q, actor.Event{Topic: actor.TopicSession, ID: strconv.FormatInt(technician, 10)})
}

// SwitchAccount switches an account off, which ends its sessions, or on again.
func (s *Service) SwitchAccount(ctx context.Context, by, name string, off bool) error {
	return s.account(ctx, name, func(q *gen.Queries, row gen.Technician) error {
		if _, err := q.SwitchTechnician(ctx, gen.SwitchTechnicianParams{Name: row.Name, Off: off}); err != nil {
			return err
		}
		what, says := "account-on", "Switched on"
		if off {
			what, says = "account-off", "Switched off, and its sessions ended"
		}
		return errors.Join(endSessions(ctx, q, row.ID),
			actor.Record(ctx, q, actor.Technician{FullName: by}, what, row.Name, says))
	})
}

// EndSessions ends the sessions of an account.
func (s *Service) EndSessions(ctx context.Context, by, name string) error {
	return s.account(ctx, name, func(q *gen.Queries, row gen.Technician) error {
		return errors.Join(endSessions(ctx, q, row.ID),
			actor.Record(ctx, q, actor.Technician{FullName: by}, "sessions-ended", row.Name, "Its sessions were ended"))
	})
}

func (s *Service) account(ctx context.Context, name string, do func(*gen.Queries, gen.Technician) error) error {
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		row, err := store.Found(q.TechnicianByName(ctx, strings.ToLower(name)))
		if errors.Is(err, store.ErrNotFound) {
			return actor.Refuse(actor.Missing, "there is no account %q; lithos account list lists them", name)
		}
		if err != nil {
			return err
		}
		return do(q, row)
	})
}

// Account is one account, for whoever runs Lithos.
type Account struct {
	Name, FullName string
	Off            *time.Time // when it was switched off
	Sessions       int
}

// Accounts lists the accounts.
func (s *Service) Accounts(ctx context.Context) ([]Account, error) {
	rows, err := s.store.ListTechnicians(ctx)
	var out []Account
	for _, r := range rows {
		out = append(out, Account{r.Name, r.FullName, r.OffAt, int(r.Sessions)})
	}
	return out, err
}

// OpenSession is one session, for whoever runs Lithos.
type OpenSession struct {
	Account, Source, Agent string
	Since, Until           time.Time
}

// Sessions lists the sessions of an account, or of all when name is empty.
func (s *Service) Sessions(ctx context.Context, name string) ([]OpenSession, error) {
	rows, err := s.store.ListSessions(ctx, strings.ToLower(name))
	var out []OpenSession
	for _, r := range rows {
		out = append(out, OpenSession{r.Name, r.Source, r.Agent, r.StartedAt, r.ExpiresAt})
	}
	return out, err
}

// Acting finds who something is done for in the background. It is refused where their account is switched off: what
// they left to be done waits.
func (s *Service) Acting(ctx context.Context, id int64) (actor.Technician, error) {
	row, err := store.Found(s.store.TechnicianByID(ctx, id))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return actor.Technician{}, actor.Refuse(actor.Missing, "There is no such account.")
	case err != nil:
		return actor.Technician{}, err
	case row.OffAt != nil:
		err = actor.Refuse(actor.Conflict, "It waits: the account of %s is switched off.", row.FullName)
	}
	return actor.Known(row.ID, row.Name, row.FullName), err
}

// TechnicianByID finds who did something.
func (s *Service) TechnicianByID(ctx context.Context, id int64) (actor.Technician, error) {
	row, err := store.Found(s.store.TechnicianByID(ctx, id))
	if errors.Is(err, store.ErrNotFound) {
		return actor.Technician{}, actor.Refuse(actor.Missing, "There is no such account.")
	}
	return actor.Known(row.ID, row.Name, row.FullName), err
}
