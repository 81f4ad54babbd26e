package e2e

import (
	"context"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ligare/client"
)

// browser starts headless Chromium with a profile of its own.
func browser(t *testing.T) context.Context {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal("Chromium is needed: apt-get install chromium")
	}
	profile, err := os.MkdirTemp("", "ligare-browser-")
	if err != nil {
		t.Fatal(err)
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800))
	a, stopAllocator := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, stop := chromedp.NewContext(a)
	ctx, late := context.WithTimeout(ctx, 90*time.Second)
	t.Cleanup(func() {
		if err := chromedp.Cancel(ctx); err != nil { // closes the browser and waits for it
			t.Log(err)
		}
		late()
		stop()
		stopAllocator()
		for range 20 { // its helpers may still write for a moment
			if os.RemoveAll(profile) == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Error("the browser's profile could not be removed")
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

	do(t, ctx, "the variants with what was read and where", says("android/app/build.gradle.kts:"), chromedp.Click(`//button[@role="tab"][contains(., "Android release")]`),
		chromedp.Poll(`[...document.querySelectorAll('[role=tabpanel][data-state=active] td')].some(c => c.innerText.includes('example.larkfield.browsed'))`, nil))
	must(t, 0, dir, "signer", "add", filepath.Join(dir, "android/keystores/debug.keystore"), "--app", "browsed", "--owner", "Wren", "--machine", "bench", "--name", "Wren bench")
	do(t, ctx, "a signer in every encoding, each with a copy button, and who needs it", says("Wren bench"), says("SHA-256, Base64url"), says("Thornmill, development"),
		chromedp.Poll(`document.querySelectorAll('[aria-label$="of Wren bench"]').length === 9`, nil))

	do(t, ctx, "registering with another service: what goes there is shown first", chromedp.Navigate(end.Address+"/apps/browsed/register/patchquay"), says("What goes to Patchquay"), says("from: the app"),
		chromedp.Click(`//button[text()="Register with Patchquay"]`), says("kept on the server, must not ship"), says("Publishing token"))
	do(t, ctx, "a duty is confirmed by a person", chromedp.Click(`input[type=checkbox]`, chromedp.ByQuery), says("just now"))
	do(t, ctx, "a key is exchanged", chromedp.Click(`//button[text()="exchange"]`), says("exchanged, still valid"))
	must(t, 0, dir, "register", "patchquay", "--berth", "production=production", "--berth", "staging=development")
	must(t, 0, dir, "place", "patchquay", "--yes")
	must(t, 0, dir, "check")
	do(t, ctx, "its placements as last reported, with their places, and the guide for whoever places by hand", says("in the tree, as reported"), says("android/app/src/main/res/values/strings.xml:"), says("ios-berth"),
		chromedp.Click(`//summary[contains(., "Placing by hand")]`), says("PatchquayBerth"), says("ligare place patchquay --guide"))
	do(t, ctx, "a sheet can be read", chromedp.Navigate(end.Address+"/services/patchquay"), says("whoever has this token replaces the code"), says("As it is written"))
	do(t, ctx, "back to the app", chromedp.Navigate(end.Address+"/apps/browsed"), says("Line-up"))

	must(t, 0, dir, "probe", "thornmill")
	do(t, ctx, "a sighting arrives by itself", says("record read"), says("just saw iOS"))
	do(t, ctx, "and stands in the line-up", chromedp.Poll(`document.querySelectorAll('tbody tr td:last-child .font-mono').length >= 6`, nil))

	change(t, filepath.Join(dir, "ios/Hivelog.xcodeproj/project.pbxproj"), "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.browsed;", "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.Browsed;", 1)
	must(t, 1, dir, "check")
	do(t, ctx, "a mistake shows without reloading, told by more than colour", says("only letter case differs"),
		chromedp.Poll(`[...document.querySelectorAll('td')].some(c => c.innerText.includes('≠') && c.querySelector('mark')?.innerText === 'B')`, nil))

	var shown bool
	do(t, ctx, "a server value is not on the page", chromedp.Evaluate(`document.documentElement.outerHTML.includes('tmx-')`, &shown))
	if shown {
		t.Error("a server value stands on the page")
	}
	do(t, ctx, "signing out", chromedp.Click(`//button[text()="Sign out"]`), chromedp.WaitVisible("#token", chromedp.ByQuery))
	do(t, ctx, "and it holds", chromedp.Navigate(end.Address+"/"), chromedp.WaitVisible("#token", chromedp.ByQuery))
}

// handIn chooses what shall be kept, and a package's file as a person does.
func handIn(file, keep string) chromedp.Tasks {
	return chromedp.Tasks{chromedp.SetValue("select", keep, chromedp.ByQuery), chromedp.Evaluate(`document.querySelector('select').dispatchEvent(new Event('change', {bubbles: true}))`, nil),
		chromedp.SetUploadFiles("input[type=file]", []string{file}, chromedp.ByQuery)}
}

// A package is handed in with the mouse or by keyboard; what it holds, what is wrong and what is kept can be seen.
func TestAPackageInTheConsole(t *testing.T) {
	dir := connected(t, "shipped")
	must(t, 0, dir, "check")
	apk, err := filepath.Abs("../core/built/builttest/testdata/rotated.apk")
	if err != nil {
		t.Fatal(err)
	}
	ctx := browser(t)
	do(t, ctx, "signing in", chromedp.Navigate(end.Address+"/sign-in#"+end.Token), says("shipped"))
	do(t, ctx, "the page", chromedp.Navigate(end.Address+"/packages?app=shipped"), says("Drop an APK, AAB or IPA here"), says("None yet."))
	do(t, ctx, "something that is no package", chromedp.SetUploadFiles("input[type=file]", []string{filepath.Join(dir, "README.md")}, chromedp.ByQuery), says("it is no ZIP archive"), says("as it was built"))
	do(t, ctx, "a package of another identifier", handIn(apk, "everything"), says("example.larkfield.hivelog"), says("of shipped"), says("What is wrong"), says("Line-up of the package"), says("every signature holds"),
		says("CN=Larkfield two"), says("Rotated; before it: CN=Larkfield one"), says("a float: digits are lost"), says("InspectionActivity"))
	var marked bool
	var at string
	do(t, ctx, "what disagrees is marked, not by colour alone", chromedp.Evaluate(`[...document.querySelectorAll('td')].some(c => c.innerText.includes('≠'))`, &marked))
	if !marked {
		t.Error("nothing disagrees in the line-up of a package that was built for another app")
	}
	do(t, ctx, "it stands in the list, and can be opened", chromedp.Click(`main ul a[href^="/packages/"]`, chromedp.ByQuery), says("Forget it"), says("What the manifest says"), chromedp.Location(&at))
	do(t, ctx, "its column stands in the app's line-up", chromedp.Navigate(end.Address+"/apps/shipped"), says("Built package"))
	do(t, ctx, "and it can be forgotten", chromedp.Navigate(at), says("Forget it"), chromedp.Click(`//button[text()="Forget it"]`), says("Handed in"), says("None yet."))
}

// terminal draws a command and its output the way a terminal shows them.
func terminal(t *testing.T, ctx context.Context, dir, home, name string, lines int, args ...string) {
	t.Helper()
	r := runWith(t, dir, []string{"LIGARE_HOME=" + home, "COLUMNS=150"}, args...)
	text := strings.Split("$ ligare "+strings.Join(args, " ")+"\n"+r.err+r.out, "\n")
	if len(text) > lines {
		text = append(text[:lines], "…")
	}
	page := filepath.Join(t.TempDir(), name+".html")
	body := `<!doctype html><meta charset="utf-8"><style>body{margin:0;background:#1d1b16;color:#e8e2d5;font:13px/1.45 "DejaVu Sans Mono",monospace;padding:18px}pre{margin:0;white-space:pre}</style><pre>` + html.EscapeString(strings.Join(text, "\n")) + `</pre>`
	if err := os.WriteFile(page, []byte(body), 0o644); err != nil {
		t.Fatal(err)
	}
	do(t, ctx, name, chromedp.EmulateViewport(1280, 800), chromedp.Navigate("file://"+page), chromedp.WaitVisible("pre", chromedp.ByQuery))
	shot(t, ctx, name)
}

// TestPictures takes the pictures of docs/screenshots from the demo's data. Keep a demo running with
// `./run-demo --leave-mistake --folder FOLDER`, then:
//
//	LIGARE_DEMO=FOLDER LIGARE_SHOTS=$PWD/docs/screenshots go test ./e2e -run Pictures
func TestPictures(t *testing.T) {
	folder := os.Getenv("LIGARE_DEMO")
	if folder == "" || os.Getenv("LIGARE_SHOTS") == "" {
		t.Skip("LIGARE_DEMO (the folder of a running demo) and LIGARE_SHOTS (where pictures go) are not set")
	}
	home, tree := filepath.Join(folder, "home"), filepath.Join(folder, "hivelog")
	e, err := client.LoadEndpoint(home)
	if err != nil {
		t.Fatal(err)
	}
	ctx := browser(t)
	do(t, ctx, "the sign-in", chromedp.EmulateViewport(1280, 800), chromedp.Navigate(e.Address+"/sign-in"), chromedp.WaitVisible("#token", chromedp.ByQuery))
	do(t, ctx, "the overview", chromedp.Navigate("about:blank"), chromedp.Navigate(e.Address+"/sign-in#"+e.Token), says("Hivelog"))
	shot(t, ctx, "console-overview")
	do(t, ctx, "the app", chromedp.EmulateViewport(1280, 1120), chromedp.Click(`a[href="/apps/hivelog"]`, chromedp.ByQuery), says("Bundle ID"))
	shot(t, ctx, "console-app")
	part := func(section, name string) {
		t.Helper()
		do(t, ctx, section, chromedp.EmulateViewport(1280, 800), chromedp.Evaluate(`document.querySelector('#section-`+section+`').scrollIntoView()`, nil))
		shot(t, ctx, name)
	}
	part("signers", "console-signers")
	page := func(path, wait, name string) {
		t.Helper()
		do(t, ctx, name, chromedp.Navigate(e.Address+path), says(wait))
		shot(t, ctx, name)
	}
	page("/services/gatepost", "which needs none", "console-service")
	page("/apps/seedswap/register/treadmark", "Launcher activity", "console-register")
	regs, err := (&client.Client{Address: e.Address, Token: e.Token}).Registrations(context.Background(), "seedswap")
	if err != nil {
		t.Fatal(err)
	}
	runWith(t, filepath.Join(folder, "seedswap"), []string{"LIGARE_HOME=" + home}, "check")
	for _, g := range regs {
		if g.Service == "patchquay" {
			page("/registrations/"+g.ID, "autumn fair", "console-registration")
			part("placements", "console-placements")
		}
	}
	terminal(t, ctx, tree, home, "register", 40, "register", "treadmark", "--identity", "example.larkfield.hivelog.debug", "--answer", "payer=20417733", "--dry-run")
	apk := filepath.Join(folder, "packages", "hivelog.apk")
	do(t, ctx, "a package", chromedp.Navigate(e.Address+"/packages?app=hivelog"), says("Drop an APK"), handIn(apk, "everything"), says("What is wrong"))
	shot(t, ctx, "console-package")
	terminal(t, ctx, tree, home, "inspect", 46, "inspect", "../packages/hivelog.apk", "--verify")
	terminal(t, ctx, tree, home, "survey", 40, "survey")
	terminal(t, ctx, tree, home, "digest", 40, "digest", "--variant", "debug")
	terminal(t, ctx, tree, home, "check", 40, "check")
	terminal(t, ctx, tree, home, "lineup", 40, "lineup")
	terminal(t, ctx, tree, home, "comb", 40, "comb", "--history")
	terminal(t, ctx, tree, home, "explain", 40, "explain", "error: No profiles for 'example.larkfield.Hivelog' were found: no development profile matches it")
	page("/apps/hivelog/findings", "Last without errors", "console-findings")
	change(t, filepath.Join(tree, "ios/Hivelog.xcodeproj/project.pbxproj"), "example.larkfield.Hivelog", "example.larkfield.hivelog", -1)
	terminal(t, ctx, tree, home, "probe", 40, "probe", "thornmill", "--environment", "production")
	must2(t, tree, home, "unplace", "thornmill", "--yes")
	terminal(t, ctx, tree, home, "place", 40, "place", "thornmill", "--dry-run")
}

func must2(t *testing.T, dir, home string, args ...string) {
	t.Helper()
	if r := runWith(t, dir, []string{"LIGARE_HOME=" + home}, args...); r.status != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
}
