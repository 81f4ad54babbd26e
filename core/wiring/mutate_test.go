package wiring

import (
	"bytes"
	"math/rand/v2"
	"os"
	"slices"
	"sort"
	"strconv"
	"testing"
	"testing/fstest"
	"time"

	"ligare/core/tree"
)

// mutate changes a tree the way edits by hand do: lines dropped, doubled, moved, commented out, joined, re-indented.
func mutate(r *rand.Rand, base fstest.MapFS) fstest.MapFS {
	out := clone(base)
	var names []string
	for n := range out {
		names = append(names, n)
	}
	sort.Strings(names)
	for range 1 + r.IntN(4) {
		f := out[names[r.IntN(len(names))]]
		lines := bytes.SplitAfter(f.Data, []byte("\n"))
		i, j := r.IntN(len(lines)), r.IntN(len(lines))
		switch r.IntN(8) {
		case 0:
			lines[i] = nil
		case 1:
			lines[i] = append(append([]byte{}, lines[i]...), lines[i]...)
		case 2:
			lines[i], lines[j] = lines[j], lines[i]
		case 3:
			lines[i] = append([]byte("// "), lines[i]...)
		case 4:
			lines[i] = bytes.TrimRight(lines[i], "\r\n")
		case 5:
			lines[i] = append([]byte("\t "), bytes.TrimLeft(lines[i], " \t")...)
		case 6:
			lines[i] = append(append([]byte{}, bytes.TrimRight(lines[i], "\n")...), []byte(" // note\n")...)
		case 7:
			f.Data = bytes.TrimRight(f.Data, "\n")
			continue
		}
		f.Data = bytes.Join(lines, nil)
	}
	return out
}

// Whatever people did to a tree, placing is refused whole, or done so that it can be repeated and taken out byte for byte.
func TestPlacingIsUndoableInTreesThatWereEditedByHand(t *testing.T) {
	rounds, seed := 80, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("LIGARE_ROUNDS")); err == nil { // more of them, with other edits each time
		rounds, seed = n, uint64(time.Now().UnixNano())
		t.Logf("seed %d", seed)
	}
	r := rand.New(rand.NewPCG(seed, 2))
	bases := grounds(t)
	all, _ := shipped(t)
	services := sorted(all)
	var names []string
	for n := range bases {
		names = append(names, n)
	}
	sort.Strings(names)
	done := 0
	for round := range rounds {
		name := names[r.IntN(len(names))]
		base := mutate(r, bases[name])
		chosen := []string{services[r.IntN(len(services))], services[r.IntN(len(services))], services[r.IntN(len(services))]}
		sort.Strings(chosen)
		chosen = slices.Compact(chosen)
		in := only(everything(t, base), chosen...)
		answers, err := Evaluate(in)
		if err != nil {
			continue
		}
		p, err := Make(in, answers, Never)
		if err != nil || len(p.Ops) == 0 {
			continue
		}
		done++
		if err := p.Commit(in, answers); err != nil {
			t.Fatal(err)
		}
		placed := after(base, in.Tree)
		again := only(everything(t, placed), chosen...)
		second, err := Evaluate(again)
		if err != nil {
			t.Fatalf("round %d, %s: %v", round, name, err)
		}
		if q, err := Make(again, second, Never); err == nil && len(q.Ops) > 0 {
			t.Errorf("round %d, %s: placing again made %d edits, first %s in %s", round, name, len(q.Ops), q.Ops[0].Address, q.Ops[0].File)
		}
		out := tree.New(placed)
		for _, reg := range in.Registrations {
			records, err := Records(out)
			if err != nil {
				t.Fatal(err)
			}
			for _, rec := range records {
				if rec.Registration != reg.Key() {
					continue
				}
				left, err := Unplace(out, reg.Key(), false)
				if err != nil || len(left) > 0 {
					t.Errorf("round %d, %s: left %+v %v", round, name, left, err)
				}
			}
		}
		same(t, name, base, after(placed, out))
		if t.Failed() {
			t.Fatalf("round %d", round)
		}
	}
	if done < rounds/3 {
		t.Errorf("only %d of %d rounds placed anything", done, rounds)
	}
}
