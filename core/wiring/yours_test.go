package wiring

import (
	"os"
	"testing"
	"testing/fstest"
)

// yours gives the tree that LIGARE_TREE names, else the demo's.
func yours(t testing.TB) fstest.MapFS {
	dir := os.Getenv("LIGARE_TREE")
	if dir == "" {
		dir = "../../demo/studio/seedswap"
	}
	return snapshot(t, dir)
}

// Working out every placement of five services: LIGARE_TREE=folder go test ./core/wiring -run XXX -bench FiveServices
func BenchmarkFiveServices(b *testing.B) {
	base := yours(b)
	var regs []*Registration
	var in Input
	for _, service := range []string{"thornmill", "tallywick", "gatepost", "bellhanger", "patchquay"} {
		in = with(b, base, service, nil)
		regs = append(regs, in.Registrations...)
	}
	ops := 0
	for b.Loop() {
		run := in
		run.Tree = in.Tree.Fresh()
		run.Registrations = regs
		answers, err := Evaluate(run)
		if err != nil {
			b.Fatal(err)
		}
		p, err := Make(run, answers, Never)
		if err != nil {
			b.Fatal(err)
		}
		ops = len(p.Ops)
	}
	b.ReportMetric(float64(ops), "edits")
}

// LIGARE_TREE=folder go test ./core/wiring -run YourTree -v says what every service would do to a tree, and whether it
// can be taken out again.
func TestYourTree(t *testing.T) {
	if os.Getenv("LIGARE_TREE") == "" {
		t.Skip("LIGARE_TREE names no tree")
	}
	base := yours(t)
	in := everything(t, base)
	p, answers := placeOnly(t, in, "")
	for _, k := range p.Kept {
		t.Logf("left: %s %s (%s) is %s, %s: %s", k.Service, k.Placement, k.Site(), k.State, k.Code, k.Detail)
	}
	for _, n := range p.Next {
		t.Logf("next: %s", n)
	}
	if err := p.Commit(in, answers); err != nil {
		t.Fatal(err)
	}
	placed := after(base, in.Tree)
	keeps(t, base, placed, p)
	again := everything(t, placed)
	q, _ := placeOnly(t, again, "")
	for _, op := range q.Ops {
		t.Errorf("placing again: %s %s in %s (%s %s)", op.Do, op.Address, op.File, op.Want.Service, op.Want.Placement)
	}
	if out := os.Getenv("LIGARE_PLACED"); out != "" {
		for _, n := range in.Tree.Changed() {
			if err := os.MkdirAll(out+"/"+dirOf(n), 0o755); err != nil {
				t.Fatal(err)
			}
			b, _ := in.Tree.Read(n)
			if err := os.WriteFile(out+"/"+n, b, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, r := range in.Registrations {
		if left, err := Unplace(again.Tree, r.Key(), false); len(left) > 0 {
			t.Errorf("taking out %s: %v %+v", r.Key(), err, left)
		}
	}
	same(t, "yours", base, after(placed, again.Tree))
}

func dirOf(name string) string {
	for i := len(name) - 1; i >= 0; i-- {
		if name[i] == '/' {
			return name[:i]
		}
	}
	return "."
}
