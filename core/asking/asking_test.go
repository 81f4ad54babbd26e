package asking

import (
	"bytes"
	"encoding/base64"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/sheets"
)

func shipped(t *testing.T, name string) *sheet.Sheet {
	t.Helper()
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	return all[name]
}

func line(t *testing.T, p *Plan, ask string) Line {
	t.Helper()
	for _, l := range p.Lines {
		if l.Ask.ID == ask {
			return l
		}
	}
	t.Fatalf("no line for %s", ask)
	return Line{}
}

// An answer that was given counts before one that was found, that before what the records know, that before a default.
func TestWhereAnAnswerComesFrom(t *testing.T) {
	s := shipped(t, "treadmark")
	w := &Work{Sheet: s, Answers: map[string]Found{"payer": {"20417733", "given"}}, Identities: []Identity{{Platform: ident.Android, Identifier: "example.hive",
		Answers: map[string]Found{"launcher": {"example.hive.Main", "the tree"}}, Facts: map[string]Found{"identity.launcher_activity": {"example.hive.Old", "the records"}, "signer.sha1-base64": {base64.StdEncoding.EncodeToString(make([]byte, 20)), "signer"}}}}}
	p := w.Plan()
	if len(p.Problems()) > 0 {
		t.Fatalf("%+v", p.Problems())
	}
	for ask, from := range map[string]string{"payer": "given", "identifier": "the identity", "launcher": "the tree", "digest": "signer"} {
		if l := line(t, p, ask); l.From != from || l.Value == "" {
			t.Errorf("%s: %+v", ask, l)
		}
	}
	if l := line(t, (&Work{Sheet: shipped(t, "gatepost")}).Plan(), "scope"); l.Value != "openid name" || l.From != "the sheet's default" {
		t.Errorf("%+v", l)
	}
}

func TestWhatIsNeeded(t *testing.T) {
	s := shipped(t, "thornmill")
	w := &Work{Sheet: s, App: map[string]Found{"app.name": {"hive-log", "app"}, "app.title": {"Hivelog", "app"}}, Answers: map[string]Found{"region": {"north", "given"}}, Identities: []Identity{{Platform: ident.Android, Identifier: "a.b"}}}
	if n := w.Plan().Problems(); len(n) != 0 {
		t.Errorf("%+v", n)
	}
	w.Features = []string{"sign-in"}
	if n := w.Plan().Problems(); len(n) != 1 || !strings.Contains(n[0].Problem, "asks: SHA-256 digest") || !strings.Contains(n[0].Remedy, "keystore") {
		t.Errorf("%+v", n)
	}
	w.Features = []string{"partner-sign-in"}
	if n := w.Plan().Problems(); len(n) != 2 || !strings.Contains(n[0].Problem, "no registration of the app supplies it") {
		t.Errorf("%+v", n)
	}
	w.Supplies = map[string][]Supply{"sign-in.client-id": {{"r1", "Gatepost", "gpc.1", false}}, "sign-in.client-secret": {{"r1", "Gatepost", "s", true}, {"r2", "Other", "t", true}}}
	p := w.Plan()
	if l := line(t, p, "partner-client"); l.Value != "gpc.1" || l.Secret || l.Supplier != "r1" {
		t.Errorf("%+v", l)
	}
	if l := line(t, p, "partner-secret"); !strings.Contains(l.Problem, "several registrations supply") || !l.Secret || l.Value != "" {
		t.Errorf("%+v", l)
	}
	w.Chosen = map[string]string{"answer partner-secret": "r2"}
	if l := line(t, w.Plan(), "partner-secret"); l.Value != "t" || l.Problem != "" {
		t.Errorf("%+v", l)
	}
}

func TestRedirectURIs(t *testing.T) {
	s := shipped(t, "gatepost")
	w := &Work{Sheet: s, App: map[string]Found{"app.title": {"Hivelog", "app"}}, Identities: []Identity{{Platform: ident.IOS, Identifier: "example.hive"}}, Supplies: map[string][]Supply{"redirect.sign-in": {{"r", "Thornmill", "https://a.example/back", false}}},
		Redirects: []Found{{"https://b.example/x", "kept"}, {"https://c.example/x", "kept"}}, NoRedirects: []string{"https://c.example/x"}}
	var got []string
	for _, l := range w.Plan().Redirects {
		got = append(got, l.Value)
	}
	if strings.Join(got, " ") != "https://b.example/x example.hive:/gatepost https://a.example/back" {
		t.Errorf("%q", got)
	}
	for uri, say := range map[string]string{"http://a.example/": "not https", "hive:/x": "domain turned round", "https://a.example/#x": "fragment", "https://*.a.example/": "wildcard", "https://a.example/ x": "blank", "x": "no scheme", "https://a.example/\x01": "blank or control", "http://127.0.0.1/": "not https"} {
		if got := allowed(s.Redirects, uri); !strings.Contains(got, say) {
			t.Errorf("%s: %q", uri, got)
		}
	}
	loop := &sheet.Redirects{Allow: []sheet.RedirectRule{{Scheme: "loopback"}}}
	if allowed(loop, "http://127.0.0.1:8080/x") != "" || allowed(loop, "http://10.0.0.1/x") == "" {
		t.Error("loopback")
	}
	many := *s
	many.Redirects = &sheet.Redirects{Most: 1, Allow: s.Redirects.Allow, Propose: s.Redirects.Propose}
	w.Sheet = &many
	if n := w.Plan().Problems(); len(n) != 1 || !strings.Contains(n[0].Problem, "takes 1 redirect") {
		t.Errorf("%+v", n)
	}
}

func TestPictures(t *testing.T) {
	a := shipped(t, "shellwright").Ask("icon")
	enc := func(f func(b *bytes.Buffer) error) string {
		var b bytes.Buffer
		if err := f(&b); err != nil {
			t.Fatal(err)
		}
		return base64.StdEncoding.EncodeToString(b.Bytes())
	}
	square := func(n int, c color.Color) image.Image {
		img := image.NewNRGBA(image.Rect(0, 0, n, n))
		for x := range n {
			for y := range n {
				img.Set(x, y, c)
			}
		}
		return img
	}
	whole := enc(func(b *bytes.Buffer) error { return png.Encode(b, square(1024, color.White)) })
	for name, c := range map[string]struct{ value, say string }{
		"right":       {whole, ""},
		"small":       {enc(func(b *bytes.Buffer) error { return png.Encode(b, square(16, color.White)) }), "16 by 16"},
		"transparent": {enc(func(b *bytes.Buffer) error { return png.Encode(b, square(1024, color.NRGBA{1, 1, 1, 1})) }), "transparent"},
		"a JPEG":      {enc(func(b *bytes.Buffer) error { return jpeg.Encode(b, square(1024, color.White), nil) }), "not a PNG"},
		"cut off":     {whole[:len(whole)/2/4*4], "cut off"},
		"no picture":  {"aGVsbG8=", "not a PNG"},
		"no Base64":   {"!", "not readable"},
		"large":       {base64.StdEncoding.EncodeToString(make([]byte, 1<<20)), "KB"},
	} {
		if say, remedy := picture(a, c.value); c.say == "" && say != "" || !strings.Contains(say, c.say) || say != "" && remedy == "" {
			t.Errorf("%s: %q", name, say)
		}
	}
}

func TestWhatIsRefusedBeforeSending(t *testing.T) {
	s := shipped(t, "tallywick")
	for value, say := range map[string]string{"Hive\x00": "control character", "<NAME>": "placeholder", strings.Repeat("Hive", 16): "has not the form"} {
		w := &Work{Sheet: s, Answers: map[string]Found{"name": {value, "given"}}}
		if n := w.Plan().Problems(); len(n) != 1 || !strings.Contains(n[0].Problem, say) || n[0].Remedy == "" {
			t.Errorf("%q: %+v", value, n)
		}
	}
	w := &Work{Sheet: shipped(t, "bellhanger"), Answers: map[string]Found{"library": {"nativ", "given"}}}
	if n := w.Plan().Problems(); len(n) != 1 || !strings.Contains(n[0].Remedy, "Did you mean native?") {
		t.Errorf("%+v", n)
	}
}
