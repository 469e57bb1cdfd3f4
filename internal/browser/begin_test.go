package browser

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/demo"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
	"lithos/internal/standin"
	"lithos/web"
)

// From an empty database to a client with an address, without a command line: the first site, its first device with its
// certificate compared, a network, a push, and a client that is given an address.
//
//revive:disable-next-line:function-length it is one story, step by step
func TestFromNothing(t *testing.T) {
	router, err := standin.Start(standin.Config{Name: "rt-new", Kind: site.Router, Account: "keeper",
		Password: "oak-and-iron",
		Initial: yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{
			{Name: "p1", Type: yang.TypeEthernet, Enabled: true}}}}})
	require.NoError(t, err)
	t.Cleanup(router.Close)
	a := serve(t, demotest.Options{Files: web.Files(), Poll: time.Second, Empty: true})
	b := a.open(t, 1280, 800)
	b.signIn("mk")
	b.see("There is no site yet")
	b.axe("nothing")
	b.click("main button", "^Add the first site$")
	b.click("button", "^Add the site$")
	b.see("a site is somebody")
	b.axe("a site with nothing said")
	b.fill("Name of the customer", "Heron Ferry")
	b.fill("Name of the site", "The landing stage")
	assert.Equal(t, "10.0.0.0/20", b.value("Block"))
	b.fill("Time zone", "Europe/London")
	b.click("button", "^Add the site$")
	b.see("This site has no network yet")
	b.until("its page", `() => location.pathname === '/sites/the-landing-stage'`)

	b.click("main button", "^Add the first device$")
	b.fill("Title", "The first evening")
	b.click("[role=dialog] button", "^Open$")
	b.fill("Host name", "rt-new")
	b.click("[role=dialog] button", "^Add$")
	b.see("pushed by hand")
	b.click("section[aria-label='Device rt-new'] button", "^Reach it$")
	b.fill("Address", "http://10.0.0.1")
	b.click("[role=dialog] button", "^Fetch its certificate$")
	b.see("only https is used")
	b.axe("a device at a wrong address")
	b.fill("Address", router.URL)
	b.click("[role=dialog] button", "^Fetch its certificate$")
	b.see("Its certificate, SHA-256")
	b.until("the next step waits for it to be compared",
		`() => [...document.querySelectorAll('[role=dialog] button')].some(x => x.innerText === 'Sign in and `+
			`look' && x.disabled)`)
	b.click("[role=dialog] label", "It is the one")
	b.fill("Account", "keeper")
	b.fill("Password", "wrong")
	b.click("[role=dialog] button", "^Sign in and look$")
	b.see("The account or password is wrong")
	b.fill("Password", "oak-and-iron")
	b.click("[role=dialog] button", "^Sign in and look$")
	b.see("It can: changes under a timed confirm")
	b.axe("what a device says of itself")
	b.click("[role=dialog] button", "^Keep it$")
	b.until("the window gone", `() => !document.querySelector('[role=dialog]')`)
	b.see("How it is reached")

	b.click("main button", "^Read the devices into this site$")
	b.axe("what reading the devices does")
	b.click("[role=dialog] button", "^Read them$")
	b.see("1 part of rt-new is in the draft, as one step.")
	b.click("[role=dialog] button", "^Close$")
	b.click("section[aria-label='Device rt-new'] td button", "^p1$")
	b.inspects("p1")
	b.click("aside button", "^Change$")
	b.fill("Addresses", "10.0.1.1/24")
	b.click("[role=dialog] button", "^Save$")
	b.click("main button", "^Add the first network$")
	b.fill("Name", "Landing")
	b.fill("Prefix", "10.0.1.0/24")
	b.fill("Gateway", "1")
	b.click("[role=dialog] button", "^Add$")
	b.inspects("Landing")
	b.press(input.KeyP)
	b.fill("Name", "Landing")
	b.fill("Ranges", "100-149")
	b.click("[role=dialog] button", "^Add$")
	b.inspects("Landing")
	b.click("footer button", "^Rehearse")
	b.said("Rehearsed with")
	b.click("footer button", "^Push to rt-new")
	b.see("Pushed, verified and landed")

	b.visit(a.URL + "/sites/the-landing-stage?tab=try")
	b.choose("Against", "real device")
	b.click("form[aria-label='Try a client'] button", "^Try a client")
	b.see("was given 10.0.1.1")
}

// A site is put away from its own page and brought back from Rounds.
func puttingAway(t *testing.T, a *app) {
	doc := scenario.Site("the-yard")
	doc.ID, doc.Code, doc.Name = "site-kiln-shed", "kiln-shed", "Kiln shed"
	_, err := a.Work.Sites.Import(t.Context(), doc, 0, "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, "/sites/kiln-shed?select=site:site-kiln-shed")
	b.click("aside button", "^Archive this site$")
	b.axe("putting a site away")
	b.click("[role=dialog] button", "^Archive it$")
	b.see("1 archived site")
	b.click("summary", "archived site")
	b.axe("sites that were put away")
	b.until("the button of the site", `() => {
		const button = document.querySelector('button[aria-label="Bring back Kiln shed"]')
		button?.click()
		return !!button
	}`)
	b.see("Kiln shed")
	b.until("the site on the list", `() => [...document.querySelectorAll('main [data-row]')].some(a => `+
		`a.innerText === 'Kiln shed')`)
}

// What changed between two revisions is read from the site's history, and an old one comes back as a work order.
func lookingBack(t *testing.T, a *app) {
	doc := scenario.Site("the-yard")
	doc.ID, doc.Code, doc.Name = "site-kept-yard", "kept-yard", "Kept yard"
	doc.Contacts = "Una Marsh, yard foreman, 01632 960051"
	_, err := a.Work.Sites.Import(t.Context(), doc, 0, "")
	require.NoError(t, err)
	doc.Pools[0].Note = "for the summer"
	doc.Pools[0].Ranges = doc.Pools[0].Ranges[:1]
	_, err = a.Work.Sites.Import(t.Context(), site.Normal(doc), 0, "a longer summer")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, "/sites/kept-yard?select=site:site-kept-yard")
	b.fill("Address, prefix or name", "10.97.1.1")
	b.click("aside button", "^Look up$")
	b.see("from ")
	b.axe("who had an address")
	b.click("section[aria-label='Export'] a", "^show$")
	b.see("Whom to ask")
	b.axe("a site on one sheet")
	b.click("a", "^Back to the site$")
	b.visit(a.URL + "/sites/kept-yard?select=site:site-kept-yard")
	b.click("aside a", "^All that happened here$")
	b.click("aside button", "Revision 2")
	b.see("for the summer")
	b.see("The same, in the site file")
	b.axe("what changed")
	b.press(input.ArrowDown)
	b.click("main button", "^Bring back revision 1 as a work order$")
	b.see("Bring back revision 1")
	b.until("the order's page", `() => location.pathname.startsWith('/orders/')`)
}

// A device that somebody changed by hand is seen at its site, the differences beside what it was given, and each is
// adopted or put back by a work order.
func noticing(t *testing.T, a *app) {
	gw := a.Devices.ByID["dev-chand-gw"]
	held := gw.Running()
	scenario.ByHand["dev-chand-gw"](&held)
	require.NoError(t, gw.Set(held))
	a.Work.Poll.Observe(t.Context(), "site-the-chandlery")
	b := a.at(t, 1280, 800, "/sites/the-chandlery?tab=devices")
	b.click("section[aria-label='Device gw-chand'] a", "changed, and not by Lithos: 3 things")
	b.see("gw-chand holds something else")
	b.axe("a device that was changed by hand")
	b.picture("drift")
	b.see("0 of 3 decided")
	b.click("button[aria-label='Adopt: pool Chart room, range']", "Adopt")
	b.click("button[aria-label='Put back: reservation till-2']", "Put back")
	b.see("2 of 3 decided")
	b.axe("two of three decided")
	b.click("main button", "^Open a work order with these$")
	b.see("adopted in WO-")
	b.see("puts it back")
	b.see("0 of 1 decided")
	// Whoever is quicker than the answer rehearses what the answer is of, and is not told of somebody else.
	b.holdsBack("POST .*/drift$")
	require.NoError(t, b.page.Reload())
	b.see("0 of 1 decided")
	b.click("main button", "^Put all back$")
	b.click("main button", "^Add these to WO-")
	b.until("the answer to wait", `() => window.held === 200`)
	b.click("footer button", "^Rehearse")
	b.page.MustEval(`() => window.letGo()`)
	b.until("it can be pushed",
		`() => [...document.querySelectorAll('footer button')].some(x => x.innerText.startsWith('Push to') && `+
			`!x.disabled)`)
	b.click("footer button", "^Push to gw-chand")
	b.see("Pushed, verified and landed")
	b.visit(a.URL + "/sites/the-chandlery/history?at=device:dev-chand-gw")
	b.see("gw-chand holds what it was given")
	b.axe("a device that holds what it was given")
	assert.Equal(t, 3, len(gw.Running().DHCP.Reservation), "till-2 is back")
}

// A list from a spreadsheet is taken in: its columns corrected, a conflict taken, a line left, as one step of the
// draft.
func takingIn(t *testing.T, a *app) {
	doc := scenario.Site("the-chandlery")
	doc.ID, doc.Code, doc.Name = "site-sail-loft", "sail-loft", "Sail loft"
	_, err := a.Work.Sites.Import(t.Context(), doc, 0, "")
	require.NoError(t, err)
	list := filepath.Join(t.TempDir(), "loft.csv")
	require.NoError(t, os.WriteFile(list, []byte("Netz;IP-Adresse;Hardware;Genannt\n"+
		"Chart room;10.97.21.45;00-00-5E-00-53-E1;till-3\n"+
		";10.97.21.44;00-00-5E-00-53-E2;till-2\n"+
		";10.97.21.46;00-00-5E-00-53-E3;till-4\n"+
		";10.97.21.999;;nowhere\n"), 0o600))
	b := a.at(t, 1280, 800, "/sites/sail-loft?tab=devices")
	b.click("button", "^Import a list or a site file$")
	b.fill("Title", "The list of the loft")
	b.click("[role=dialog] button", "^Open$")
	b.see("nothing is removed")
	b.axe("nothing taken in yet")
	chooser, err := b.page.Element("input[type=file]")
	require.NoError(t, err)
	require.NoError(t, chooser.SetFiles([]string{list}))
	b.see("heading on line 1")
	b.axe("what becomes of each line")
	b.click("summary", "loft.csv")
	b.until("the column of names is corrected", `() => {
		const list = [...document.querySelectorAll('[role=dialog] select')]
		const names = list[list.length - 1]
		if (!names || names.disabled) return false
		if (names.value === 'name') return true
		const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set
		set.call(names, 'name')
		names.dispatchEvent(new Event('change', { bubbles: true }))
		return false
	}`)
	b.see("till-4")
	b.see("10.97.21.44 is the reservation till-2's")
	b.click("[role=dialog] button", "^Correct$") // 57: of the first line that has cells
	b.axe("the cells of a line")
	b.keys(input.Escape)
	b.until("it is closed, and the window is not", `() => !document.querySelector('form[aria-label^="Cells of"]') &&
		document.activeElement?.getAttribute('aria-label') === 'Correct line 2'`)
	b.page.MustElement(`button[aria-label="Correct line 5"]`).MustFocus()
	b.keys(input.Enter)
	b.until("its cells", `() => document.querySelector('form[aria-label="Cells of line 5"] input') !== null`)
	b.within(`form[aria-label="Cells of line 5"]`, 0, "IP-Adresse", "10.97.21.49")
	b.keys(input.Enter)
	b.see("(corrected here)")
	b.until("the conflict is taken and a line is left", `() => {
		const box = (of) => document.querySelector('input[aria-label*="' + of + '"]')
		const theirs = box('10.97.21.44')
		const other = box('10.97.21.46')
		if (!theirs || !other) return false
		if (!theirs.checked) theirs.click()
		if (other.checked) other.click()
		return theirs.checked && !other.checked
	}`)
	b.picture("take-in")
	b.click("[role=dialog] button", "^Import 3 lines$")
	b.until("the window gone", `() => !document.querySelector('[role=dialog]')`)
	loft, err := a.Work.Sites.Export(t.Context(), "sail-loft")
	require.NoError(t, err)
	open, err := a.Work.Store.Beside(t.Context(), loft.ID, loft.Customer.Name)
	require.NoError(t, err)
	require.Len(t, open.Orders, 1)
	d, err := a.Work.Drafts.Draft(t.Context(), open.Orders[0].ID)
	require.NoError(t, err)
	assert.Len(t, d.Steps, 1)
	assert.Len(t, d.Doc().Reservations, 4)
	assert.Len(t, d.Doc().FixedDevices, len(doc.FixedDevices)+1, "57: the corrected line")
}

// A standard is changed in the browser: wrong values at their fields, what becomes of each site, and a work order
// where it is brought to.
func standards(t *testing.T, a *app) {
	doc := scenario.Site("the-yard")
	doc.ID, doc.Code, doc.Name = "site-oar-shed", "oar-shed", "Oar shed"
	doc.Standard.ID, doc.Standard.Name = "std-oar", "Oar standard"
	_, err := a.Work.Sites.Import(t.Context(), doc, 0, "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, "/standards")
	b.click("button[aria-label='Change Oar standard']", "Change")
	b.axe("a standard")
	b.fill("First of window 3", "soon")
	b.click("[role=dialog] button", "^Preview$")
	b.see("type two whole numbers")
	b.fill("First of window 3", "60")
	b.fill("Value of option 1", "a while")
	b.click("[role=dialog] button", "^Preview$")
	b.see("Nothing was kept")
	b.axe("a standard with wrong values")
	b.fill("Value of option 1", "4 hours")
	b.click("[role=dialog] button", "^Preview$")
	b.see("What becomes of 1 site")
	b.see("Oar shed")
	b.axe("what becomes of each site")
	b.picture("standards")
	b.click("[role=dialog] button", "^Keep it, and open 1 work order$")
	b.see("Oar standard is kept")
	b.click("[role=dialog] a", "at Oar shed$")
	b.until("the order's page", `() => location.pathname.startsWith('/orders/')`)
	b.visit(a.URL + "/standards")
	b.see("Another form of it at Oar shed")
	b.click("main button", "^Add a standard$")
	b.fill("Name", "Ferry standard")
	b.click("[role=dialog] button", "^Preview$")
	b.see("No site follows it yet")
	b.click("[role=dialog] button", "^Keep it$")
	b.see("Ferry standard is kept")
}

// An order gets a note and a change window, with wrong times named, and is left to start automatically; a step is taken
// back from the middle of its draft.
func waiting(t *testing.T, a *app) {
	doc := scenario.Site("the-slipway")
	doc.ID, doc.Code, doc.Name = "site-jetty-hall", "jetty-hall", "Jetty hall"
	_, err := a.Work.Sites.Import(t.Context(), doc, 0, "")
	require.NoError(t, err)
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "jetty-hall", "New machines", "")
	require.NoError(t, err)
	for i, name := range []string{"saw", "lathe", "press"} {
		_, err := a.Work.Drafts.Edit(t.Context(), a.technician(t), order, draft.Change{Version: int32(i),
			Entries: []edit.Entry{{Kind: "reservation", New: true,
				Fields: map[string]string{"network": "net-slip-office",
					"name": name, "address": fmt.Sprintf("10.97.24.%d", 30+i), "mac": fmt.Sprintf("00:00:5e:00:53:%02d",
						80+i)}}}}, nil)
		require.NoError(t, err)
	}
	b := a.at(t, 1280, 800, fmt.Sprintf("/orders/%d", order))
	b.click("button[aria-label^='Undo: Add reservation lathe']", "Undo")
	b.see("undone by")
	b.axe("a step undone")
	b.click("footer button", "^Rehearse")
	b.until("it can be pushed",
		`() => [...document.querySelectorAll('footer button')].some(x => x.innerText.startsWith('Push') && `+
			`!x.disabled)`)
	b.click("button", "^Note and change window$")
	b.fill("Not before", "tonight")
	b.click("button", "^Set it$")
	b.see("is no time")
	b.fill("Note", "After closing time")
	b.fill("Not before", time.Now().AddDate(0, 0, 1).Format("2006-01-02")+"T22:30")
	b.axe("a change window")
	b.click("button", "^Set it$")
	b.see("Change window: not before")
	b.click("button", "^Leave it to start automatically$")
	b.see("Starts automatically")
	b.axe("an order that waits")
	b.click("button", "^Do not start automatically$")
	b.gone("Starts automatically")
}

// A device that Lithos does not reach is changed at its console: the push waits for its runbook, ticked line by line
// with what is seen there, and can be stopped.
func byTheRunbook(t *testing.T, a *app) {
	doc := scenario.Site("the-slipway")
	doc.ID, doc.Code, doc.Name = "site-quay-hall", "quay-hall", "Quay hall"
	_, err := a.Work.Sites.Import(t.Context(), doc, 0, "")
	require.NoError(t, err)
	who := a.technician(t)
	order, err := a.Work.Drafts.OpenOrder(t.Context(), who, "quay-hall", "Larger pool", "5120")
	require.NoError(t, err)
	_, err = a.Work.Drafts.Edit(t.Context(), who, order, draft.Change{Entries: []edit.Entry{{Kind: "pool",
		ID:     "pool-slip-office",
		Fields: map[string]string{"ranges": "60-220"}}}}, nil)
	require.NoError(t, err)
	_, err = a.Work.Pushes.Rehearse(t.Context(), who, order, 1)
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/orders/%d", order))
	b.see("done by hand before the others")
	b.click("summary", "^What will be different$")
	b.see("In the site file")
	b.axe("what will be different")
	b.click("footer button", "^Push")
	b.see("Waiting for the steps that are done by hand")
	b.axe("a runbook")
	b.picture("runbook")
	b.click("[aria-label=Runbook] button", "^Done$")
	b.see("Done by " + demo.FullName)
	b.click("button[aria-label^='Undo: Serve pool']", "Undo")
	b.gone("Done by " + demo.FullName)
	b.click("[aria-label=Runbook] button", "^Done$")
	b.fill("It shows", "10.97.24.60 - 10.97.24.189")
	b.click("button", "^Say so$")
	b.see("should show 10.97.24.60 - 10.97.24.220, and you saw 10.97.24.60 - 10.97.24.189")
	b.axe("a wrong answer")
	b.click("button", "^Stop the push$")
	b.see("Stop the push?")
	b.click("[role=dialog] button", "^Let it go on$")
	b.click("button", "^It shows this$")
	b.see("Done by hand and landed, not all of it verified")
	b.axe("done by hand")
}

// An order is copied to another site, and both are pushed in waves.
func manySites(t *testing.T, a *app) {
	for _, code := range []string{"east", "west"} {
		doc := scenario.Site("the-slipway")
		doc.ID, doc.Code, doc.Name = "site-mole-"+code, "mole-"+code, "Mole "+code
		doc.Devices[0].ID = "dev-mole-" + code
		for i := range doc.Pools {
			doc.Pools[i].Server = doc.Devices[0].ID
		}
		for i := range doc.Resolvers {
			doc.Resolvers[i].Device = doc.Devices[0].ID
		}
		_, err := a.Work.Sites.Import(t.Context(), doc, 0, "")
		require.NoError(t, err)
	}
	who := a.technician(t)
	order, err := a.Work.Drafts.OpenOrder(t.Context(), who, "mole-east", "Keys at the desk", "")
	require.NoError(t, err)
	_, err = a.Work.Drafts.Edit(t.Context(), who, order, draft.Change{Entries: []edit.Entry{{Kind: "site",
		ID:     "site-mole-east",
		Fields: map[string]string{"note": "keys at the desk"}}}}, nil)
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/orders/%d", order))
	b.click("button", "^Copy this order to other sites")
	b.fill("Find a site", "mole w")
	b.click("[role=dialog] label", "Mole west")
	b.axe("copying an order")
	b.click("[role=dialog] button", "^Copy to 1 site$")
	b.see("1 edit placed")
	b.click("[role=dialog] button", "^Close$")
	b.see("2 sites")
	b.see("was not rehearsed since its last change")
	b.click("button", "^Rehearse all 2$")
	b.see("Every open site was rehearsed")
	b.click("button", "^Push all 2 sites")
	b.fill("How many sites each wave takes, with commas", "one")
	b.see("Type whole numbers")
	b.fill("How many sites each wave takes, with commas", "1")
	b.axe("pushing many sites")
	b.click("[role=dialog] button", "^Push$")
	b.see("all have landed")
	b.axe("many sites landed")
}
