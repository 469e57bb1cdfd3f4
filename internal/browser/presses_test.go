package browser

import (
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
)

// hand counts the keys that a task takes. The letters of what is typed into a field are
// not counted: they are the same by any way.
type hand struct {
	*tab
	presses int
	all     int // of the tasks done
}

func (h *hand) press(keys ...input.Key) *hand {
	h.Helper()
	h.keys(keys...)
	h.presses += len(keys)
	return h
}

func (h *hand) enters(words string) *hand {
	h.Helper()
	h.typed(words)
	return h
}

// upTo presses a key until the keyboard is on something.
func (h *hand) upTo(key input.Key, what, js string) *hand {
	h.Helper()
	for range 60 {
		v, err := h.page.Eval(`() => { const e = document.activeElement; return !!(` + js + `) }`)
		if err == nil && v.Value.Bool() {
			return h
		}
		h.press(key)
	}
	h.Fatalf("the keyboard does not come to %s", what)
	return h
}

// took fails where a task takes more presses than it may: half of what it once took, with
// the Tab key through the page, where that was more than one or two. docs/keys.md has the table.
func (h *hand) took(task string, most int) {
	h.Helper()
	h.Logf("%s: %d presses", task, h.presses)
	assert.LessOrEqual(h, h.presses, most, task)
	h.all += h.presses
	h.presses = 0
}

// The main tasks from signing in to a push, with the keyboard alone, counted.
//
//revive:disable-next-line:function-length one Lithos serves all of its parts
func TestPressesOfTheMainTasks(t *testing.T) {
	a := startApp(t)
	h := &hand{tab: a.open(t, 1280, 800)}
	h.focus("the name", `e => e.name === 'name'`)
	h.enters("mk").press(input.Tab).enters("slate-and-lichen").press(input.Enter)
	h.titled("Rounds · Lithos")
	h.see("Kelder Bridge surgery")
	h.took("sign in", 2)
	// The list is in its order once the lines of dynamic names were read.
	h.see("The world is told the wrong address of vpn.saltmarsh.example")
	h.see("hut.tidewater.example is not reachable from the internet")

	h.press(input.KeyL)
	h.focus("the first site", `e => e.matches('main [data-row]')`)
	h.press(input.ArrowDown, input.ArrowDown)
	// What is read meanwhile puts the list into another order: the row stays, and not its place.
	h.focus("another site", `e => e.matches('main [data-row]')`)
	h.press(input.Enter)
	h.until("its page", `() => location.pathname.startsWith('/sites/')`)
	h.took("open the third site", 10)

	h.visit(a.URL + "/sites/kelder-bridge")
	h.titled("Bench · Kelder Bridge surgery · Lithos")
	h.press(input.BracketRight, input.BracketRight)
	h.titled("Handsets · Kelder Bridge surgery · Lithos")
	h.took("go to the third network", 6)

	h.press(input.KeyW)
	h.focus("the title", `e => e.name === 'title'`)
	h.enters("Night shift").press(input.Enter)
	h.see("WO-0001")
	h.took("open a work order", 31)

	h.press(input.KeyA)
	h.focus("the name", `e => e.name === 'name'`)
	h.enters("Recovery").press(input.Tab).enters("10.84.20.64/26").press(input.Tab).enters("91").press(input.Enter)
	h.inspects("Recovery")
	h.took("add a network", 13)

	h.press(input.KeyD)
	h.focus("a device", `e => e.closest('section[aria-label^=Device]') !== null`)
	h.upTo(input.ArrowDown, "gw-1", `e.innerText === 'gw-1'`)
	h.upTo(input.Tab, "its button", `e.innerText === 'Add an interface'`).press(input.Enter)
	h.focus("the name", `e => e.name === 'name'`)
	h.enters("lan.91").press(input.Tab, input.KeyV)
	h.upTo(input.Tab, "what carries it", `e.name === 'parent'`).press(input.KeyL)
	h.upTo(input.Tab, "the VLAN", `e.name === 'vlan'`).enters("91")
	h.upTo(input.Tab, "the addresses", `e.name === 'addresses'`).enters("10.84.20.65/26").press(input.Enter)
	h.inspects("lan.91")
	h.took("add an interface", 21)

	h.press(input.KeyP)
	h.focus("the name", `e => e.name === 'name'`)
	h.enters("Ward").press(input.Tab).enters("80-119").press(input.Enter)
	h.inspects("Ward")
	h.took("add a pool", 21)

	h.press(input.KeyX)
	h.focus("the range", `e => e.name === 'range'`)
	h.enters("100-103").press(input.Tab).enters("Monitors").press(input.Enter)
	h.inspects("Monitors")
	h.took("exclude addresses", 21)

	h.press(input.KeyR)
	h.focus("the address", `e => e.name === 'address'`)
	h.press(input.Tab).enters("00:00:5e:00:53:e7").press(input.Tab).enters("infusion-1").press(input.Enter)
	h.inspects("infusion-1")
	h.took("reserve an address", 21)

	h.press(input.BracketLeft, input.BracketLeft)
	h.titled("Clinic floor · Kelder Bridge surgery · Lithos")
	h.presses = 0
	h.press(input.KeyI)
	h.focus("the inspector", `e => e.closest('aside[aria-label=Inspector]') !== null`)
	h.upTo(input.Tab, "the fix", `e.innerText.startsWith('Move the reservation to')`).press(input.Enter)
	h.gone("Two owners of 10.84.18.57")
	h.focus("the inspector still", `e => e.closest('aside[aria-label=Inspector]') !== null`)
	h.took("fix a finding", 28)

	h.press(input.KeyT)
	h.focus("the MAC", `e => e.name === 'mac'`)
	h.press(input.Enter)
	h.see("was given")
	h.took("try a client", 14)

	// What blocks the push goes the same way.
	h.press(input.Escape)
	h.tab.press(input.BracketRight, input.BracketRight)
	h.titled("Recovery · Kelder Bridge surgery · Lithos")
	h.press(input.KeyI)
	h.upTo(input.Tab, "the fix", `e.innerText.startsWith('Carry VLAN 91 on uplink1')`).press(input.Enter)
	h.gone("blocks the push")
	h.presses = 1
	h.tab.press(input.ControlLeft, input.Enter)
	h.said("Rehearsed with")
	h.took("rehearse", 1)
	h.presses = 1
	h.tab.press(input.ControlLeft, input.Enter)
	h.see("Pushed, verified and landed")
	h.took("push", 1)
	assert.LessOrEqual(t, h.all, 384/2, "all of them, which took 384")
}
