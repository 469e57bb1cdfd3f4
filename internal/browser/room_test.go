package browser

import (
	"fmt"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// There is one tray, of one line, also where the open order is for another site.
func oneTray(t *testing.T, a *app) {
	order, err := a.Work.Drafts.OpenOrder(t.Context(), a.technician(t), "hallin-road", "Elsewhere", "")
	require.NoError(t, err)
	b := a.at(t, 1280, 800, fmt.Sprintf("/sites/hallin-road?order=%d", order))
	b.see("Elsewhere")
	b.visit(a.URL + "/sites/tidewater-studio")
	b.see("Shown as it stands at revision")
	b.see(fmt.Sprintf("WO-%04d", order))
	for width, height := range map[int]int{1280: 56, 820: 48, 390: 44} {
		size := &proto.EmulationSetDeviceMetricsOverride{Width: width, Height: 800, DeviceScaleFactor: 1}
		require.NoError(t, b.page.SetViewport(size))
		b.until(fmt.Sprintf("a tray of %d px at %d, within the page", height, width), `(height, width) => {
			const trays = [...document.querySelectorAll('[data-place=tray]')].map(x => x.getBoundingClientRect())
			return trays.length === 1 && trays[0].height === height && trays[0].bottom <= 800 &&
				[...document.querySelectorAll('[data-place=tray] button')].every(x =>
					x.getBoundingClientRect().right <= width && x.getBoundingClientRect().height <= height)
		}`, height, width)
		b.axe(fmt.Sprintf("the tray at %d", width))
	}
	b.click("footer button", fmt.Sprintf("WO-%04d", order))
	b.until("the order's page", `id => location.pathname === '/orders/' + id`, order)
	b.until("its own tray", `() => document.querySelectorAll('footer[aria-label="Open work order"]').length === 1`)
}

// Rows of the ruler without anything in them fold into one line, which opens where somebody goes into it. On other tabs
// the ruler is a strip.
func rulerGivesWay(t *testing.T, a *app) {
	b := a.at(t, 1280, 800, "/sites/kelder-bridge?network=net-waiting")
	const folded = "10.84.25.0 – 10.84.27.255, 767 free"
	b.see(folded)
	room, err := b.page.Eval(`() => document.querySelector('[data-place=tray]').getBoundingClientRect().top -
		document.querySelector('tbody[data-place=list] tr').getBoundingClientRect().top`)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, room.Value.Num(), 12*29.0, "twelve rows of the list")
	b.axe("a folded ruler")

	ruler, err := b.page.Element(`[aria-roledescription=ruler]`)
	require.NoError(t, err)
	require.NoError(t, ruler.Focus())
	keys := func(k ...input.Key) { require.NoError(t, b.page.KeyActions().Type(k...).Do()) }
	keys(input.End)
	b.see("10.84.27.255 · broadcast address")
	b.gone(folded)

	b.click("[role=tab]", "Options")
	b.see("Where it comes from")
	b.until("a strip", `() => document.querySelector('[data-place=ruler]').getBoundingClientRect().height <= 24`)
	b.axe("the strip of a network")
	b.click("button[data-place=ruler]", "")
	b.see(folded)
	line, err := b.page.Element(`[data-folded]`)
	require.NoError(t, err)
	require.NoError(t, line.Click(proto.InputMouseButtonLeft, 1))
	b.gone(folded)
	b.see("10.84.26.255")
}
