package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"

	"lithos/core/site"
	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/work"
)

// signedIn is where a session keeps its technician. It is read anew with each
// request, so that a session is worth nothing once its account is switched off.
const signedIn = "signed-in"

// begun is where a session that has just begun keeps what the store is told of it.
const begun = "begun"

// newSessions are sessions in the store. There is no idle timeout: it would cost
// every request a write of its own.
func newSessions(w *work.Service, secure bool) *scs.SessionManager {
	sessions := scs.New()
	sessions.Store, sessions.Codec = sessionStore{w}, sessionCodec{}
	sessions.Lifetime = 12 * time.Hour // a shift's length
	sessions.Cookie.Name, sessions.Cookie.SameSite, sessions.Cookie.Secure = "lithos", http.SameSiteStrictMode, secure
	sessions.ErrorFunc = func(w http.ResponseWriter, _ *http.Request, err error) {
		status, says := http.StatusServiceUnavailable, "Lithos cannot look up your session at this moment. Try again."
		var refusal *actor.Refusal
		if errors.As(err, &refusal) {
			status, says = statuses[refusal.Kind], refusal.Says
		}
		raw, err := json.Marshal(problem(status, says))
		if err != nil {
			return
		}
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(status)
		_, _ = w.Write(raw)
	}
	return sessions
}

// sessionStore keeps sessions with the use cases, which end them with the account.
// They are told a hash of the token: who reads the database cannot use it.
// It implements scs.CtxStore.
type sessionStore struct{ work *work.Service }

type sessionData struct {
	Deadline   time.Time         `json:"deadline"`
	Technician *actor.Technician `json:"technician,omitempty"`
	Begun      *accounts.Session `json:"begun,omitempty"`
}

// FindCtx implements scs.CtxStore.
func (s sessionStore) FindCtx(ctx context.Context, token string) ([]byte, bool, error) {
	t, expires, ok, err := s.work.Accounts.SessionTechnician(ctx, hashed(token))
	if err != nil || !ok {
		return nil, false, err
	}
	raw, err := json.Marshal(sessionData{Deadline: expires, Technician: &t})
	return raw, err == nil, err
}

// CommitCtx implements scs.CtxStore. Only signing in changes a session.
func (s sessionStore) CommitCtx(ctx context.Context, token string, raw []byte, expires time.Time) error {
	var data sessionData
	if err := json.Unmarshal(raw, &data); err != nil || data.Begun == nil {
		return err
	}
	data.Begun.Expires = expires
	return s.work.Accounts.StartSession(ctx, hashed(token), *data.Begun)
}

// DeleteCtx implements scs.CtxStore.
func (s sessionStore) DeleteCtx(ctx context.Context, token string) error {
	return s.work.Accounts.EndSession(ctx, hashed(token))
}

// Find implements scs.Store.
func (s sessionStore) Find(token string) ([]byte, bool, error) {
	return s.FindCtx(context.Background(), token)
}

// Commit implements scs.Store.
func (s sessionStore) Commit(token string, raw []byte, expires time.Time) error {
	return s.CommitCtx(context.Background(), token, raw, expires)
}

// Delete implements scs.Store.
func (s sessionStore) Delete(token string) error { return s.DeleteCtx(context.Background(), token) }

// sessionCodec implements scs.Codec.
type sessionCodec struct{}

// Encode implements scs.Codec.
func (sessionCodec) Encode(deadline time.Time, values map[string]any) ([]byte, error) {
	data := sessionData{Deadline: deadline}
	if v, ok := values[begun].(accounts.Session); ok {
		data.Begun = &v
	}
	return json.Marshal(data)
}

// Decode implements scs.Codec.
func (sessionCodec) Decode(raw []byte) (time.Time, map[string]any, error) {
	var data sessionData
	if err := json.Unmarshal(raw, &data); err != nil {
		return time.Time{}, nil, err
	}
	values := map[string]any{}
	if data.Technician != nil {
		values[signedIn] = *data.Technician
	}
	return data.Deadline, values, nil
}

type contextKey struct{}

// who is the technician a request is made by.
func who(ctx context.Context) actor.Technician {
	t, _ := ctx.Value(contextKey{}).(actor.Technician)
	return t
}

const notSignedIn = "You are not signed in, or were away too long. Sign in; what you typed is still here."

// signedInOnly admits requests of a session that somebody signed in to.
func (s *server) signedInOnly(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		t, ok := s.sessions.Get(ctx.Context(), signedIn).(actor.Technician)
		if !ok {
			_ = huma.WriteErr(api, ctx, http.StatusUnauthorized, notSignedIn)
			return
		}
		t.Source = ctx.RemoteAddr()
		next(huma.WithValue(ctx, contextKey{}, t))
	}
}

// browserCookie names the browser to the throttle of sign-ins. It opens nothing.
const browserCookie = "lithos-browser"

func hashed(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// signInRequest is a sign-in with where it comes from.
type signInRequest struct {
	Body struct {
		Name     string `json:"name" maxLength:"100"`
		Password string `json:"password" maxLength:"200"`
	}
	Browser string `cookie:"lithos-browser"`
	Agent   string `header:"User-Agent"`
	remote  string
}

// Resolve implements huma.Resolver: it notes the client's address.
func (r *signInRequest) Resolve(ctx huma.Context) []error {
	r.remote = ctx.RemoteAddr()
	return nil
}

// maxAgent bounds what is kept of a browser's name for itself, in octets.
const maxAgent = 200

type signInAnswer struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   struct {
		actor.Technician
		Order int64 `json:"order,omitempty" doc:"the open work order they opened or edited last, on whichever machine"`
	}
}

func (s *server) signIn(ctx context.Context, in *signInRequest) (*signInAnswer, error) {
	known := ""
	if in.Browser != "" {
		known = hashed(in.Browser)
	}
	t, stamp, err := s.work.Accounts.SignIn(ctx,
		accounts.Attempt{Name: in.Body.Name, Password: in.Body.Password, Source: in.remote, Browser: known})
	if err == nil {
		err = s.sessions.RenewToken(ctx) // a session id from before signing in is worth nothing
	}
	if err != nil {
		return nil, s.problem(err)
	}
	if in.Browser == "" {
		in.Browser = rand.Text()
	}
	s.sessions.Put(ctx, begun, accounts.Session{
		Technician: t.ID, Stamp: stamp, Source: in.remote, Agent: site.Printable(in.Agent, maxAgent),
		Browser: hashed(in.Browser),
	})
	cookie := http.Cookie{
		Name: browserCookie, Value: in.Browser, Path: prefix + "/session", MaxAge: 180 * 24 * 3600, HttpOnly: true,
		Secure: s.secure, SameSite: http.SameSiteStrictMode,
	}
	out := &signInAnswer{Cookie: cookie}
	out.Body.Technician = t
	if out.Body.Order, err = s.work.Drafts.LastWorkedOn(ctx, t.ID); err != nil {
		return nil, s.problem(err)
	}
	return out, nil
}
