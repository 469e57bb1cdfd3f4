package browser

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/core/yang"
)

const asked = `want => document.querySelector('section[aria-label=Ask]')?.innerText.includes(want)`

// names opens the names of a site in a new work order.
func (a *app) names(t *testing.T, code, query string) *tab {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), code, "Names", "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/%s?order=%d&face=names&%s", code, order, query))
	b.until("the draft on the page", `() => [
		'footer[aria-label="Open work order"]', 'main h1', 'section[aria-label=Ask]',
	].every(part => document.querySelector(part) !== null)`)
	return b
}

// cell is the cell of the list of names that says a text.
func (b *tab) cell(text string) {
	b.Helper()
	b.until("the cell "+text, `text => {
		const e = [...document.querySelectorAll('[data-cell]')].find(e => e.innerText.trim() === text)
		e?.focus()
		return !!e && document.activeElement === e
	}`, text)
}

// The list of names is written in place, by keyboard alone: a new line at the end, a value changed, a
// wrong one refused with what to type instead; what the draft changes in answers is listed.
func namesInPlace(t *testing.T, a *app) {
	b := a.names(t, "kelder-bridge", "")
	b.see("kelder.larkrise.example")
	b.axe("names")
	b.cell("ap-1")
	b.keys(input.End, input.Enter)
	b.focus("the field of the new name", `e => e.placeholder === 'label-prn'`)
	b.typed("pacs")
	b.keys(input.Tab)
	b.focus("the field of its value", `e => e.placeholder?.startsWith('10.84')`)
	b.typed("10.84.20.999")
	b.keys(input.Enter)
	b.see("is not an address; type for example 10.84.20.40")
	b.axe("a wrong value")
	b.keys(input.Escape)
	b.focus("the new name's value again", `e => e.dataset.cell?.endsWith('/1')`)
	b.keys(input.Enter)
	b.focus("its field, with what was typed", `e => e.value === '10.84.20.999'`)
	b.typed("10.84.20.12")
	b.keys(input.Enter)
	b.see("Before and after")
	b.until("what the draft answers", `() => document.querySelector('section[aria-label="Before and after"]')
		?.innerText.includes('pacs.kelder.larkrise.example')`)
	// A reservation's own name is changed where it is listed, and its field is the reservation's.
	b.cell("clock")
	b.keys(input.Enter)
	b.focus("the field of a name", `e => e.value === 'clock'`)
	b.typed("wall clock")
	b.keys(input.Enter)
	b.see("is not a name")
	b.click("[role=alert] button", "^Write wall-clock$") // 60: the name that may be meant
	b.focus("the field with it", `e => e.value === 'wall-clock'`)
	b.axe("the offered name")
	b.keys(input.Enter)
	b.until("the new name in the list", `() => [...document.querySelectorAll('[data-cell]')]
		.some(e => e.innerText.trim().startsWith('wall-clock'))`)
	order := b.order()
	d, err := a.Work.Drafts.Draft(t.Context(), order)
	require.NoError(t, err)
	r, _ := d.Doc().Reservation("res-clock")
	assert.Equal(t, "wall-clock", r.Name)
	z, _ := d.Doc().Zone("zone-kelder")
	assert.True(t, slices.ContainsFunc(z.Records, func(r *site.Record) bool {
		return r.Owner == "pacs" && r.Type == "A" && r.Data == "10.84.20.12"
	}))
}

// Many names are pasted at once, each line with what becomes of it.
func pastingNames(t *testing.T, a *app) {
	b := a.names(t, "moss-end", "")
	b.click("button", "^Paste many$")
	b.fill("Lines", "10.84.48.20 scans scanner\nfiles,CNAME,scans\nno record at all\n")
	b.click("button", "^Preview$")
	b.see("2 lines change something, 1 is refused and left out")
	b.axe("names pasted")
	b.click("button", "^Apply 2 lines$")
	b.see("scanner")
	b.see("files")
}

// Live, the devices themselves are asked, with the time that took; the other layers are listed.
func namesLive(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/sites/kelder-bridge?face=names&who=network:net-clinic&name=edge&against=live")
	b.until("the answer of the device", asked, "10.84.16.20")
	b.until("how long it took", asked, "asked again in")
	b.picture("names")
	b.click("button", "^Resolver status$")
	b.see("The resolver of gw-1")
	b.click("[role=dialog] button", "^Write them down for 5 minutes$")
	b.see("written down until")
	b.axe("a resolver looked into")
	b.keys(input.Escape)
	b.until("the window gone", `() => !document.querySelector('[role=dialog]')`)
	b.press(input.KeyQ)
	b.focus("what they type", `e => e.id === 'ask-name'`)
	b.typed("shop.out.example")
	b.keys(input.Enter)
	b.until("an answer of the internet", asked, "203.0.113.90")
	b.click("button", "^Resolver status$")
	b.until("the question and the kept answer", `() => document.querySelector('[role=dialog]')
		?.innerText.split('shop.out.example').length > 2`)
	b.click("[role=dialog] button", "^Flush the cache$")
	b.see("0 kept answers")
	b.keys(input.Escape)
	b.until("the window gone", `() => !document.querySelector('[role=dialog]')`)
	for _, layer := range []string{"Leases", "Reverse", "Other servers", "Not forwarded", "Forwarders"} {
		b.click("aside[aria-label=Layers] button", "^▲?\\s*(warning)?\\s*"+layer)
		b.until(layer, `want => document.querySelector('main h1')?.innerText === want`, layer)
		b.axe(layer)
	}
	b.click("aside[aria-label=Layers] button", "larkrise.example\\s+read from")
	b.see("seen from the internet")
	b.axe("a zone outside")
	b.click("button", "^Addresses$")
	b.until("the ruler", `() => !!document.querySelector('[aria-roledescription=ruler]')`)
}

// What the world is told stands beside what the document says; a certificate's name is proved, a zone taken
// out, and a lease gets a name of its own where it is listed.
func tellingTheWorld(t *testing.T, a *app) {
	b := a.names(t, "kelder-bridge", "layer=zone-larkrise")
	b.see("the same")
	b.cell("_acme-challenge.kelder")
	b.click("[data-cell]", "^_acme-challenge.kelder$")
	b.click("button", "^Try the proof$")
	b.see("Nothing of the trial is left")
	b.see("The proof is there, and nothing forbids it.")
	b.axe("a certificate proved")
	b.click("button", "^Export$")
	b.until("the zone as a file", `() => document.querySelector('[role=dialog] textarea')
		?.value.includes('$ORIGIN larkrise.example.')`)
	b.choose("As", "Transfer, every record whole")
	b.until("the zone as a transfer", `() => document.querySelector('[role=dialog] textarea')
		?.value.includes('edge.kelder.larkrise.example. 300 IN A 203.0.113.44')`)
	b.axe("a zone taken out")
	b.keys(input.Escape)
	b.until("the window gone", `() => !document.querySelector('[role=dialog]')`)
	b.click("aside[aria-label=Layers] button", "^Leases")
	b.until("the leases", `() => {
		const e = document.querySelector('[data-cell="0/0"]')
		if (document.querySelector('main h1')?.innerText !== 'Leases' || !e) return false
		e.focus()
		return document.activeElement === e
	}`)
	b.keys(input.Enter)
	b.focus("the field of a name", `e => e.tagName === 'INPUT'`)
	b.typed("front-desk-9")
	b.keys(input.Enter)
	require.Eventually(t, func() bool {
		d, err := a.Work.Drafts.Draft(t.Context(), b.order())
		return err == nil && slices.ContainsFunc(d.Doc().Reservations, func(r *site.Reservation) bool {
			return r.Name == "front-desk-9"
		})
	}, patience, 20*time.Millisecond)
}

// A name follows its line: over all sites, with what the line had and what the world was told, and tried where
// it is listed.
func followingLines(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/rounds")
	b.click("a", "dynamic name")
	b.see("vpn.saltmarsh.example")
	b.see("The world is told 198.51.100.22.")
	b.see("1 not reachable from the internet")
	b.see("The key of remote.quill.example can rewrite quill.example")
	b.axe("names that follow")
	b.picture("following")

	// Resolvers that hold another address for a moment are seen to follow.
	require.NoError(t, a.Devices.Internet.Change("garret.example", func(z *yang.Zone) {
		for i := range z.Record {
			if z.Record[i].Owner == "home" {
				z.Record[i].Data, z.Record[i].TTL = "203.0.113.5", 2
			}
		}
	}))
	held, err := a.Work.Poll.AskResolvers(t.Context(), "the-garret", "following-home")
	require.NoError(t, err)
	require.Len(t, held, 2)
	b.click("a", "^home.garret.example$")
	b.click("button", "^Send it now and try it$")
	b.see("Others follow")
	b.until("a resolver that followed", `() => /It has 203.0.113.97 (after \d+ `+
		`s|already)/.test(document.body.innerText)`)
	b.until("none that waits", `() => !document.body.innerText.includes('more at most')`)
	b.axe("a name that follows")
}

// A key is made for a name without being shown; others are made and shown once, replaced and revoked.
func outsideKeys(t *testing.T, a *app) {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "quill-street", "Keys", "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/quill-street?order=%d&face=names&layer=zone-quill-out"+
		"&select=following:following-remote", order))
	b.see("Have a narrow key made")
	b.axe("a key too wide")
	b.click("button", "^Have a narrow key made$")
	b.gone("Have a narrow key made")
	b.see("key-1.remote.quill.example")
	b.click("section[aria-label=Keys] button", "^Make a key$")
	b.fill("Name", "printer.quill")
	b.fill("Names that it may write", "printer.quill.example")
	b.fill("Last day", "soon")
	b.keys(input.Enter)
	b.see("\"soon\" is no day")
	b.axe("a key with a wrong value")
	b.fill("Last day", "2035-03-31")
	b.keys(input.Enter)
	b.see("it is shown this once")
	b.axe("a key that is shown")
	b.click("button", "^I have it$")
	b.see("A and AAAA of printer.quill.example; update only")
	b.click("section[aria-label=Keys] button", "^Revoke$")
	b.see("Its server takes nothing more with it")
	b.axe("revoking a key")
	b.keys(input.Escape)
	b.until("the question gone", `() => !document.querySelector('[role=dialog]')`)
	b.until("the button of the key", `() => {
		const button = document.querySelector('button[aria-label="Revoke printer.quill"]')
		button?.click()
		return !!button
	}`)
	b.click("[role=dialog] button", "^Revoke it$")
	b.gone("A and AAAA of printer.quill.example; update only")
}

// A question falls through the layers, from an address that can be pasted into a ticket; from outside it
// is answered otherwise, and where there is no answer the first step that would make one is offered.
func askingNames(t *testing.T, a *app) {
	b := a.names(t, "quill-street", "who=network:net-quill-home&name=cloud.quill.example")
	b.until("the answer inside", asked, "10.7.8.10")
	b.until("the answer outside beside it", asked, "192.0.2.77")
	b.axe("an answer")
	b.press(input.KeyQ)
	b.focus("what they type", `e => e.id === 'ask-name'`)
	b.typed("photos")
	b.keys(input.Enter)
	b.until("why there is none", asked, "photo-box.quill.home.arpa is not there")
	b.until("the question in the address", `() => location.search.includes('name=photos')`)
	b.click("section[aria-label=Ask] button", "^Add photo-box.quill.home.arpa$")
	b.until("the form of what is missing", `() => document.querySelector('[role=dialog] input')?.value === 'photo-box'`)
	b.keys(input.Escape)
	b.until("the form gone", `() => !document.querySelector('[role=dialog]')`)
	b.click("section[aria-label=Ask] button", "records?, \\d+ octets")
	b.see("name asked for")
}
