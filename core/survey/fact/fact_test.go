package fact

import "testing"

func TestEither(t *testing.T) {
	a, b, open := Of("a", "f", 1, 2), Of("b", "f", 3, 4), Open("why", "f", 5, 6)
	two := Either("y", Of("c", "g", 1, 1), Fact{})
	for _, c := range []struct {
		name string
		got  Fact
		say  string
		line int
	}{
		{"two values", Either("x", a, b), "a when x, or b when not x", 1},
		{"the same value", Either("x", a, Of("a", "h", 9, 9)), "a", 1},
		{"one is open", Either("x", a, open), "unresolved: why", 5},
		{"the other is open", Either("x", open, b), "unresolved: why", 5},
		{"only one side", two, "c when y", 1},
		{"nested", Either("x", a, Either("y", b, Of("c", "", 0, 0))), "a when x, or b when not x and y, or c when not x and not y", 1},
		{"nothing at all", Either("x", Fact{}, Fact{}), "not set", 0},
	} {
		if c.got.Say() != c.say || c.got.Line != c.line {
			t.Errorf("%s: %s on line %d", c.name, c.got.Say(), c.got.Line)
		}
		if c.got.Known() && (len(c.got.Possible) > 0 || c.got.Unresolved != "") {
			t.Errorf("%s has two answers", c.name)
		}
	}
}

func TestJoin(t *testing.T) {
	either := Either("x", Of("b", "f", 2, 1), Of("c", "f", 3, 1))
	for _, c := range []struct {
		name string
		got  Fact
		say  string
	}{
		{"texts", Join(Of("a", "f", 1, 1, "one"), Of("b", "g", 2, 2, "two")), "ab"},
		{"an outcome inside", Join(Of("a.", "f", 1, 1), either, Of(".d", "f", 1, 9)), "a.b.d when x, or a.c.d when not x"},
		{"two of them", Join(either, either), "bb when x and x, or bc when x and not x, or cb when not x and x, or cc when not x and not x"},
		{"open", Join(Of("a", "f", 1, 1), Open("why", "g", 7, 7)), "unresolved: why"},
		{"one", Join(Of("a", "f", 1, 1)), "a"},
	} {
		if c.got.Say() != c.say {
			t.Errorf("%s: %s", c.name, c.got.Say())
		}
	}
	if f := Join(Of("a", "f", 1, 1, "one"), Of("b", "g", 2, 2, "two")); f.Place() != "f:1:1" || len(f.Via) != 2 {
		t.Errorf("place and chain: %s %v", f.Place(), f.Via)
	}
}

func TestSaying(t *testing.T) {
	f := Of("v", "f", 3, 4).Through("second").Through("first")
	if f.String() != "v" || !f.Known() || !f.Set() || f.Via[0] != "first" || f.Place() != "f:3:4" {
		t.Errorf("%+v", f)
	}
	if f := Of("v", "f", 0, 0); f.Place() != "f" {
		t.Errorf("a file without a line: %s", f.Place())
	}
	if f := (Fact{}); f.Say() != "not set" || f.Set() || f.Place() != "" || f.String() != "" {
		t.Errorf("nothing: %+v", f)
	}
	was := Either("x", Of("a", "", 0, 0), Of("b", "", 0, 0))
	if f := was.With(func(s string) string { return s + "!" }); f.Say() != "a! when x, or b! when not x" || was.Possible[0].Value != "a" {
		t.Errorf("%s, and before %s", f.Say(), was.Say())
	}
	circle := Open("it refers to itself", "f", 1, 1)
	for range 20 {
		circle = circle.Through("x")
	}
	if len(circle.Via) > 6 {
		t.Errorf("a circle says %d steps", len(circle.Via))
	}
}
