package poll

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/actor"
	"lithos/internal/zonetransfer"
)

// Proved is one step of trying whether a certificate could be had.
type Proved struct {
	Title string `json:"title"`
	State string `json:"state" enum:"pass,fail,skip,wait"`
	Says  string `json:"says"`
}

// The states of a step.
const (
	provedPass = "pass"
	provedFail = "fail"
	provedSkip = "skip"
	provedWait = "wait" // it will hold once somebody has forgotten what they held
)

// TryCertificate proves a name as who asks for a certificate does, from the site as it stands: its key writes
// the challenge, is refused for anything else, an authority looks the challenge up from outside, and the
// challenge is taken away again.
func (s *Service) TryCertificate(ctx context.Context, by actor.Technician, code, id string) ([]Proved, error) {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		return nil, err
	}
	sc, _, _, err := s.sites.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	c, ok := sc.Certificate(id)
	if !ok {
		return nil, actor.Refuse(actor.Missing, "The site as it stands has no such certificate; push it first.")
	}
	z, ok := sc.ZoneOf(c.Challenge(), site.Outside)
	if !ok || !z.Server.Address.IsValid() {
		return nil, actor.Refuse(actor.Conflict,
			"No outside zone with a server holds %s; name its server in the form of the zone.", c.Challenge())
	}
	if c.Key == "" {
		return nil, actor.Refuse(actor.Conflict, "The certificate names no key; type it in its form.")
	}
	server, err := s.devices.Holder(ctx, sc.Site.ID, z.KeyedBy(c.Key, c.KeyAlgorithm, c.Secret))
	if err != nil {
		return nil, actor.Refuse(actor.Conflict, "%s.", err)
	}
	p := prover{s, server, *c, nil}
	p.prove(ctx)
	says := "tried whether " + c.Name + " could be proved"
	return p.steps, actor.Record(ctx, s.store.Queries, by, "certificate", code, says)
}

type prover struct {
	*Service
	server zonetransfer.Server
	site.Certificate
	steps []Proved
}

func (p *prover) step(title, state, says string) {
	p.steps = append(p.steps, Proved{title, state, says})
}

// cleanUpWithin is how long taking a challenge away may take, whatever became of the question.
const cleanUpWithin = 10 * time.Second

func (p *prover) prove(ctx context.Context) {
	owner, _ := zone.Relative(p.Challenge(), p.server.Zone)
	value := rand.Text()
	record := func(owner, typ, data string) []zone.Record {
		return []zone.Record{{Owner: owner, Type: typ, Data: data, TTL: 60}}
	}
	challenge := record(owner, "TXT", `"`+value+`"`)
	const writes = "The key writes the challenge"
	if err := p.server.Add(ctx, challenge); err != nil {
		p.step(writes, provedFail, sentence(err))
		return
	}
	p.step(writes, provedPass, p.Challenge()+" TXT")
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUpWithin)
		defer cancel()
		const title = "The challenge is taken away again"
		if err := p.server.Remove(ctx, challenge); err != nil {
			p.step(title, provedFail, sentence(err))
			return
		}
		p.step(title, provedPass, "Nothing of the trial is left")
	}()
	p.narrow(ctx, "lithos-trial-"+rand.Text()[:8], "TXT", `"trial"`)
	p.narrow(ctx, owner, "A", "192.0.2.1")
	p.ask(ctx, value)
}

// narrow sees that the key is refused for a record that is not its own.
func (p *prover) narrow(ctx context.Context, owner, typ, data string) {
	other := []zone.Record{{Owner: owner, Type: typ, Data: data, TTL: 60}}
	title := "It may write nothing else: " + zone.Absolute(owner, p.server.Zone) + " " + typ
	switch err := p.server.Add(ctx, other); {
	case errors.As(err, new(*zonetransfer.RefusedError)):
		p.step(title, provedPass, "Refused")
	case err != nil:
		p.step(title, provedFail, sentence(err))
	default:
		p.step(title, provedFail, "It was taken: the key is too wide. What was written is taken away again")
		_ = p.server.Remove(ctx, other)
	}
}

// ask has an authority look the challenge up from outside.
func (p *prover) ask(ctx context.Context, value string) {
	const title = "An authority would issue the certificate"
	if p.CertificateAuthority == "" {
		p.step(title, provedSkip, "Lithos is told no authority to ask (serve --certificate-authority)")
		return
	}
	issues, says, err := p.wouldIssue(ctx, value)
	switch {
	case err != nil:
		p.step(title, provedFail, sentence(err))
	case issues:
		p.step(title, provedPass, says)
	default:
		p.step(title, provedFail, says)
	}
}

func (p *prover) wouldIssue(ctx context.Context, value string) (issues bool, says string, err error) {
	ctx, cancel := context.WithTimeout(ctx, cleanUpWithin)
	defer cancel()
	body, err := json.Marshal(map[string]string{"name": p.Name, "value": value})
	if err != nil {
		return false, "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, p.CertificateAuthority+"/would-issue",
		bytes.NewReader(body))
	if err != nil {
		return false, "", err
	}
	req.Header.Set("Content-Type", "application/json")
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true,
		DialContext: p.devices.Rule().ToDevices(cleanUpWithin).DialContext}}
	reply, err := client.Do(req)
	if err != nil {
		return false, "", errors.New("the authority does not answer")
	}
	defer func() { _ = reply.Body.Close() }()
	raw, err := io.ReadAll(io.LimitReader(reply.Body, 1<<16))
	var verdict struct {
		Issues bool
		Says   string
	}
	if err != nil || reply.StatusCode != http.StatusOK || json.Unmarshal(raw, &verdict) != nil {
		return false, "", fmt.Errorf("the authority answers %s", reply.Status)
	}
	return verdict.Issues, site.Printable(verdict.Says, 500), nil
}

// sentence is an error as one, without the full stop at its end.
func sentence(err error) string {
	says := strings.TrimSuffix(err.Error(), ".")
	if says == "" {
		return "It failed"
	}
	return strings.ToUpper(says[:1]) + says[1:]
}
