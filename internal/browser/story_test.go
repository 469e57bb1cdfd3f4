package browser

import (
	"slices"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/yang"
	"lithos/internal/demo"
)

// From an empty network to a client with an address: the whole of the job,
// once, through the real application.
//
//revive:disable-next-line:function-length it is one story, step by step
func TestRecoveryWard(t *testing.T) {
	a := startApp(t)
	b := a.open(t, 1280, 800)

	// Signing in, with a wrong password first.
	b.see("Sign in")
	b.axe("sign-in")
	b.fill("Name", "mk")
	b.fill("Password", "not the password")
	b.click("button", "^Sign in$")
	b.see("The name or password is wrong")
	b.signIn(demo.Account)
	b.see("Two owners of 10.84.18.57")
	b.see("is in two places") // what only a site's surroundings show comes with the first reading of its devices
	b.axe("rounds")
	b.picture("rounds")

	// The Section shows the block with its networks and the free space.
	b.click("a", "Kelder Bridge surgery")
	b.see("Waiting room")
	b.see("10.84.28.0/22 free")
	b.axe("site")
	b.click("aside button", "Clinic floor")
	b.click("tr button", `\.18\.57`)
	b.see("Two owners of 10.84.18.57")
	b.until("the lease dots",
		`() => [...document.querySelectorAll('[aria-roledescription=ruler] path[data-seen]')]
			.reduce((n, p) => n + Number(p.dataset.seen), 0) > 20`)
	b.picture("site")
	b.click("button", "Open a work order")
	b.click("button", "^Open$")
	b.see("A work order needs a title")
	b.axe("open a work order")
	b.fill("Title", "Recovery ward")
	b.fill("Ticket", "4471")
	b.click("button", "^Open$")
	b.see("WO-0001")

	// The network Recovery in free space.
	b.click("button", "Add a network")
	b.fill("Name", "Recovery")
	b.fill("Prefix", "10.84.20.70/26")
	b.click("button", "^Add$")
	b.see("has host bits set; type 10.84.20.64/26")
	assert.Equal(t, "Recovery", b.value("Name"), "what was typed is still there")
	b.axe("a form with a mistake")
	b.choose("Size", "^/26")
	b.until("the proposal", `() => document.querySelector('input[name=vlan]')?.value === '91'`)
	assert.Equal(t, "10.84.20.64/26", b.value("Prefix"))
	assert.Equal(t, "10.84.20.65", b.value("Gateway"))
	b.click("button", "^Add$")
	b.see("on no interface yet")
	b.see("3 warnings")

	// A VLAN interface on gw-1 with the gateway address.
	b.click("button", "Give gw-1 an interface")
	assert.Equal(t, "10.84.20.65/26", b.value("Addresses"))
	b.click("button", "^Add$")
	b.see("lan.91 on gw-1")

	// The trunk to the switch carries its VLAN, and the uplink lets its clients out.
	b.see("1 finding blocks the push")
	b.click("aside button", "Recovery")
	b.click("aside button", "^Carry VLAN 91 on uplink1 of sw-core too$")
	b.gone("finding blocks the push")
	b.click("aside button", "Translate it on wan of gw-1")
	b.gone("is translated by no uplink")
	b.see("Recovery comes out at no port")
	b.click("aside button", "^Carry VLAN 91")
	b.gone("Recovery comes out at no port")

	// A pool, dragged on the ruler; four addresses in it excluded.
	b.dragRuler(0, 64, 16, 55)
	b.see("10.84.20.80 - 10.84.20.119 · 40 addresses")
	b.click("button", "^Pool")
	b.fill("Name", "Ward")
	b.click("button", "^Add$")
	b.see("0 of 40 pool addresses in use")
	b.dragRuler(0, 64, 36, 39)
	b.see("4 addresses")
	b.click("button", "^Exclude")
	b.fill("Reason", "Monitors, set by their maker")
	b.click("button", "^Add$")
	b.see("0 of 36 pool addresses in use")

	// Name servers, domain and lease time; the gateway came with the network.
	for _, o := range [][2]string{{"^6 ", "10.84.16.10, 10.84.16.1"}, {"^15 ", "ward.kelder.larkrise.example"},
		{"^51 ", "4 hours"}} {
		b.click("tr button", `\.80`)
		b.see("Hands out")
		b.click("aside button", "Set an option")
		b.see("How long the client may keep its address") // the option it opens with, and its meaning
		b.until("the choice to show it",
			`() => document.querySelector('[role=dialog] select').selectedOptions[0].innerText.includes('Lease time')`)
		b.choose("Option", o[0])
		b.fill("Value", o[1])
		b.choose("For", "the pool Ward")
		b.click("button", "^Set$")
		b.until("the option in the inspector",
			`v => document.querySelector('aside[aria-label=Inspector]').innerText.includes(v)`, o[1])
	}

	// An address for one MAC, by keyboard.
	b.press(input.KeyR)
	b.see("Reserve an address")
	b.fill("MAC", "00-00-5E-00-53-B")
	b.click("button", "^Add$")
	b.see("type twelve hex digits")
	b.fill("MAC", "0000.5e00.53b1")
	b.fill("Host name", "ward-pump")
	b.click("button", "^Add$")
	b.see("ward-pump.kelder.larkrise.example")

	// A deliberate mistake: a fixed device inside the pool.
	b.press(input.KeyF)
	b.see("Record a fixed device")
	b.fill("Address", ".90")
	b.fill("Host name", "infusion-1")
	b.click("button", "^Add$")
	b.see("1 finding blocks the push")
	mistake := `() => ({
		ruler: document.querySelector('[aria-roledescription=ruler] a[aria-label$="is inside pool Ward"]') !== null,
		list: [...document.querySelectorAll('tbody tr')].some(r =>
			r.innerText.includes('infusion-1') && r.innerText.includes('blocks the push')),
		inspector: document.querySelector('aside[aria-label=Inspector]').innerText.includes('.90 is inside pool Ward'),
	})`
	b.until("the mistake on the ruler, in the list and in the inspector",
		`() => Object.values((`+mistake+`)()).every(Boolean)`)
	b.axe("site with a finding")
	b.picture("site-finding")
	b.click("button", "Exclude .90 from the pool")
	b.gone("finding blocks the push")
	b.press(input.ControlLeft, input.KeyZ)
	b.see("1 finding blocks the push")
	b.click("button", "^Redo")
	b.gone("finding blocks the push")

	// Another: the pool left switched off.
	b.click("tr button", `\.80`)
	b.click("aside button", "Switch off")
	b.see("Pool Ward is switched off")
	b.see("1 warning")
	b.click("aside button", "^Switch it on$")
	b.gone("Pool Ward is switched off")
	b.gone("1 warning")

	// Rehearsal: real packets, and the rungs of the ladder.
	b.press(input.ControlLeft, input.Enter)
	b.see("Clients affected")
	b.picture("work-order-rehearsed")
	b.until("the rungs of Recovery",
		`() => [...document.querySelectorAll('section[aria-label=Rehearsal] tr')]
			.some(r => r.innerText.includes('Recovery') && (r.innerText.match(/✓/g) ?? []).length === 4)`)
	b.click("section[aria-label=Rehearsal] button", "octets$")
	b.see("Router")
	b.axe("work order, rehearsed")

	// The push, to the simulated firewall.
	b.click("button", "^Push to sw-core and gw-1")
	b.see("Pushed, verified and landed")
	b.see("Land revision 2 of Kelder Bridge surgery")
	b.axe("work order, landed")
	b.picture("work-order-landed")
	for _, held := range []yang.Config{a.Devices.ByID["dev-gw-1"].Running(), a.Devices.ByID["dev-gw-1"].Startup()} {
		i := slices.IndexFunc(held.DHCP.Pool, func(p yang.Pool) bool { return p.Name == "Ward" })
		require.GreaterOrEqual(t, i, 0, "the device serves the pool")
		assert.Len(t, held.DHCP.Pool[i].Exclusion, 2)
	}
	history, err := a.Work.Sites.History(t.Context(), "kelder-bridge")
	require.NoError(t, err)
	assert.Equal(t, int32(2), history[0].Revision)
	assert.Equal(t, "Recovery ward 4471", history[0].Note)
	assert.Equal(t, "Maren Kolb", history[0].By)

	// A client nobody knows, against the device; its lease is seen.
	b.click("section[aria-label=Steps] a", "Kelder Bridge surgery")
	b.click("aside button", "Recovery")
	b.until("the network to show", `() => document.querySelector('h1')?.innerText === 'Recovery'`)
	b.click("[role=tab]", "Try a client")
	b.fill("MAC", "00:00:5e:00:53:fe")
	b.fill("Host name", "visitor")
	b.choose("Against", "the real device")
	b.click("form button", "Try a client")
	b.see("00:00:5e:00:53:fe was given 10.84.20.81") // .80 went to the client that proved the push
	for _, kind := range []string{"DISCOVER", "OFFER", "REQUEST", "ACK"} {
		b.see(kind)
	}
	b.see("ward.kelder.larkrise.example")
	b.axe("try a client")
	b.picture("try-a-client")
	b.click("[role=tab]", "Addresses")
	b.until("the dot on the ruler",
		`() => [...document.querySelectorAll('[aria-roledescription=ruler] path[data-seen]')]
			.reduce((n, p) => n + Number(p.dataset.seen), 0) > 0`)
	b.click("[role=tab]", "Observed")
	b.until("the lease under Seen",
		`() => [...document.querySelectorAll('tbody tr')].some(r => r.innerText.includes('10.84.20.81') && `+
			`r.innerText.includes('visitor'))`)
	b.axe("seen")
}
