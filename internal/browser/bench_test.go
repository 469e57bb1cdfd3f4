package browser

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"
	"github.com/ysmood/gson"

	"lithos/core/edit"
	"lithos/internal/accounts"
	"lithos/internal/demo"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
	"lithos/web"
)

// BenchmarkFiveThousand drags over the ruler of a network with 5,000 pins, then scrolls
// and filters their list, and reports the longest time between frames, the longest task of
// the page, and the most time that a task had of a processor, in milliseconds. No task should
// take over 50, which is what a browser calls a long one: 0 is reported where there was none.
// Devices are not read meanwhile: with more to do than there are processors, the page waits
// for its turn, 20 ms at a time.
//
//revive:disable-next-line:function-length one Lithos serves all of its parts
func BenchmarkFiveThousand(b *testing.B) {
	a := &app{Running: demotest.Start(b, demotest.Options{Files: web.Files(), Poll: time.Hour}), browser: launch(b)}
	_, err := a.Work.Sites.Import(b.Context(), hall("large", 0x0a600002, 5000), 0, "")
	require.NoError(b, err)
	t := a.open(b, 1280, 800)
	t.see("Sign in")
	t.signIn(demo.Account)
	t.visit(a.URL + "/sites/large")
	t.see("256 rows of 256")
	t.until("the pins",
		`() => [...document.querySelectorAll('[aria-roledescription=ruler] path[data-pins]')].some(p => `+
			`p.getAttribute('d').length > 2000)`)
	_, err = t.page.Eval(`() => {
		window.seen = { frames: [], tasks: [] }
		const noted = l => l.getEntries().forEach(e => window.seen.tasks.push(e.duration))
		new PerformanceObserver(noted).observe({ entryTypes: ['longtask'] })
		let last = performance.now()
		const frame = now => { window.seen.frames.push(now - last); last = now; requestAnimationFrame(frame) }
		requestAnimationFrame(frame)
	}`)
	require.NoError(b, err)
	box, err := t.page.Element(`[aria-roledescription=ruler]`)
	require.NoError(b, err)
	shape, err := box.Shape()
	require.NoError(b, err)
	r := shape.Box()
	mouse := t.page.Mouse
	drag := func() {
		require.NoError(b, mouse.MoveTo(proto.Point{X: r.X + 20, Y: r.Y + 55}))
		require.NoError(b, mouse.Down(proto.InputMouseButtonLeft, 1))
		for i := range 60 {
			require.NoError(b, mouse.MoveTo(proto.Point{X: r.X + 20 + float64(i*10), Y: r.Y + 55 + float64(i*4)}))
		}
		require.NoError(b, mouse.Up(proto.InputMouseButtonLeft, 1))
	}
	scroll := func() {
		_, err := t.page.Eval(`async () => {
			const scroller = document.querySelector('main .bg-sheet.overflow-auto')
			for (let y = 0; y < 120; y++) {
				scroller.scrollTop = y * 300
				await new Promise(requestAnimationFrame)
			}
		}`)
		require.NoError(b, err)
	}
	filter := func() {
		_, err := t.page.Eval(`async () => {
			const frame = () => new Promise(requestAnimationFrame)
			document.querySelector('main .bg-sheet.overflow-auto').scrollTop = 0
			await frame()
			window.seen = { ...window.seen, frames: [], tasks: [] }
			const filter = document.querySelector('input[aria-label="Filter the list"]')
			const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set
			for (const text of ['s', 'se', 'sea', 'seat-4', 'seat-49', '']) {
				set.call(filter, text)
				filter.dispatchEvent(new Event('input', { bubbles: true }))
				await frame()
				await frame()
			}
		}`)
		require.NoError(b, err)
	}
	report := func(what string) {
		v, err := t.page.Eval(`() => {
			const { frames, tasks } = window.seen
			const worst = Math.max(...frames)
			const task = Math.max(0, ...tasks)
			window.seen.frames = []
			window.seen.tasks = []
			return { worst, task, tasks: tasks.length }
		}`)
		require.NoError(b, err)
		b.ReportMetric(v.Value.Get("worst").Num(), "ms-worst-frame-"+what)
		b.ReportMetric(v.Value.Get("task").Num(), "ms-longest-task-"+what)
	}
	for b.Loop() {
		b.ReportMetric(longestTask(b, a, t, drag), "ms-processor-dragging")
	}
	report("dragging")
	b.ReportMetric(longestTask(b, a, t, scroll), "ms-processor-scrolling")
	report("scrolling")
	b.ReportMetric(longestTask(b, a, t, filter), "ms-processor-filtering")
	report("filtering")
	b.ReportMetric(ordersOpen(b, a, t), "rehearsed-order/empty")
}

// longestTask is the most time, in milliseconds, that one task of the page's main thread had
// of a processor while act went on.
func longestTask(b *testing.B, a *app, t *tab, act func()) float64 {
	config := &proto.TracingTraceConfig{IncludedCategories: []string{"toplevel", "__metadata"}}
	require.NoError(b, proto.TracingStart{TraceConfig: config}.Call(a.browser))
	var events []map[string]gson.JSON
	wait := a.browser.EachEvent(func(e *proto.TracingDataCollected) {
		events = append(events, e.Value...)
	}, func(*proto.TracingTracingComplete) bool { return true })
	act()
	require.NoError(b, proto.TracingEnd{}.Call(a.browser))
	wait()
	main := map[string]bool{}
	thread := func(e map[string]gson.JSON) string { return e["pid"].String() + "/" + e["tid"].String() }
	for _, e := range events {
		if e["name"].Str() == "thread_name" && e["args"].Get("name").Str() == "CrRendererMain" {
			main[thread(e)] = true
		}
	}
	longest := 0.0
	for _, e := range events {
		if main[thread(e)] && e["name"].Str() == "ThreadControllerImpl::RunTask" {
			longest = max(longest, e["tdur"].Num()/1000)
		}
	}
	require.NotEmpty(b, main, "the trace names the page's main thread")
	require.Positive(b, longest, "the trace has tasks")
	return longest
}

// ordersOpen is how long the page of an order takes to open that 5,000 clients were
// rehearsed for, in ratio to that of an empty one.
func ordersOpen(b *testing.B, a *app, t *tab) float64 {
	who, _, err := a.Work.Accounts.SignIn(b.Context(),
		accounts.Attempt{Name: demo.Account, Password: demo.Password, Source: "test"})
	require.NoError(b, err)
	var orders []int64
	for range 2 {
		id, err := a.Work.Drafts.OpenOrder(b.Context(), who, "large", "Five thousand", "")
		require.NoError(b, err)
		orders = append(orders, id)
	}
	change := draft.Change{Entries: []edit.Entry{entry("reservation", "r-7", "name", "seat-seven")}}
	_, err = a.Work.Drafts.Edit(b.Context(), who, orders[0], change, nil)
	require.NoError(b, err)
	_, err = a.Work.Pushes.Rehearse(b.Context(), who, orders[0], 1)
	require.NoError(b, err)
	took := make([][]time.Duration, len(orders))
	for range 9 {
		for i, id := range orders {
			start := time.Now()
			t.visit(fmt.Sprintf("%s/orders/%d", a.URL, id))
			t.until("the order", `() => document.querySelector('h1')?.innerText === 'Five thousand'`)
			took[i] = append(took[i], time.Since(start))
		}
	}
	for i := range took {
		slices.Sort(took[i])
	}
	return float64(took[0][4]) / float64(took[1][4])
}
