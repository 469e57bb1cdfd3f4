package browser

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/demo"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
	"lithos/web"
)

// The answer that says that a push is queued comes after all that say that it landed.
func TestALateAnswerChangesNothing(t *testing.T) {
	a := startApp(t)
	who := a.technician(t)
	order, err := a.Work.Drafts.OpenOrder(t.Context(), who, "kelder-bridge", "Late", "")
	require.NoError(t, err)
	change := draft.Change{}
	change.Entries = append(change.Entries, entry("reservation", "res-plate-reader", "name", "plate-reader-2"))
	_, err = a.Work.Drafts.Edit(t.Context(), who, order, change, nil)
	require.NoError(t, err)
	b := a.open(t, 1280, 800)
	b.holdsBack("/push$")
	b.visit(a.URL)
	b.signIn(demo.Account)
	b.visit(fmt.Sprintf("%s/orders/%d", a.URL, order))
	b.click("footer button", "^Rehearse")
	b.said("Rehearsed with")
	b.click("footer button", "^Push to gw-1")
	b.see("Pushed, verified and landed")
	b.until("the answer to the push to wait", `() => window.held === 200`)
	b.page.MustEval(`() => window.letGo()`)
	b.said("The push of WO-0001 has begun")
	assert.Contains(t, b.text(), "Pushed, verified and landed")
	b.see("Late has landed")
	scrolls, err := b.page.Eval(`() => {
		const main = document.querySelector('main')
		return main.scrollHeight - main.clientHeight
	}`)
	require.NoError(t, err)
	assert.LessOrEqual(t, scrolls.Value.Int(), 1, "one scroll bar is enough")
	b.titled("WO-0001 Late · Kelder Bridge surgery · Lithos")
}

// A refusal of the session that is over, which comes after signing in again, says nothing of the new one.
func lateRefusal(t *testing.T, a *app) {
	b := a.open(t, 1280, 800)
	b.holdsBack("held-one(&|$)")
	b.visit(a.URL)
	name := a.account(t)
	b.signIn(name)
	b.see("Kelder Bridge surgery")
	require.NoError(t, a.Work.Accounts.EndSessions(t.Context(), "a test", name))
	b.press(input.Slash)
	b.typed("held-one")
	b.until("the first refusal to wait", `() => window.held === 401`)
	b.typed("-more")
	b.see("Sign in again")
	b.fill("Name", name)
	b.fill("Password", demo.Password)
	b.click("button", "^Sign in$")
	b.gone("Sign in again")
	_, err := b.page.Eval(`async () => {
		window.letGo()
		for (let i = 0; i < 3; i++) await new Promise(requestAnimationFrame)
	}`)
	require.NoError(t, err)
	assert.NotContains(t, b.text(), "Sign in again")
}

// What stands in a row can be copied there, by the pointer and by the keyboard, and is told.
// What is cut off is shown whole while one is on it.
func copyingAndCutText(t *testing.T, a *app) {
	site := hall("cut", 0x0a710100, 3)
	whole := strings.Repeat("a-long-name-of-a-seat-", 3)[:60]
	site.Reservations[0].Name = whole
	_, err := a.Work.Sites.Import(t.Context(), site, 0, "")
	require.NoError(t, err)
	b := a.open(t, 820, 900)
	grant := proto.BrowserGrantPermissions{
		Permissions: []proto.BrowserPermissionType{
			proto.BrowserPermissionTypeClipboardReadWrite, proto.BrowserPermissionTypeClipboardSanitizedWrite,
		},
		BrowserContextID: b.context,
	}
	require.NoError(t, grant.Call(b.page))
	b.signIn(a.account(t))
	b.visit(a.URL + "/sites/cut")
	b.see("seat-1")
	copied := func(what string) {
		b.Helper()
		b.said("Copied " + what)
		holds, err := b.page.Eval(`() => navigator.clipboard.readText()`)
		require.NoError(t, err)
		assert.Equal(t, what, holds.Value.Str())
	}
	row := func(name string) proto.Point {
		b.Helper()
		e, err := b.page.ElementR("tbody tr", name)
		require.NoError(t, err)
		require.NoError(t, e.ScrollIntoView())
		shape, err := e.Shape()
		require.NoError(t, err)
		box := shape.Box()
		return proto.Point{X: box.X + box.Width/2, Y: box.Y + box.Height/2}
	}
	reserved := site.Reservations[1]
	for what, text := range map[string]string{
		"address": reserved.Address.String(), "MAC": reserved.MAC.String(), "name": "seat-1",
	} {
		require.NoError(t, b.page.Mouse.MoveTo(row("seat-1")))
		b.click(fmt.Sprintf("tbody button[aria-label='Copy the %s %s']", what, text), "^copy$")
		copied(text)
	}

	cutOff := func() string {
		v, err := b.page.Eval(`() => [...document.querySelectorAll('body div.fixed[aria-hidden]')]
			.map(e => e.innerText).join()`)
		require.NoError(t, err)
		return v.Value.Str()
	}
	require.NoError(t, b.page.Mouse.MoveTo(proto.Point{X: 5, Y: 5}))
	b.press(input.KeyL)
	b.focus("the first row", `(e, text) => e.closest('tr')?.innerText.includes(text)`, whole[:10])
	b.until("the whole name at the keyboard", `whole => [...document.querySelectorAll('body div.fixed[aria-hidden]')]
		.some(e => e.innerText.includes(whole))`, whole)
	b.keys(input.ArrowDown)
	b.focus("the second row", `e => e.closest('tr')?.innerText.includes('seat-1')`)
	assert.NotContains(t, cutOff(), whole)
	require.NoError(t, b.page.Mouse.MoveTo(row(whole[:10])))
	b.until("the whole name at the pointer", `whole => [...document.querySelectorAll('body div.fixed[aria-hidden]')]
		.some(e => e.innerText.includes(whole))`, whole)
}

// A page that nothing changes for asks for nothing, however often the devices are read. One that watches a push asks
// for it at most once a line of its journal.
func TestOnlyWhatChangesIsFetched(t *testing.T) {
	a := serve(t, demotest.Options{Files: web.Files(), Pace: time.Hour, Poll: time.Second})
	who := a.technician(t)
	order, err := a.Work.Drafts.OpenOrder(t.Context(), who, "kelder-bridge", "Watched", "")
	require.NoError(t, err)
	change := draft.Change{}
	change.Entries = append(change.Entries, entry("reservation", "res-plate-reader", "name", "plate-reader-2"))
	_, err = a.Work.Drafts.Edit(t.Context(), who, order, change, nil)
	require.NoError(t, err)
	_, err = a.Work.Pushes.Rehearse(t.Context(), who, order, 1)
	require.NoError(t, err)
	b := a.open(t, 1280, 800)
	_, err = b.page.EvalOnNewDocument(`{
		const real = window.fetch
		window.asked = []
		window.fetch = async (request, init) => {
			window.asked.push((init?.method ?? request.method ?? 'GET') + ' ' + (request.url ?? request))
			return real(request, init)
		}
	}`)
	require.NoError(t, err)
	b.visit(a.URL)
	b.signIn(demo.Account)
	b.visit(a.URL + "/sites/kelder-bridge?network=net-handsets")
	b.see("Handsets")
	// The first readings find what the site holds, and each is told.
	rest := func() (asked int) {
		before, was := readings(t, a), b.page.MustEval(`() => window.asked.length`).Int()
		require.Eventually(t, func() bool { return readings(t, a) >= before+60 }, time.Minute, 100*time.Millisecond)
		return b.page.MustEval(`() => window.asked.length`).Int() - was
	}
	asked := rest()
	for n := 0; asked > 0 && n < 9; n++ {
		asked = rest()
	}
	assert.Zero(t, asked, "60 readings of devices, in which nothing changed")

	b.visit(fmt.Sprintf("%s/orders/%d", a.URL, order))
	b.see("Push to gw-1")
	_, err = b.page.Eval(`() => { window.asked = [] }`)
	require.NoError(t, err)
	b.click("footer button", "^Push to gw-1")
	b.see("Pushed, verified and landed")
	v, err := b.page.Eval(`order => ({
		asked: window.asked.filter(a => a.startsWith('GET') && new URL(a.slice(4)).pathname === '/api/orders/' + order),
		lines: document.querySelectorAll('section[aria-label=Push] ol > li').length,
	})`, order)
	require.NoError(t, err)
	lines := v.Value.Get("lines").Int()
	require.Greater(t, lines, 3)
	assert.NotEmpty(t, v.Value.Get("asked").Arr(), "it follows the push")
	assert.LessOrEqual(t, len(v.Value.Get("asked").Arr()), lines)
}

// readings is how many readings of devices have been answered.
func readings(t *testing.T, a *app) int {
	t.Helper()
	families, err := a.Counted.Gather()
	require.NoError(t, err)
	n := 0
	for _, f := range families {
		for _, m := range f.GetMetric() {
			for _, l := range m.GetLabel() {
				if f.GetName() == "lithos_device_reads_total" && l.GetValue() == "answered" {
					n += int(m.GetCounter().GetValue())
				}
			}
		}
	}
	return n
}

// While the server does not answer, a form keeps what was typed and says so.
func TestAStoppedServer(t *testing.T) {
	a := startApp(t)
	b := a.in(t, "kelder-bridge", "network=net-imaging")
	b.press(input.KeyR)
	b.see("Reserve an address")
	b.fill("MAC", "00:00:5e:00:53:e2")
	b.fill("Host name", "ct-console")
	a.Stop()
	b.click("button", "^Add$")
	b.see("Lithos does not answer. What you typed is kept")
	assert.Equal(t, "00:00:5e:00:53:e2", b.value("MAC"))
	assert.Equal(t, "ct-console", b.value("Host name"))
	b.axe("a form without an answer")
	b.keys(input.Escape)
	b.see("Throw away what you typed?")
}
