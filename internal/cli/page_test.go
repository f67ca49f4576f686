package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	cdplog "github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/demo"
	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/realserver"
)

// browser is a real browser with a page open, and what the page did that it
// must not do.
type browser struct {
	context.Context
	t      *testing.T
	mu     sync.Mutex
	wrongs []string
}

// openPage opens a page, after settle has prepared the browser.
func openPage(t *testing.T, url string, settle func(*browser)) *browser {
	t.Helper()
	chromium := realserver.Program(t, "chromium", "chromium")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium), chromedp.NoSandbox, chromedp.WindowSize(1280, 800))
	alloc, stop := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(stop)
	ctx, done := chromedp.NewContext(alloc)
	t.Cleanup(done)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	t.Cleanup(cancel)
	b := &browser{Context: ctx, t: t}
	require.NoError(t, chromedp.Do(ctx))
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		switch ev := ev.(type) {
		case *network.EventRequestWillBeSent:
			if ev.Request.URL != url && !strings.HasSuffix(ev.Request.URL, "/favicon.ico") {
				b.wrong("asked for %s", ev.Request.URL)
			}
		case *runtime.EventExceptionThrown:
			b.wrong("threw %s", ev.ExceptionDetails.Text)
		case *cdplog.EventEntryAdded:
			if !strings.HasSuffix(ev.Entry.URL, "/favicon.ico") {
				b.wrong("logged %s: %s", ev.Entry.Level, ev.Entry.Text)
			}
		case *runtime.EventConsoleAPICalled:
			b.wrong("wrote %s to the console", ev.Type)
		}
	}))
	_, err := chromedp.Call(ctx, network.Enable, network.EnableParams{})
	require.NoError(t, err)
	_, err = chromedp.Call(ctx, cdplog.Enable, cdp.Empty{})
	require.NoError(t, err)
	if settle != nil {
		settle(b)
	}
	b.do(chromedp.Navigate(url))
	return b
}

func (b *browser) wrong(format string, args ...any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.wrongs = append(b.wrongs, fmt.Sprintf(format, args...))
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b, steps...))
}

// eval evaluates an expression on the page, which may be a promise.
func eval[T any](b *browser, script string) T {
	b.t.Helper()
	v, err := chromedp.Run(b, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
	require.NoError(b.t, err, script)
	return v
}

// show types into a section's field and waits until the rows follow.
func (b *browser) show(section, text string) {
	b.t.Helper()
	eval[bool](b, `(i => { i.value = ""; return true })(document.querySelector("#`+section+` input"))`)
	b.do(chromedp.SendKeys("#"+section+" input", text))
	eval[bool](b, `new Promise(done => setTimeout(() => done(true), 200))`) // the page's own timer is shorter, and set before
}

// report writes a page with the built program and returns its URL.
func report(t *testing.T, text []byte, args ...string) string {
	t.Helper()
	dir := t.TempDir()
	in, out := filepath.Join(dir, "in.ldif"), filepath.Join(dir, "out.html")
	require.NoError(t, os.WriteFile(in, text, 0o600))
	cmd := program(t, []string{"YARDBROOM_STATE=" + dir, "YARDBROOM_CONFIG=" + os.DevNull}, append([]string{args[0], "--from", in, "--as-of", scriptTime.Format(time.RFC3339), "--output", out}, args[1:]...)...)
	output, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", output)
	// Served, so that a request for anything else would be seen.
	server := httptest.NewServer(http.FileServer(http.Dir(dir)))
	t.Cleanup(server.Close)
	return server.URL + "/out.html"
}

func demoLDIF(t *testing.T) []byte {
	var b bytes.Buffer
	require.NoError(t, (&demo.Yard{AsOf: scriptTime}).WriteLDIF(&b))
	return b.Bytes()
}

func demoRoster(t *testing.T) []byte {
	var b bytes.Buffer
	yard := &demo.Yard{AsOf: scriptTime}
	require.NoError(t, yard.WriteLDIF(io.Discard))
	require.NoError(t, yard.WriteRoster(&b))
	return b.Bytes()
}

// rosterFile is a file with a roster.
func rosterFile(t *testing.T, text []byte) string {
	path := filepath.Join(t.TempDir(), "people.csv")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	return path
}

// accounts are the texts of the first column of the section on stale
// accounts, as they stand.
func (b *browser) accounts() []string {
	b.t.Helper()
	return eval[[]string](b, `[...document.querySelectorAll("#stale tbody tr")].map(r => r.cells[0].textContent)`)
}

func TestTheReportPageSortsAndFilters(t *testing.T) {
	b := openPage(t, report(t, demoLDIF(t), "audit"), nil)
	assert.Equal(t, "Audit of dc=larkmoor,dc=example", eval[string](b, `document.querySelector("h1").textContent`))
	b.do(chromedp.Click(`.totals a[href="#stale"]`), chromedp.WaitVisible("#stale tbody"))
	before := b.accounts()
	require.Len(t, before, 17, "the link in the overview has opened the section")
	b.do(chromedp.Click("#stale th:nth-child(1) button"))
	assert.NotEqual(t, before, b.accounts())
	assert.IsNonDecreasing(t, b.accounts())
	b.do(chromedp.Click("#stale th:nth-child(5) button"), chromedp.Click("#stale th:nth-child(5) button"))
	assert.Equal(t, "descending", eval[string](b, `document.querySelector("#stale th:nth-child(5)").ariaSort`))
	assert.ElementsMatch(t, before, b.accounts())
	days := eval[[]int](b, `[...document.querySelectorAll("#stale tbody tr")].map(r => Number(r.cells[4].textContent))`)
	assert.IsNonIncreasing(t, days, "numbers sort as numbers")
	b.show("stale", "Service SCANNER")
	assert.Equal(t, []string{"svc-plate-scanner"}, b.accounts())
	assert.Equal(t, "1 of 17", eval[string](b, `document.querySelector("#stale [role=status]").textContent`))
	b.show("stale", "nobody")
	assert.Empty(t, b.accounts())
	b.show("stale", " ")
	assert.ElementsMatch(t, before, b.accounts(), "all come back")
	assert.Greater(t, eval[int](b, `document.querySelectorAll("figure svg[role=img] path").length`), 30)
	assert.Empty(t, b.wrongs)
}

func TestTheReportPageIsReadableWithoutItsScriptAndOnAPhone(t *testing.T) {
	scripts := func(b *browser, off bool) {
		_, err := chromedp.Call(b, emulation.SetScriptExecutionDisabled, emulation.SetScriptExecutionDisabledParams{Value: off})
		require.NoError(t, err)
	}
	b := openPage(t, report(t, demoLDIF(t), "audit"), func(b *browser) {
		scripts(b, true)
		b.do(chromedp.EmulateViewport(390, 800))
	})
	scripts(b, false) // the page is loaded; now it may be asked
	assert.Zero(t, eval[int](b, `document.querySelectorAll("th button, input").length`), "its script has not run")
	assert.Equal(t, 17, eval[int](b, `(d => { d.open = true; return d.querySelectorAll("tbody tr").length })(document.querySelector("#stale"))`))
	assert.Contains(t, eval[string](b, `document.querySelector("#stale").textContent`), "svc-plate-scanner")
	assert.Empty(t, eval[[]string](b, `[...document.querySelectorAll("body *")].filter(e => !e.closest(".scroll") && e.getBoundingClientRect().right > innerWidth + 1).map(e => e.outerHTML.slice(0, 80))`),
		"the page itself does not scroll sideways")
	assert.Empty(t, b.wrongs)
}

func TestTheReconciliationPageShowsDoubtsSideBySide(t *testing.T) {
	b := openPage(t, report(t, demoLDIF(t), "reconcile", "--roster", rosterFile(t, demoRoster(t))), func(b *browser) { b.do(chromedp.EmulateViewport(390, 800)) })
	assert.Equal(t, "People and accounts of dc=larkmoor,dc=example", eval[string](b, `document.querySelector("h1").textContent`))
	assert.Equal(t, "9", eval[string](b, `document.querySelector("#leaver-enabled .count").textContent`))
	assert.Equal(t, "4", eval[string](b, `document.querySelector("#match-unsure .count").textContent`), "accounts, not rows")
	row := `[...document.querySelectorAll("#match-unsure tbody tr")].find(r => r.cells[0].textContent == "divarsen" && r.cells[1].textContent == "person id")`
	assert.Equal(t, []string{"divarsen", "person id", "20001", "✗ 20208", "✓ 20001"}, eval[[]string](b, `[...`+row+`.cells].map(c => c.textContent.trim())`))
	assert.Empty(t, eval[[]string](b, `[...document.querySelectorAll("body *")].filter(e => !e.closest(".scroll") && e.getBoundingClientRect().right > innerWidth + 1).map(e => e.outerHTML.slice(0, 80))`),
		"the page itself does not scroll sideways")
	assert.Equal(t, 2, eval[int](b, `document.querySelectorAll("figure svg[role=img]").length`))
	assert.Empty(t, b.wrongs)
}

func TestHostileValuesStayTextOnAPage(t *testing.T) {
	var text bytes.Buffer
	w := ldif.NewWriter(&text)
	e := directory.Entry{DN: `CN=<img src=x onerror=alert(1)>,DC=larkmoor,DC=example`}
	e.Set("objectClass", "user")
	e.Set("objectGUID", "0123456789abcdef")
	e.Set("sAMAccountName", `</script><script>fetch('http://127.0.0.1:1/')</script>`)
	e.Set("userAccountControl", "544")
	e.Set("accountExpires", "0")
	e.Set("displayName", `"><svg onload=alert(1)>`)
	require.NoError(t, w.Write(&e))
	require.NoError(t, w.Flush())
	hostile := rosterFile(t, []byte("id,family,given,department,logon\n1,<img src=x onerror=alert(2)>,\"</td><script>fetch('http://127.0.0.1:1/')</script>\",=1+1,x\n"))
	for _, args := range [][]string{{"audit"}, {"list", "users", "--columns", "account,name,dn"}, {"reconcile", "--roster", hostile}} {
		b := openPage(t, report(t, text.Bytes(), args...), nil)
		assert.Zero(t, eval[int](b, `document.querySelectorAll("img, main script, td svg").length`))
		assert.Contains(t, eval[string](b, `document.querySelector("main").textContent`), "fetch('http://127.0.0.1:1/')")
		assert.Empty(t, b.wrongs)
	}
}

func TestAHundredThousandFindingsOpenAndScroll(t *testing.T) {
	var text bytes.Buffer
	w := ldif.NewWriter(&text)
	for i := range 100_000 {
		name := fmt.Sprintf("person%06d", i)
		e := directory.Entry{DN: "CN=" + name + ",OU=Staff,DC=larkmoor,DC=example"}
		e.Set("objectClass", "user")
		e.Set("objectGUID", fmt.Sprintf("%016d", i))
		e.Set("sAMAccountName", name)
		e.Set("userAccountControl", "66048")
		e.Set("accountExpires", "0")
		require.NoError(t, w.Write(&e))
	}
	require.NoError(t, w.Flush())
	const section = "password-never-expires"
	b := openPage(t, report(t, text.Bytes(), "audit", "--check", section), nil)
	assert.Equal(t, 100_000, eval[int](b, `document.querySelectorAll("#`+section+` tbody tr").length`))
	b.do(chromedp.Click("#"+section+" summary"), chromedp.WaitVisible("#"+section+" tbody"))
	// Scrolled to its end, the last rows are laid out and can be read there.
	last := eval[string](b, `new Promise(done => {
		const scroll = document.querySelector("#`+section+` .scroll"), row = [...scroll.querySelectorAll("tr")].pop();
		scroll.scrollIntoView({block: "end"});
		const look = () => {
			scroll.scrollTop = scroll.scrollHeight;
			const at = row.getBoundingClientRect(), box = scroll.getBoundingClientRect();
			if (at.top >= box.top && at.bottom <= box.bottom + 1 && row.cells[0].innerText) done(row.cells[0].innerText);
			else requestAnimationFrame(look);
		};
		look();
	})`)
	assert.Equal(t, "person099999", last)
	b.show(section, "person077777")
	assert.Equal(t, 1, eval[int](b, `document.querySelectorAll("#`+section+` tbody tr").length`))
	assert.Empty(t, b.wrongs)
}

// The pages of a round in a browser: nothing else is asked for, no script runs, and what
// the index names can be opened.
func TestTheFolderOfARoundOpens(t *testing.T) {
	dir := t.TempDir()
	y := newSmallYard(t)
	y.set(t, fmt.Sprintf(`rounds:
  nightly:
    steps: [audit]
    folder: {path: %q, title: "<script>alert(1)</script>"}
`, filepath.Join(dir, "www")))
	for range 3 {
		y.mustRun(t, "round", "run", "nightly")
	}
	server := httptest.NewServer(http.FileServer(http.Dir(filepath.Join(dir, "www"))))
	t.Cleanup(server.Close)
	b := openPage(t, server.URL+"/", func(*browser) {})
	assert.Equal(t, "<script>alert(1)</script>", eval[string](b, `document.querySelector("h1").textContent`))
	assert.Equal(t, 3, eval[int](b, `document.querySelectorAll(".days tbody tr").length`))
	assert.Equal(t, 2, eval[int](b, `document.querySelectorAll("figure svg").length`))
	assert.Empty(t, b.wrongs)
	link := eval[string](b, `document.querySelector(".days a").getAttribute("href")`)
	assert.Empty(t, openPage(t, server.URL+"/"+link, func(*browser) {}).wrongs)
}
