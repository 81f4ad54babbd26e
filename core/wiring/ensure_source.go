package wiring

import (
	"bytes"
	"fmt"
	"path"
	"strings"

	"ligare/core/syntax/lex"
	"ligare/core/syntax/source"
)

// sourceEnsure sees to a call in source at the place where an app starts: first in the application class (else in the
// launcher activity, before its first screen), in the app delegate's launch method, or in a declarative app's init.
type sourceEnsure struct{}

// start is the place where an app starts, in one source file.
type start struct {
	name  string
	file  *source.File
	class *source.Class
	fn    *source.Func // nil when the method is still to be written
	kind  string       // application, activity, delegate, declarative
}

func (e sourceEnsure) files(in Input, w *Want) []string {
	var out []string
	dir := ""
	if w.site.module != nil {
		dir = path.Join(w.site.module.Dir, "src")
	} else {
		dir = w.site.project.Dir
	}
	in.Tree.Walk(func(name string) {
		if source.Language(name) == nil || dir != "." && !strings.HasPrefix(name, dir+"/") {
			return
		}
		if w.site.module != nil {
			set, _, _ := strings.Cut(strings.TrimPrefix(name, dir+"/"), "/")
			if strings.HasPrefix(set, "test") || strings.HasPrefix(set, "androidTest") || path.Ext(name) == ".swift" {
				return
			}
		} else if path.Ext(name) != ".swift" {
			return
		}
		out = append(out, name)
	})
	return out
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
	f, ok := source.Parse(name, src)
	if !ok || len(f.Tree.Problems) > 0 {
		return nil
	}
	return f
}

// find gives the place where the app starts.
func (e sourceEnsure) find(in Input, w *Want) (start, string) {
	if w.site.module != nil {
		return e.findAndroid(in, w)
	}
	for _, name := range e.files(in, w) {
		f := e.parse(in, name, "UIApplication")
		if f == nil {
			continue
		}
		for _, c := range f.Classes {
			switch {
			case c.Is("UIApplicationDelegate") || contains(c.Attrs, "UIApplicationMain"):
				return start{name, f, c, c.Func("application", "didFinishLaunchingWithOptions"), "delegate"}, ""
			}
		}
	}
	for _, name := range e.files(in, w) {
		f := e.parse(in, name, "@main", "App")
		if f == nil {
			continue
		}
		for _, c := range f.Classes {
			if c.Word == "struct" && c.Is("App") && contains(c.Attrs, "main") {
				return start{name, f, c, c.Func("init", ""), "declarative"}, ""
			}
		}
	}
	return start{}, "no Swift app delegate and no declarative app was found in " + w.site.project.Dir
}

func (e sourceEnsure) findAndroid(in Input, w *Want) (start, string) {
	for _, v := range w.site.module.Variants {
		if !contains(w.Variants, v.Name) {
			continue
		}
		full, kind := v.ApplicationClass.String(), "application"
		if full == "" {
			full, kind = v.LauncherActivity.String(), "activity"
		}
		if full == "" {
			return start{}, "the manifest names neither an application class nor a launcher activity"
		}
		simple := full[strings.LastIndexByte(full, '.')+1:]
		pkg := strings.TrimSuffix(full, "."+simple)
		for _, name := range e.files(in, w) {
			f := e.parse(in, name, simple)
			if f == nil || f.Package != pkg {
				continue
			}
			if c := f.Class(simple); c != nil {
				return start{name, f, c, c.Func("onCreate", ""), kind}, ""
			}
		}
		return start{}, fmt.Sprintf("the source of %s, named in the manifest, was not found (or its class has no body)", full)
	}
	return start{}, "no variant of the module is covered"
}

func (e sourceEnsure) look(in Input, w *Want) Answer {
	call := w.Params["call"]
	type hit struct {
		file string
		f    *source.File
		c    source.Call
	}
	var hits []hit
	for _, name := range e.files(in, w) {
		f := e.parse(in, name, call[strings.LastIndexByte(call, '.')+1:])
		if f == nil {
			continue
		}
		for _, c := range f.Calls(f.Tree.Root) {
			if c.Name == call {
				hits = append(hits, hit{name, f, c})
			}
		}
	}
	st, why := e.find(in, w)
	switch {
	case len(hits) > 1:
		return Answer{State: Twice, Code: "start-twice", Here: place(hits[1].file, hits[1].f.Src, hits[1].c.Start), Others: []Place{place(hits[0].file, hits[0].f.Src, hits[0].c.Start)},
			Detail: call + " is called twice"}
	case len(hits) == 1:
		h := hits[0]
		at := place(h.file, h.f.Src, h.c.Start)
		if im := w.Params["import"]; !h.f.Imported(im) && h.f.Package != im[:max(0, strings.LastIndexByte(im, '.'))] {
			return Answer{State: Conflicting, Code: "import-missing", Here: at, Expected: "import " + im, Actual: "not imported", Fixable: true, Detail: call + " is called, but " + im + " is not imported"}
		}
		if st.file == nil || st.name != h.file || st.fn == nil || h.c.Start < st.fn.Start || h.c.End > st.fn.End {
			return Answer{State: OtherForm, Here: at, Detail: "it is called elsewhere than where the app starts"}
		}
		if late := e.late(st, h.c); late != "" {
			return Answer{State: WrongPlace, Code: "start-late", Here: at, Expected: "before " + late, Actual: "after " + late, Detail: call + " is called after " + late + ", when the first screen may already need it"}
		}
		return Answer{State: Right, Here: at}
	case st.file == nil:
		return Answer{State: Unknown, Code: "start-unknown", Detail: why}
	case st.fn != nil && st.file.Implied(st.fn):
		return Answer{State: Absent, Code: "start-missing", Here: place(st.name, st.file.Src, st.fn.Start), Expected: call + "(" + w.Params["arguments"] + ")",
			Detail: call + " is called nowhere, and the launch method returns its only expression without saying return: write the return, then place again"}
	}
	return Answer{State: Absent, Code: "start-missing", Here: place(st.name, st.file.Src, st.class.Start), Expected: call + "(" + w.Params["arguments"] + ")", Fixable: true, Detail: call + " is called nowhere"}
}

// late names a call that shows the first screen and stands before the start call.
func (sourceEnsure) late(st start, c source.Call) string {
	for _, x := range st.file.Calls(st.fn.Body) {
		if x.Start < c.Start && (x.Name == "setContentView" || x.Name == "setContent" || strings.HasSuffix(x.Name, "makeKeyAndVisible")) {
			return x.Name
		}
	}
	return ""
}

func (e sourceEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	if a.State == WrongPlace || !a.Fixable {
		return nil // moving or rewriting code is left to a person
	}
	st, why := e.find(in, w)
	if st.file == nil {
		return fmt.Errorf("%s", why)
	}
	name := st.name
	if a.Code == "import-missing" {
		name = a.Here.File
	}
	f := e.parse(in, name)
	if im := w.Params["import"]; !f.Imported(im) {
		ins, address := f.AddImport(im)
		if err := p.insert(w, name, address, ins); err != nil {
			return err
		}
	}
	if a.Code == "import-missing" {
		return nil
	}
	if st, _ = e.find(in, w); st.fn == nil {
		method, fn := e.method(st)
		label := ""
		if st.kind == "delegate" {
			label = "didFinishLaunchingWithOptions"
		}
		ins, address := st.file.AddMethod(st.class, fn, label, method)
		if err := p.insert(w, name, address, ins); err != nil {
			return err
		}
		st, _ = e.find(in, w)
	}
	text := w.Params["call"] + "(" + w.Params["arguments"] + ")"
	if st.file.Lang == lex.Java {
		text += ";"
	}
	ins, address := st.file.AddFirst(st.class, st.fn, text)
	return p.insert(w, name, address, ins)
}

// method writes the method in which an app of this kind starts.
func (sourceEnsure) method(st start) (text, name string) {
	unit := lex.Unit(st.file.Src)
	switch {
	case st.kind == "delegate":
		return "func application(\n" + unit + "_ application: UIApplication,\n" + unit + "didFinishLaunchingWithOptions launchOptions: [UIApplication.LaunchOptionsKey: Any]? = nil\n) -> Bool {\n" + unit + "return true\n}", "application"
	case st.kind == "declarative":
		return "init() {\n}", "init"
	case st.file.Lang == lex.Java && st.kind == "application":
		return "@Override\npublic void onCreate() {\n" + unit + "super.onCreate();\n}", "onCreate"
	case st.file.Lang == lex.Java:
		return "@Override\npublic void onCreate(android.os.Bundle savedInstanceState) {\n" + unit + "super.onCreate(savedInstanceState);\n}", "onCreate"
	case st.kind == "application":
		return "override fun onCreate() {\n" + unit + "super.onCreate()\n}", "onCreate"
	}
	return "override fun onCreate(savedInstanceState: android.os.Bundle?) {\n" + unit + "super.onCreate(savedInstanceState)\n}", "onCreate"
}
