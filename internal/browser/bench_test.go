package browser

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/demo"
	"lithos/internal/demo/demotest"
	"lithos/web"
)

// BenchmarkRulerDrag drags over the ruler of a network with 5,000 pins, and
// reports the mean and the longest time between frames and the longest task of
// the page, which should stay under 50 ms.
func BenchmarkRulerDrag(b *testing.B) {
	a := &app{Running: demotest.Start(b, demotest.Options{Files: web.Files()}), browser: launch(b)}
	s := scenario.Site("quill-street")
	s.ID, s.Code, s.Name, s.Block = "site-large", "large", "Large",
		[]netip.Prefix{netip.MustParsePrefix("10.96.0.0/12")}
	s.Devices, s.Pools, s.Reservations, s.FixedDevices = nil, nil, nil, nil
	s.Networks = []site.Network{{ID: "net-l", Name: "Hall", Prefix: netip.MustParsePrefix("10.96.0.0/16"),
		Gateway: netip.MustParseAddr("10.96.0.1")}}
	for i := range 5000 {
		s.Reservations = append(s.Reservations,
			&site.Reservation{ID: fmt.Sprintf("r-%d", i), Name: fmt.Sprintf("seat-%d", i), Network: "net-l",
				Address: address.FromUint(0x0a600002 + uint32(i)),
				MAC:     address.MAC{0, 0, 0x5e, 0, byte(i >> 8), byte(i)}})
	}
	_, err := a.Work.Import(b.Context(), s, 0, "")
	require.NoError(b, err)
	t := a.open(b, 1280, 800)
	t.see("Sign in")
	t.signIn(demo.Account)
	t.visit(a.URL + "/sites/large")
	t.see("256 courses of 256")
	t.until("the pins",
		`() => [...document.querySelectorAll('[aria-roledescription=ruler] path[data-pins]')].some(p => p.getAttribute('d').length > 2000)`)
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
	for b.Loop() {
		drag()
	}
	v, err := t.page.Eval(`() => ({ mean: window.seen.frames.reduce((a, b) => a + b, 0) / window.seen.frames.length, worst: Math.max(...window.seen.frames), task: Math.max(0, ...window.seen.tasks), tasks: window.seen.tasks.length })`)
	require.NoError(b, err)
	for _, m := range []string{"mean", "worst", "task"} {
		b.ReportMetric(v.Value.Get(m).Num(), "ms-"+m)
	}
	b.ReportMetric(v.Value.Get("tasks").Num(), "long-tasks")
}
