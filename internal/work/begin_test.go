package work_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/poll"
	"lithos/internal/push"
	"lithos/internal/sites"
	"lithos/internal/standin"
)

// A site is begun beside the customer's others, with a block that nobody uses; wrong values are named.
func TestSiteIsBegun(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	known, err := o.Sites.Beginning(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Europe/London", known.TimeZone)
	var larkrise sites.KnownCustomer
	for _, c := range known.Customers {
		if c.Name == "Larkrise Veterinary" {
			larkrise = c
		}
	}
	assert.Equal(t, []string{"Farm-visit van", "Hallin Road surgery", "Kelder Bridge surgery", "Moss End hospital"},
		larkrise.Sites)
	assert.Equal(t, "10.84.80.0/20", larkrise.Block)
	_, err = o.Sites.AddSite(ctx, o.mk, sites.NewSite{Name: "x", Code: "Not A Code", Block: "10.84.64.7/20",
		TimeZone: "Mars/North",
		Domain:   "a..b", Standard: "std-nothing"})
	var r *actor.Refusal
	require.ErrorAs(t, err, &r)
	var fields []string
	for _, f := range r.Fields {
		fields = append(fields, f.Field)
	}
	assert.ElementsMatch(t, []string{"customer", "code", "block", "timeZone", "domain", "standard"}, fields)
	_, err = o.Sites.AddSite(ctx, o.mk, sites.NewSite{Customer: larkrise.ID, Name: "Kelder  Bridge",
		Code:  "kelder-bridge",
		Block: larkrise.Block, TimeZone: known.TimeZone})
	refusal(t, err, actor.Invalid, "Kelder Bridge surgery has the code")

	code, err := o.Sites.AddSite(ctx, o.mk, sites.NewSite{Customer: larkrise.ID, Name: "The second van",
		Block:    larkrise.Block,
		TimeZone: known.TimeZone, Standard: larkrise.Standard})
	require.NoError(t, err)
	assert.Equal(t, "the-second-van", code)
	doc, err := o.Sites.Export(ctx, code)
	require.NoError(t, err)
	assert.Equal(t, "Larkrise Veterinary", doc.Customer.Name)
	assert.NotEmpty(t, doc.Standard.Windows, "it follows the standard as the others do")
	again, err := o.Sites.Beginning(ctx)
	require.NoError(t, err)
	for _, c := range again.Customers {
		if c.ID == larkrise.ID {
			assert.Equal(t, "10.84.96.0/20", c.Block)
		}
	}
}

// A site that is put away is on no list but its own, keeps its history, and comes back as it was. One with work under
// way stays.
func TestSiteIsPutAway(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	id := o.at("the-garret")
	refusal(t, o.Sites.Archive(ctx, o.mk, "the-garret", true), actor.Conflict, "has an open work order")
	err := o.Drafts.Drop(ctx, o.mk, id, o.version(id))
	require.NoError(t, err)
	before, err := o.Sites.Sites(ctx, false)
	require.NoError(t, err)
	require.NoError(t, o.Sites.Archive(ctx, o.mk, "the-garret", true))
	refusal(t, o.Sites.Archive(ctx, o.mk, "the-garret", true), actor.Conflict, "archived already")
	now, err := o.Sites.Sites(ctx, false)
	require.NoError(t, err)
	assert.Len(t, now, len(before)-1)
	away, err := o.Sites.Sites(ctx, true)
	require.NoError(t, err)
	require.Len(t, away, 1)
	assert.Equal(t, "the-garret", away[0].Code)
	_, err = o.Drafts.OpenOrder(ctx, o.mk, "the-garret", "Work", "")
	refusal(t, err, actor.Conflict, "is archived")
	_, err = o.Sites.AddSite(ctx, o.mk, sites.NewSite{Customer: "Somebody", Name: "The Garret", Block: "10.1.0.0/20",
		TimeZone: "Europe/London"})
	refusal(t, err, actor.Invalid, "an archived site has the code")
	require.NoError(t, o.Sites.Archive(ctx, o.mk, "the-garret", false))
	refusal(t, o.Sites.Archive(ctx, o.mk, "the-garret", false), actor.Conflict, "is not archived")
	now, err = o.Sites.Sites(ctx, false)
	require.NoError(t, err)
	assert.Len(t, now, len(before))
}

// A device is reached once its certificate was compared and it has let Lithos in; nothing is kept before. The
// password is replaced, shared by another device, and forgotten with the rest.
func TestDeviceIsReached(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	const code, id, siteID = "the-garret", "dev-garret-rt", "site-the-garret"
	garret := o.devices.ByID[id]
	access, err := o.Store.Access(ctx, siteID)
	require.NoError(t, err)
	_, password, err := o.Accounts.Opened(access[0])
	require.NoError(t, err)
	require.NoError(t, o.Poll.ForgetAccess(ctx, o.mk, code, id))
	refusal(t, o.Poll.ForgetAccess(ctx, o.mk, code, id), actor.Missing, "does not reach")

	_, err = o.Poll.Greet(ctx, "https://127.0.0.1:1")
	refusal(t, err, actor.Invalid, "no device answers over TLS at 127.0.0.1:1")
	shown, err := o.Poll.Greet(ctx, strings.TrimPrefix(garret.URL, "https://"))
	require.NoError(t, err)
	assert.Equal(t, poll.Greeted{Fingerprint: poll.Colons(garret.Fingerprint), URL: garret.URL}, shown)
	good := poll.Reaching{URL: garret.URL, Fingerprint: shown.Fingerprint, Account: "lithos", Password: password}
	for says, change := range map[string]func(*poll.Reaching){
		"type its password":              func(r *poll.Reaching) { r.Password = "" },
		"fetch it from the device":       func(r *poll.Reaching) { r.Fingerprint = "zz" },
		"another certificate":            func(r *poll.Reaching) { r.Fingerprint = poll.Colons(make([]byte, 32)) },
		"account or password is wrong":   func(r *poll.Reaching) { r.Password = "wrong" },
		"only https is used":             func(r *poll.Reaching) { r.URL = "http://10.0.0.1" },
		"he device does not answer":      func(r *poll.Reaching) { r.URL = "https://127.0.0.1:1" },
		"type the account to sign in wi": func(r *poll.Reaching) { r.Account, r.Like = "", "dev-nothing" },
	} {
		bad := good
		change(&bad)
		_, err := o.Poll.Introduce(ctx, o.mk, code, id, bad)
		require.ErrorContains(t, err, says)
		require.ErrorContains(t, o.Poll.KeepAccess(ctx, o.mk, code, id, bad), says)
	}
	none, err := o.Store.Access(ctx, siteID)
	require.NoError(t, err)
	assert.Empty(t, none, "nothing was kept")
	said, err := o.Poll.Introduce(ctx, o.mk, code, id, good)
	require.NoError(t, err)
	assert.Empty(t, said.Misfit)
	assert.Empty(t, said.Elsewhere, "nothing else is recorded there")
	assert.Contains(t, said.Interfaces, "lan 192.168.211.1/24")
	assert.NotContains(t, said.Can, poll.Ability{What: "outside names"})
	require.NoError(t, o.Poll.KeepAccess(ctx, o.mk, code, id, good))
	twice, err := o.Poll.Introduce(ctx, o.mk, "quill-street", "dev-quill-rt", good)
	require.NoError(t, err)
	assert.Equal(t, []string{"rt-garret of The Garret home lab"}, twice.Elsewhere, "56: before anything is kept")
	assert.Equal(t, "rt-garret", twice.OwnName, "56: it calls itself otherwise than the device it is taken for")
	assert.Empty(t, said.OwnName)
	require.NoError(t, o.Poll.KeepAccess(ctx, o.mk, "quill-street", "dev-quill-rt", good))
	beside, err := o.Store.Beside(ctx, "site-quill-street", "")
	require.NoError(t, err)
	assert.Equal(t, []string{"rt-garret of The Garret home lab"}, beside.Elsewhere["dev-quill-rt"],
		"62: by its name, not its id")
	same := good
	same.Account, same.Password = "", ""
	require.NoError(t, o.Poll.KeepAccess(ctx, o.mk, code, id, same), "the one there is")
	kept, err := o.Store.Access(ctx, siteID)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, "lithos", kept[0].Account)
	assert.NotContains(t, string(kept[0].Sealed), password)
	refusal(t, o.Poll.KeepAccess(ctx, o.mk, code, "dev-nothing", good), actor.Missing, "no such device")
}

// A site that others built is read from its devices into a draft, as one step; the push after it changes nothing on
// them. What cannot be read is listed, and a device that is silent ends it with nothing changed.
func TestSiteIsTakenOver(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	run(t, o.Service)
	was := scenario.Site("the-yard")
	code, err := o.Sites.AddSite(ctx, o.mk, sites.NewSite{Customer: "Heron Ferry", Name: "A yard like it",
		Block:    "10.97.0.0/20",
		TimeZone: "Europe/London"})
	require.NoError(t, err)
	id := o.at(code)
	refusalOf := func() error { _, err := o.TakeOver(ctx, o.mk, id, o.version(id)); return err }
	refusal(t, refusalOf(), actor.Conflict, "reaches no device")
	access, err := o.Store.Access(ctx, "site-the-yard")
	require.NoError(t, err)
	held := map[string]yang.Config{}
	for _, d := range was.Devices {
		name, kind := d.Name, d.Kind
		if d.ID == "dev-yard-gw" {
			name, kind = "router-1", site.Server // 56: typed before anybody had seen it
		}
		c := entry("device", "", "name", name, "kind", kind)
		c.Version = o.version(id)
		edited, err := o.Drafts.Edit(ctx, o.mk, id, c, nil)
		require.NoError(t, err)
		account, password, err := o.Accounts.Opened(*order.On(access, d.ID))
		require.NoError(t, err)
		device := o.devices.ByID[d.ID]
		held[d.ID] = device.Running()
		require.NoError(t, o.Poll.KeepAccess(ctx, o.mk, code, site.ParseRef(edited.Made).ID,
			poll.Reaching{URL: device.URL,
				Fingerprint: poll.Colons(device.Fingerprint), Account: account, Password: password, Order: id}))
	}
	o.devices.ByID["dev-yard-gw"].Inject(standin.Faults{Unreachable: true})
	refusal(t, refusalOf(), actor.Conflict, "Nothing was read")
	o.devices.ByID["dev-yard-gw"].Inject(standin.Faults{})
	taken, err := o.TakeOver(ctx, o.mk, id, o.version(id))
	require.NoError(t, err)
	assert.Len(t, taken.Read, len(was.Devices))
	assert.Equal(t, o.version(id), taken.Version)
	d, err := o.Drafts.Draft(ctx, id)
	require.NoError(t, err)
	assert.Len(t, d.Doc().Networks, len(was.Networks))
	assert.Len(t, d.Doc().Reservations, len(was.Reservations))
	assert.Len(t, d.Steps, len(was.Devices)+1, "reading is one step")
	require.Len(t, taken.Proposed, 2, "56: its own name and kind")
	for _, p := range taken.Proposed {
		_, err := o.Drafts.Edit(ctx, o.mk, id, draft.Change{Version: o.version(id), Edits: p.Edits}, nil)
		require.NoError(t, err, p.What)
	}
	again, err := o.TakeOver(ctx, o.mk, id, o.version(id))
	require.NoError(t, err)
	assert.Zero(t, again.Steps)
	assert.Empty(t, again.Proposed)
	assert.Equal(t, o.version(id), again.Version)
	p := o.pushed(o.Service, id)
	require.Equal(t, "landed", p.State, p.Problem)
	for _, one := range was.Devices {
		now := o.devices.ByID[one.ID].Running()
		assert.True(t, now.DHCP.Pool != nil == (held[one.ID].DHCP.Pool != nil))
		for _, part := range [][2]any{{held[one.ID].Interfaces, now.Interfaces}, {held[one.ID].DHCP, now.DHCP},
			{held[one.ID].Relays, now.Relays}, {held[one.ID].Resolver.Settings, now.Resolver.Settings}} {
			assert.Equal(t, part[0], part[1], "%s holds what it held", one.Name)
		}
	}
}

// Any two revisions are compared in words, there and back; any is brought back as a work order, which lands like any
// other.
func TestRevisionIsBroughtBack(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	run(t, o.Service)
	const code = "the-garret"
	id := o.at(code)
	o.edit(id, entry("pool", "pool-garret", "ranges", "100-150"))
	o.edit(id, draft.Change{Remove: "reservation:res-garret-nas"})
	o.edit(id, entry("zone", "zone-garret", "ttl", "300"))
	landed := o.pushed(o.Service, id)
	require.Equal(t, "landed", landed.State, "%v", landed.Journal)
	there, err := o.Sites.Compare(ctx, code, 1, 2)
	require.NoError(t, err)
	back, err := o.Sites.Compare(ctx, code, 2, 1)
	require.NoError(t, err)
	assert.Len(t, there.Words, 3)
	assert.Len(t, back.Words, 3)
	says := strings.Join(there.Words, "\n")
	for _, want := range []string{"pool Garret", "Remove reservation nas", "300"} {
		assert.Contains(t, says, want)
	}
	history, err := o.Sites.Ownership(ctx, code, "192.168.211.20")
	require.NoError(t, err)
	spans := history.Recorded
	require.Len(t, spans, 2)
	assert.Empty(t, spans[0].Owners)
	assert.Equal(t, []string{"nas, reserved for 00:00:5e:00:53:c0"}, spans[1].Owners)
	_, err = o.Sites.Ownership(ctx, code, "two words")
	refusal(t, err, actor.Invalid, "type an address, a prefix or a name")
	same, err := o.Sites.Compare(ctx, code, 2, 2)
	require.NoError(t, err)
	assert.Empty(t, same.Words)
	_, err = o.Sites.Compare(ctx, code, 1, 9)
	refusal(t, err, actor.Missing, "has the revisions 1 to 2")
	_, err = o.BringBack(ctx, o.mk, code, 2)
	refusal(t, err, actor.Conflict, "is what it was")

	again, err := o.BringBack(ctx, o.mk, code, 1)
	require.NoError(t, err)
	require.Equal(t, "landed", o.pushed(o.Service, again).State)
	doc, err := o.Sites.Export(ctx, code)
	require.NoError(t, err)
	assert.Equal(t, scenario.Site(code), doc)

	record, err := o.Record(ctx, again)
	require.NoError(t, err)
	text := record.Markdown()
	raw, err := record.PDF()
	require.NoError(t, err)
	assert.Equal(t, "%PDF-", string(raw[:5]))
	for _, want := range []string{"# " + order.Name(again) + " Bring back revision 1", "| Site | The Garret home lab |",
		"## What rt-garret is told",
		"## Rehearsed", "## Pushed", "✓ lease", "Pushed, verified and landed"} {
		assert.Contains(t, text, want)
	}
}

// A site, or all of a customer, goes into a spreadsheet, and who took it away is written down.
func TestSheetIsTakenAway(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	one, err := o.Sites.Sheet(ctx, o.mk, "kelder-bridge", "addresses", false, false)
	require.NoError(t, err)
	all, err := o.Sites.Sheet(ctx, o.mk, "kelder-bridge", "addresses", true, false)
	require.NoError(t, err)
	assert.NotContains(t, string(one), "Moss End")
	assert.Contains(t, string(all), "Moss End")
	assert.NotContains(t, string(all), "Quill Street")
	_, err = o.Sites.Sheet(ctx, o.mk, "kelder-bridge", "anything", false, false)
	refusal(t, err, actor.Invalid, "choose addresses")
	told, err := o.Accounts.Audited(ctx, time.Time{}, "site-exported", "", "", 10)
	require.NoError(t, err)
	assert.Len(t, told, 2)
}

// One account serves devices of several sites of a customer: it is replaced once for all of them, and only when
// each lets it in. It is no account for another customer's devices.
func TestOneAccountForSeveralDevices(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	reach := func(code, device string) poll.Reaching {
		d := o.devices.ByID[device]
		return poll.Reaching{URL: d.URL, Fingerprint: poll.Colons(d.Fingerprint)}
	}
	other := reach("hallin-road", "dev-hallin-gw")
	other.Like = "site-kelder-bridge/dev-gw-1"
	err := o.Poll.KeepAccess(ctx, o.mk, "hallin-road", "dev-hallin-gw", other)
	require.ErrorContains(t, err, "type it", "it was never used there")
	other.Password = o.passwordOf("site-kelder-bridge", "dev-gw-1")
	err = o.Poll.KeepAccess(ctx, o.mk, "hallin-road", "dev-hallin-gw", other)
	require.ErrorContains(t, err, "password is wrong", "each stand-in has a password of its own")
	o.devices.ByID["dev-hallin-gw"].SetPassword(o.passwordOf("site-kelder-bridge", "dev-gw-1"))
	require.NoError(t, o.Poll.KeepAccess(ctx, o.mk, "hallin-road", "dev-hallin-gw", other))
	kept, err := o.Poll.KeptAccounts(ctx, "hallin-road")
	require.NoError(t, err)
	shared := slices.IndexFunc(kept, func(k poll.KeptAccount) bool { return len(k.At) == 2 })
	require.GreaterOrEqual(t, shared, 0, "%v", kept)

	fresh := reach("hallin-road", "dev-hallin-gw")
	fresh.Account, fresh.Password, fresh.All = "lithos", "slate-and-rain", true
	o.devices.ByID["dev-hallin-gw"].SetPassword(fresh.Password)
	require.ErrorContains(t, o.Poll.KeepAccess(ctx, o.mk, "hallin-road", "dev-hallin-gw", fresh), "dev-gw-1 of Kelder")
	o.devices.ByID["dev-gw-1"].SetPassword(fresh.Password)
	require.NoError(t, o.Poll.KeepAccess(ctx, o.mk, "hallin-road", "dev-hallin-gw", fresh))
	assert.Equal(t, "slate-and-rain", o.passwordOf("site-kelder-bridge", "dev-gw-1"))
	moved := reach("hallin-road", "dev-hallin-gw")
	require.NoError(t, o.Poll.KeepAccess(ctx, o.mk, "hallin-road", "dev-hallin-gw", moved), "the one there is")
	assert.Equal(t, "slate-and-rain", o.passwordOf("site-hallin-road", "dev-hallin-gw"))

	stranger := reach("the-yard", "dev-yard-gw")
	stranger.Like = "site-kelder-bridge/dev-gw-1"
	require.ErrorContains(t, o.Poll.KeepAccess(ctx, o.mk, "the-yard", "dev-yard-gw", stranger), "another customer")
}

// passwordOf is the password that a device is reached with.
func (o *office) passwordOf(siteID, device string) string {
	access, err := o.Store.Access(o.t.Context(), siteID)
	require.NoError(o.t, err)
	_, password, err := o.Accounts.Opened(*order.On(access, device))
	require.NoError(o.t, err)
	return password
}

// The fixes that tell no known client anything else are made in one step; others are left to somebody.
func TestSafeFixes(t *testing.T) {
	o := open(t)
	id := o.at("kelder-bridge")
	before, err := o.SafeFixes(t.Context(), o.mk, id, o.version(id), false)
	require.NoError(t, err)
	doc := scenario.Site("kelder-bridge")
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	require.Equal(t, len(d.Scene.Findings), len(before.Fixes)+before.Left)
	o.edit(id, draft.Change{Entries: []edit.Entry{{Kind: "exclusion", New: true, In: "pool:pool-clinic",
		Fields: map[string]string{"range": "10.84.16.1", "reason": "nothing"}}}})
	found, err := o.SafeFixes(t.Context(), o.mk, id, o.version(id), true)
	require.NoError(t, err)
	assert.Len(t, found.Fixes, len(before.Fixes)+1, "%v", found)
	assert.Equal(t, o.version(id), found.Version)
	d, err = o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, d.Steps, 2)
	assert.Len(t, d.Doc().Reservations, len(doc.Reservations))
}

// A site is printed on a sheet: whom to ask, and everything that has an address.
func TestASiteOnOneSheet(t *testing.T) {
	o := openAll(t)
	for _, name := range scenario.Names {
		p, err := o.Card(t.Context(), name)
		require.NoError(t, err)
		raw, err := p.PDF()
		require.NoError(t, err, name)
		assert.Equal(t, "%PDF-", string(raw[:5]))
		text := p.Markdown()
		doc := scenario.Site(name)
		for _, n := range doc.Networks {
			assert.Contains(t, text, n.Prefix.String())
		}
		for _, r := range doc.Reservations {
			assert.Contains(t, text, r.Address.String())
		}
	}
	p, err := o.Card(t.Context(), "kelder-bridge")
	require.NoError(t, err)
	assert.Contains(t, p.Markdown(), "- Oren Pike, holds the key of the cupboard, 01632 960027")
}

// A sheet says what clients get: the lease time that the pool gives, not the one of a level it hides, and each pool's
// where they differ.
func Test41TheSheetSaysWhatClientsGet(t *testing.T) {
	o := open(t)
	row := func(network string) string {
		p, err := o.Card(t.Context(), "kelder-bridge")
		require.NoError(t, err)
		for _, line := range strings.Split(p.Markdown(), "\n") {
			if strings.HasPrefix(line, "| "+network+" ") && strings.Contains(line, "/") {
				return line
			}
		}
		return ""
	}
	run(t, o.Service)
	id := o.order()
	o.edit(id, draft.Change{Entries: []edit.Entry{{Kind: site.KindOption, ID: "51", In: "pool:pool-imaging",
		Fields: map[string]string{"value": "30 minutes"}}}})
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Contains(t, row("Imaging"), "| 30 minutes |")

	// A runbook counts its steps through all devices, as the order's page does.
	o.exec("DELETE FROM device_access WHERE device_id IN ('dev-sw-core', 'dev-sw-ward')")
	id = o.order()
	for _, one := range [][2]string{{"dev-sw-core", "if-sw-core-mgmt"}, {"dev-sw-ward", "if-sw-ward-mgmt"}} {
		c := entry("interface", one[1], "permits", "ping")
		c.Entries[0].In = "device:" + one[0]
		o.edit(id, c)
	}
	before, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, o.pushAll(o.Service, id))
	p := o.pushUntil(o.Service, id, "the runbook", func(p *push.PushView) bool { return p.State == "byhand" })
	var numbers []int
	for _, l := range p.Hand {
		if l.Part == "do" {
			numbers = append(numbers, l.Number)
		}
	}
	assert.Equal(t, []int{before.Plans[0].First, before.Plans[1].First}, numbers)
	page, err := o.Runbook(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, page.Markdown(), `\[ \] 2`)
}
