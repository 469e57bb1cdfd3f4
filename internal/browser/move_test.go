package browser

import (
	"fmt"
	"testing"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/demo/demotest"
	"lithos/internal/standin"
)

// The night that technicians fear: five VLANs on a router with subinterfaces, a core switch and two access switches,
// planned, begun, rehearsed and pushed in the browser, while the core switch loses its connection; who holds an address
// of their own is visited with a phone that has no connection.
func theNight(t *testing.T, a *app) {
	_, devices := demotest.Attic(t, a.Work)
	b := a.at(t, 1280, 800, "/sites/attic-house?network=net-attic-20")
	b.click("a", "^Move it")
	b.see("Plan a move")
	b.fill("New subnet", "127.30.120.5/24")
	b.see("is not a subnet")
	b.fill("New subnet", "127.30.10.0/24")
	b.see("would overlap Keepers")
	b.click("button", "^All 5 networks$")
	for i, vlan := range []int{20, 10, 30, 40, 50} {
		b.within("fieldset", i, "New subnet", fmt.Sprintf("127.30.%d.0/24", 100+vlan))
		b.within("fieldset", i, "New VLAN id", fmt.Sprint(100+vlan))
	}
	b.choose("How", "in one night, a straight swap")
	b.see("37 steps on 4 devices")
	b.see("At no step do two hold the same, or is a device out of reach")
	b.see("desk-1")
	b.axe("planning a move")

	// Another address: the end of a thread is dragged; then one is typed.
	b.dragThread("Desks", "desk-1", 150)
	b.until("the dragged address",
		`() => { const i = document.querySelector('input[aria-label^="New address of desk-1"]')
		return i && i.value.startsWith('127.30.120.') && i.value !== '127.30.120.20' }`)
	b.see("typed")
	b.click("button", "to type another$")
	desk := b.page.MustElement(`input[aria-label^="New address of desk-1"]`)
	require.NoError(t, desk.SelectAllText())
	require.NoError(t, desk.Input("127.30.120.33"))
	require.NoError(t, desk.Type(input.Enter))
	b.until("the new address", `() => document.querySelector('input[aria-label^="New address of desk-1"]').value ===
		'127.30.120.33' && document.body.innerText.includes('typed')`)
	b.click("button", "^Begin the move$")
	b.see("Type what the move is called")
	b.fill("What the move is called", "The attic at night")
	b.click("button", "^Begin the move$")
	b.see("a move in one night, under way")
	b.until("no plan kept", `() => !Object.keys(localStorage).some(k => k.startsWith('lithos-plan-'))`)
	b.axe("a move under way")
	b.see("To be visited by hand, 0 of 1 done")

	// Pushed as any other order, but its window is tonight.
	b.click("a", "^Go to WO-")
	b.see("of the move")
	b.see("Change window: not before")
	b.click("button", "^Note and change window$")
	b.fill("Not before", "")
	b.click("button", "^Set it$")
	b.see("Change window: not after")
	devices["dev-attic-core"].Inject(standin.Faults{ResetWrite: 3})
	b.click("footer button", "^Rehearse")
	b.see("known client")
	b.click("footer button", "^Push to")
	b.see("Pushed, verified and landed")
	b.click("a", "^The attic at night$")
	b.see("Still at old addresses")
	b.see("a move in one night, done")

	// The phone: a tick without a connection waits, and is sent when it is back.
	phone := a.at(t, 400, 780, b.path()+"/visits")
	phone.see("0 of 1 done")
	phone.see("255.255.255.0")
	offline := func(is bool) {
		require.NoError(t, proto.NetworkEmulateNetworkConditions{Offline: is, DownloadThroughput: -1,
			UploadThroughput: -1}.Call(phone.page))
	}
	offline(true)
	phone.click("label", "eye-1")
	phone.see("1 tick waits for the connection")
	phone.axe("visits on a phone")
	offline(false)
	phone.gone("1 tick waits for the connection")
	b.see("To be visited by hand, 1 of 1 done")
	list, err := a.Work.Moves.Moves(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, list)
	m, err := a.Work.Moves.Move(t.Context(), list[0].ID)
	require.NoError(t, err)
	require.Len(t, m.Visits, 1)
	assert.NotNil(t, m.Visits[0].DoneAt)
}

// A move is planned with wrong values, left and come back to, and started over; a part of a network is split off.
func planningAMove(t *testing.T, a *app) {
	b := a.at(t, 820, 900, "/sites/kelder-bridge/move?network=net-clinic")
	b.see("Nothing would change yet")
	b.fill("New VLAN id", "abc")
	b.see(`"abc" is not a VLAN id; type a number from 1 to 4094`)
	b.fill("New VLAN id", "124")
	b.fill("New subnet", "10.84.22.0/23")
	b.see("Shorten the leases")
	b.fill("Leases before it, in minutes", "2000")
	b.see("type a number from 1 to 1440")
	b.see("What is shown below is of before the last change")
	b.axe("a plan with a wrong value")
	b.fill("Leases before it, in minutes", "45")
	b.gone("What is shown below is of before the last change")
	b.see("Leases become 45 minutes, of Clinic floor (now 8 hours)")

	b.click("button", "^Join, split or route it elsewhere$")
	b.click("button", "^Split part of it off$")
	b.fill("The new network is called", "Tills")
	b.fill("Takes the addresses", "60-80")
	b.fill("Its subnet", "10.84.30.0/26")
	b.fill("Its VLAN id", "25")
	b.click("label", "^sw-ward port1$")
	b.see("port1, untagged VLAN")
	b.axe("splitting a network")

	b.visit(a.URL + "/rounds")
	b.see("Rounds")
	b.visit(a.URL + "/sites/kelder-bridge/move?network=net-clinic")
	b.until("what was typed", `() => [...document.querySelectorAll('input')].some(i => i.value === '10.84.30.0/26')`)
	assert.Equal(t, "45", b.value("Leases before it, in minutes"))
	b.click("button", "^Start over$")
	b.gone("Its subnet")
	assert.Equal(t, "30", b.value("Leases before it, in minutes"))
	b.see("Nothing would change yet")
}

// dragThread drags the lower end of the thread of whose address it is on the drawing of a network.
func (b *tab) dragThread(network, whose string, by float64) {
	b.Helper()
	at, err := b.page.Eval(`(network, whose) => {
		const svg = document.querySelector('svg[aria-label^="' + network + ':"]')
		svg.scrollIntoView({ block: 'center' })
		const of = g => g.querySelector(':scope > title')?.textContent ?? ''
		const thread = [...svg.querySelectorAll('g')].find(g => of(g).startsWith(whose))
		const box = thread.querySelector('circle').getBoundingClientRect()
		return { x: box.x + box.width / 2, y: box.y + box.height / 2 }
	}`, network, whose)
	require.NoError(b, err)
	x, y := at.Value.Get("x").Num(), at.Value.Get("y").Num()
	mouse := b.page.Mouse
	require.NoError(b, mouse.MoveTo(proto.Point{X: x, Y: y}))
	require.NoError(b, mouse.Down(proto.InputMouseButtonLeft, 1))
	require.NoError(b, mouse.MoveLinear(proto.Point{X: x + by, Y: y + 3}, 5))
	require.NoError(b, mouse.Up(proto.InputMouseButtonLeft, 1))
}

// path is the address of what is shown.
func (b *tab) path() string {
	v, err := b.page.Eval(`() => location.pathname`)
	require.NoError(b, err)
	return v.Value.String()
}

// within fills a field of one of several forms alike.
func (b *tab) within(selector string, at int, label, text string) {
	b.Helper()
	b.until(fmt.Sprintf("%s of form %d", label, at),
		`(selector, at) => document.querySelectorAll(selector).length > at`,
		selector, at)
	forms, err := b.page.Elements(selector)
	require.NoError(b, err)
	l, err := forms[at].ElementR("label", "^"+label+"$")
	require.NoError(b, err)
	id, err := l.Attribute("for")
	require.NoError(b, err)
	field, err := b.page.ElementByJS(rod.Eval(`id => document.getElementById(id)`, *id))
	require.NoError(b, err)
	require.NoError(b, field.SelectAllText())
	require.NoError(b, field.Input(text))
}
