package browser

import (
	"fmt"
	"slices"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
)

const asked = `want => document.querySelector('section[aria-label=Ask]')?.innerText.includes(want)`

// names opens the names of a site in a new work order.
func (a *app) names(t *testing.T, code, query string) *tab {
	order, err := a.Work.OpenOrder(t.Context(), a.technician(t), code, "Names", "")
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
	b.keys(input.Escape)
	b.cell("clock")
	b.keys(input.Enter)
	b.focus("the field again", `e => e.value === 'clock'`)
	b.typed("wall-clock")
	b.keys(input.Enter)
	b.until("the new name in the list", `() => [...document.querySelectorAll('[data-cell]')]
		.some(e => e.innerText.trim().startsWith('wall-clock'))`)
	order := b.order()
	d, err := a.Work.Draft(t.Context(), order)
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
	b.see("3 lines change something, 1 is refused and left out")
	b.axe("names pasted")
	b.click("button", "^Apply 3 lines$")
	b.see("scanner")
	b.see("files")
}

// Live, the devices themselves are asked, with the time that took; the other strata are listed.
func namesLive(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/sites/kelder-bridge?face=names&who=network:net-clinic&name=edge&against=live")
	b.until("the answer of the device", asked, "10.84.16.20")
	b.until("how long it took", asked, "asked again in")
	b.picture("names")
	b.click("button", "^Look into it$")
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
	b.click("button", "^Look into it$")
	b.until("the question and the kept answer", `() => document.querySelector('[role=dialog]')
		?.innerText.split('shop.out.example').length > 2`)
	b.click("[role=dialog] button", "^Forget all$")
	b.see("0 kept answers")
	b.keys(input.Escape)
	b.until("the window gone", `() => !document.querySelector('[role=dialog]')`)
	for _, stratum := range []string{"Leases", "Reverse", "Other servers", "Kept at home", "Forwarders"} {
		b.click("aside[aria-label=Strata] button", "^▲?\\s*(warning)?\\s*"+stratum)
		b.until(stratum, `want => document.querySelector('main h1')?.innerText === want`, stratum)
		b.axe(stratum)
	}
	b.click("aside[aria-label=Strata] button", "larkrise.example\\s+as the document")
	b.see("seen from the internet")
	b.axe("a zone outside")
	b.click("button", "^Addresses$")
	b.until("the ruler", `() => !!document.querySelector('[aria-roledescription=ruler]')`)
}

// A question falls through the strata, from an address that can be pasted into a ticket; from outside it
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
