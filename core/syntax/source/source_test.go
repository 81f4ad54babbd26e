package source

import (
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

const kotlin = `package a.b

import x.Y
import z.*

// class Fake : Application()
@Suppress("x")
internal class App(val q: Int) : Base<List<String>>(), Iface, other.Pkg {
    val text = "class Not { fun no() {} }"
    override fun onCreate() {
        super.onCreate()
        Lib.start(this, "a)b")
    }
    fun expression() = 3
    companion object Helper { fun make() { a.b.c() } }
}
class NoBody : Thing()
fun top() { }
`

const swift = `import UIKit
@testable import Mine
#if DEBUG
import Extra
#endif

@main
final class AppDelegate: UIResponder, UIApplicationDelegate {
    var window: UIWindow?
    func application(_ app: UIApplication, open url: URL) -> Bool { return true }
    func application(
        _ application: UIApplication,
        didFinishLaunchingWithOptions launchOptions: [Key: Any]? = nil
    ) -> Bool {
        let s = "text \(call("}")) more"
        return true
    }
    init(x: Int) { }
}
`

const java = `package a.b;
import x.Y;
import static q.R.s;

public class Main extends other.Base implements I, J {
    private int x = 1;
    /* void fake() { } */
    @Override
    protected void onCreate(Bundle b) throws E {
        super.onCreate(b);
        setContentView(R.layout.main);
    }
}
`

func parse(t *testing.T, name, src string) *File {
	t.Helper()
	f, ok := Parse(name, []byte(src))
	if !ok || len(f.Tree.Problems) > 0 {
		t.Fatalf("%s: %v %v", name, ok, f.Tree.Problems)
	}
	return f
}

func names(f *File) string {
	var out []string
	f.Each(func(c *Class) {
		s := c.Word + " " + c.Name + "(" + strings.Join(c.Supers, ",") + ")" + strings.Join(c.Attrs, "")
		for _, fn := range c.Funcs {
			s += " " + fn.Name
		}
		out = append(out, s)
	})
	return strings.Join(out, "\n")
}

func TestStructure(t *testing.T) {
	for _, c := range []struct{ name, src, classes, imports string }{
		{"a.kt", kotlin, "class App(Base,Iface,other.Pkg)Suppress onCreate\nobject Helper() make", "x.Y z.*"},
		{"a.swift", swift, "class AppDelegate(UIResponder,UIApplicationDelegate)main application application init", "UIKit Mine Extra"},
		{"A.java", java, "class Main(other.Base,I,J) onCreate", "x.Y q.R.s"},
	} {
		f := parse(t, c.name, c.src)
		if got := names(f); got != c.classes {
			t.Errorf("%s: got\n%s\nwant\n%s", c.name, got, c.classes)
		}
		var im []string
		for _, i := range f.Imports {
			im = append(im, i.Name)
		}
		if got := strings.Join(im, " "); got != c.imports {
			t.Errorf("%s: imports %s", c.name, got)
		}
	}
	k := parse(t, "a.kt", kotlin)
	if k.Package != "a.b" || !k.Imported("x.Y") || !k.Imported("z.Anything") || k.Imported("x.Z") {
		t.Error("package and imports")
	}
	if fn := parse(t, "a.swift", swift).Class("AppDelegate").Func("application", "didFinishLaunchingWithOptions"); fn == nil || !strings.Contains(fn.Params, "launchOptions") {
		t.Error("a method told by its parameters")
	}
	if _, ok := Parse("a.txt", nil); ok {
		t.Error("a language without a table")
	}
}

func TestCalls(t *testing.T) {
	f := parse(t, "a.kt", kotlin)
	var got []string
	for _, c := range f.Calls(f.Tree.Root) {
		got = append(got, c.Name)
	}
	s := " " + strings.Join(got, " ") + " "
	for _, want := range []string{" super.onCreate ", " Lib.start ", " a.b.c "} {
		if !strings.Contains(s, want) {
			t.Errorf("%s is missing in %s", want, s)
		}
	}
	if strings.Contains(s, " no ") {
		t.Error("a call in a string was read")
	}
}

func TestEditsAndTheirAddresses(t *testing.T) {
	for _, c := range []struct {
		name, src, class, fn, label, call, want string
	}{
		{"a.kt", kotlin, "App", "onCreate", "", "New.start(this)", "        super.onCreate()\n        New.start(this)\n        Lib.start"},
		{"A.java", java, "Main", "onCreate", "", "New.start(this);", "        super.onCreate(b);\n        New.start(this);\n        setContentView"},
		{"a.swift", swift, "AppDelegate", "application", "didFinish", "New.start()", "    ) -> Bool {\n        New.start()\n        let s"},
		{"b.swift", "class A {\n  func f() {}\n}", "A", "f", "", "New.start()", "  func f() {\n    New.start()\n  }"},
		{"c.swift", "class A {\n  func f() { g() }\n}", "A", "f", "", "New.start()", "  func f() { New.start(); g() }"},
	} {
		f := parse(t, c.name, c.src)
		class := f.Class(c.class)
		in, address := f.AddFirst(class, class.Func(c.fn, c.label), c.call[:strings.IndexByte(c.call, '(')], c.call)
		out, err := lex.Apply(f.Src, in.Change())
		if err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(string(out), c.want) {
			t.Errorf("%s: got\n%s", c.name, out)
		}
		s, e, ok := parse(t, c.name, string(out)).Find(address)
		if !ok || string(out[s:e]) != c.call {
			t.Errorf("%s: %s finds %q", c.name, address, out[s:e])
		}
	}
	for _, c := range []struct{ name, src, want string }{
		{"a.kt", kotlin, "import z.*\nimport n.New\n"}, {"A.java", java, "import static q.R.s;\nimport n.New;\n"},
		{"b.kt", "package p\n\nclass A\n", "package p\n\nimport n.New\n"}, {"c.swift", "class A {}\n", "import n.New\n\nclass A"},
	} {
		f := parse(t, c.name, c.src)
		in, address := f.AddImport("n.New")
		out, err := lex.Apply(f.Src, in.Change())
		if err != nil || !strings.Contains(string(out), c.want) {
			t.Errorf("%s: got\n%s %v", c.name, out, err)
		}
		if _, _, ok := parse(t, c.name, string(out)).Find(address); !ok {
			t.Errorf("%s: %s is not found", c.name, address)
		}
	}
	f := parse(t, "a.swift", swift)
	in, address := f.AddMethod(f.Class("AppDelegate"), "made", "", "func made() {\n    x()\n}")
	out, err := lex.Apply(f.Src, in.Change())
	if err != nil {
		t.Fatal(err)
	}
	if s, e, ok := parse(t, "a.swift", string(out)).Find(address); !ok || !strings.HasPrefix(string(out[s:e]), "func made()") || !strings.Contains(string(out), "    func made() {\n        x()\n    }\n}\n") {
		t.Errorf("a method:\n%s", out)
	}
}

func TestImpliedReturns(t *testing.T) {
	for body, want := range map[string]bool{"-> Bool { true }": true, "-> Bool { return true }": false, "{ g() }": false, "-> Bool {\n g { return 1 }\n}": false} {
		f := parse(t, "a.swift", "class A {\n func f() "+body+"\n}")
		if got := f.Implied(f.Class("A").Func("f", "")); got != want {
			t.Errorf("%s: %v", body, got)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a.kt", []byte(kotlin))
	f.Add("a.swift", []byte(swift))
	f.Add("a.java", []byte(java))
	f.Fuzz(func(t *testing.T, name string, src []byte) {
		p, ok := Parse(name, src)
		if !ok {
			return
		}
		if err := lex.Verify(src, p.Tree.Root); err != nil {
			t.Fatal(err)
		}
		p.Each(func(c *Class) {
			if c.Start > c.Body.Start || c.End != c.Body.End {
				t.Fatalf("class %s spans %d-%d, its body %d-%d", c.Name, c.Start, c.End, c.Body.Start, c.Body.End)
			}
		})
		p.Calls(p.Tree.Root)
	})
}
