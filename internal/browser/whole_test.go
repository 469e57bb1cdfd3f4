package browser

import (
	"fmt"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// in opens a site in a new work order.
func (a *app) in(t *testing.T, code, query string) *tab {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), code, "Work", "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/%s?order=%d&%s", code, order, query))
	b.until("the draft on the page", `() => [
		'footer[aria-label="Open work order"]', 'main h1', 'aside[aria-label=Inspector] [data-title]',
	].every(part => document.querySelector(part) !== null)`)
	return b
}

// inspects waits until the inspector shows a part.
func (b *tab) inspects(title string) {
	b.Helper()
	b.until(title+" in the inspector",
		`t => document.querySelector('aside[aria-label=Inspector] [data-title]')?.innerText === t`,
		title)
}

// The links of a site, a trunk that is broken and mended, and the relay that was
// never switched on.
func devicesAndTheirLinks(t *testing.T, a *app) {
	b := a.in(t, "moss-end", "network=net-moss-kennels&tab=devices")
	b.see("Kennels is on vlan70 of sw-moss and comes out at port2 of sw-barn.")
	b.axe("devices")
	b.picture("devices")
	b.click("section[aria-label='Device sw-barn'] tr button", "^port1$")
	b.inspects("port1")
	b.click("aside button", "^Change$")
	assert.Equal(t, "24, 70", b.value("Tagged VLANs"))
	b.fill("Tagged VLANs", "24, x")
	b.click("button", "^Save$")
	b.see("is not a VLAN id; type numbers from 1 to 4094")
	b.axe("an interface's form")
	b.fill("Tagged VLANs", "24")
	b.click("button", "^Save$")
	b.see("The path breaks: port5 of sw-moss sends VLAN 70, and port1 of sw-barn does not take it.")
	b.see("VLAN 70 is on one side only")
	b.click("aside button", "^Carry VLAN 70 on port1 of sw-barn too$")
	b.see("comes out at port2 of sw-barn")

	b.click("aside[aria-label=Section] button", "Kennels")
	b.click("aside button", "^Relay from vlan70 to 10.84.48.10$")
	b.gone("Nothing relays Kennels")
	b.click("button", "^Add a device$")
	b.fill("Host name", "sw-loft")
	b.click("button", "^Add$")
	b.see("It has no interface yet.")
	b.click("section[aria-label='Device sw-loft'] button", "^Add an interface$")
	b.fill("Name", "port1")
	b.choose("Kind", "^port$")
	b.choose("Cable to", "^port4 of sw-moss$")
	b.fill("Untagged VLAN", "48")
	b.click("button", "^Add$")
	b.see("port4 of sw-moss")
	b.click("[role=tab]", "^Devices$")
	b.until("the new switch in the drawing",
		`() => [...document.querySelectorAll('figure text')].some(t => t.textContent === 'sw-loft')`)
	b.click("[role=tab]", "^Try a client$")
	b.click("form button", "Try a client")
	b.see("was given 10.84.56.60")
	b.see("Relayed by vlan70 to srv-moss.")
}

// The password of a line is typed once and never shown.
func uplinkPassword(t *testing.T, a *app) {
	b := a.in(t, "the-garret", "tab=devices&select=interface:if-garret-wan")
	b.inspects("wan")
	b.click("aside button", "^Change$")
	assert.Empty(t, b.value("Password"))
	b.fill("Password", "hail-on-slate")
	b.fill("MTU", "99999")
	b.click("button", "^Save$")
	b.see("is not an MTU")
	b.fill("MTU", "1480")
	b.click("button", "^Save$")
	b.gone("Change the interface")
	b.until("no password on the page", `() => !document.body.innerText.includes('hail-on-slate')`)
}

// Many at once: pasted with a preview, and fixed with a preview.
func manyAtOnce(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-clinic")
	b.click("button", "^Paste many$")
	b.fill("Lines",
		"10.84.18.100 00:00:5e:00:53:d0 kiosk-1\n.101, 0000.5e00.53d1, kiosk-2\n10.84.18.1 00:00:5e:00:53:d2 gate")
	b.choose("As", "Fixed devices")
	b.click("button", "^Preview$")
	b.see("2 lines change something, 1 is refused and left out")
	b.see("10.84.18.1 is the gateway of Clinic floor")
	b.axe("paste")
	b.click("button", "^Apply 2 lines$")
	b.see("2 findings block the push")
	b.said("Add fixed device kiosk-1 10.84.18.100; Add fixed device kiosk-2")
	b.click("tr button", `\.18\.100`)
	b.click("aside button", "^Fix all 2 of this kind")
	b.see("Exclude .18.101 from the pool")
	b.axe("fix all")
	b.click("button", "^Fix 2$")
	b.gone("findings block the push")
	b.click("button", "^Undo")
	b.see("2 findings block the push")
}

// Options: a typed editor, one of the site's own, a vendor class, and the reply
// in octets.
func optionsAndTheReply(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-handsets&tab=options")
	b.click("[role=tabpanel] button", "^Set an option$")
	b.see("How long the client may keep its address")
	b.choose("Option", "^108 ")
	b.fill("Value", "soon")
	b.click("button", "^Set$")
	b.see("is not a length of time")
	b.fill("Value", "30 minutes")
	b.choose("For", "the network Handsets")
	b.click("button", "^Set$")
	b.see("IPv6-only preferred")
	b.click("button", "^Define an option$")
	b.fill("Code", "12")
	b.fill("Name", "Badge server")
	b.choose("Type", "^address$")
	b.click("button", "^Add$")
	b.see("is not a private code; type a number from 224 to 254")
	b.fill("Code", "230")
	b.click("button", "^Add$")
	b.see("code 230; type address")
	b.click("[role=tabpanel] button", "^Set an option$")
	b.see("How long the client may keep its address")
	b.choose("Option", "^230 ")
	b.fill("Value", "10.84.16.20")
	b.click("button", "^Set$")
	b.until("the option among what is told",
		`() => [...document.querySelectorAll('tbody tr')].some(r => r.innerText.includes('230') && `+
			`r.innerText.includes('Badge server'))`)
	b.click("button", "^Of class Handsets$")
	b.until("the sub-options by their names",
		`() => /1 Call server 10\.84\.16\.130/.test(document.querySelector('[aria-label="The reply"]').innerText)`)
	b.see("octets of 548")
	b.axe("options")
	b.until("the reply in view", `() => (document.querySelector('[aria-label="The reply"]').scrollIntoView(), true)`)
	b.picture("options-reply")
	b.click("section[aria-label='Vendor classes'] button", "^Handsets$")
	b.inspects("Handsets")
	b.see("Option 60 begins")
	b.click("aside button", "^Change$")
	b.fill("Sub-options", "1 | Call server | address | nowhere")
	b.click("button", "^Save$")
	b.see("sub-option 1:")
	b.click("button", "^Cancel$")
}

// What is wrong with the whole site is told with each of its networks and mended at
// the site, which has a form of its own.
func theWholeSite(t *testing.T, a *app) {
	b := a.in(t, "the-yard", "network=net-yard-slip")
	b.click("aside button", "concerns? the whole site$")
	b.inspects("Saltmarsh yard")
	b.see("A name server outside is asked first")
	b.axe("a site's inspector")
	b.click("aside button", "^Put the site's own first$")
	b.gone("A name server outside is asked first")
	b.see("Name servers inside and outside are mixed")
	b.click("aside button", "^Change$")
	b.fill("Block", "10.97.0.1/20")
	b.fill("Time zone", "Slipway")
	b.click("button", "^Save$")
	b.see("has host bits set; type 10.97.0.0/20")
	b.see("is not a time zone")
	b.fill("Block", "10.97.0.0/20, 10.97.32.0/21")
	b.fill("Time zone", "Europe/Oslo")
	b.click("button", "^Save$")
	b.see("10.97.32.0/21 free")
	b.until("the time zone",
		`() => document.querySelector('aside[aria-label=Inspector]').innerText.includes('Europe/Oslo')`)
}

func forecasts(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-waiting&tab=forecast")
	b.see("A day of the pool")
	b.choose("Arrivals", "^waiting room$")
	b.fill("Clients a day", "14o")
	b.fill("Returning, %", "140")
	b.click("section[aria-label='Pool forecast'] button", "^Work out$")
	b.see("is not a number from 1 to 1000000; type for example 60")
	b.see("is not a number from 0 to 100")
	b.fill("Returning, %", "")
	b.fill("Clients a day", "140")
	b.fill("Average stay", "a while")
	b.click("section[aria-label='Pool forecast'] button", "^Work out$")
	b.see("is not a length of time")
	b.fill("Average stay", "40 minutes")
	b.click("section[aria-label='Pool forecast'] button", "^Work out$")
	b.see("Full from")
	b.see("would do")
	b.see("Set the lease time to 30 minutes at least 1 hour before the change")
	b.axe("forecast")
	b.until("the day in view", `() => (document.querySelector('[aria-label="Pool forecast"]').scrollIntoView(), true)`)
	b.picture("forecast")
	b.fill("All should know within", "2 hours")
	b.click("form[aria-label=Propagation] button", "^Work out$")
	b.see("is short enough already")
}

// What is seen is judged, and each can be made something of in a step.
func seenAndWhatToMakeOfIt(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-clinic&tab=observed")
	b.see("In the pool without a lease")
	b.see("Made-up MAC")
	b.see("Two machines on one address")
	b.axe("seen, judged")
	b.click("label", "^Only problems$")
	b.gone("vaccine-fridge")
	b.picture("seen")
	b.click("label", "^Only problems$")
	filter := b.page.MustElement(`input[aria-label="Filter what was seen"]`)
	require.NoError(t, filter.Input("19.231"))
	b.gone("vaccine-fridge")
	b.see("10.84.19.231")
	require.NoError(t, filter.SelectAllText())
	require.NoError(t, filter.Input(" "))
	b.see("vaccine-fridge")
	b.click("[aria-label='What to do about 10.84.19.231'] button", "^Reserve .19.231$")
	b.until("the reservation in the inspector",
		`() => document.querySelector('aside[aria-label=Inspector]').innerText.includes('10.84.19.231')`)
	b.click("[aria-label='What to do about 10.84.19.150'] button", "^Exclude$")
	b.fill("Until", "tomorrow")
	b.fill("Reason", "Kiosk by the door")
	b.click("button", "^Add$")
	b.see("is not a date; type year, month and day")
	b.fill("Until", "2031-03-31")
	b.click("button", "^Add$")
	b.see("Kiosk by the door")
	b.click("[aria-label='What to do about 10.84.19.150'] button", "^Ignore$")
	b.fill("Ignored, reason", "Being replaced")
	b.click("button", "^Add$")
	b.see("Ignored. Being replaced")
	b.see("3 edits")
}

// A client goes through the states of RFC 2131, computed.
func tryManyActs(t *testing.T, a *app) {
	b := a.in(t, "kelder-bridge", "network=net-imaging&tab=try")
	b.click("summary", "^What it says of itself")
	b.fill("Accepts (option 57)", "many")
	b.fill("Asks for (option 55)", "1, x")
	b.fill("Host name", strings.Repeat("h", 64))
	b.click("form button", "Try a client")
	b.see("is not a number of octets")
	b.see("is not an option code")
	b.see("has 64 characters; type at most 63")
	b.fill("Accepts (option 57)", "")
	b.fill("Asks for (option 55)", "")
	b.fill("Host name", "new-tablet")
	b.click("form button", "Try a client")
	b.see("was given")
	b.click("[aria-label='What it does next'] button", "^renews$")
	b.see("2. Renews")
	b.choose("Move to", "^Clinic floor$")
	b.see("The old address was refused.")
	b.click("[aria-label='What it does next'] button", "^others fill the pool$")
	b.see("there is none for one more")
	b.axe("try, many acts")
}

// Rounds lists the gravest site first, sorts by any column, and opens a site wherever
// its row is clicked; keys of one letter can be switched off.
func listsAndKeys(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/rounds")
	b.see("Kelder Bridge surgery")
	first := `name => document.querySelector('tbody tr a').innerText === name`
	b.until("the gravest site first", `() => document.querySelector('tbody tr').innerText.includes('blocks the push')`)
	b.click("th button", "^Site")
	b.until("the first by name", first, "Farm-visit van")
	b.click("th button", "^Site")
	b.until("the last by name", first, "Windmill Ceramics studio")
	b.axe("rounds, sorted")
	keys := b.page.Keyboard
	secondByArrows := func() {
		b.page.MustElement("main table [data-row]").MustFocus()
		require.NoError(t, keys.Type(input.ArrowUp, input.ArrowDown))
		b.until("the cursor on the second row",
			`() => document.activeElement === document.querySelectorAll('main table [data-row]')[1]`)
		require.NoError(t, keys.Type(input.Enter))
	}
	secondByArrows()
	b.see("10.112.8.0/24")
	b.until("the page of the second", `() => location.pathname === '/sites/tidewater-studio'`)
	b.click("nav a", "^Rounds$")
	b.click("tbody tr td:nth-child(3)", `^10\.97\.0\.0/20$`)
	b.see("Slipway sheds")
	secondByArrows()
	b.until("the second owner to be inspected", `() => document.activeElement?.getAttribute('aria-pressed') === 'true'`)
	b.press(input.Slash)
	b.until("the cursor in Find", `() => document.activeElement?.placeholder?.startsWith('Find')`)
	b.press(input.Key('?'))
	b.see("Single-key shortcuts")
	b.axe("all keys")
	b.click("[role=dialog] label", "Single-key shortcuts")
	require.NoError(t, keys.Type(input.Escape))
	b.gone("Single-key shortcuts")
	b.press(input.Slash)
	b.press(input.KeyG)
	b.press(input.KeyO)
	b.until("the page to stay",
		`() => location.pathname === '/sites/the-yard' && document.activeElement === document.body`)
}
