package wiring

import (
	"fmt"
	"strings"

	"ligare/core/survey"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/source"
)

// makeStart writes the start call, with what it needs around it.
func (e sourceEnsure) makeStart(in Input, w *Want, p *Plan) error {
	st, why := e.start(in, w)
	if st.file == nil {
		return fmt.Errorf("%s", why)
	}
	if err := e.take(in, w, p, st.name); err != nil {
		return err
	}
	st, _ = e.start(in, w)
	switch st.kind {
	case "main":
		return e.startOfDart(in, w, p, st.name)
	case "builder":
		return e.startOfBuilder(w, p, st)
	case "script":
		return e.startOfScript(w, p, st)
	case "declarative":
		if err := e.adapt(w, p, st); err != nil {
			return err
		}
		st, _ = e.start(in, w)
	case "delegate":
		if app, ok := e.declarative(in, w); ok { // the adaptor that makes the delegate known is needed by this call too
			p.share(w, app.name, "member("+app.class.Name+".appDelegate)")
		}
	}
	return e.first(in, w, p, st, e.start, e.startMethod, nil)
}

// first puts the call first into a method, writing the method if it is not there.
func (e sourceEnsure) first(in Input, w *Want, p *Plan, st spot, find func(Input, *Want) (spot, string), method func(spot) (text, name, label string), names map[string]string) error {
	if st.class != nil && st.class.Body == nil { // a class that was declared without a body gets one
		nl := lex.LineEnd(st.file.Src)
		if err := p.insert(w, st.name, "body("+st.class.Name+")", lex.Insertion{Offset: st.class.End, Before: " ", Text: "{" + nl + lex.Indent(st.file.Src, st.class.Start) + "}"}); err != nil {
			return err
		}
		if st, _ = find(in, w); st.class == nil || st.class.Body == nil {
			return fmt.Errorf("%s: the body that was written is not found again", st.name)
		}
	} else if st.class != nil && st.file.Lang == lex.Kotlin {
		p.share(w, st.name, "body("+st.class.Name+")")
	}
	if st.fn == nil {
		text, name, label := method(st)
		if head, short := st.file.Short(st.class, name); short && label == "" {
			return fmt.Errorf("%s: %s is one expression in class %s; give it braces, then there is room for the call", st.name, head, st.class.Name)
		}
		ins, address := st.file.AddMethod(st.class, name, label, text)
		if err := p.insert(w, st.name, address, ins); err != nil {
			return err
		}
		if st, _ = find(in, w); st.fn == nil {
			return fmt.Errorf("%s: the method that was written is not found again", st.name)
		}
	}
	if names == nil {
		names = e.parameters(w, st)
	}
	ins, address := st.file.AddFirst(st.class, st.fn, e.called(w, st.file.Lang), e.statement(w, st.file, names))
	return p.insert(w, st.name, address, ins)
}

// parameters maps what a sheet's arguments call a handler's parameters to what the method there calls them.
func (e sourceEnsure) parameters(w *Want, st spot) map[string]string {
	labels, names := st.file.Params(st.fn)
	out := map[string]string{}
	switch w.settings["role"] {
	case "activity-result":
		for i, n := range []string{"requestCode", "resultCode", "data"} {
			if i < len(names) {
				out[n] = names[i]
			}
		}
	case "open-url":
		for i, l := range labels {
			if (l == "open" || l == "openURL") && i < len(names) {
				out["url"] = names[i]
			}
		}
	}
	return out
}

// overrides reports whether a Swift class has a parent that may have the method already: then it is overridden.
func overrides(c *source.Class) bool {
	return len(c.Supers) > 0 && !c.Is("UIApplicationDelegate") && c.Supers[0] != "NSObject" && c.Supers[0] != "UIResponder"
}

// startMethod writes the method in which an app of this kind starts.
func (sourceEnsure) startMethod(st spot) (text, name, label string) {
	unit := lex.Unit(st.file.Src)
	switch {
	case st.kind == "delegate" && overrides(st.class):
		return "override func application(\n" + unit + "_ application: UIApplication,\n" + unit + "didFinishLaunchingWithOptions launchOptions: [UIApplication.LaunchOptionsKey: Any]? = nil\n) -> Bool {\n" +
			unit + "return super.application(application, didFinishLaunchingWithOptions: launchOptions)\n}", "application", "didFinishLaunchingWithOptions"
	case st.kind == "delegate":
		return "func application(\n" + unit + "_ application: UIApplication,\n" + unit + "didFinishLaunchingWithOptions launchOptions: [UIApplication.LaunchOptionsKey: Any]? = nil\n) -> Bool {\n" + unit + "return true\n}", "application", "didFinishLaunchingWithOptions"
	case st.file.Lang == lex.Java && st.kind == "application":
		return "@Override\npublic void onCreate() {\n" + unit + "super.onCreate();\n}", "onCreate", ""
	case st.file.Lang == lex.Java:
		return "@Override\npublic void onCreate(android.os.Bundle savedInstanceState) {\n" + unit + "super.onCreate(savedInstanceState);\n}", "onCreate", ""
	case st.kind == "application":
		return "override fun onCreate() {\n" + unit + "super.onCreate()\n}", "onCreate", ""
	}
	return "override fun onCreate(savedInstanceState: android.os.Bundle?) {\n" + unit + "super.onCreate(savedInstanceState)\n}", "onCreate", ""
}

// adapt gives a declarative app an app delegate: a class in front of the app, and the adaptor that makes it known.
func (e sourceEnsure) adapt(w *Want, p *Plan, st spot) error {
	const name = "AppDelegate"
	unit := lex.Unit(st.file.Src)
	body, _, _ := e.startMethod(spot{file: st.file, class: &source.Class{}, kind: "delegate"})
	text := "class " + name + ": NSObject, UIApplicationDelegate {\n" + unit + strings.ReplaceAll(body, "\n", "\n"+unit) + "\n}"
	into := lex.OnLinesBefore(st.file.Src, st.class.Start, "", text)
	into.After += lex.LineEnd(st.file.Src)
	if err := p.insert(w, st.name, "class("+name+")", into); err != nil {
		return err
	}
	src, err := p.Tree.Read(st.name)
	if err != nil {
		return err
	}
	f, _ := source.Parse(st.name, src)
	c := f.Class(st.class.Name)
	if c == nil {
		return fmt.Errorf("%s: %s is not found again", st.name, st.class.Name)
	}
	member := "@UIApplicationDelegateAdaptor(" + name + ".self) private var appDelegate"
	open := c.Body.Kids[0].End
	own := lex.Indent(src, c.Start) + unit
	if n := lex.Solid(c.Body.Inner()); len(n) > 0 {
		own = lex.Indent(src, n[0].Start)
	}
	return p.insert(w, st.name, "member("+c.Name+".appDelegate)", lex.OnLinesAfter(src, open, own, member))
}

// startOfDart writes the call behind the framework's binding, waited for, in an asynchronous main.
func (e sourceEnsure) startOfDart(in Input, w *Want, p *Plan, name string) error {
	f := e.parse(in, name)
	fn, arrow := running(f)
	if arrow != nil {
		unit := lex.UnitOr(f.Src, "  ")
		nl := lex.LineEnd(f.Src)
		if err := p.replace(w, name, "function("+arrow.Name+")", "Future<void> "+arrow.Name+"() async {"+nl+unit+arrow.Body+";"+nl+"}"); err != nil {
			return err
		}
		f = e.parse(in, name)
		fn = f.Function(arrow.Name)
	}
	if head := f.Head(fn); !strings.HasSuffix(head, "async") {
		typed := strings.TrimSpace(head[:strings.IndexByte(head, '(')])
		if typed != fn.Name && typed != "void "+fn.Name {
			return fmt.Errorf("%s: %s gives something back; make it asynchronous, then place again", place(name, f.Src, fn.Start), fn.Name)
		}
		params := head[strings.IndexByte(head, '('):]
		if err := p.replace(w, name, "head("+fn.Name+")", "Future<void> "+fn.Name+params+" async"); err != nil {
			return err
		}
		f = e.parse(in, name)
	} else {
		p.share(w, name, "head("+fn.Name+")")
		p.share(w, name, "function("+fn.Name+")")
	}
	text := e.statement(w, f, nil)
	address := "statement(" + w.Params["call"] + ")"
	bind, ok := f.Call(binding_)
	if !ok {
		run, ok := f.Call("runApp")
		if !ok {
			return fmt.Errorf("%s calls runApp nowhere; write %s first in main, then place again", name, binding_+"();")
		}
		if err := p.insert(w, name, "statement("+binding_+")", f.InsertBefore(run.Start, binding_+"();")); err != nil {
			return err
		}
		f = e.parse(in, name)
		bind, _ = f.Call(binding_)
	} else {
		p.share(w, name, "statement("+binding_+")")
	}
	if !f.Async(bind.Start) {
		return fmt.Errorf("%s: the function that initialises the binding is not asynchronous; make it async, then place again", place(name, f.Src, bind.Start))
	}
	return p.insert(w, name, address, f.InsertAfter(bind.Start, text))
}

// startOfBuilder writes the call behind the line that makes the app builder, guarded where it must not be made everywhere.
func (e sourceEnsure) startOfBuilder(w *Want, p *Plan, st spot) error {
	c, ok := st.file.Call("MauiApp.CreateBuilder")
	if !ok {
		return fmt.Errorf("%s makes no app builder", st.name)
	}
	text, address := e.statement(w, st.file, nil), "statement("+w.Params["call"]+")"
	into := st.file.InsertAfter(c.Start, text)
	if guard := guardOf(w); guard != "" {
		nl := lex.LineEnd(st.file.Src)
		address = "guarded(" + w.Params["call"] + ")"
		into.Text, into.Before = "#if "+guard+nl+into.Before+text+nl+"#endif", ""
	}
	return p.insert(w, st.name, address, into)
}

// startOfScript writes the call behind the imports of the script that the app starts with.
func (e sourceEnsure) startOfScript(w *Want, p *Plan, st spot) error {
	src, err := p.Tree.Read(st.name)
	if err != nil {
		return err
	}
	f, _ := source.Parse(st.name, src)
	last := 0
	for _, m := range f.Modules() {
		last = m.End
	}
	nl := lex.LineEnd(src)
	into := lex.OnLinesAfter(src, last, "", e.statement(w, f, nil))
	into.Before = nl + into.Before
	return p.insert(w, st.name, "statement("+w.Params["call"]+")", into)
}

func (e sourceEnsure) lookHandler(in Input, w *Want, hits []hit) Answer {
	call := w.Params["call"]
	st, why := e.handler(in, w)
	switch {
	case len(hits) > 1:
		return Answer{State: Twice, Code: "handler-twice", Here: hits[1].place(), Others: []Place{hits[0].place()}, Detail: call + " is called twice"}
	case len(hits) == 1:
		if a, ok := e.imported(w, hits[0]); !ok {
			return a
		}
		if st.file == nil || st.name != hits[0].file || st.fn != nil && (hits[0].c.Start < st.fn.Start || hits[0].c.End > st.fn.End) {
			return Answer{State: OtherForm, Here: hits[0].place(), Detail: "it is called elsewhere than in the method that is looked for"}
		}
		return Answer{State: Right, Here: hits[0].place()}
	case st.file == nil:
		return Answer{State: Unknown, Code: "handler-unknown", Detail: why}
	}
	at := place(st.name, st.file.Src, st.class.Start)
	out := Answer{State: Absent, Code: "handler-missing", Here: at, Expected: e.expected(w), Detail: "nothing hands back what comes back: " + call + " is called nowhere"}
	switch {
	case st.file.Lang == lex.ObjC && e.objc(w) == "":
		out.Detail += "; the sheet does not say it in Objective-C"
	case st.fn != nil && st.file.Implied(st.fn):
		out.Detail += ", and the method there returns its only expression without saying return: write the return, then place again"
	case st.kind == "declarative" && !windowed(st):
		out.Detail += "; the app's first view is not a single expression: add .onOpenURL { url in " + e.expected(w) + " } to it"
	default:
		out.Fixable = true
	}
	return out
}

func windowed(st spot) bool {
	_, _, ok := st.file.Window(st.class)
	return ok
}

// handler finds where a result or an opened address comes back.
func (e sourceEnsure) handler(in Input, w *Want) (spot, string) {
	if w.site.module != nil {
		st, why := e.androidClass(in, w, func(v *survey.AndroidVariant) (string, string) { return v.LauncherActivity.String(), "activity" })
		if st.class != nil {
			st.fn = st.class.Func("onActivityResult", "")
		}
		return st, why
	}
	if st, ok := e.scene(in, w); ok {
		return st, ""
	}
	if st, ok := e.declarative(in, w); ok {
		return st, ""
	}
	st, ok := e.delegate(in, w)
	if !ok {
		return spot{}, "no scene delegate, app delegate or declarative app was found among the sources of target " + w.site.target.Name
	}
	st.fn = st.class.Func("application", "open ")
	if st.file.Lang == lex.ObjC {
		st.fn = st.class.Func("application:openURL:options:", "")
	}
	return st, ""
}

func (e sourceEnsure) makeHandler(in Input, w *Want, p *Plan) error {
	st, why := e.handler(in, w)
	if st.file == nil {
		return fmt.Errorf("%s", why)
	}
	if err := e.take(in, w, p, st.name); err != nil {
		return err
	}
	st, _ = e.handler(in, w)
	switch st.kind {
	case "declarative":
		_, end, ok := st.file.Window(st.class)
		if !ok {
			return nil
		}
		nl := lex.LineEnd(st.file.Src)
		start, _, _ := st.file.Window(st.class)
		indent := lex.Indent(st.file.Src, start) + lex.Unit(st.file.Src)
		text := ".onOpenURL { url in\n" + lex.Unit(st.file.Src) + e.statement(w, st.file, nil) + "\n}"
		return p.insert(w, st.name, "modifier(onOpenURL "+w.Params["call"]+")", lex.Insertion{Offset: end, Before: nl + indent, Text: lex.Reindent(text, indent, nl)})
	case "scene":
		return e.sceneHandler(in, w, p, st)
	}
	return e.first(in, w, p, st, e.handler, e.handlerMethod, nil)
}

// sceneHandler hands every address over with which a scene was opened.
func (e sourceEnsure) sceneHandler(in Input, w *Want, p *Plan, st spot) error {
	if st.fn == nil {
		text := "func scene(_ scene: UIScene, openURLContexts URLContexts: Set<UIOpenURLContext>) {\n}"
		ins, address := st.file.AddMethod(st.class, "scene", "openURLContexts", text)
		if err := p.insert(w, st.name, address, ins); err != nil {
			return err
		}
		if st, _ = e.handler(in, w); st.fn == nil {
			return fmt.Errorf("%s: the method that was written is not found again", st.name)
		}
	}
	contexts := "URLContexts"
	if labels, names := st.file.Params(st.fn); len(labels) > 1 {
		contexts = names[1]
	}
	unit := lex.Unit(st.file.Src)
	text := "for context in " + contexts + " {\n" + unit + e.statement(w, st.file, map[string]string{"url": "context.url"}) + "\n}"
	ins, _ := st.file.AddFirst(st.class, st.fn, "", text)
	return p.insert(w, st.name, "class("+st.class.Name+")/func(scene,openURLContexts)/loop("+w.Params["call"]+")", ins)
}

// handlerMethod writes the method in which a result or an opened address comes back.
func (e sourceEnsure) handlerMethod(st spot) (text, name, label string) {
	unit := lex.Unit(st.file.Src)
	switch {
	case st.file.Lang == lex.ObjC:
		return "- (BOOL)application:(UIApplication *)application openURL:(NSURL *)url options:(NSDictionary<UIApplicationOpenURLOptionsKey, id> *)options\n{\n" + unit + "return YES;\n}", "application:openURL:options:", ""
	case st.kind == "delegate" && overrides(st.class):
		return "override func application(\n" + unit + "_ app: UIApplication,\n" + unit + "open url: URL,\n" + unit + "options: [UIApplication.OpenURLOptionsKey: Any] = [:]\n) -> Bool {\n" +
			unit + "return super.application(app, open: url, options: options)\n}", "application", "open url"
	case st.kind == "delegate":
		return "func application(\n" + unit + "_ app: UIApplication,\n" + unit + "open url: URL,\n" + unit + "options: [UIApplication.OpenURLOptionsKey: Any] = [:]\n) -> Bool {\n" + unit + "return true\n}", "application", "open url"
	case st.file.Lang == lex.Java:
		return "@Override\npublic void onActivityResult(int requestCode, int resultCode, android.content.Intent data) {\n" + unit + "super.onActivityResult(requestCode, resultCode, data);\n}", "onActivityResult", ""
	}
	return "@Deprecated(\"Deprecated in Java\")\noverride fun onActivityResult(requestCode: Int, resultCode: Int, data: android.content.Intent?) {\n" + unit + "super.onActivityResult(requestCode, resultCode, data)\n}", "onActivityResult", ""
}

// lookRoot answers for the wrapper around an app's root component.
func (e sourceEnsure) lookRoot(in Input, w *Want, hits []hit) Answer {
	call := w.Params["call"]
	switch {
	case len(hits) > 1:
		return Answer{State: Twice, Code: "root-twice", Here: hits[1].place(), Others: []Place{hits[0].place()}, Detail: call + " is called twice: the root component is wrapped once"}
	case len(hits) == 1:
		if a, ok := e.imported(w, hits[0]); !ok {
			return a
		}
		return Answer{State: Right, Here: hits[0].place()}
	}
	r, ok := e.root(in, w)
	if !ok {
		return Answer{State: Unknown, Code: "root-unknown", Detail: "the place where the root component is registered was not found; wrap it: " + call + "(App)"}
	}
	return Answer{State: Absent, Code: "root-unwrapped", Here: place(r.name, r.file.Src, r.start), Expected: call + "(" + r.text() + ")", Actual: r.text(), Fixable: true, Detail: "the root component is not wrapped"}
}

// rooted is the expression that is the root component.
type rooted struct {
	name       string
	file       *source.File
	start, end int
}

func (r rooted) text() string { return string(r.file.Src[r.start:r.end]) }

// root finds the root component: what is registered under the app's name, else what the first script exports.
func (e sourceEnsure) root(in Input, w *Want) (rooted, bool) {
	for _, name := range e.files(in, w) {
		f := e.parse(in, name, "registerComponent")
		if f == nil {
			continue
		}
		for _, c := range f.Calls(f.Tree.Root) {
			if !strings.HasSuffix(c.Name, "registerComponent") {
				continue
			}
			n := lex.Solid(c.Args.Inner())
			for i := 0; i+1 < len(n); i++ { // AppRegistry.registerComponent(name, () => App)
				if n[i].Is(f.Src, lex.Punct, "=>") && n[i+1].Kind == lex.Word && i+2 == len(n) {
					return rooted{name, f, n[i+1].Start, n[i+1].End}, true
				}
			}
		}
	}
	return rooted{}, false
}

func (e sourceEnsure) makeRoot(in Input, w *Want, p *Plan) error {
	r, ok := e.root(in, w)
	if !ok {
		return nil
	}
	if err := e.take(in, w, p, r.name); err != nil {
		return err
	}
	if r, ok = e.root(in, w); !ok {
		return fmt.Errorf("the root component is not found again")
	}
	more := ""
	if a := w.Params["arguments"]; a != "" {
		more = ", " + a
	}
	return p.exchange(w, r.name, "call("+w.Params["call"]+")", r.start, r.end, w.Params["call"]+"("+r.text()+more+")")
}
