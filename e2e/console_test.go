package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// browser starts headless Chromium with a profile of its own.
func browser(t *testing.T) context.Context {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal("Chromium is needed: apt-get install chromium")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(1280, 800))
	a, stopAllocator := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, stop := chromedp.NewContext(a)
	ctx, late := context.WithTimeout(ctx, 90*time.Second)
	t.Cleanup(func() {
		late()
		stop()
		stopAllocator()
	})
	if err := chromedp.Run(ctx); err != nil { // the browser lives as long as the context it was first run with
		t.Fatal(err)
	}
	return ctx
}

func do(t *testing.T, ctx context.Context, what string, actions ...chromedp.Action) {
	t.Helper()
	step, stop := context.WithTimeout(ctx, 25*time.Second)
	defer stop()
	if err := chromedp.Run(step, actions...); err != nil {
		var page string
		_ = chromedp.Run(ctx, chromedp.Text("body", &page, chromedp.ByQuery)) // for the message only
		t.Fatalf("%s: %v\nthe page says:\n%s", what, err, page)
	}
}

// says waits until the page holds a text.
func says(text string) chromedp.Action {
	return chromedp.Poll(`document.body.innerText.includes(`+quote(text)+`)`, nil, chromedp.WithPollingInterval(100*time.Millisecond))
}

func quote(s string) string { return "`" + s + "`" }

// shot keeps a picture when LIGARE_SHOTS names a folder.
func shot(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	dir := os.Getenv("LIGARE_SHOTS")
	if dir == "" {
		return
	}
	var b []byte
	do(t, ctx, "taking a picture", chromedp.Sleep(300*time.Millisecond), chromedp.CaptureScreenshot(&b))
	if err := os.WriteFile(filepath.Join(dir, name+".png"), b, 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestAPersonUsesTheConsole(t *testing.T) {
	dir := connected(t, "browsed")
	must(t, 0, dir, "check")
	ctx := browser(t)

	do(t, ctx, "a page without signing in leads to the sign-in", chromedp.Navigate(end.Address+"/apps/browsed"), chromedp.WaitVisible("#token", chromedp.ByQuery))
	do(t, ctx, "a wrong token is refused with what to do", chromedp.SendKeys("#token", "ligare-person-wrong\r", chromedp.ByQuery), says("not known to this server"), says("Sign in again"))
	do(t, ctx, "signing in", chromedp.Evaluate(`document.querySelector('#token').value = ''`, nil), chromedp.SendKeys("#token", end.Token+"\r", chromedp.ByQuery), says("Apps and services"))
	do(t, ctx, "the overview tells the state in words", says("Thornmill"), says("browsed"), says("nothing seen yet"))
	do(t, ctx, "opening the app", chromedp.Click(`a[href="/apps/browsed"]`, chromedp.ByQuery), says("Line-up"), says("Nothing wrong at the last check"), says("example.larkfield.browsed.debug"))

	must(t, 0, dir, "probe", "thornmill")
	do(t, ctx, "a sighting arrives by itself", says("record read"), says("just saw iOS"))
	do(t, ctx, "and stands in the line-up", chromedp.Poll(`document.querySelectorAll('tbody tr td:last-child .font-mono').length >= 6`, nil))

	change(t, filepath.Join(dir, "ios/Hivelog.xcodeproj/project.pbxproj"), "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.browsed;", "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.Browsed;", 1)
	must(t, 1, dir, "check")
	do(t, ctx, "a mistake shows without reloading, told by more than colour", says("only letter case differs"),
		chromedp.Poll(`[...document.querySelectorAll('td')].some(c => c.innerText.includes('≠') && c.querySelector('mark')?.innerText === 'B')`, nil))

	var secret bool
	do(t, ctx, "a server value is not on the page", chromedp.Evaluate(`document.documentElement.outerHTML.includes('tmx-')`, &secret))
	if secret {
		t.Error("a server value stands on the page")
	}
	do(t, ctx, "signing out", chromedp.Click(`//button[text()="Sign out"]`), chromedp.WaitVisible("#token", chromedp.ByQuery))
	do(t, ctx, "and it holds", chromedp.Navigate(end.Address+"/"), chromedp.WaitVisible("#token", chromedp.ByQuery))
}

// TestPictures takes the pictures of docs/screenshots from the demo's data: LIGARE_SHOTS=docs/screenshots LIGARE_DEMO=URL go test ./e2e -run Pictures
func TestPictures(t *testing.T) {
	demo := os.Getenv("LIGARE_DEMO")
	if demo == "" || os.Getenv("LIGARE_SHOTS") == "" {
		t.Skip("LIGARE_DEMO (the console's address as the demo prints it) and LIGARE_SHOTS (a folder) are not set")
	}
	ctx := browser(t)
	base, _, _ := strings.Cut(demo, "/sign-in")
	do(t, ctx, "the sign-in", chromedp.EmulateViewport(1280, 800), chromedp.Navigate(base+"/sign-in"), chromedp.WaitVisible("#token", chromedp.ByQuery))
	shot(t, ctx, "console-sign-in")
	do(t, ctx, "the overview", chromedp.Navigate("about:blank"), chromedp.Navigate(demo), says("Hivelog"))
	shot(t, ctx, "console-overview")
	do(t, ctx, "the app", chromedp.EmulateViewport(1280, 1120), chromedp.Click(`a[href="/apps/hivelog"]`, chromedp.ByQuery), says("Bundle ID"))
	shot(t, ctx, "console-app")
}
