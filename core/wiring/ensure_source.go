package wiring

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/survey"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/source"
)

// sourceEnsure sees to a call, a wrapper or a handler in source: at the place where an app starts, around its root
// component, where a result or an address comes back.
type sourceEnsure struct{}

// spot is a place in source: a class and its method, a function, or a file where statements stand by themselves.
type spot struct {
	name  string
	file  *source.File
	class *source.Class
	fn    *source.Func // nil when the method is still to be written
	kind  string       // application, activity, delegate, scene, declarative, main, builder, script
}

// hit is a call that was found.
type hit struct {
	file string
	f    *source.File
	c    source.Call
}

func (h hit) place() Place { return place(h.file, h.f.Src, h.c.Start) }

// scripts are the endings of a framework's own source.
var scripts = map[string][]string{"flutter": {".dart"}, "dotnet": {".cs"}, "engine": {".cs"},
	"react-native": {".js", ".jsx", ".ts", ".tsx", ".mjs", ".cjs"}, "hosted-web": {".js", ".jsx", ".ts", ".tsx", ".mjs", ".cjs"}, "web-wrapper": {".js", ".jsx", ".ts", ".tsx", ".mjs", ".cjs"}}

// files lists the source in which the want's call may stand.
func (e sourceEnsure) files(in Input, w *Want) []string {
	var out []string
	switch s := w.site; {
	case s.framework != nil:
		dir := s.framework.Dir
		in.Tree.Walk(func(name string) {
			rel := name
			if dir != "." {
				var inside bool
				if rel, inside = strings.CutPrefix(name, dir+"/"); !inside {
					return
				}
			}
			top, _, _ := strings.Cut(rel, "/")
			if slices.Contains(scripts[s.framework.Name], path.Ext(name)) && !tested(rel) && (s.framework.Name != "flutter" || top == "lib") && top != "android" && top != "ios" {
				out = append(out, name)
			}
		})
	case s.module != nil:
		dir := path.Join(s.module.Dir, "src")
		in.Tree.Walk(func(name string) {
			if ext := path.Ext(name); ext != ".kt" && ext != ".java" || !strings.HasPrefix(name, dir+"/") {
				return
			}
			set, _, _ := strings.Cut(strings.TrimPrefix(name, dir+"/"), "/")
			if !strings.HasPrefix(set, "test") && !strings.HasPrefix(set, "androidTest") {
				out = append(out, name)
			}
		})
	default:
		px, err := in.project(w)
		if err != nil {
			return nil
		}
		for _, name := range survey.Sources(in.Tree, s.project, px, s.target.Name) {
			if ext := path.Ext(name); ext == ".swift" || ext == ".m" || ext == ".mm" {
				out = append(out, name)
			}
		}
	}
	return out
}

// tested reports whether a file of a framework's source belongs to tests.
func tested(name string) bool {
	base := path.Base(name)
	for _, part := range []string{"__tests__/", "test/", "tests/", "__mocks__/"} {
		if strings.HasPrefix(name, part) || strings.Contains(name, "/"+part) {
			return true
		}
	}
	return strings.Contains(base, ".test.") || strings.Contains(base, ".spec.")
}

// parse reads a file that holds all of the words; one that does not cannot be the one that is looked for.
func (e sourceEnsure) parse(in Input, name string, words ...string) *source.File {
	src, err := in.Tree.Read(name)
	if err != nil {
		return nil
	}
	for _, w := range words {
		if !bytes.Contains(src, []byte(w)) {
			return nil
		}
	}
	return in.source(name, src)
}

// called gives the name under which a language's source shows the want's call. Objective-C sends messages.
func (e sourceEnsure) called(w *Want, l *lex.Language) string {
	if l != lex.ObjC {
		return w.Params["call"]
	}
	text := e.objc(w)
	f, _ := source.Parse("x.m", []byte(text))
	if sent := f.Sent(f.Tree.Root); len(sent) > 0 {
		return sent[0].Name
	}
	return ""
}

// objc gives the statement in Objective-C: as the sheet says, or, for a call without arguments, made from the call; "" when
// it cannot be made.
func (e sourceEnsure) objc(w *Want) string {
	if s := w.Params["objc"]; s != "" {
		return s
	}
	receiver, name, ok := strings.Cut(w.Params["call"], ".")
	if !ok || strings.Contains(name, ".") || w.Params["arguments"] != "" {
		return ""
	}
	return "[" + receiver + " " + name + "];"
}

// statement writes the call for a file. names exchanges what the arguments call things for what a method calls them.
func (e sourceEnsure) statement(w *Want, f *source.File, names map[string]string) string {
	if f.Lang == lex.ObjC {
		return rename(e.objc(w), names)
	}
	text := w.Params["call"] + "(" + rename(w.Params["arguments"], names) + ")"
	switch f.Lang {
	case lex.Java, lex.CSharp:
		text += ";"
	case lex.Dart:
		text = "await " + text + ";"
	case lex.JavaScript:
		text += f.Semicolon()
	}
	return text
}

// rename exchanges whole words of a piece of source.
func rename(text string, names map[string]string) string {
	if len(names) == 0 {
		return text
	}
	var b strings.Builder
	for _, n := range lex.Parse(lex.Swift, []byte(text)).Root.Kids {
		renamed(&b, []byte(text), n, names)
	}
	return b.String()
}

func renamed(b *strings.Builder, src []byte, n *lex.Node, names map[string]string) {
	if n.Leaf() {
		if to, ok := names[n.Of(src)]; ok && n.Kind == lex.Word {
			b.WriteString(to)
		} else {
			b.WriteString(n.Of(src))
		}
		return
	}
	for _, k := range n.Kids {
		renamed(b, src, k, names)
	}
}

// running gives the function of a Dart file that runs the app: main, or another that calls runApp.
func running(f *source.File) (*source.Func, *source.Arrow) {
	if fn, arrow := f.Function("main"), f.Arrow("main"); fn != nil && (f.Makes(fn.Body, "runApp") || !f.Makes(f.Tree.Root, "runApp")) || arrow != nil && strings.Contains(arrow.Body, "runApp") {
		return fn, arrow
	}
	for _, fn := range f.Funcs {
		if f.Makes(fn.Body, "runApp") {
			return fn, nil
		}
	}
	return f.Function("main"), f.Arrow("main")
}

// entries lists the files whose functions run a Flutter app: one for each flavor, where each has its own.
func (e sourceEnsure) entries(in Input, x *survey.Framework) []string {
	var out []string
	for _, name := range e.files(in, &Want{site: site{framework: x}}) {
		if f := e.parse(in, name, "runApp"); f != nil && f.Makes(f.Tree.Root, "runApp") {
			out = append(out, name)
		}
	}
	return out
}

// hits finds the want's call in the site's source.
func (e sourceEnsure) hits(in Input, w *Want) []hit {
	call := w.Params["call"]
	last := call[strings.LastIndexByte(call, '.')+1:]
	objc := e.called(w, lex.ObjC)
	var out []hit
	for _, name := range e.files(in, w) {
		word, want := last, call
		if ext := path.Ext(name); ext == ".m" || ext == ".mm" {
			if want = objc; want == "" {
				continue
			}
			word, _, _ = strings.Cut(want, ".")
		}
		f := e.parse(in, name, word)
		if f == nil {
			continue
		}
		for _, c := range f.Sent(f.Tree.Root) {
			if c.Name == want && !(w.site.start != "" && name != w.site.start && slices.Contains(e.entries(in, w.site.framework), name)) {
				out = append(out, hit{name, f, c})
			}
		}
	}
	return out
}

func (e sourceEnsure) look(in Input, w *Want) Answer {
	hits := e.hits(in, w)
	switch w.settings["role"] {
	case "root-component":
		return e.lookRoot(in, w, hits)
	case "activity-result", "open-url":
		return e.lookHandler(in, w, hits)
	}
	return e.lookStart(in, w, hits)
}

func (e sourceEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	if a.State == WrongPlace || !a.Fixable {
		return nil // moving or rewriting code is left to a person
	}
	if a.Code == "import-missing" {
		return e.take(in, w, p, a.Here.File)
	}
	if a.Code == "start-differs" {
		return e.say(in, w, p)
	}
	switch w.settings["role"] {
	case "root-component":
		return e.makeRoot(in, w, p)
	case "activity-result", "open-url":
		return e.makeHandler(in, w, p)
	}
	return e.makeStart(in, w, p)
}

// imported answers when a file calls what it does not bring in.
func (e sourceEnsure) imported(w *Want, h hit) (Answer, bool) {
	im := w.Params["import"]
	if im == "" || h.f.Takes(im, w.Params["call"]) || h.f.Package != "" && h.f.Package == im[:max(0, strings.LastIndexByte(im, '.'))] {
		return Answer{}, true
	}
	return Answer{State: Conflicting, Code: "import-missing", Here: h.place(), Expected: "import " + im, Actual: "not imported", Fixable: true,
		Detail: w.Params["call"] + " is called, but " + im + " is not imported"}, false
}

// take brings in what the call needs.
func (e sourceEnsure) take(in Input, w *Want, p *Plan, name string) error {
	im := w.Params["import"]
	f := e.parse(in, name)
	if f == nil {
		return fmt.Errorf("%s cannot be read as source", name)
	}
	ins, address := f.Take(im, w.Params["call"])
	if im == "" || f.Takes(im, w.Params["call"]) {
		p.share(w, name, address)
		return nil
	}
	return p.insert(w, name, address, ins)
}

func (e sourceEnsure) lookStart(in Input, w *Want, hits []hit) Answer {
	call := w.Params["call"]
	st, why := e.start(in, w)
	switch {
	case len(hits) > 1:
		return Answer{State: Twice, Code: "start-twice", Here: hits[1].place(), Others: []Place{hits[0].place()}, Detail: call + " is called twice"}
	case len(hits) == 1:
		h := hits[0]
		if a, ok := e.imported(w, h); !ok {
			return a
		}
		if a, ok := e.spoken(w, h); !ok {
			return a
		}
		if a, ok := e.guarded(w, h); !ok {
			return a
		}
		if h.f.Lang == lex.Dart {
			if a, ok := e.bound(w, h); !ok {
				return a
			}
		}
		if st.file == nil || st.name != h.file || st.fn != nil && (h.c.Start < st.fn.Start || h.c.End > st.fn.End) || st.class != nil && st.fn == nil {
			return Answer{State: OtherForm, Here: h.place(), Detail: "it is called elsewhere than where the app starts"}
		}
		if late := e.late(st, h.c); late != "" {
			return Answer{State: WrongPlace, Code: "start-late", Here: h.place(), Expected: "before " + late, Actual: "after " + late, Detail: call + " is called after " + late + ", when the first screen may already need it"}
		}
		return Answer{State: Right, Here: h.place()}
	case st.file == nil:
		return Answer{State: Unknown, Code: "start-unknown", Detail: why}
	case st.file.Lang == lex.ObjC && e.objc(w) == "":
		return Answer{State: Unknown, Code: "start-unknown", Here: place(st.name, st.file.Src, st.class.Start), Detail: "the sheet does not say the call in Objective-C; write it first in the launch method: " + e.expected(w)}
	case st.fn != nil && st.file.Implied(st.fn):
		return Answer{State: Absent, Code: "start-missing", Here: place(st.name, st.file.Src, st.fn.Start), Expected: e.expected(w),
			Detail: call + " is called nowhere, and the launch method returns its only expression without saying return: write the return, then place again"}
	}
	at := Place{File: st.name, Line: 1, Column: 1}
	if st.class != nil {
		at = place(st.name, st.file.Src, st.class.Start)
	} else if st.fn != nil {
		at = place(st.name, st.file.Src, st.fn.Start)
	}
	return Answer{State: Absent, Code: "start-missing", Here: at, Expected: e.expected(w), Fixable: true, Detail: call + " is called nowhere"}
}

func (e sourceEnsure) expected(w *Want) string {
	return w.Params["call"] + "(" + w.Params["arguments"] + ")"
}

// said is a text that stands among the arguments of a call.
type said struct {
	text string
	node *lex.Node
}

// texts gives the plain texts among the arguments of a call, in order.
func texts(f *source.File, c source.Call) []said {
	var out []said
	f.Tree.Root.Walk(func(n *lex.Node) bool {
		if n.Start >= c.End || n.End <= c.Start {
			return false
		}
		if n.Kind == lex.String && n.Start >= c.Start && n.End <= c.End {
			if t, ok := lex.Literal(f.Src, n); ok {
				out = append(out, said{t, n})
			}
			return false
		}
		return true
	})
	return out
}

// wantedTexts gives the texts that the sheet's call has, as the language of a file reads them.
func (e sourceEnsure) wantedTexts(w *Want, f *source.File) []said {
	name := map[*lex.Language]string{lex.Kotlin: "x.kt", lex.Java: "x.java", lex.Swift: "x.swift", lex.ObjC: "x.m", lex.Dart: "x.dart", lex.JavaScript: "x.js", lex.CSharp: "x.cs"}[f.Lang]
	x, ok := source.Parse(name, []byte(e.statement(w, f, nil)))
	if !ok {
		return nil
	}
	c, ok := x.Call(e.called(w, f.Lang))
	if !ok {
		return nil
	}
	return texts(x, c)
}

// spoken compares the texts of a call's arguments with those wanted: a key is one. A call that takes them from elsewhere,
// or takes others, is not judged by them.
func (e sourceEnsure) spoken(w *Want, h hit) (Answer, bool) {
	want, got := e.wantedTexts(w, h.f), texts(h.f, h.c)
	if w.carried && len(got) > len(want) {
		return Answer{State: Conflicting, Code: "start-differs", Here: place(h.file, h.f.Src, got[0].node.Start), Expected: w.Params["arguments"], Actual: got[0].text, Fixable: true,
			Detail: fmt.Sprintf("%s is called with one value for every variant, and %s has another than the rest: each needs its own", w.Params["call"], identityOf(w))}, false
	}
	if len(want) != len(got) {
		return Answer{}, true
	}
	for i := range want {
		if !Equal(want[i].text, got[i].text) {
			return Answer{State: Conflicting, Code: "start-differs", Here: place(h.file, h.f.Src, got[i].node.Start), Expected: shown(want[i].text), Actual: got[i].text, Fixable: !strings.HasPrefix(want[i].text, ByDigest),
				Detail: fmt.Sprintf("%s is called with another value than the one for %s: %s", w.Params["call"], identityOf(w), difference(want[i].text, got[i].text))}, false
		}
	}
	return Answer{}, true
}

// say exchanges the texts of a call's arguments for those wanted, in the quotes that stand there.
func (e sourceEnsure) say(in Input, w *Want, p *Plan) error {
	hits := e.hits(in, w)
	if len(hits) != 1 {
		return nil
	}
	h := hits[0]
	want, got := e.wantedTexts(w, h.f), texts(h.f, h.c)
	if w.carried && len(got) > len(want) && h.f.Lang != lex.ObjC {
		return p.replace(w, h.file, "call("+h.c.Name+")", strings.TrimSuffix(strings.TrimPrefix(e.statement(w, h.f, nil), "await "), ";"))
	}
	text := string(h.f.Src[h.c.Start:h.c.End])
	for i := len(got) - 1; i >= 0 && len(want) == len(got); i-- {
		quote := h.f.Src[got[i].node.Start]
		if want[i].text != got[i].text && (quote == '"' || quote == '\'') {
			text = text[:got[i].node.Start-h.c.Start] + lex.Quoted(want[i].text, quote, h.f.Lang == lex.Kotlin || h.f.Lang == lex.Dart) + text[got[i].node.End-h.c.Start:]
		}
	}
	return p.replace(w, h.file, "call("+h.c.Name+")", text)
}

// late names a call that shows the first screen and stands before the start call.
func (sourceEnsure) late(st spot, c source.Call) string {
	if st.fn == nil {
		return ""
	}
	for _, x := range st.file.Sent(st.fn.Body) {
		if x.Start < c.Start && (x.Name == "setContentView" || x.Name == "setContent" || x.Name == "runApp" || strings.HasSuffix(x.Name, "makeKeyAndVisible")) {
			return x.Name
		}
	}
	return ""
}

// bound says whether a Dart start call stands behind the framework's own binding and is waited for.
func (e sourceEnsure) bound(w *Want, h hit) (Answer, bool) {
	bind, ok := h.f.Call(binding_)
	if !ok || bind.Start > h.c.Start {
		return Answer{State: WrongPlace, Code: "start-unbound", Here: h.place(), Expected: "after " + binding_, Actual: "before it",
			Detail: w.Params["call"] + " is called before the framework's binding is initialised"}, false
	}
	start, _ := h.f.Statement(h.c.Start)
	if !strings.Contains(string(h.f.Src[start:h.c.Start]), "await") {
		return Answer{State: WrongPlace, Code: "start-unbound", Here: h.place(), Expected: "await " + w.Params["call"], Actual: "not waited for",
			Detail: w.Params["call"] + " is not awaited: the first screen comes before it is done"}, false
	}
	return Answer{}, true
}

// binding_ is what a Flutter app calls before anything that speaks with the platform.
const binding_ = "WidgetsFlutterBinding.ensureInitialized"

// guardOf writes the condition of a guard, by the platforms on which the call may be made: "android ios".
func guardOf(w *Want) string {
	return strings.ToUpper(strings.Join(strings.Fields(w.Params["guard"]), " || "))
}

// guarded says whether a C# call that must not be made everywhere stands in a branch of its own.
func (e sourceEnsure) guarded(w *Want, h hit) (Answer, bool) {
	if h.f.Lang != lex.CSharp || w.Params["guard"] == "" {
		return Answer{}, true
	}
	if _, _, ok := h.f.Find("guarded(" + h.c.Name + ")"); ok {
		return Answer{}, true
	}
	if dir := "/" + h.file; strings.Contains(dir, "/Platforms/Android/") || strings.Contains(dir, "/Platforms/iOS/") {
		return Answer{}, true
	}
	return Answer{State: WrongPlace, Code: "start-unguarded", Here: h.place(), Expected: "#if " + guardOf(w), Actual: "on every platform",
		Detail: w.Params["call"] + " is called on platforms that the library does not have"}, false
}

// start gives the place where the app starts.
func (e sourceEnsure) start(in Input, w *Want) (spot, string) {
	switch {
	case w.site.framework != nil:
		return e.startOfFramework(in, w)
	case w.site.module != nil:
		return e.startOfAndroid(in, w)
	}
	if st, ok := e.delegate(in, w); ok {
		return st, ""
	}
	if st, ok := e.declarative(in, w); ok {
		return st, ""
	}
	return spot{}, "no app delegate and no declarative app was found among the sources of target " + w.site.target.Name
}

// delegate finds the app delegate.
func (e sourceEnsure) delegate(in Input, w *Want) (spot, bool) {
	for _, name := range e.files(in, w) {
		if f := e.parse(in, name, "didFinishLaunchingWithOptions"); f != nil && f.Lang == lex.ObjC {
			for _, c := range f.Classes {
				if fn := c.Func("application:didFinishLaunchingWithOptions:", ""); c.Word == "implementation" && fn != nil {
					return spot{name, f, c, fn, "delegate"}, true
				}
			}
		}
		f := e.parse(in, name, "UIApplication")
		if f == nil || f.Lang != lex.Swift {
			f = e.parse(in, name, "@main")
		}
		if f == nil || f.Lang != lex.Swift {
			continue
		}
		var out *source.Class
		f.Each(func(c *source.Class) {
			if out == nil && c.Word != "extension" && (c.Is("UIApplicationDelegate") || contains(c.Attrs, "UIApplicationMain") || c.Word == "class" && contains(c.Attrs, "main")) {
				out = c
			}
		})
		if out != nil {
			return spot{name, f, out, out.Func("application", "didFinishLaunchingWithOptions"), "delegate"}, true
		}
	}
	return spot{}, false
}

// declarative finds the struct that a declarative app starts with.
func (e sourceEnsure) declarative(in Input, w *Want) (spot, bool) {
	for _, name := range e.files(in, w) {
		f := e.parse(in, name, "@main", "App")
		if f == nil || f.Lang != lex.Swift {
			continue
		}
		for _, c := range f.Classes {
			if c.Word == "struct" && c.Is("App") && contains(c.Attrs, "main") {
				return spot{name, f, c, c.Func("init", ""), "declarative"}, true
			}
		}
	}
	return spot{}, false
}

// scene finds the scene delegate.
func (e sourceEnsure) scene(in Input, w *Want) (spot, bool) {
	for _, name := range e.files(in, w) {
		f := e.parse(in, name, "UIWindowSceneDelegate")
		if f == nil || f.Lang != lex.Swift {
			continue
		}
		for _, c := range f.Classes {
			if c.Is("UIWindowSceneDelegate", "UISceneDelegate") {
				return spot{name, f, c, c.Func("scene", "openURLContexts"), "scene"}, true
			}
		}
	}
	return spot{}, false
}

func (e sourceEnsure) startOfAndroid(in Input, w *Want) (spot, string) {
	st, why := e.androidClass(in, w, func(v *survey.AndroidVariant) (string, string) {
		if full := v.ApplicationClass.String(); full != "" {
			return full, "application"
		}
		return v.LauncherActivity.String(), "activity"
	})
	if st.class != nil {
		st.fn = st.class.Func("onCreate", "")
	}
	return st, why
}

// androidClass finds the source of a class that the manifest names.
func (e sourceEnsure) androidClass(in Input, w *Want, which func(*survey.AndroidVariant) (class, kind string)) (spot, string) {
	for _, v := range w.covered() {
		full, kind := which(v)
		if full == "" {
			return spot{}, "the manifest names neither an application class nor a launcher activity"
		}
		simple := full[strings.LastIndexByte(full, '.')+1:]
		pkg := strings.TrimSuffix(full, "."+simple)
		for _, name := range e.files(in, w) {
			f := e.parse(in, name, simple)
			if f == nil || f.Package != pkg {
				continue
			}
			if c := f.Class(simple); c != nil {
				return spot{name: name, file: f, class: c, kind: kind}, ""
			}
			if start, end, ok := f.Bare(simple); ok {
				return spot{name: name, file: f, class: &source.Class{Word: "class", Name: simple, Start: start, End: end}, kind: kind}, ""
			}
		}
		return spot{}, fmt.Sprintf("the source of %s, named in the manifest, was not found", full)
	}
	return spot{}, "no variant of the module is covered"
}

// startOfFramework finds where a framework's own source begins.
func (e sourceEnsure) startOfFramework(in Input, w *Want) (spot, string) {
	x := w.site.framework
	switch x.Name {
	case "flutter":
		name := w.site.start
		if list := e.entries(in, x); name == "" && len(list) == 1 {
			name = list[0]
		} else if name == "" {
			name = path.Join(x.Dir, "lib/main.dart")
		}
		f := e.parse(in, name)
		if f == nil {
			return spot{}, name + " is not there or cannot be read as source"
		}
		if fn, arrow := running(f); fn != nil || arrow != nil {
			return spot{name, f, nil, fn, "main"}, ""
		}
		return spot{}, name + " has no function that runs the app (runApp)"
	case "dotnet":
		for _, name := range e.files(in, w) {
			f := e.parse(in, name, "MauiApp.CreateBuilder")
			if f == nil {
				continue
			}
			if _, ok := f.Call("MauiApp.CreateBuilder"); ok {
				return spot{name, f, nil, nil, "builder"}, ""
			}
		}
		return spot{}, "no start-up code that makes an app builder was found"
	}
	for _, c := range []string{"index.js", "index.ts", "index.tsx", "src/main.ts", "src/main.tsx", "src/main.js", "src/main.jsx", "src/index.ts", "src/index.tsx", "src/index.js", "src/index.jsx", "main.js", "main.ts"} {
		if name := path.Join(x.Dir, c); in.Tree.Has(name) {
			if f := e.parse(in, name); f != nil {
				return spot{name, f, nil, nil, "script"}, ""
			}
		}
	}
	return spot{}, "the script that the app starts with was not found in " + x.Dir
}
