package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/launcher/flags"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"

	"lithos/core/wordstest"
	"lithos/internal/demo"
	"lithos/internal/demo/demotest"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/store"
	"lithos/web"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// patience bounds every wait for a condition.
const patience = time.Minute

// app is a running Lithos with the demonstration's sites and devices, and a browser.
type app struct {
	*demotest.Running
	browser  *rod.Browser
	shared   bool     // by tests side by side, each with an account of its own
	accounts sync.Map // names of those made for tests that share the server
}

func startApp(t *testing.T) *app {
	t.Helper()
	return serve(t, demotest.Options{
		Files: web.Files(), Pace: 10 * time.Millisecond, Poll: 2 * time.Second, Past: true,
	})
}

func serve(t *testing.T, o demotest.Options) *app {
	t.Helper()
	return &app{Running: demotest.Start(t, o), browser: launch(t)}
}

// together runs tests on one server, side by side, each with an account and work orders
// of its own. Pictures are of a server that nobody else works on.
func together(t *testing.T, tests map[string]func(*testing.T, *app)) {
	alone := pictures() != ""
	shared := startApp(t)
	shared.shared = true
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			if alone {
				test(t, startApp(t))
				return
			}
			t.Parallel()
			test(t, shared)
		})
	}
}

func launch(t testing.TB) *rod.Browser {
	t.Helper()
	bin, ok := launcher.LookPath()
	require.True(t, ok, "Chromium is not installed; run make test, which installs it")
	l := launcher.New().Bin(bin).UserDataDir(t.TempDir()).Headless(true).NoSandbox(true)
	for _, flag := range []string{
		"disable-gpu", "disable-quic", "no-first-run", "disable-background-networking", "disable-component-update",
		"disable-sync",
	} {
		l = l.Set(flags.Flag(flag))
	}
	control, err := l.Launch()
	require.NoError(t, err)
	browser := rod.New().ControlURL(control)
	require.NoError(t, browser.Connect())
	t.Cleanup(func() {
		_ = browser.Close()
		l.Cleanup()
	})
	return browser
}

// tab is a page of the browser with the errors its console showed.
type tab struct {
	testing.TB
	page    *rod.Page
	context proto.BrowserBrowserContextID
	mu      sync.Mutex
	errs    []string
}

// open opens a page that shares nothing with those of other tests.
func (a *app) open(t testing.TB, width, height int) *tab {
	t.Helper()
	own, err := a.browser.Incognito()
	require.NoError(t, err)
	page, err := own.Page(proto.TargetCreateTarget{URL: "about:blank"})
	require.NoError(t, err)
	b := &tab{TB: t, page: page.Timeout(10 * time.Minute), context: own.BrowserContextID}
	size := &proto.EmulationSetDeviceMetricsOverride{Width: width, Height: height, DeviceScaleFactor: 1}
	require.NoError(t, page.SetViewport(size))
	// Without this only one of several pages has the keyboard.
	require.NoError(t, proto.EmulationSetFocusEmulationEnabled{Enabled: true}.Call(page))
	go page.EachEvent(func(e *proto.RuntimeConsoleAPICalled) {
		if e.Type == proto.RuntimeConsoleAPICalledTypeError {
			var says []string
			for _, arg := range e.Args {
				says = append(says, arg.Description+arg.Value.String())
			}
			b.complain(strings.Join(says, " "))
		}
	}, func(e *proto.RuntimeExceptionThrown) {
		b.complain(e.ExceptionDetails.Text)
	})()
	t.Cleanup(func() {
		if t.Failed() {
			b.keepPicture()
		}
		_ = page.Close()
		_ = proto.TargetDisposeBrowserContext{BrowserContextID: own.BrowserContextID}.Call(own)
		b.mu.Lock()
		defer b.mu.Unlock()
		require.Empty(t, b.errs, "the console shows errors")
	})
	b.visit(a.URL)
	return b
}

func (b *tab) complain(says string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.errs = append(b.errs, says)
}

// keepPicture leaves what a failed test saw where LITHOS_PICTURES says.
func (b *tab) keepPicture() {
	dir := os.Getenv("LITHOS_PICTURES")
	if dir == "" {
		return
	}
	if png, err := b.page.Context(context.Background()).Screenshot(false, nil); err == nil {
		_ = os.WriteFile(filepath.Join(dir, strings.ReplaceAll(b.Name(), "/", "-")+".png"), png, 0o644)
	}
}

func (b *tab) visit(url string) {
	b.Helper()
	require.NoError(b, b.page.Navigate(url))
	require.NoError(b, b.page.WaitLoad())
}

func (b *tab) signIn(account string) {
	b.Helper()
	b.fill("Name", account)
	b.fill("Password", demo.Password)
	b.click("button", "^Sign in$")
	b.see("Rounds")
}

// until waits for a JavaScript condition.
func (b *tab) until(what, js string, args ...any) {
	b.Helper()
	p := b.page.Timeout(patience)
	if err := p.Wait(rod.Eval(js, args...)); err != nil {
		b.Fatalf("waited in vain for %s: %v\nthe page says:\n%s", what, err, b.text())
	}
}

// order is the work order of the page's address. Other tests open orders at the same site meanwhile.
func (b *tab) order() int64 {
	b.Helper()
	at, err := url.Parse(b.page.MustInfo().URL)
	require.NoError(b, err)
	order, err := strconv.ParseInt(at.Query().Get("order"), 10, 64)
	require.NoError(b, err)
	return order
}

// text is what the page says, for the report of a failure.
func (b *tab) text() string {
	v, err := b.page.Eval(`() => document.body.innerText`)
	if err != nil {
		return err.Error()
	}
	return v.Value.String()
}

// see waits until the page shows a text.
func (b *tab) see(text string) {
	b.Helper()
	b.until(fmt.Sprintf("%q", text), `t => document.body.innerText.includes(t)`, text)
}

// gone waits until the page does not show a text any more.
func (b *tab) gone(text string) {
	b.Helper()
	b.until(fmt.Sprintf("%q to go", text), `t => !document.body.innerText.includes(t)`, text)
}

// click clicks the element of a selector whose text matches, once it is there
// and enabled. One that is drawn anew or scrolled away meanwhile is looked
// for again, until a click has reached it.
func (b *tab) click(selector, match string) {
	b.Helper()
	p := b.page.Timeout(patience)
	defer p.CancelTimeout()
	for {
		el, err := p.ElementByJS(rod.Eval(`(selector, match) => [...document.querySelectorAll(selector)].find(e =>
			e.getClientRects().length > 0 && !e.disabled && new RegExp(match).test(e.innerText.trim())) ?? null`,
			selector, match))
		if err != nil {
			b.Fatalf("no %s %q to click: %v\nthe page says:\n%s", selector, match, err, b.text())
		}
		if _, err := el.Eval(`() => {
			this.reached = false
			this.addEventListener('click', () => { this.reached = true }, { once: true, capture: true })
		}`); err != nil {
			continue
		}
		// A page that is still moving would have something else under the pointer by then.
		_ = el.Timeout(patience / 20).WaitStableRAF()
		failed := b.clickOn(el.Timeout(patience / 20))
		reached, err := el.Eval(`() => this.reached`)
		if err == nil && reached.Value.Bool() || err != nil && failed == nil {
			return
		}
	}
}

var errMoved = errors.New("something else is under the pointer")

// clickOn presses the mouse on an element, unless something else has come under the pointer meanwhile.
func (b *tab) clickOn(el *rod.Element) error {
	at, err := el.WaitInteractable()
	if err != nil {
		return err
	}
	if err := b.page.Mouse.MoveTo(*at); err != nil {
		return err
	}
	over, err := el.Eval(`(x, y) => this.contains(document.elementFromPoint(x, y))`, at.X, at.Y)
	if err == nil && !over.Value.Bool() {
		err = errMoved
	}
	if err != nil {
		return err
	}
	return b.page.Mouse.Click(proto.InputMouseButtonLeft, 1)
}

const findField = `label => [...document.querySelectorAll('label')]
	.filter(l => l.textContent === label && l.offsetParent)
	.map(l => document.getElementById(l.htmlFor))
	.at(-1) ?? document.querySelector(':is(select, input)[aria-label="' + label + '"]')`

// fill replaces what stands in the field of a label.
func (b *tab) fill(label, text string) {
	b.Helper()
	el, err := b.page.Timeout(patience).ElementByJS(rod.Eval(findField, label))
	require.NoError(b, err, label)
	require.NoError(b, el.SelectAllText())
	require.NoError(b, el.Input(text))
}

// value is what stands in the field of a label.
func (b *tab) value(label string) string {
	b.Helper()
	el, err := b.page.Timeout(patience).ElementByJS(rod.Eval(findField, label))
	require.NoError(b, err, label)
	v, err := el.Property("value")
	require.NoError(b, err, label)
	return v.String()
}

// choose picks an option of the choice of a label.
func (b *tab) choose(label, option string) {
	b.Helper()
	el, err := b.page.Timeout(patience).ElementByJS(rod.Eval(findField, label))
	require.NoError(b, err, label)
	require.NoError(b, el.Select([]string{option}, true, rod.SelectorTypeRegex))
}

// dragRuler drags from one offset to another on a course of the ruler.
func (b *tab) dragRuler(course, size, from, to int) {
	b.Helper()
	box, err := b.page.Timeout(patience).Element(`[aria-roledescription=ruler]`)
	require.NoError(b, err)
	require.NoError(b, box.ScrollIntoView())
	shape, err := box.Shape()
	require.NoError(b, err)
	r := shape.Box()
	at := func(offset int) proto.Point {
		return proto.Point{X: r.X + (float64(offset)+0.5)*(r.Width-2)/float64(size),
			Y: r.Y + float64(course)*92 + 20 + 35}
	}
	mouse := b.page.Mouse
	require.NoError(b, mouse.MoveTo(at(from)))
	require.NoError(b, mouse.Down(proto.InputMouseButtonLeft, 1))
	require.NoError(b, mouse.MoveLinear(at(to), 5))
	require.NoError(b, mouse.Up(proto.InputMouseButtonLeft, 1))
}

// axe fails on anything axe-core finds wrong with what is shown.
func (b *tab) axe(view string) {
	b.Helper()
	source, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(b, err)
	// Added by the debugger and not by the page, whose policy would refuse it.
	_, err = b.page.Eval(`src => { if (!window.axe) { new Function(src).call(window) } }`, string(source))
	if err != nil {
		_, err = proto.RuntimeEvaluate{Expression: string(source)}.Call(b.page)
	}
	require.NoError(b, err)
	result, err := b.page.Eval(`async () => {
		const runOnly = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']
		const r = await window.axe.run(document, { runOnly })
		const where = n => n.html.slice(0, 160) + ' ' + (n.any[0]?.message ?? '')
		return JSON.stringify(r.violations.map(v =>
			v.id + ': ' + v.help + ' — ' + v.nodes.slice(0, 3).map(where).join(' | ')))
	}`)
	require.NoError(b, err)
	var found []string
	require.NoError(b, json.Unmarshal([]byte(result.Value.String()), &found))
	require.Empty(b, found, "axe-core on %s", view)
	b.plainWords(view)
}

// plainWords looks for words that were given up (docs/words.md) on the page as it is shown.
func (b *tab) plainWords(view string) {
	b.Helper()
	words, err := wordstest.ReadGivenUp("../../docs/words.md")
	require.NoError(b, err)
	for _, line := range strings.Split(b.text(), "\n") {
		require.Empty(b, words.In(strings.TrimSpace(line)), "%q on %s", line, view)
	}
}

// pictures is the folder that pictures for the documents go to; none when empty.
func pictures() string { return os.Getenv("LITHOS_SCREENSHOTS") }

// picture keeps what is shown for the documents, when LITHOS_SCREENSHOTS names
// a folder for it.
func (b *tab) picture(name string) {
	b.Helper()
	dir := pictures()
	if dir == "" {
		return
	}
	require.NoError(b, b.page.Mouse.MoveTo(proto.Point{X: 600, Y: 790}))
	require.NoError(b, b.page.WaitStable(300*time.Millisecond))
	png, err := b.page.Screenshot(false, nil)
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644))
}

// press presses keys together, the last one while the others are held.
func (b *tab) press(keys ...input.Key) {
	b.Helper()
	b.until("no window to be open", `() => !document.querySelector('[role=dialog]')`)
	_, err := b.page.Eval(`() => document.activeElement?.blur()`)
	require.NoError(b, err)
	actions := b.page.KeyActions()
	for _, k := range keys[:len(keys)-1] {
		actions = actions.Press(k)
	}
	require.NoError(b, actions.Type(keys[len(keys)-1]).Do())
}
