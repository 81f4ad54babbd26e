package xcconfig

import "testing"

func TestParse(t *testing.T) {
	f := Parse([]byte("// A = no\n#include \"a.xcconfig\"\n#include? \"b//c.xcconfig\" // x\nA = 1 // note\nB[sdk=iphoneos*] = 2;\nURL = https://x.example\nSAFE = https:/$()/x.example\nnonsense\nA = 3\n"))
	want := []Setting{
		{Key: "A", Value: "1", Line: 4, Column: 5}, {Key: "B[sdk=iphoneos*]", Value: "2", Line: 5, Column: 20},
		{Key: "URL", Value: "https:", Line: 6, Column: 7, Cut: "//x.example"}, {Key: "SAFE", Value: "https:/$()/x.example", Line: 7, Column: 8}, {Key: "A", Value: "3", Line: 9, Column: 5},
	}
	if len(f.Settings) != len(want) {
		t.Fatalf("%+v", f.Settings)
	}
	for i, w := range want {
		if f.Settings[i] != w {
			t.Errorf("%+v, want %+v", f.Settings[i], w)
		}
	}
	if len(f.Includes) != 2 || f.Includes[0].Path != "a.xcconfig" || f.Includes[0].Optional || !f.Includes[1].Optional || f.Includes[1].Path != "b//c.xcconfig" {
		t.Errorf("%+v", f.Includes)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("#include \"x\"\nA[b=c] = d // e"))
	f.Fuzz(func(_ *testing.T, src []byte) { Parse(src) })
}
