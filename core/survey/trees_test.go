package survey

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"sort"
	"strings"
	"testing"

	"ligare/core/tree"
)

// trees gives the folders of all trees but the one without a native project.
func trees() []string {
	var out []string
	for _, n := range []string{"wrapper", "dotnet", "engine", "orchard", "shelf"} {
		out = append(out, path.Join("testdata", n))
	}
	for _, n := range []string{"hivelog", "tern-crossing", "seedswap"} {
		out = append(out, path.Join("../../demo/studio", n))
	}
	return out
}

// The trees of testdata and of the demo, each with what a person reads in it: want/<name>.txt. A line is a fact with its
// place; what cannot be known is there with its reason.
func TestTrees(t *testing.T) {
	for _, dir := range append(trees(), "../../demo/studio/marrow-radio") {
		name := path.Base(dir)
		r := With(tree.New(os.DirFS(dir)), Options{Bridges: []string{"@shellwright/bridge"}})
		got := listing(r)
		at := "testdata/want/" + name + ".txt"
		want, err := os.ReadFile(at)
		if os.Getenv("LIGARE_UPDATE") != "" {
			err = os.WriteFile(at, []byte(got), 0o644)
			want = []byte(got)
		}
		if err != nil {
			t.Fatal(err)
		}
		a, b := strings.Split(string(want), "\n"), strings.Split(got, "\n")
		for i := 0; i < len(a) || i < len(b); i++ {
			x, y := "", ""
			if i < len(a) {
				x = a[i]
			}
			if i < len(b) {
				y = b[i]
			}
			if x != y {
				t.Errorf("%s, line %d:\n want %s\n got  %s", name, i+1, x, y)
				break
			}
		}
	}
}

// apart gives the lines of b that a does not have, and with a minus those that only a has.
func apart(a, b string) string {
	had, has := map[string]bool{}, map[string]bool{}
	for _, l := range strings.SplitAfter(a, "\n") {
		had[l] = true
	}
	var out strings.Builder
	for _, l := range strings.SplitAfter(b, "\n") {
		if has[l] = true; !had[l] {
			out.WriteString(l)
		}
	}
	for _, l := range strings.SplitAfter(a, "\n") {
		if !has[l] {
			out.WriteString("   -" + strings.TrimPrefix(l, "    "))
		}
	}
	return out.String()
}

// listing writes a report one fact a line. Of further variants and configurations only what differs from the first is
// written, with a minus before what they do not have.
func listing(r *Report) string {
	var b bytes.Buffer
	fmt.Fprintln(&b, "layouts:", strings.Join(r.Layouts, " "))
	first := ""
	facts := func(indent string, v any) {
		var all bytes.Buffer
		write(&all, indent, v)
		if first == "" {
			first = all.String()
			b.WriteString(first)
			return
		}
		b.WriteString(apart(first, all.String()))
	}
	for _, m := range r.Android.Modules {
		first = ""
		fmt.Fprintf(&b, "module %s %s %s\n", m.Dir, m.Layout, m.Framework)
		for _, p := range m.Plugins {
			fmt.Fprintf(&b, "  plugin %s %s\n", p.Name, p.Say())
		}
		for _, p := range m.Repositories {
			fmt.Fprintf(&b, "  repository %s: %s @ %s\n", p.Where, p.Say(), p.Place())
		}
		for _, d := range m.Dependencies {
			fmt.Fprintf(&b, "  dependency %s %s %s @ %s:%d\n", d.Configuration, d.Name, d.Version.Say(), d.File, d.Line)
		}
		for _, v := range m.Variants {
			fmt.Fprintf(&b, "  variant %s: %s\n", v.Name, strings.Join(v.SourceSets, " "))
			c := *v
			c.Name, c.BuildType, c.Flavors, c.SourceSets = "", "", nil, nil
			facts("    ", c)
		}
	}
	for _, p := range r.IOS.Projects {
		fmt.Fprintf(&b, "project %s %s %s\n", p.Path, p.Layout, p.Framework)
		for _, x := range p.Pods {
			fmt.Fprintf(&b, "  pod %s %s @ %s\n", x.Name, x.Say(), x.Place())
		}
		for _, g := range p.Targets {
			fmt.Fprintf(&b, "  target %s %s %s %s %s\n", g.Name, strings.TrimPrefix(g.ProductType, "com.apple.product-type."), g.Platform, g.Resources, g.ScriptPhases)
			first = ""
			for _, c := range g.Configurations {
				fmt.Fprintf(&b, "  configuration %s\n", c.Name)
				d := *c
				d.Name = ""
				facts("    ", d)
			}
		}
	}
	for _, x := range r.Frameworks {
		fmt.Fprintf(&b, "framework %s %s\n", x.Name, x.Dir)
		first = ""
		facts("  ", x)
	}
	for _, c := range r.ConfigFiles {
		fmt.Fprintf(&b, "config file %s: %s %s\n", c.File, c.Why, strings.Join(c.Identifiers, " "))
	}
	for _, f := range r.Files {
		fmt.Fprintf(&b, "file of interest %s: %s %v\n", f.File, f.What, f.There)
	}
	for _, q := range r.Notes {
		fmt.Fprintf(&b, "note: %s: %s\n", q.What, q.Why)
	}
	for _, q := range r.Unresolved {
		fmt.Fprintf(&b, "open: %s: %s\n", q.What, q.Why)
	}
	return b.String()
}

// line writes one value of the JSON in short: facts with their place, lists one item a line.
func line(b *bytes.Buffer, name string, v any) {
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			line(b, name+" +", x)
		}
	case map[string]any:
		text, isFact := v["value"]
		if !isFact {
			var parts []string
			keys := make([]string, 0, len(v))
			for k := range v {
				keys = append(keys, k)
			}
			sort.Strings(keys)
			for _, k := range keys {
				var in bytes.Buffer
				line(&in, k, v[k])
				parts = append(parts, strings.ReplaceAll(strings.TrimSpace(in.String()), "\n", "; "))
			}
			fmt.Fprintf(b, "%s {%s}\n", name, strings.Join(parts, ", "))
			return
		}
		say := ""
		switch {
		case text != nil:
			say = fmt.Sprintf("%q", text)
		case v["unresolved"] != nil:
			say = "? " + v["unresolved"].(string)
		case v["possible"] != nil:
			for _, p := range v["possible"].([]any) {
				m := p.(map[string]any)
				say += fmt.Sprintf("%q when %s; ", m["value"], m["when"])
			}
		default:
			if v["name"] == nil {
				return
			}
		}
		if n, ok := v["name"]; ok {
			name += fmt.Sprintf(" %s", n)
		}
		if v["file"] != nil {
			say += fmt.Sprintf(" @ %s", v["file"])
			if v["line"] != nil {
				say += fmt.Sprintf(":%v:%v", v["line"], v["column"])
			}
		}
		if via, ok := v["via"].([]any); ok {
			for _, x := range via {
				say += " ← " + x.(string)
			}
		}
		fmt.Fprintf(b, "%s = %s\n", name, say)
	case string:
		if v != "" {
			fmt.Fprintf(b, "%s = %s\n", name, v)
		}
	case nil:
	default:
		fmt.Fprintf(b, "%s = %v\n", name, v)
	}
}

// write writes the fields of a value in the order of their names.
func write(b *bytes.Buffer, indent string, v any) {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	var m map[string]any
	if err := json.Unmarshal(raw, &m); err != nil {
		panic(err)
	}
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	for _, k := range keys {
		line(b, indent+k, m[k])
	}
}
