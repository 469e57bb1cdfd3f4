package browser

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/accounts"
	"lithos/internal/accounts/accountstest"
	"lithos/internal/actor"
	"lithos/internal/demo"
	"lithos/internal/draft"
)

// at opens a page of a browser in which the technician of the test is signed in.
func (a *app) at(t *testing.T, width, height int, path string) *tab {
	return a.as(t, a.account(t), width, height, path)
}

func (a *app) as(t *testing.T, account string, width, height int, path string) *tab {
	b := a.open(t, width, height)
	b.see("Sign in")
	b.signIn(account)
	b.visit(a.URL + path)
	return b
}

// account is that of the test's technician, who has the demonstration's name and
// password. Another's work order would be picked up at sign-in.
func (a *app) account(t *testing.T) string {
	if !a.shared {
		return demo.Account
	}
	_, name, _ := strings.Cut(t.Name(), "/")
	if _, made := a.accounts.LoadOrStore(name, true); !made {
		accountstest.Account(t, a.Store, name, demo.FullName, demo.Password)
	}
	return name
}

func (a *app) technician(t *testing.T) actor.Technician {
	who, _, err := a.Work.Accounts.SignIn(t.Context(),
		accounts.Attempt{Name: a.account(t), Password: demo.Password, Source: "test"})
	require.NoError(t, err)
	return who
}

// Tasks that need no server to themselves.
func TestTogether(t *testing.T) {
	together(t, map[string]func(*testing.T, *app){
		"keyboard-alone":    byKeyboardAlone,
		"drag-a-pool-edge":  dragThePoolEdge,
		"second-technician": secondTechnicianKeepsWhatWasTyped,
		"hurried-undo":      hurriedUndo,
		"thousand-rows":     thousandRows,
		"devices-and-links": devicesAndTheirLinks,
		"uplink-password":   uplinkPassword,
		"many-at-once":      manyAtOnce,
		"options-and-reply": optionsAndTheReply,
		"the-whole-site":    theWholeSite,
		"forecasts":         forecasts,
		"seen":              seenAndWhatToMakeOfIt,
		"try-many-acts":     tryManyActs,
		"lists-and-keys":    listsAndKeys,
		"told-and-titled":   toldAndTitled,
		"forms-are-kept":    formsAreKept,
		"late-refusal":      lateRefusal,
		"copying":           copyingAndCutText,
		"58-tab-goes-on":    tabGoesOn,
		"58-in-the-address": tabsAndFiltersInTheAddress,
		"58-forced-colours": forcedColours,
		"keys-and-skips":    keysAndSkipLinks,
		"long-lists":        longLists,
		"names-in-place":    namesInPlace,
		"asking-names":      askingNames,
		"pasting-names":     pastingNames,
		"names-live":        namesLive,
		"names-told":        tellingTheWorld,
		"names-following":   followingLines,
		"outside-keys":      outsideKeys,
		"putting-away":      puttingAway,
		"looking-back":      lookingBack,
		"noticing":          noticing,
		"taking-in":         takingIn,
		"standards":         standards,
		"waiting":           waiting,
		"runbook":           byTheRunbook,
		"many-sites":        manySites,
		"the-night":         theNight,
		"planning-a-move":   planningAMove,
		"59-loading":        pagesThatLoad,
		"find-anything":     findAnything,
		"narrow-pages":      narrowPages,
		"empty-site":        emptySite,
		"option-levels":     optionLevels,
		"others-are-shown":  othersAreShown,
		"printing":          printing,
		"another-order":     pageOfAnotherOrder,
		"window-opens":      windowOpens,
		"zone-begun":        zoneBegun,
		"dead-link":         deadLink,
		"keys-again":        keysAgain,
		"live-again":        liveAgain,
		"one-tray":          oneTray,
		"ruler-gives-way":   rulerGivesWay,
	})
}

// A reservation and a pool without touching the mouse.
func byKeyboardAlone(t *testing.T, a *app) {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "kelder-bridge", "Keys", "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/kelder-bridge?order=%d&network=net-imaging", order))
	b.see(fmt.Sprintf("WO-%04d", order))
	b.see("Imaging")
	keys := func(k ...input.Key) { require.NoError(t, b.page.KeyActions().Type(k...).Do()) }

	// Find, by slash.
	b.press(input.Slash)
	require.NoError(t, b.page.InsertText("0000.5e00.5350"))
	b.see("10.84.20.14 · 00:00:5e:00:53:50")
	keys(input.Enter)
	b.until("the reservation in the inspector",
		`() => document.querySelector('aside[aria-label=Inspector] [data-title]')?.innerText === 'plate-reader'`)

	// The ruler: to the last usable address, seven back, extended by five.
	ruler, err := b.page.Element(`[aria-roledescription=ruler]`)
	require.NoError(t, err)
	require.NoError(t, ruler.Focus())
	keys(input.End)
	b.see("10.84.20.63 · broadcast address")
	keys(input.ArrowLeft)
	require.NoError(t, b.page.KeyActions().Press(input.ShiftLeft).
		Type(input.ArrowLeft, input.ArrowLeft, input.ArrowLeft, input.ArrowLeft).Do())
	b.see("10.84.20.58 - 10.84.20.62 · 5 addresses")
	keys(input.KeyP)
	b.see("Add a pool")
	assert.Equal(t, "10.84.20.58 - 10.84.20.62", b.value("Ranges"))
	b.fill("Name", "Carts")
	keys(input.Enter)
	b.until("the pool in the inspector",
		`() => document.querySelector('aside[aria-label=Inspector] [data-title]')?.innerText === 'Carts'`)
	require.NoError(t, ruler.Focus())
	keys(input.Home, input.ArrowRight)
	b.see("10.84.20.1 · gateway gw-1")
	keys(input.Enter)
	b.until("what is there",
		`() => document.querySelector('aside[aria-label=Inspector] [data-title]')?.innerText === 'lan.48'`)

	// Networks, places, help, undo.
	b.press(input.BracketRight)
	b.until("the next network", `() => document.querySelector('h1')?.innerText === 'Waiting room'`)
	b.press(input.BracketLeft)
	b.until("the one before", `() => document.querySelector('h1')?.innerText === 'Imaging'`)
	b.press(input.Key('?'))
	b.see("All keys")
	b.axe("all keys")
	keys(input.Escape)
	b.press(input.ControlLeft, input.KeyZ)
	b.see("0 edits")
	b.press(input.KeyG)
	keys(input.KeyO)
	b.see("Work orders")
	b.until("the list of orders",
		`() => location.pathname === '/orders' && document.querySelector('h1')?.innerText === 'Work orders'`)
	b.axe("work orders")
	b.press(input.KeyG)
	keys(input.KeyT)
	b.see("Clinic standard")
	b.axe("standards")
}

// The edge of a pool is dragged; one undo puts it back.
func dragThePoolEdge(t *testing.T, a *app) {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "kelder-bridge", "Edges", "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/kelder-bridge?order=%d&network=net-imaging&select=pool:pool-imaging",
		order))
	b.see("10.84.20.24 - 10.84.20.55")
	b.see(fmt.Sprintf("WO-%04d", order))
	b.until("the draft on the page", `() => document.querySelector('footer[aria-label="Open work order"]') !== null`)
	edge, err := b.page.Element(`rect[data-edge=end]`)
	require.NoError(t, err)
	shape, err := edge.Shape()
	require.NoError(t, err)
	box, err := b.page.MustElement(`[aria-roledescription=ruler]`).Shape()
	require.NoError(t, err)
	at := shape.Box()
	cell := box.Box().Width / 64
	mouse := b.page.Mouse
	require.NoError(t, mouse.MoveTo(proto.Point{X: at.X + 4, Y: at.Y + 12}))
	require.NoError(t, mouse.Down(proto.InputMouseButtonLeft, 1))
	require.NoError(t, mouse.MoveLinear(proto.Point{X: at.X + 4 + 4.5*cell, Y: at.Y + 12}, 6))
	b.see("10.84.20.24 - 10.84.20.60 · 37 addresses")
	require.NoError(t, mouse.Up(proto.InputMouseButtonLeft, 1))
	b.see("1 edit")
	b.until("the wider pool", `() => document.querySelector('aside[aria-label=Inspector]').innerText.includes('20.60')`)
	b.click("button", "^Undo")
	b.until("the pool as it was",
		`() => document.querySelector('aside[aria-label=Inspector]').innerText.includes('20.55')`)
}

// Two technicians in one draft: the second is told, and keeps what was typed.
func secondTechnicianKeepsWhatWasTyped(t *testing.T, a *app) {
	who := a.technician(t)
	order, err := a.Work.Drafts.OpenOrder(t.Context(), who, "kelder-bridge", "Shared", "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/kelder-bridge?order=%d&network=net-imaging", order))
	b.until("the draft on the page", `() => [
		'footer[aria-label="Open work order"]', '[aria-roledescription=ruler]',
	].every(part => document.querySelector(part) !== null)`)
	b.press(input.KeyR)
	b.see("Reserve an address")
	b.fill("MAC", "02:00:5e:00:00:01")
	rename := draft.Change{}
	rename.Entries = append(rename.Entries, entry("network", "net-imaging", "name", "Scans"))
	_, err = a.Work.Drafts.Edit(t.Context(), who, order, rename, nil)
	require.NoError(t, err)
	b.click("button", "^Add$")
	b.see("made another edit")
	assert.Equal(t, "02:00:5e:00:00:01", b.value("MAC"))
	b.axe("a form after a conflict")
	b.until("the other's edit on the page",
		`() => [...document.querySelectorAll('h1')].some(h => h.innerText === 'Scans')`)
	b.click("button", "^Add$")
	b.until("the reservation beside it",
		`() => document.querySelector('aside[aria-label=Inspector]').innerText.includes('02:00:5e:00:00:01')`)
}

// Three steps taken back faster than one answer comes: what a technician does in
// a hurry does not collide with itself.
func hurriedUndo(t *testing.T, a *app) {
	who := a.technician(t)
	order, err := a.Work.Drafts.OpenOrder(t.Context(), who, "kelder-bridge", "Hurry", "")
	require.NoError(t, err)
	for i, name := range []string{"One", "Two", "Three"} {
		_, err := a.Work.Drafts.Edit(t.Context(), who, order,
			draft.Change{Version: int32(i), Entries: []edit.Entry{entry("network", "net-imaging", "name", name)}}, nil)
		require.NoError(t, err)
	}
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/kelder-bridge?order=%d&network=net-imaging", order))
	b.see("3 edits")
	_, err = b.page.Eval(`() => {
		for (let i = 0; i < 3; i++) {
			window.dispatchEvent(new KeyboardEvent('keydown', { key: 'z', ctrlKey: true, bubbles: true }))
		}
	}`)
	require.NoError(t, err)
	b.see("0 edits")
	b.until("the old name", `() => document.querySelector('h1')?.innerText === 'Imaging'`)
	assert.NotContains(t, b.text(), "meanwhile")
}

// The same views on a tablet held upright, in dark colours.
func TestNarrowAndDark(t *testing.T) {
	a := startApp(t)
	b := a.at(t, 820, 1180, "/rounds")
	_, err := b.page.Eval(`() => localStorage.setItem('lithos.theme', 'dark')`)
	require.NoError(t, err)
	for path, text := range map[string]string{
		"/rounds": "Two owners of 10.84.18.57",
		"/sites/kelder-bridge?network=net-clinic&select=reservation:res-xray-plate": "Clinic floor",
		"/orders": "There is no work order yet", "/standards": "Clinic standard",
		"/nowhere": "There is nothing at this address",
	} {
		b.visit(a.URL + path)
		b.see(text)
		b.axe("narrow, dark " + path)
		wide, err := b.page.Eval(`() => document.documentElement.scrollWidth`)
		require.NoError(t, err)
		assert.LessOrEqual(t, wide.Value.Int(), 820, "%s is wider than the screen", path)
	}
	// A finding in an address opens the inspector's sheet on what it is about.
	b.visit(a.URL + "/sites/kelder-bridge?network=net-clinic")
	b.click("tr button", `\.18\.57`)
	b.see("Whichever starts second loses its connection")
	b.axe("narrow, dark sheet")
	b.click("button", "^Close$")
}

// A network of a thousand reservations scrolls, filters and sorts.
func thousandRows(t *testing.T, a *app) {
	s := hall("large", 0x0a600100, 1000)
	_, err := a.Work.Sites.Import(t.Context(), s, 0, "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, "/sites/large")
	b.see("seat-3")
	rows, err := b.page.Eval(`() => document.querySelectorAll('tbody tr').length`)
	require.NoError(t, err)
	assert.Less(t, rows.Value.Int(), 120, "only what is on the screen is drawn")
	b.see("256 rows of 256")
	b.axe("a large network")
	filter, err := b.page.Element(`input[aria-label="Filter the list"]`)
	require.NoError(t, err)
	require.NoError(t, filter.Input("seat-777"))
	b.see("10.96.4.9")
	b.gone("seat-3")
	require.NoError(t, filter.SelectAllText())
	require.NoError(t, filter.Input("seat-9"))
	b.click("th button", "^Name")
	b.click("th button", "^Name")
	b.until("the last name first",
		`() => document.querySelector('tbody tr:not([aria-hidden])')?.innerText.includes('seat-999')`)
}

// hall is a site with one network of 65,536 addresses and reservations from one on.
func hall(code string, first uint32, many int) *site.Site {
	s := scenario.Site("quill-street")
	s.ID, s.Code, s.Name = "site-"+code, code, "Office "+code
	prefix := netip.PrefixFrom(address.FromUint(first&0xffff0000), 16)
	s.Block, s.Networks = []netip.Prefix{prefix}, []site.Network{{ID: "net-l", Name: "Hall", Prefix: prefix,
		Gateway: prefix.Addr().Next()}}
	s.Devices, s.Pools, s.Reservations, s.FixedDevices = nil, nil, nil, nil
	for i := range many {
		s.Reservations = append(s.Reservations,
			&site.Reservation{ID: fmt.Sprintf("r-%d", i), Name: fmt.Sprintf("seat-%d", i), Network: "net-l",
				Address: address.FromUint(first + uint32(i)),
				MAC:     address.MAC{0, 0, 0x5e, 0, byte(i >> 8), byte(i)}})
	}
	return s
}

func entry(kind, id string, fields ...string) edit.Entry {
	e := edit.Entry{Kind: kind, ID: id, Fields: map[string]string{}}
	for i := 0; i < len(fields); i += 2 {
		e.Fields[fields[i]] = fields[i+1]
	}
	return e
}
