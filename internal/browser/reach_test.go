package browser

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/scenario"
	"lithos/internal/demo"
)

// keys types keys where the keyboard is.
func (b *tab) keys(keys ...input.Key) {
	b.Helper()
	for _, k := range keys {
		require.NoError(b, b.page.Keyboard.Type(k))
	}
}

// text types words where the keyboard is.
func (b *tab) typed(words string) {
	b.Helper()
	require.NoError(b, b.page.InsertText(words))
}

// focus waits until the keyboard is on something that a JavaScript condition of the
// element holds for.
func (b *tab) focus(what, js string, args ...any) {
	b.Helper()
	b.until("the keyboard on "+what, fmt.Sprintf(`(...args) => (%s)(document.activeElement, ...args)`, js), args...)
}

func (b *tab) focusIn(part string) {
	b.Helper()
	b.focus(part, `(e, part) => e !== document.body && e.closest(part) !== null`, part)
}

// said waits until an outcome is told, to the ear and to the eye.
func (b *tab) said(words string) {
	b.Helper()
	b.until(fmt.Sprintf("%q to be said", words), `words => [...document.querySelectorAll('[role=status]')].some(e =>
		e.getClientRects().length > 0 && e.innerText.includes(words))`, words)
}

func (b *tab) titled(title string) {
	b.Helper()
	b.until("the title "+title, `t => document.title === t`, title)
	b.until("one heading of the page", `() => document.querySelectorAll('h1').length === 1`)
}

// holdsBack keeps answers from the pages that are opened from now on: those to what matches. window.held is the status
// of the one that waits, and window.letGo lets it through.
func (b *tab) holdsBack(to string) {
	b.Helper()
	_, err := b.page.EvalOnNewDocument(fmt.Sprintf(`{
		const real = window.fetch
		window.fetch = async (request, init) => {
			const answer = await real(request, init)
			if (new RegExp(%q).test((init?.method ?? request.method ?? 'GET') + ' ' + (request.url ?? request))) {
				window.held = answer.status
				await new Promise(go => { window.letGo = go })
			}
			return answer
		}
	}`, to))
	require.NoError(b, err)
}

// Each page has a title and one heading of the first level; what was done is told.
func toldAndTitled(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-clinic&select=reservation:res-xray-plate")
	b.titled("Clinic floor · Kelder Bridge surgery · Lithos")
	b.click("aside button", "^Move the reservation to")
	b.said("Change reservation xray-plate")
	b.focusIn("aside[aria-label=Inspector]")
	b.click("footer button", "^Undo")
	b.said("Undone: Change reservation xray-plate")
	b.press(input.Slash)
	b.typed("10.84.18.5")
	b.until("the number of hits", `() => /^\d+ hits?$/.test(document.querySelector('header [role=status]').innerText)`)
	b.keys(input.Escape)
	// What blocks the push is listed and fixed from the tray, and an order's link goes back to
	// the network.
	b.click("aside button", "^Change$")
	b.fill("Address", "10.84.18.1")
	b.click("button", "^Save$")
	b.see("1 finding blocks the push")
	b.click("footer button", "1 finding blocks the push$")
	b.see("brings in")
	b.axe("the findings of the tray")
	b.click("[role=dialog] button", "^Move the reservation to")
	b.see("Nothing any more: every finding is fixed.")
	b.said("Fixed: ")
	b.click("[role=dialog] button", "^Close$")
	b.gone("blocks the push")
	b.click("footer a", "^WO-")
	b.click("section[aria-label=Steps] p a", "Kelder Bridge surgery")
	b.titled("Clinic floor · Kelder Bridge surgery · Lithos")
	for path, title := range map[string]string{
		"/rounds": "Rounds · Lithos", "/orders": "Work orders · Lithos", "/standards": "Standards · Lithos",
	} {
		b.visit(a.URL + path)
		b.titled(title)
		b.axe(path)
	}
	b.visit(a.URL + "/sites/kelder-bridge?finding=address-two-owners.gone")
	b.see("That finding is gone")
}

// What was typed is asked about before it is thrown away, and outlives the session.
func formsAreKept(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-imaging")
	b.press(input.KeyR)
	b.see("Reserve an address")
	b.fill("Host name", "mri-console")
	b.keys(input.Escape)
	b.see("Throw away what you typed?")
	b.axe("a question about a filled form")
	b.click("button", "^Keep typing$")
	b.gone("Throw away what you typed?")
	assert.Equal(t, "mri-console", b.value("Host name"))
	require.NoError(t, b.page.Mouse.MoveTo(proto.Point{X: 20, Y: 400}))
	require.NoError(t, b.page.Mouse.Click(proto.InputMouseButtonLeft, 1))
	b.see("Throw away what you typed?")
	b.keys(input.Escape)
	b.gone("Throw away what you typed?")
	b.fill("MAC", "00:00:5e:00:53:e1")
	require.NoError(t, a.Work.Accounts.EndSessions(t.Context(), "a test", a.account(t)))
	b.click("button", "^Add$")
	b.see("Sign in again")
	b.axe("signing in again")
	b.fill("Name", a.account(t))
	b.fill("Password", demo.Password)
	b.click("button", "^Sign in$")
	b.gone("Sign in again")
	assert.Equal(t, "mri-console", b.value("Host name"))
	b.click("button", "^Add$")
	b.inspects("mri-console")
	b.press(input.KeyR)
	b.see("Reserve an address")
	b.keys(input.Escape)
	b.gone("Reserve an address")

	// A wrong time marks its own field alone.
	b.press(input.KeyP)
	b.see("Add a pool")
	b.fill("Ranges", "58-60")
	b.fill("Renewal time T1", "soon")
	b.click("button", "^Add$")
	b.see("is not a length of time")
	b.until("one field at fault", `() => document.querySelectorAll('[aria-invalid=true]').length === 1`)
	b.click("button", "^Cancel$")
	b.gone("Add a pool")
}

// Keys and skip links reach each part of a page; lists are one stop each.
// The Tab key goes on from the list of addresses, with what is on its line, to the inspector and the tray.
func tabGoesOn(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-bench")
	b.page.MustElement("tbody[data-place=list] [data-row][tabindex='0']").MustFocus()
	var way []string
	for range 120 {
		b.keys(input.Tab)
		at, err := b.page.Eval(`() => document.activeElement.closest('tbody, aside, footer, h1, header')?.tagName ` +
			`?? ''`)
		require.NoError(t, err)
		if place := at.Value.Str(); len(way) == 0 || way[len(way)-1] != place {
			way = append(way, place)
		}
		if way[len(way)-1] == "FOOTER" {
			break
		}
	}
	assert.Equal(t, []string{"TBODY", "ASIDE", "FOOTER"}, way)
}

// A tab is one step of the history, a filter none: it is in the address, and comes with a link and with going back.
func tabsAndFiltersInTheAddress(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-clinic")
	length := func() int { return b.page.MustEval(`() => history.length`).Int() }
	was := length()
	b.click("[role=tab]", "^Observed$")
	b.until("the tab in the address", `() => location.search.includes('tab=observed')`)
	assert.Equal(t, was+1, length())
	b.fill("Filter what was seen", "10.84.18.9")
	b.click("label", "The whole site")
	b.until("both in the address", `() => location.search.includes('seen=10.84.18.9') && `+
		`location.search.includes('whole=')`)
	assert.Equal(t, was+1, length(), "a filter is no step")
	b.page.MustNavigateBack()
	b.until("the tab before", `() => document.querySelector('[role=tab][aria-selected=true]').innerText === `+
		`'Addresses'`)
	b.page.MustNavigateForward()
	b.until("the filter again", `() => document.querySelector('[aria-label="Filter what was seen"]')?.value === `+
		`'10.84.18.9'`)
	b.visit(a.URL + "/rounds?filter=windmill")
	b.until("one site", `() => document.querySelectorAll('tbody[data-place=list] tr').length === 1`)
	b.fill("Filter sites", "")
	b.until("every site", `() => document.querySelectorAll('tbody[data-place=list] tr').length > 5 && `+
		`location.search === ''`)
}

// Where the browser's colours are forced, what is chosen is drawn with an outline; the account menu keeps axe's rules.
func forcedColours(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-bench&select=pool:pool-bench")
	b.page.MustElement("header button[aria-label$=menu]").MustFocus()
	b.keys(input.Enter)
	b.see("Sign out")
	b.axe("the account menu")
	b.keys(input.Escape)
	require.NoError(t, proto.EmulationSetEmulatedMedia{Features: []*proto.EmulationMediaFeature{
		{Name: "forced-colors", Value: "active"}}}.Call(b.page))
	b.until("what is chosen is outlined", `() => {
		const marks = ['[aria-pressed=true]', '[aria-selected=true]', '[aria-current=page]', '[aria-current=true]']
		const chosen = [...document.querySelectorAll(marks.join())].filter(e => e.getClientRects().length > 0)
		const outlined = (e) => getComputedStyle(e).outlineStyle !== 'none'
		return chosen.length >= 4 && chosen.every(outlined) &&
			![...document.querySelectorAll('[role=tab][aria-selected=false]')].some(outlined)
	}`)
}

func keysAndSkipLinks(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-bench")
	b.press(input.Tab)
	b.focus("the first skip link", `e => e.innerText === 'To what the page is about'`)
	b.axe("skip links")
	b.keys(input.Enter)
	b.focus("the page's heading", `e => e.tagName === 'H1'`)
	for key, part := range map[input.Key]string{
		input.KeyU: "[data-place=ruler]", input.KeyL: "tbody[data-place=list]",
		input.KeyI: "aside[aria-label=Inspector]",
		input.KeyB: "footer",
	} {
		b.press(key)
		b.focusIn(part)
	}
	stops, err := b.page.Eval(`() => [
		[...document.querySelectorAll('tbody[data-place=list] [data-row]')].filter(e => e.tabIndex === 0).length,
		[...document.querySelectorAll('aside[aria-label=Section] [data-row]')].filter(e => e.tabIndex === 0).length,
		[...document.querySelectorAll('[role=tablist], [role=tab]')].filter(e => e.tabIndex === 0).length,
	].join()`)
	require.NoError(t, err)
	assert.Equal(t, "1,1,1", stops.Value.Str())

	named, err := b.page.Eval(`() => [...document.querySelectorAll('[data-place=ruler] [role=img]')]
		.map(e => e.getAttribute('aria-label')).join('\n')`)
	require.NoError(t, err)
	assert.Regexp(t, `Pool Bench, \.\d+ to \.\d+ of 10\.84\.16\.0, \d+ of \d+ in use`, named.Value.Str())
	assert.Contains(t, named.Value.Str(), "Infrastructure window, .1 to ")

	// Two presses, faster than the page comes: two networks on.
	_, err = b.page.Eval(`() => {
		document.activeElement.blur()
		for (let i = 0; i < 2; i++) window.dispatchEvent(new KeyboardEvent('keydown', { key: ']', bubbles: true }))
	}`)
	require.NoError(t, err)
	b.until("the second network on", `() => document.querySelector('h1').innerText === 'Handsets'`)

	// The Section: to its end and back, by a letter, and no key of the page meanwhile.
	section := `aside[aria-label=Section] [data-row]`
	b.page.MustElement(section).MustFocus()
	b.keys(input.End)
	b.focus("the last layer", `e => e.innerText.includes('10.84.28.0/22')`)
	b.keys(input.Home, input.KeyW)
	b.focus("Waiting room", `e => e.innerText.includes('Waiting room')`)
	b.keys(input.Enter)
	b.until("Waiting room", `() => document.querySelector('h1').innerText === 'Waiting room'`)

	// The tabs: with arrows, to the last and back to the first; what a client was given is told.
	chosen := `(e, name) => e.getAttribute('role') === 'tab' && e.innerText === name && e.ariaSelected === 'true'`
	b.page.MustElement("[role=tab][aria-selected=true]").MustFocus()
	b.focus("the first tab", chosen, "Addresses")
	b.keys(input.ArrowLeft)
	b.focus("the last tab", chosen, "Devices")
	b.keys(input.ArrowLeft)
	b.focus("the tab before", chosen, "Forecast")
	b.keys(input.ArrowLeft)
	b.focus("the one before that", chosen, "Try a client")
	b.click("form button", "Try a client")
	b.said("was given")
	b.page.MustElement("[role=tab][aria-selected=true]").MustFocus()
	b.keys(input.Home)
	b.focus("the first tab again", chosen, "Addresses")

	// A menu keeps the page's keys to itself.
	b.page.MustElement("header button[aria-label$=menu]").MustFocus()
	b.keys(input.Enter)
	b.see("Sign out")
	b.keys(input.KeyP)
	b.keys(input.Escape)
	b.gone("Sign out")
	assert.NotContains(t, b.text(), "Add a pool")
	b.press(input.KeyA)
	b.see("Add a network")
	b.until("its window", `() => document.querySelector('[role=dialog]') !== null`)
	b.keys(input.Escape)
	b.until("the window to be gone", `() => document.querySelector('[role=dialog]') === null`)
}

// A list of five thousand: to its end, back by pages, and to a name by its letters.
func longLists(t *testing.T, a *app) {
	_, err := a.Work.Sites.Import(t.Context(), hall("long", 0x0a700100, 5000), 0, "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, "/sites/long")
	b.see("seat-3")
	b.press(input.KeyL)
	row := `(e, text) => e.closest('tr')?.innerText.includes(text)`
	b.focus("the first row", row, "seat-0")
	b.keys(input.End)
	b.focus("the last row", row, "seat-4999")
	b.keys(input.PageUp)
	b.focus("ten rows up", row, "seat-4989")
	b.keys(input.Home)
	b.focus("the first row again", row, "seat-0")
	b.keys(input.KeyS, input.KeyE, input.KeyA, input.KeyT, input.Minus, input.Digit7, input.Digit7)
	b.focus("the row that begins so", row, "seat-77")
	b.keys(input.Enter)
	b.inspects("seat-77")
	b.press(input.KeyU)
	b.keys(input.Home, input.ArrowDown, input.ArrowDown, input.ArrowDown, input.ArrowDown, input.ArrowDown)
	b.until("the ruler's cursor in view", `() => {
		const box = document.querySelector('[data-place=ruler]')
		return box.scrollTop > 0 && box.scrollTop + box.clientHeight >= 5 * 92
	}`)
	status := `document.querySelector('[data-place=ruler]').nextElementSibling.innerText`
	b.until("the address under it", `() => `+status+`.includes('10.112.5.0')`)
	b.keys(input.Home)
	b.until("the network's address, which nobody can have",
		`() => `+status+`.includes('10.112.0.0 · network address, no host can have it')`)
}

// Find: parts of addresses and MACs, orders, findings, what was seen; Enter opens the
// first hit.
func findAnything(t *testing.T, a *app) {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "quill-street", "Attic", "4471")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, "/sites/quill-street")
	b.see("Home")
	find := func(words, hit string) {
		b.Helper()
		b.press(input.Slash)
		b.until("the cursor in Find, where what is typed takes the place of what was", `() => {
			const e = document.activeElement
			return e.placeholder?.startsWith('Find') && e.selectionStart === 0 && e.selectionEnd === e.value.length
		}`)
		b.typed(words)
		b.until("what was typed alone", `words => document.activeElement.value === words`, words)
		b.until(hit+" among the hits",
			`hit => [...document.querySelectorAll('[cmdk-item]')].some(e => e.innerText.includes(hit))`,
			hit)
		b.until("the first hit to be the active one",
			`() => document.querySelector('[cmdk-item]')?.getAttribute('aria-selected') === 'true'`)
	}
	find(".18.57", "label-prn")
	b.axe("hits")
	b.keys(input.Enter)
	b.until("the hit's page", `() => location.search.includes('select=')`)
	find("5e00.5350", "plate-reader")
	b.keys(input.Enter)
	b.inspects("plate-reader")
	find("switched off", "Pool Waiting room is switched off")
	b.keys(input.Enter)
	b.until("the finding's site", `() => location.pathname === '/sites/hallin-road'`)
	find(fmt.Sprintf("wo-%d", order), "Attic")
	b.keys(input.Escape)
	find("maren", "Work order")
	b.keys(input.Escape)
	find("4471", "Attic")
	b.keys(input.Escape)
	// What was seen is found with its site, its port, or the device until a port is known, and until when.
	find("vet-laptop-3", "Kelder Bridge")
	b.until("its port and until when", `() => {
		const hit = [...document.querySelectorAll('[cmdk-item]')].find(e => e.innerText.includes('vet-laptop-3'))
		return /port\d+ of sw-core|gw-1/.test(hit?.innerText) && hit.innerText.includes('lease until')
	}`)
	b.keys(input.Enter)
	b.inspects("vet-laptop-3")
}

// At 820 and at 390 wide everything is reached, and nothing scrolls sideways.
func narrowPages(t *testing.T, a *app) {
	for i := range 12 { // so many that rows of the list of orders stand below each other
		_, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "hallin-road", fmt.Sprintf("Row %d", i), "")
		require.NoError(t, err)
	}
	for _, width := range []int{820, 390} {
		b := a.at(t, width, 900, "/rounds")
		b.see("Kelder Bridge surgery")
		for _, path := range []string{
			"/rounds", "/sites/kelder-bridge?network=net-clinic",
			"/sites/kelder-bridge?network=net-clinic&tab=observed",
			"/sites/kelder-bridge?network=net-clinic&tab=options",
			"/sites/kelder-bridge?network=net-clinic&tab=devices",
			"/sites/kelder-bridge?network=net-clinic&tab=try", "/sites/kelder-bridge?network=net-clinic&tab=forecast",
			"/orders", "/standards",
		} {
			b.visit(a.URL + path)
			b.until("the page", `() => document.querySelector('h1') !== null`)
			wide, err := b.page.Eval(`() => document.documentElement.scrollWidth`)
			require.NoError(t, err)
			assert.LessOrEqual(t, wide.Value.Int(), width, "%s is wider than %d", path, width)
			b.axe(fmt.Sprintf("%s at %d", path, width))
		}
		order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "kelder-bridge",
			strings.Repeat("Long title ", 5), "")
		require.NoError(t, err)
		b.visit(fmt.Sprintf("%s/sites/kelder-bridge?order=%d&network=net-clinic", a.URL, order))
		b.click("button", "Look and act$")
		b.focusIn("aside[aria-label=Inspector]")
		b.axe(fmt.Sprintf("the inspector at %d", width))
		b.click("aside button", "^Move the reservation to")
		b.until("the finding to be gone",
			`() => !document.querySelector('aside[aria-label=Inspector]').innerText.includes('Two owners')`)
		b.keys(input.Escape)
		b.until("the sheet to be closed",
			`() => document.querySelector('aside[aria-label=Inspector]').getClientRects().length === 0`)
		if width == 390 {
			b.picture("site-390-wide")
		}
	}
}

// A site with nothing in it offers its first device, network and pool.
func emptySite(t *testing.T, a *app) {
	s := scenario.Site("quill-street")
	s.ID, s.Code, s.Name = "site-empty", "empty", "New office"
	s.Block = []netip.Prefix{netip.MustParsePrefix("10.208.0.0/20")}
	s.Devices, s.Pools, s.Reservations, s.FixedDevices, s.Networks = nil, nil, nil, nil, nil
	s.Options = nil
	_, err := a.Work.Sites.Import(t.Context(), s, 0, "")
	require.NoError(t, err)
	b := a.in(t, "empty", "")
	b.see("This site has no network yet")
	b.axe("an empty site")
	b.click("main button", "^Add the first device$")
	b.fill("Host name", "rt-empty")
	b.click("button", "^Add$")
	b.see("It has no interface yet.")
	b.click("main button", "^Add the first network$")
	b.fill("Name", "Office")
	b.choose("Size", "^/24")
	b.until("the proposal", `() => document.querySelector('input[name=prefix]')?.value.startsWith('10.208.')`)
	b.click("button", "^Add$")
	b.click("main button", "^Add the first pool$")
	b.fill("Ranges", "100-149")
	b.fill("Name", strings.Repeat("n", 300))
	b.click("button", "^Add$")
	b.see("has 300 characters; use at most")
	b.fill("Name", strings.Repeat("n", 63))
	b.click("button", "^Add$")
	b.inspects(strings.Repeat("n", 63))
	wide, err := b.page.Eval(`() => document.documentElement.scrollWidth`)
	require.NoError(t, err)
	assert.Equal(t, 1280, wide.Value.Int())
	b.axe("a name of 63 characters")
}

// An option shows its present value and whom each level reaches; to stop setting it is
// an act of its own.
func optionLevels(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-clinic&select=reservation:res-xray-plate")
	b.inspects("xray-plate")
	b.click("aside button[aria-label='Change Lease time']", "Change")
	b.see("Now 8 hours, from the pool Clinic PCs.")
	b.see("Touches this client alone.")
	assert.Equal(t, "8 hours", b.value("Value"))
	b.fill("Value", "8")
	b.click("button", "^Set$")
	b.see("8 has no unit: type 8 hours, 8 minutes or 8 seconds")
	b.fill("Value", "8 minutes")
	b.choose("For", "^the pool Clinic PCs$")
	b.see("Touches 312 pool addresses, ")
	b.choose("For", "^this reservation$")
	b.axe("an option's levels")
	b.click("button", "^Set$")
	b.until("the option set here",
		`() => document.querySelector('aside[aria-label=Inspector]').innerText.includes('set here')`)
	b.click("aside button[aria-label='Change Lease time']", "Change")
	b.click("button", "^Stop setting it here$")
	b.said("Stop setting lease time")
	b.until("the pool's again",
		`() => !document.querySelector('aside[aria-label=Inspector]').innerText.includes('set here')`)
}

// The same technician in two browsers, and a colleague, see each other at an order.
func othersAreShown(t *testing.T, a *app) {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "moss-end", "Together", "")
	require.NoError(t, err)
	path := fmt.Sprintf("/sites/moss-end?order=%d", order)
	first := a.at(t, 1280, 800, path)
	first.see("Together")
	second := a.at(t, 1280, 800, path)
	first.see("Also at it: you, in another browser")
	second.see("Also at it: you, in another browser")
	_, err = a.Work.Accounts.PutTechnician(t.Context(), "a test", "others-jo", "Jo Arden", demo.Password)
	require.NoError(t, err)
	third := a.as(t, "others-jo", 1280, 800, path)
	first.see("Jo Arden")
	third.see("Also at it: Maren Kolb")
	require.NoError(t, third.page.Navigate("about:blank"))
	first.gone("Jo Arden")
}

// On paper there is the page without its frame, all of it.
func printing(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/sites/kelder-bridge?network=net-clinic")
	b.see("xray-plate")
	require.NoError(t, proto.EmulationSetEmulatedMedia{Media: "print"}.Call(b.page))
	b.until("the page alone", `() => {
		const shown = e => e !== null && e.getClientRects().length > 0
		const main = document.querySelector('main')
		return !shown(document.querySelector('header')) && main.scrollHeight <= main.clientHeight + 1
			&& document.documentElement.scrollHeight > 900 && shown(document.querySelector('h1'))
	}`)
}

// While the server takes its time the page's frame stands, its title and heading say what is coming, and that it loads.
func pagesThatLoad(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/rounds")
	b.see("sites,")
	held := make(chan struct{})
	router := b.page.HijackRequests()
	for _, slow := range []string{"*/api/orders", "*/api/sites/the-yard/*"} {
		router.MustAdd(slow, func(h *rod.Hijack) {
			<-held
			h.ContinueRequest(&proto.FetchContinueRequest{})
		})
	}
	go router.Run()
	loads := func(path, title, heading string) {
		t.Helper()
		b.visit(a.URL + path)
		b.until("the page that loads", `(title, heading) => document.title === title &&
			document.querySelector('main h1')?.innerText === heading &&
			document.querySelector('main [role=status]')?.innerText === 'Loading'`, title, heading)
		b.see("Work orders")
	}
	loads("/sites/the-yard", "Site the-yard · Lithos", "Site the-yard")
	b.axe("a page that loads")
	loads("/orders", "Work orders · Lithos", "Work orders")
	close(held)
	b.gone("Loading")
	require.NoError(t, router.Stop())
	b.visit(a.URL + "/nowhere")
	b.until("the title of a missing page", `() => document.title === 'There is nothing at this address · Lithos'`)
}
