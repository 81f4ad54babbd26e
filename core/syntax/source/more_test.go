package source

import (
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

func called(list []Call) string {
	var out []string
	for _, c := range list {
		out = append(out, c.Name)
	}
	return strings.Join(out, " ")
}

// Calls in every language: a call in a comment or a string is none, and neither nesting nor interpolation hides one.
func TestCallsInEveryLanguage(t *testing.T) {
	for name, c := range map[string]struct{ src, want string }{
		"a.dart": {"import 'x.dart';\n/* no(); /* no(); */ */\n// no();\nvoid main() async {\n  print('no() ${yes(1)} \\' no()');\n  print(r'no() \\');\n  await Start.now(key: \"\"\"no()\"\"\");\n}\n", "print yes print Start.now"},
		"a.tsx":  {"import a from 'a'; // no()\nconst re = /no()\\//g;\nexport default function App() {\n  const s = `no() ${yes(2)}`;\n  return wrap(<View onPress={() => go(1)}>Don't</View>);\n}\n", "App yes wrap go"},
		"a.cs":   {"#if ANDROID\nusing X;\n#endif\nclass P {\n  static void Main() {\n    Log($\"no() {Yes(1)}\");\n    Path(@\"c:\\no()\");\n    Raw(\"\"\"no(\"\")\"\"\");\n    /* No(); */ Builder.Create().Use<App>().Build();\n  }\n}\n", "Log Yes Path Raw Builder.Create Build"},
	} {
		f, ok := Parse(name, []byte(c.src))
		if !ok {
			t.Errorf("%s has no language", name)
			continue
		}
		if err := lex.Verify(f.Src, f.Tree.Root); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		body := f.Tree.Root
		if f.Class("P") != nil {
			body = f.Class("P").Func("Main", "").Body
		}
		for _, fn := range f.Funcs {
			if fn.Name == "main" {
				body = fn.Body
			}
		}
		if got := called(f.Calls(body)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
}

func TestObjectiveC(t *testing.T) {
	src := []byte("#import \"AppDelegate.h\"\n#import <UIKit/UIKit.h>\n@import Other;\n\n@interface AppDelegate () <UIApplicationDelegate>\n@end\n\n@implementation AppDelegate\n\n" +
		"- (BOOL)application:(UIApplication *)application didFinishLaunchingWithOptions:(NSDictionary *)options\n{\n  // [Not called:1];\n  [Start withKey:@\"[no call]\" at:[NSDate date]];\n  if (x) { [self.window makeKeyAndVisible]; }\n  start(1);\n  return YES;\n}\n\n+ (void)load { }\n- (void)declared;\n@end\n\n@implementation Other\n- (void)go {}\n@end\n")
	f, ok := Parse("AppDelegate.mm", src)
	if !ok || lex.Verify(src, f.Tree.Root) != nil {
		t.Fatal("not read")
	}
	if len(f.Imports) != 3 || f.Imports[0].Name != "AppDelegate.h" || f.Imports[2].Name != "Other" {
		t.Errorf("%+v", f.Imports)
	}
	var found []string
	for _, k := range f.Classes {
		for _, fn := range k.Funcs {
			found = append(found, k.Word+" "+k.Name+" "+fn.Name)
		}
	}
	if s := strings.Join(found, "; "); s != "implementation AppDelegate application:didFinishLaunchingWithOptions:; implementation AppDelegate load; implementation Other go" {
		t.Errorf("%s", s)
	}
	if !f.Classes[0].Is("UIApplicationDelegate") {
		t.Errorf("%+v", f.Classes[0])
	}
	body := f.Classes[1].Funcs[0].Body
	if got := called(f.Messages(body)); got != "Start.withKey:at: NSDate.date self.window.makeKeyAndVisible" {
		t.Errorf("messages: %s", got)
	}
	if got := called(f.Calls(body)); !strings.Contains(got, "start") {
		t.Errorf("calls: %s", got)
	}
}

func TestBareClass(t *testing.T) {
	for _, c := range []struct{ src, want string }{
		{"package a\n\nclass MainActivity: FlutterActivity()\n", "class MainActivity: FlutterActivity()"},
		{"class MainActivity : FlutterActivity()", "class MainActivity : FlutterActivity()"},
		{"@AndroidEntryPoint\nclass MainActivity @Inject constructor(\n  val a: A,\n) :\n  Base<A>(a),\n  B by c\n\nfun x() {}\n", "@AndroidEntryPoint\nclass MainActivity @Inject constructor(\n  val a: A,\n) :\n  Base<A>(a),\n  B by c"},
		{"class MainActivity // none\nclass Other { }\n", "class MainActivity"},
		{"class MainActivity : A() { }\n", ""},
		{"class MainActivity : A()\n{\n}\n", ""},
		{"class Other : A()\n", ""},
		{"val x = MainActivity::class; class Y\n", ""},
	} {
		f, _ := Parse("a.kt", []byte(c.src))
		start, end, ok := f.Bare("MainActivity")
		if ok != (c.want != "") || c.src[start:end] != c.want {
			t.Errorf("%q: %q %v", c.src, c.src[start:end], ok)
		}
	}
}

func TestShort(t *testing.T) {
	for _, c := range []struct {
		name, src string
		is        bool
	}{
		{"a.kt", "class A { override fun f() = g() }", true},
		{"a.kt", "class A { override fun f(x: Int): List? = g() }", true},
		{"a.kt", "class A { override fun f() { g() } }", false},
		{"a.kt", "class A { val x = f() }", false},
		{"a.cs", "class A { protected override MauiApp f() => B.C(); }", true},
	} {
		f, _ := Parse(c.name, []byte(c.src))
		if _, is := f.Short(f.Class("A"), "f"); is != c.is {
			t.Errorf("%s: %v", c.src, is)
		}
	}
}
