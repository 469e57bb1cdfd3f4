package work_test

import (
	"encoding/base64"
	"slices"
	"strings"
	"testing"
	"time"

	"lithos/core/site"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/push"
	"lithos/internal/standin"
	"lithos/internal/standin/internet"
	"lithos/internal/work"
)

// told is what the provider says of a name, by its type.
func (o *office) told(owner, typ string) string {
	o.t.Helper()
	z, ok := o.devices.Internet.Zone("larkrise.example")
	require.True(o.t, ok)
	i := slices.IndexFunc(z.Record, func(r yang.Record) bool { return r.Owner == owner && r.Type == typ })
	if i < 0 {
		return ""
	}
	return z.Record[i].Data
}

// outside is a draft that changes what the world is told, and a device.
func (o *office) outside() int64 {
	o.t.Helper()
	id := o.order()
	www := entry("record", "rec-larkrise-www", "data", "203.0.113.81")
	www.Entries[0].In = "zone:zone-larkrise"
	o.edit(id, www)
	o.edit(id, entry("reservation", "res-clock", "name", "wall-clock"))
	return id
}

func (o *office) pushed(s *work.Service, id int64) *push.PushView {
	o.t.Helper()
	require.NoError(o.t, o.pushAll(s, id))
	return o.waitPush(s, id).Push
}

// What the world is told is written when the devices are ready, and read back; names of the provider's
// own stay.
func TestOutsideZoneIsWrittenWithThePush(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	id := o.outside()
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	plans := o.Pushes.Plans(d, nil).Parts
	zone := plans[len(plans)-1]
	assert.Equal(t, []string{"larkrise.example", "203.0.113.53", "Tell the world `www` A `203.0.113.81`"},
		[]string{zone.Device, zone.Holder, zone.Steps[0].Verb + " " + zone.Steps[0].Text})
	v := o.pushed(o.Service, id)
	require.Equal(t, "landed", v.State, v.Problem)
	assert.Empty(t, v.Unverified)
	assert.Equal(t, "203.0.113.81", o.told("www", "A"))
	assert.Equal(t, "10 mail.provider.example", o.told("@", "MX"))
	stages := []string{}
	for _, l := range v.Journal {
		if l.Device == "larkrise.example" {
			stages = append(stages, l.Stage+" "+l.State)
		}
	}
	assert.Equal(t, []string{"read done", "confirm done"}, stages)
	require.Eventually(t, func() bool { return o.page("kelder-bridge", 0).ZoneReading("zone-larkrise") != nil },
		5*time.Second, 20*time.Millisecond)
}

// A provider that refuses sends the devices back, before they have confirmed.
func TestRefusedZoneSendsDevicesBack(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	gw := o.devices.ByID["dev-gw-1"]
	before := gw.Running()
	o.devices.Internet.Inject(internet.Faults{Refuse: 1})
	v := o.pushed(o.Service, o.outside())
	assert.Equal(t, "failed", v.State)
	assert.Contains(t, v.Problem, "larkrise.example: Tell the world: the key may not do this")
	assert.True(t, gw.Running().Equal(before))
	assert.Equal(t, "203.0.113.80", o.told("www", "A"))
}

// A key that is not taken is told before any device confirms.
func TestWrongKeyIsToldFirst(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	o.devices.Internet.AddKey(internet.Key{Name: "lithos.larkrise", Zone: "larkrise.example", Reads: true,
		Secret: base64.StdEncoding.EncodeToString([]byte("another key, of the provider's"))})
	id := o.outside()
	v := o.pushed(o.Service, id)
	assert.Equal(t, "failed", v.State)
	assert.Contains(t, v.Problem, "does not take the key lithos.larkrise")
	for _, l := range v.Journal {
		assert.NotEqual(t, "confirm", l.Stage)
	}
}

// A device that does not confirm has the zone put back, but for what somebody else wrote meanwhile.
func TestZoneIsPutBackWithTheDevices(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	o.devices.ByID["dev-gw-1"].Inject(standin.Faults{ConfirmsFull: 99})
	v := o.pushed(o.Service, o.outside())
	assert.Equal(t, "failed", v.State)
	assert.Equal(t, "203.0.113.80", o.told("www", "A"))
	assert.True(t, slices.ContainsFunc(v.Journal, func(l push.JournalEntry) bool {
		return l.Device == "larkrise.example" && l.Stage == "return" && l.State == "done"
	}))
}

// An answer that gets lost is asked for again: what is written is not written twice. A provider that is
// silent is waited for.
func TestSilentProviderIsWaitedFor(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	o.devices.Internet.Inject(internet.Faults{LoseAnswers: 1})
	v := o.pushed(o.Service, o.outside())
	require.Equal(t, "landed", v.State, v.Problem)
	assert.Equal(t, "203.0.113.81", o.told("www", "A"))
}

// A certificate's name is proved with its own key, which is refused for anything else, and nothing of it is
// left; a key that may do more, or a CAA record of another authority, is told.
func TestCertificateIsProved(t *testing.T) {
	o := open(t)
	states := func() string {
		v, err := o.Poll.TryCertificate(t.Context(), o.mk, "kelder-bridge", "cert-edge")
		require.NoError(t, err)
		var out []string
		for _, s := range v {
			out = append(out, s.State)
		}
		assert.Empty(t, o.told("_acme-challenge.kelder", "TXT"))
		return strings.Join(out, " ")
	}
	assert.Equal(t, "pass pass pass pass pass", states())
	require.NoError(t, o.devices.Internet.Change("larkrise.example", func(z *yang.Zone) {
		z.Record = append(z.Record, yang.Record{ID: "caa", Owner: "@", Type: "CAA",
			Data: `0 issue "another.example"`, TTL: 60})
	}))
	assert.Equal(t, "pass pass pass fail pass", states())
	secret := base64.StdEncoding.EncodeToString([]byte("a key that may write everything"))
	o.devices.Internet.AddKey(internet.Key{Name: "challenge.kelder", Zone: "larkrise.example", Secret: secret})
	require.NoError(t, o.Accounts.KeepSecret(t.Context(), &site.Site{ID: "site-kelder-bridge"},
		"key-challenge-kelder", secret))
	assert.Equal(t, "pass fail fail fail pass", states())
	_, err := o.Poll.TryCertificate(t.Context(), o.mk, "kelder-bridge", "cert-nothing")
	refusal(t, err, actor.Missing, "has no such certificate")
}

// What was changed at the provider by hand is found when the zone is read, and can be written down.
func TestWhatTheWorldIsToldIsRead(t *testing.T) {
	o := open(t)
	id := o.order()
	differs := func() int {
		return slices.IndexFunc(o.page("kelder-bridge", id).Judgement.Findings,
			func(f check.Finding) bool { return f.Rule == "outside-differs" })
	}
	o.Poll.Observe(t.Context(), "site-kelder-bridge")
	require.Negative(t, differs())
	www := entry("record", "rec-larkrise-www", "data", "203.0.113.81")
	www.Entries[0].In = "zone:zone-larkrise"
	o.edit(id, www)
	require.Negative(t, differs(), "what a draft is about to tell is no difference")
	require.NoError(t, o.devices.Internet.Change("larkrise.example", func(z *yang.Zone) {
		for i := range z.Record {
			if z.Record[i].Owner == "www" {
				z.Record[i].Data = "203.0.113.99"
			}
		}
	}))
	o.Poll.Observe(t.Context(), "site-kelder-bridge")
	found := o.page("kelder-bridge", id).Judgement.Findings[differs()]
	assert.Contains(t, found.Says, "203.0.113.99")
	assert.True(t, strings.HasSuffix(found.Title, "www.larkrise.example"))
}
