package survey

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"testing"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/json"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/source"
	ours "ligare/core/syntax/xml"
)

// Every file of every tree that has a reader of ours is tiled by its tokens without gap or overlap, and gives its bytes
// back. XML's elements are those that another parser finds. LIGARE_BENCH_TREE adds a tree.
func TestEveryFileOfEveryTreeIsKeptWhole(t *testing.T) {
	dirs := append(trees(), "../../demo/studio/marrow-radio")
	if dir := os.Getenv("LIGARE_BENCH_TREE"); dir != "" {
		dirs = append(dirs, dir)
	}
	files := 0
	for _, dir := range dirs {
		root := os.DirFS(dir)
		err := fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			src, err := fs.ReadFile(root, name)
			if err != nil {
				return err
			}
			files++
			for _, problem := range whole(name, src) {
				t.Errorf("%s/%s: %s", dir, name, problem)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if files < 100 {
		t.Errorf("only %d files were read", files)
	}
}

func whole(name string, src []byte) []string {
	var out []string
	tiled := func(root *lex.Node, err error) {
		if err != nil {
			out = append(out, err.Error())
			return
		}
		if err := lex.Verify(src, root); err != nil {
			out = append(out, err.Error())
		} else if !bytes.Equal(root.Render(src), src) {
			out = append(out, "written back it differs")
		}
	}
	switch ext := path.Ext(name); {
	case ext == ".gradle" || ext == ".kts":
		f := gradle.Parse(name, src)
		tiled(f.Tree.Root, f.Err())
	case ext == ".pbxproj":
		if _, err := pbxproj.Parse(src); err != nil {
			return []string{err.Error()}
		}
	case ext == ".json":
		f, err := json.Parse(src)
		if err != nil {
			return []string{err.Error()}
		}
		tiled(f.Tree.Root, nil)
	case ext == ".plist" || ext == ".entitlements" || ext == ".xcprivacy":
		f, err := plist.Parse(src)
		if err != nil {
			return []string{err.Error()}
		}
		if f.Form == plist.XML {
			if !bytes.Equal(f.Encode(f.Doc.Src), src) {
				out = append(out, "written back it differs")
			}
		}
	case ext == ".xml" || ext == ".csproj" || ext == ".props" || ext == ".storyboard":
		d := ours.Parse(src)
		tiled(d.Root, d.Err())
		out = append(out, sameElements(d, src)...)
	case source.Language(name) != nil:
		tiled(lex.Parse(source.Language(name), src).Root, nil)
	}
	return out
}

// sameElements compares the elements and attributes in their order with those of another parser.
func sameElements(d *ours.Doc, src []byte) []string {
	var mine, theirs []string
	d.Top.Each(func(e *ours.Element) {
		_, local, ok := strings.Cut(e.Name, ":")
		if !ok {
			local = e.Name
		}
		mine = append(mine, local)
		for _, a := range e.Attrs {
			if !strings.HasPrefix(a.Name, "xmlns") {
				mine = append(mine, "="+a.Value)
			}
		}
	})
	r := xml.NewDecoder(bytes.NewReader(src))
	for {
		tok, err := r.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return []string{"another parser: " + err.Error()}
		}
		if s, ok := tok.(xml.StartElement); ok {
			theirs = append(theirs, s.Name.Local)
			for _, a := range s.Attr {
				if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
					theirs = append(theirs, "="+a.Value)
				}
			}
		}
	}
	if a, b := strings.Join(mine, " "), strings.Join(theirs, " "); a != b {
		return []string{"elements differ from another parser's:\n" + a + "\n" + b}
	}
	return nil
}
