package browser

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/internal/draft"
	"lithos/internal/push"
)

// Number 6: on an order's page the tray, the keys and the next step are of that order, whichever one was worked on
// before; what opens an order puts it into the tray.
func pageOfAnotherOrder(t *testing.T, a *app) {
	who := a.technician(t)
	open := func(code, network, at, title string) int64 {
		id, err := a.Work.Drafts.OpenOrder(t.Context(), who, code, title, "")
		require.NoError(t, err)
		change := draft.Change{}
		change.Entries = append(change.Entries, entry("reservation", "res-lamp", "network", network, "address", at,
			"name", "lamp", "mac", "02:00:5e:00:00:77"))
		change.Entries[0].New = true
		_, err = a.Work.Drafts.Edit(t.Context(), who, id, change, nil)
		require.NoError(t, err)
		return id
	}
	mine := open("the-garret", "net-garret", "192.168.211.77", "Mine")
	other := open("windmill-studio", "net-mill", "192.168.60.77", "Another")
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/the-garret?order=%d", mine))
	b.see(fmt.Sprintf("WO-%04d", mine))
	b.visit(fmt.Sprintf("%s/orders/%d", a.URL, other))
	inTray := `t => document.querySelector('#tray')?.innerText.includes(t)`
	b.until("the page's order in the tray", inTray, "Another")
	b.press(input.ControlLeft, input.Enter)
	b.see("Rehearsal")
	rehearsed := func(id int64) bool {
		v, err := a.Work.Order(t.Context(), id)
		require.NoError(t, err)
		return v.Rehearsal != nil
	}
	b.until("the rehearsal", `() => document.querySelector('section[aria-label=Rehearsal]') !== null`)
	assert.True(t, rehearsed(other))
	assert.False(t, rehearsed(mine), "the order that is worked on elsewhere was left alone")
	b.axe("the page of another order")
	b.visit(a.URL + "/rounds")
	b.until("the own order in the tray again", inTray, "Mine")
}

// Number 7: when the window opens, the page that stays open says so and lets it be pushed; before that the next step is
// to leave it to start automatically.
func windowOpens(t *testing.T, a *app) {
	who := a.technician(t)
	id, err := a.Work.Drafts.OpenOrder(t.Context(), who, "the-garret", "At night", "")
	require.NoError(t, err)
	change := draft.Change{}
	change.Entries = append(change.Entries, entry("reservation", "res-lamp", "network", "net-garret", "address",
		"192.168.211.78", "name", "lamp", "mac", "02:00:5e:00:00:78"))
	change.Entries[0].New = true
	_, err = a.Work.Drafts.Edit(t.Context(), who, id, change, nil)
	require.NoError(t, err)
	zone, err := time.LoadLocation("Europe/London")
	require.NoError(t, err)
	require.NoError(t, a.Work.Pushes.SetWindow(t.Context(), who, id,
		push.WindowEntry{NotBefore: time.Now().Add(time.Hour).In(zone).Format(site.Clock)}))
	v, err := a.Work.Order(t.Context(), id)
	require.NoError(t, err)
	_, err = a.Work.Pushes.Rehearse(t.Context(), who, id, v.Head.Version)
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/orders/%d", id))
	b.until("the next step", `() => document.querySelector('#tray .btn-next')?.innerText.startsWith('Leave it to `+
		`start')`)
	b.see("It opens in")
	b.see("times are counted from its window")
	// The window opens in a few seconds: nothing tells the page.
	_, err = a.Store.Pool.Exec(t.Context(),
		"UPDATE work_order SET not_before = now() + interval '4 seconds' WHERE id = $1", id)
	require.NoError(t, err)
	b.visit(fmt.Sprintf("%s/orders/%d", a.URL, id))
	b.until("the step before", `() => document.querySelector('#tray .btn-next')?.innerText.startsWith('Leave it `+
		`to start')`)
	b.until("the push to be offered", `() => document.querySelector('#tray `+
		`.btn-next')?.innerText.startsWith('Push to')`)
	b.see("It is open.")
	b.axe("an order in its window")
}

// Number 8: live events that a proxy answered with an error once are heard again, and the page says so meanwhile.
func liveAgain(t *testing.T, a *app) {
	to, err := url.Parse(a.URL)
	require.NoError(t, err)
	const (
		whole int32 = iota
		broken
		mended
	)
	var state atomic.Int32
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.FlushInterval = -1
	cut := make(chan struct{})
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path != "/api/events" || state.Load() == mended:
			proxy.ServeHTTP(w, r)
		case state.Load() == broken:
			w.WriteHeader(http.StatusBadGateway)
		default:
			cuttable, end := context.WithCancel(r.Context())
			go func() {
				select {
				case <-cut:
				case <-cuttable.Done():
				}
				end()
			}()
			proxy.ServeHTTP(w, r.WithContext(cuttable))
		}
	}))
	defer front.Close()
	defer front.CloseClientConnections()
	b := a.open(t, 1280, 800)
	b.visit(front.URL)
	b.see("Sign in")
	b.signIn(a.account(t))
	b.visit(front.URL + "/orders")
	b.until("live events", `() => performance.getEntriesByType('resource').length > 0`)
	b.gone("This page is not live")
	state.Store(broken)
	close(cut)
	b.see("This page is not live")
	b.axe("a page that is not live")
	id, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "the-garret", "Opened meanwhile", "")
	require.NoError(t, err)
	state.Store(mended)
	b.see(fmt.Sprintf("WO-%04d", id))
	b.gone("This page is not live")
	b.visit("about:blank")
	b.mu.Lock()
	b.errs = nil // the browser's own words for the answers that were no stream
	b.mu.Unlock()
}

// Numbers 33 and 35: the list of a zone that was added is open, and what is typed into it is what the zone makes of it.
func zoneBegun(t *testing.T, a *app) {
	b := a.names(t, "the-garret", "")
	b.click("button", "^Add a zone$")
	b.fill("Zone", "shed.home.arpa")
	b.click("[role=dialog] button", "^Add")
	b.until("the list of the new zone", `() => document.querySelector('main h1')?.innerText === 'shed.home.arpa'`)
	b.until("its new line", `() => {
		const e = document.querySelector('[data-cell="0/0"]')
		e?.focus()
		return !!e && document.activeElement === e
	}`)
	b.keys(input.Enter)
	b.focus("the field of the new name", `e => e.placeholder === 'label-prn'`)
	b.typed("kiln")
	b.keys(input.Tab)
	b.focus("the field of its value", `e => e.placeholder?.startsWith('10.84')`)
	b.typed("192.168.211.40")
	b.keys(input.Enter)
	b.until("the name in the list", `() => [...document.querySelectorAll('[data-cell]')]
		.some(e => e.innerText.trim().startsWith('kiln'))`)
	b.see("2 edits") // what is typed shows before it is kept
	d, err := a.Work.Drafts.Draft(t.Context(), b.order())
	require.NoError(t, err)
	for _, z := range d.Doc().Zones {
		if z.Name == "shed.home.arpa" {
			require.Len(t, z.Records, 1)
			assert.Equal(t, "A", z.Records[0].Type, "under home.arpa an address is an address")
		}
	}
}

// Number 17: a link to what is gone says so, and leads to what is nearest where there is such.
func deadLink(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/sites/kelder-bridge?select=reservation:never-there")
	b.see("What the link is of was never at this site.")
	b.until("no way to nowhere", `() => ![...document.querySelectorAll('button')]
		.some(e => e.innerText.startsWith('Go to'))`)
	b.axe("a dead link")
	id, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "kelder-bridge", "Take the clock away", "")
	require.NoError(t, err)
	_, err = a.Work.Drafts.Edit(t.Context(), a.technician(t), id, draft.Change{Remove: "reservation:res-clock"}, nil)
	require.NoError(t, err)
	b.visit(fmt.Sprintf("%s/sites/kelder-bridge?order=%d&select=reservation:res-clock", a.URL, id))
	b.see(fmt.Sprintf("is taken away in WO-%04d", id))
	b.click("[role=status] button", "^Go to ")
	b.until("the network on the page", `() => new URL(location.href).searchParams.get('network') !== null`)
}

// Numbers 30 and 34: a key that is made again says that the one before lives; one that is used is replaced in the
// draft.
func keysAgain(t *testing.T, a *app) {
	b := a.names(t, "quill-street", "layer=zone-quill-out&select=following:following-remote")
	drafted := func() string {
		d, err := a.Work.Drafts.Draft(t.Context(), b.order())
		require.NoError(t, err)
		w, _ := d.Doc().Follower("following-remote")
		return w.Key
	}
	// Other tests have keys made at the same provider, so that which number one gets is not known.
	becomesAnother := func(was string) string {
		require.Eventually(t, func() bool { return drafted() != was }, 10*time.Second, 20*time.Millisecond)
		return drafted()
	}
	wide := drafted()
	b.click("button", "^Have a key made for it$")
	first := becomesAnother(wide)
	b.click("button", "^Have a key made for it$")
	b.see(first + " was made for it before")
	b.axe("a key that lives")
	b.click("button", "^Make another and end that one$")
	becomesAnother(first)
	require.Eventually(t, func() bool { _, lives := a.Devices.Internet.Key(first); return !lives }, 10*time.Second,
		20*time.Millisecond)
	b.click("button[aria-label='Replace challenge.cloud']", "^Replace$")
	b.see("A new key is in the draft wherever challenge.cloud was used.")
	d, err := a.Work.Drafts.Draft(t.Context(), b.order())
	require.NoError(t, err)
	assert.NotEqual(t, "challenge.cloud", d.Doc().Certificates[0].Key)
}
