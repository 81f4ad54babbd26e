package wiring

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/tree"
)

// everything registers a tree with all services that ship; it is surveyed once.
func everything(t testing.TB, base fstest.MapFS) Input {
	all, _ := shipped(t)
	out := surveyed(t, base)
	for _, service := range sorted(all) {
		in := registered(t, out, service, map[string]string{"app-number": "123456789012345", "number": "123456789012345"})
		for _, reg := range in.Registrations {
			for i := range reg.Identities {
				if reg.Identities[i].Files["archive"] != nil {
					reg.Identities[i].Files["archive"] = fieldhide(t)
				}
			}
		}
		out.Registrations = append(out.Registrations, in.Registrations...)
	}
	return out
}

// grounds are all the trees that are placed into.
func grounds(t testing.TB) map[string]fstest.MapFS {
	out := trees(t)
	for _, dir := range []string{"../../demo/studio/seedswap", "../../demo/studio/tern-crossing", "../../demo/studio/marrow-radio", "../survey/testdata/orchard", "../survey/testdata/shelf", "../survey/testdata/wrapper", "../survey/testdata/dotnet", "../survey/testdata/engine"} {
		out[dir[strings.LastIndexByte(dir, '/')+1:]] = snapshot(t, dir)
	}
	return out
}

// Every service into every tree: placing again changes nothing, original tokens remain, and the registrations leave in
// any order, the last with the tree as it was.
func TestEveryServiceIntoEveryTree(t *testing.T) {
	for name, base := range grounds(t) {
		t.Run(name, func(t *testing.T) {
			in := everything(t, base)
			p, answers := placeOnly(t, in, "")
			if err := p.Commit(in, answers); err != nil {
				t.Fatal(err)
			}
			for _, a := range p.Kept {
				if strings.Contains(a.Detail, "after the edit") || strings.Contains(a.Detail, "is read back at") || strings.Contains(a.Detail, "not found again") {
					t.Errorf("%s %s: %s", a.Service, a.Placement, a.Detail)
				}
			}
			placed := after(base, in.Tree)
			again := everything(t, placed)
			q, second := placeOnly(t, again, "")
			for _, op := range q.Ops {
				t.Errorf("placing again: %s %s in %s (%s %s)", op.Do, op.Address, op.File, op.Want.Service, op.Want.Placement)
			}
			state := func(list []Answer) (out []string) {
				for _, a := range list {
					if !a.Good() {
						out = append(out, fmt.Sprint(a.Service, " ", a.Placement, " ", a.Site(), " ", a.Code))
					}
				}
				sort.Strings(out)
				return out
			}
			if first, then := state(p.Kept), state(second); strings.Join(first, "\n") != strings.Join(then, "\n") {
				t.Errorf("left to a person:\n%s\nand afterwards:\n%s", strings.Join(first, "\n"), strings.Join(then, "\n"))
			}
			keeps(t, base, placed, p)
			var keys []string
			for _, r := range in.Registrations {
				keys = append(keys, r.Key())
			}
			for round := range 3 {
				r := rand.New(rand.NewPCG(uint64(round), 7))
				order := slices.Clone(keys)
				r.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
				out := tree.New(placed)
				for i, key := range order {
					left, err := Unplace(out, key, false)
					if err != nil && !strings.Contains(err.Error(), "nothing is recorded") || len(left) > 0 {
						t.Errorf("taking out %s: %v %+v", key, err, left)
					}
					if i == len(order)/2 && round == 0 {
						stays(t, after(placed, out), order[i+1:], second)
					}
				}
				same(t, fmt.Sprint(name, " ", order), base, after(placed, out))
				if t.Failed() {
					return
				}
			}
		})
	}
}

// stays holds the registrations that remain against what they were.
func stays(t *testing.T, now fstest.MapFS, remaining []string, were []Answer) {
	t.Helper()
	answers, err := Evaluate(everything(t, now))
	if err != nil {
		t.Fatal(err)
	}
	good := map[string]bool{}
	for _, a := range were {
		good[a.Registration+a.Placement+a.Site()] = a.Good()
	}
	for _, a := range answers {
		if contains(remaining, a.Registration) && good[a.Registration+a.Placement+a.Site()] && !a.Good() {
			t.Errorf("with others gone, %s %s (%s) is %s: %s", a.Registration, a.Placement, a.Site(), a.State, a.Detail)
		}
	}
}

// keeps holds the original tokens of every file against what it is now; replacements are taken back first.
func keeps(t *testing.T, base, placed fstest.MapFS, p *Plan) {
	t.Helper()
	for n, f := range base {
		g := placed[n]
		if g == nil {
			t.Errorf("%s is gone", n)
			continue
		}
		text := string(g.Data)
		gone := map[string]int{} // tokens that a replacement took away, into which others have written since
		for i := len(p.Ops) - 1; i >= 0; i-- {
			if op := p.Ops[i]; op.File == n && op.Do == "replace" {
				if start, end, ok := Locate(n, []byte(text), op.Address); ok && text[start:end] == op.Text {
					text = text[:start] + op.Old + text[end:]
				} else if strings.Contains(text, op.Text) {
					text = strings.Replace(text, op.Text, op.Old, 1)
				} else {
					for _, token := range tokens(op.Old) {
						gone[token]++
					}
				}
			}
		}
		now := tokens(text)
		for _, token := range tokens(string(f.Data)) {
			at := slices.Index(now, token)
			if at < 0 && gone[token] > 0 {
				gone[token]--
				continue
			}
			if at < 0 {
				t.Errorf("%s lost %q or its order", n, token)
				break
			}
			now = now[at+1:]
		}
	}
}

// tokens splits a text into words and single other characters.
func tokens(s string) []string {
	var out []string
	start := -1
	for i, r := range s + " " {
		word := r == '_' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r > 127
		if word && start < 0 {
			start = i
		} else if !word {
			if start >= 0 {
				out = append(out, s[start:i])
				start = -1
			}
			if r != ' ' && r != '\t' && r != '\r' && r != '\n' {
				out = append(out, string(r))
			}
		}
	}
	return out
}
