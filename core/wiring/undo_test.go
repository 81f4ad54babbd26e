package wiring

import (
	"fmt"
	"path"
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/tree"
)

// around edits a tree as its owner would: a comment beside the first lines of every text that has comments, and blank
// lines at its end. Only lines that stood in the tree before anything was placed are taken as places.
func around(base, now fstest.MapFS) fstest.MapFS {
	out := clone(now)
	for n, f := range base {
		comment := map[string]string{".kt": "// ours", ".java": "// ours", ".swift": "// ours", ".gradle": "// ours", ".kts": "// ours", ".xml": "<!-- ours -->", ".plist": "<!-- ours -->", ".dart": "// ours", ".js": "// ours", ".yaml": "# ours", ".toml": "# ours"}[path.Ext(n)]
		if comment == "" || out[n] == nil {
			continue
		}
		lines := strings.SplitAfter(string(out[n].Data), "\n")
		for i, l := range lines {
			t := strings.TrimSpace(l)
			if len(t) < 4 || t == "<resources/>" || strings.Count(string(f.Data), l) != 1 || !strings.HasSuffix(l, "\n") || !(strings.HasSuffix(t, "{") || strings.HasSuffix(t, "/>") || strings.HasPrefix(t, "import ") || strings.HasSuffix(t, "</string>") || strings.HasSuffix(t, "\"")) {
				continue
			}
			end := "\n"
			if strings.HasSuffix(l, "\r\n") {
				end = "\r\n"
			}
			lines[i] = l + comment + end
			break
		}
		out[n].Data = []byte(strings.Join(lines, ""))
	}
	return out
}

// only keeps the registrations of some services.
func only(in Input, services ...string) Input {
	var regs []*Registration
	for _, s := range services {
		for _, r := range in.Registrations {
			if r.Service == s {
				regs = append(regs, r)
			}
		}
	}
	in.Registrations = regs
	return in
}

// Two services are placed, the tree is edited around them, and the first leaves in a fresh clone: what is left is the same
// tree with the same edits and only the second placed.
func TestTheFirstLeavesAnEditedTree(t *testing.T) {
	pairs := [][2]string{{"thornmill", "gatepost"}, {"treadmark", "burrcatch"}, {"tallywick", "bellhanger"}, {"patchquay", "thornmill"}, {"etchwork", "treadmark"}, {"fieldhide", "gatepost"}}
	for name, base := range grounds(t) {
		whole := everything(t, base)
		for _, pair := range pairs {
			place := func(services ...string) fstest.MapFS {
				in := only(whole, services...)
				in.Tree = whole.Tree.Fresh()
				p, answers := placeOnly(t, in, "")
				if err := p.Commit(in, answers); err != nil {
					t.Fatal(err)
				}
				return after(base, in.Tree)
			}
			both, second := around(base, place(pair[0], pair[1])), around(base, place(pair[1]))
			clone := tree.New(both)
			for _, r := range only(whole, pair[0]).Registrations {
				left, err := Unplace(clone, r.Key(), false)
				if err != nil && !strings.Contains(err.Error(), "nothing is recorded") || len(left) > 0 {
					t.Errorf("%s, %v: %v %+v", name, pair, err, left)
				}
			}
			got := after(both, clone)
			for n := range got { // containers that the second needs pass into its record
				if strings.HasPrefix(n, Folder) {
					delete(got, n)
				}
			}
			for n := range second {
				if strings.HasPrefix(n, Folder) {
					delete(second, n)
				}
			}
			same(t, fmt.Sprint(name, ", ", pair), second, got)
		}
	}
}
