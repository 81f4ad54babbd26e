package survey

import (
	"bytes"
	"path"
	"slices"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/source"
	"ligare/core/tree"
)

// codeEntries finds the application class and the launcher activity in the module's source.
func (s *moduleReader) codeEntries(v *AndroidVariant) []EntryPoint {
	var out []EntryPoint
	for _, c := range []struct {
		kind string
		fact Fact
	}{{"application", v.ApplicationClass}, {"launcher", v.LauncherActivity}} {
		if !c.fact.Known() {
			continue
		}
		class := c.fact.String()
		name := s.sourceOf(v, class)
		if name == "" {
			continue
		}
		src, err := s.t.Read(name)
		if err != nil {
			s.r.broken("source "+name, err.Error(), name, 0)
			continue
		}
		f, ok := source.Parse(name, src)
		if !ok {
			continue
		}
		k := f.Class(class[strings.LastIndexByte(class, '.')+1:])
		if k == nil {
			continue
		}
		e := EntryPoint{Kind: c.kind, Class: class, File: name}
		e.Line, _ = lex.Position(src, k.Start)
		e.read(f, k, "onCreate", "", androidHandlers)
		if f.Package != "" {
			l, col := lex.Position(src, max(0, bytes.Index(src, []byte(f.Package))))
			v.Identifiers = append(v.Identifiers, Entry{"package of the source of " + k.Name, fact.Of(f.Package, name, l, col)})
		}
		out = append(out, e)
	}
	return out
}

var androidHandlers = []string{"onActivityResult", "onNewIntent", "onRequestPermissionsResult", "createReactActivityDelegate"}

// sourceOf finds the file of a class: in the folder of its package, or, as Kotlin allows, without the leading part of it.
func (s *moduleReader) sourceOf(v *AndroidVariant, class string) string {
	steps := strings.Split(class, ".")
	for _, set := range v.SourceSets {
		for _, dir := range s.m.CodeDirs(set) {
			for drop := 0; drop < len(steps); drop++ {
				for _, ext := range []string{".kt", ".java"} {
					if at := path.Join(dir, path.Join(steps[drop:]...)) + ext; s.t.Has(at) {
						return at
					}
				}
			}
		}
	}
	return ""
}

// read collects what a method calls, and which handlers the class has.
func (e *EntryPoint) read(f *source.File, c *source.Class, method, params string, handlers []string) {
	for _, fn := range c.Funcs {
		l, col := lex.Position(f.Src, fn.Start)
		if fn.Name == method && strings.Contains(fn.Params, params) {
			e.Calls = append(e.Calls, calls(f, e.File, fn.Body)...)
			continue
		}
		for _, h := range handlers {
			name, label, _ := strings.Cut(h, "(")
			if fn.Name == name && (label == "" || strings.Contains(fn.Params, strings.TrimSuffix(label, ")"))) {
				e.Handlers = append(e.Handlers, Entry{h, fact.Of(fn.Name+fn.Params, e.File, l, col)})
			}
		}
	}
}

// keywords stand before brackets without calling anything.
var keywords = map[string]bool{"return": true, "if": true, "for": true, "while": true, "switch": true, "catch": true, "guard": true, "await": true, "throw": true, "case": true, "else": true, "super": true, "when": true, "in": true}

// declared reports whether the word before an offset makes what follows a declaration.
func declared(src []byte, at int) bool {
	before := strings.TrimRight(string(src[max(0, at-12):at]), " ")
	return strings.HasSuffix(before, "function") || strings.HasSuffix(before, "class") || strings.HasSuffix(before, "func") || strings.HasSuffix(before, "fun")
}

func calls(f *source.File, name string, body *lex.Node) []Entry {
	var out []Entry
	list := f.Calls(body)
	if f.Lang == lex.ObjC {
		list = append(f.Messages(body), list...)
	}
	for _, c := range list {
		if keywords[c.Name] || declared(f.Src, c.Start) {
			continue
		}
		l, col := lex.Position(f.Src, c.Start)
		text := strings.Join(strings.Fields(string(f.Src[c.Start:c.End])), " ")
		if r := []rune(text); len(r) > 120 {
			text = string(r[:119]) + "…"
		}
		out = append(out, Entry{c.Name, fact.Of(text, name, l, col)})
	}
	return out
}

var appleHandlers = []string{"application(open)", "application(continue)", "application(didRegisterForRemoteNotificationsWithDeviceToken)", "application(didReceiveRemoteNotification)",
	"scene(openURLContexts)", "scene(continue)", "application:openURL:options:", "application:continueUserActivity:restorationHandler:",
	"application:didRegisterForRemoteNotificationsWithDeviceToken:", "scene:openURLContexts:", "scene:continueUserActivity:"}

var appleMarks = [][]byte{[]byte("UIApplicationDelegate"), []byte("@main"), []byte("@UIApplicationMain"), []byte("UIWindowSceneDelegate"), []byte("onOpenURL"),
	[]byte("didFinishLaunchingWithOptions"), []byte("UISceneDelegate"), []byte("AppDelegate")}

// appleEntries finds the app delegate, the scene delegate and the App struct among a target's sources.
func appleEntries(t *tree.Tree, p *Project, px *pbxproj.Project, tg *pbxproj.Target, r *Report) []EntryPoint {
	var out []EntryPoint
	for _, name := range appleSources(t, p, px, tg) {
		src, err := t.Read(name)
		if err != nil && !missing(err) {
			r.broken("source "+name, err.Error(), name, 0)
		}
		if err != nil || !slices.ContainsFunc(appleMarks, func(m []byte) bool { return bytes.Contains(src, m) }) {
			continue
		}
		f, ok := source.Parse(name, src)
		if !ok {
			continue
		}
		f.Each(func(k *source.Class) {
			e := EntryPoint{Class: k.Name, File: name}
			e.Line, _ = lex.Position(src, k.Start)
			switch {
			case f.Lang == lex.ObjC && k.Word == "implementation" && k.Func("application:didFinishLaunchingWithOptions:", "") != nil:
				e.Kind = "app-delegate"
				e.read(f, k, "application:didFinishLaunchingWithOptions:", "", appleHandlers)
			case f.Lang == lex.ObjC && k.Word == "implementation" && k.Func("scene:willConnectToSession:options:", "") != nil:
				e.Kind = "scene-delegate"
				e.read(f, k, "scene:willConnectToSession:options:", "", appleHandlers)
			case f.Lang != lex.Swift:
				return
			case k.Is("UIWindowSceneDelegate", "UISceneDelegate"):
				e.Kind = "scene-delegate"
				e.read(f, k, "scene", "willConnectTo", appleHandlers)
			case k.Is("UIApplicationDelegate") || slices.Contains(k.Attrs, "UIApplicationMain") || k.Word == "class" && slices.Contains(k.Attrs, "main") || k.Func("application", "didFinishLaunchingWithOptions") != nil:
				e.Kind = "app-delegate"
				e.read(f, k, "application", "didFinishLaunchingWithOptions", appleHandlers)
			case slices.Contains(k.Attrs, "main") && k.Is("App"):
				e.Kind = "app-struct"
				e.read(f, k, "init", "", nil)
				k.Body.Walk(func(n *lex.Node) bool {
					if n.Is(src, lex.Word, "onOpenURL") { // a modifier: .onOpenURL { url in }
						l, col := lex.Position(src, n.Start)
						e.Handlers = append(e.Handlers, Entry{"onOpenURL", fact.Of("onOpenURL", name, l, col)})
					}
					return true
				})
			default:
				return
			}
			out = append(out, e)
		})
	}
	return out
}

// Sources lists the source files that a target compiles; px is the project's file as it stands.
func Sources(t *tree.Tree, p *Project, px *pbxproj.Project, target string) []string {
	for _, tg := range px.Targets() {
		if tg.Name == target {
			return appleSources(t, p, px, tg)
		}
	}
	return nil
}

// appleSources lists the source files that a target compiles.
func appleSources(t *tree.Tree, p *Project, px *pbxproj.Project, tg *pbxproj.Target) []string {
	var out []string
	if phase := px.Phase(tg, "PBXSourcesBuildPhase"); phase != nil {
		for _, id := range phase.Dict.Texts("files") {
			if b := px.Objects[id]; b != nil {
				if where, ok := px.Path(b.Dict.Text("fileRef")); ok {
					out = append(out, path.Join(p.Dir, where))
				}
			}
		}
	}
	for _, f := range px.SyncFolders() {
		if !slices.Contains(f.Targets, tg.Name) {
			continue
		}
		var walk func(dir, rel string, depth int)
		walk = func(dir, rel string, depth int) {
			for _, n := range t.Dir(dir) {
				in := path.Join(rel, strings.TrimSuffix(n, "/"))
				switch {
				case slices.Contains(f.Except[tg.Name], in):
				case strings.HasSuffix(n, "/") && depth < 20:
					walk(path.Join(dir, n), in, depth+1)
				case source.Language(n) != nil:
					out = append(out, path.Join(dir, n))
				}
			}
		}
		walk(path.Join(p.Dir, f.Path), "", 0)
	}
	return out
}
