package wiring

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lines"
)

// lineEnsure sees to a line in a list file: at the tree's root, such as an ignore file, or in an Android module, such as
// the file of keep rules that its build names.
type lineEnsure struct{}

// file gives the list file, and whether the build names it where that has to be.
func (lineEnsure) file(in Input, w *Want) (name string, named bool) {
	name = w.settings["file"]
	if w.site.module == nil || path.Ext(name) != ".pro" {
		return name, true
	}
	if f := in.gradle(w.site.module.BuildFile); f != nil {
		for _, s := range f.Settings() {
			if n := len(s.Path); n == 0 || s.Path[n-1] != "proguardFiles" && s.Path[n-1] != "proguardFile" {
				continue
			}
			for _, a := range s.Args {
				if text, ok := f.Literal(a); ok {
					return path.Join(w.site.module.Dir, text), true
				}
			}
		}
	}
	return path.Join(w.site.module.Dir, name), w.site.module.Framework == "flutter" // whose build reads that file unasked
}

// shrinking finds the setting by which a module's build file has its code shrunk, or leaves open whether it does.
func shrinking(f *gradle.File) (gradle.Setting, bool) {
	for _, s := range f.Settings() {
		if n := len(s.Path); n > 0 && (s.Path[n-1] == "minifyEnabled" || s.Path[n-1] == "isMinifyEnabled") && f.Text(s.Arg()) != "false" {
			return s, true
		}
	}
	return gradle.Setting{}, false
}

func (e lineEnsure) look(in Input, w *Want) Answer {
	line := w.Params["line"]
	file, named := e.file(in, w)
	if src, err := in.Tree.Read(file); err == nil && named {
		if start, _, ok := lines.Find(src, line); ok {
			return Answer{State: Right, Here: place(file, src, start)}
		}
	}
	code := "line-missing"
	if path.Ext(file) == ".pro" {
		code = "keep-rule-missing"
	}
	detail := fmt.Sprintf("%s has no line %q", file, line)
	if !named {
		f := in.gradle(w.site.module.BuildFile)
		if f == nil {
			return Answer{State: Unknown, Code: "build-file-unreadable", Here: Place{File: w.site.module.BuildFile}, Detail: w.site.module.BuildFile + " cannot be read"}
		}
		s, yes := shrinking(f)
		if !yes {
			return Answer{State: Right, Here: Place{File: w.site.module.BuildFile}, Detail: "nothing is shrunk here, so that nothing has to be kept"}
		}
		return Answer{State: Absent, Code: code, Here: place(w.site.module.BuildFile, f.Src, s.Start), Expected: line, Fixable: true, Detail: "the code is shrunk here, and no file of rules is named"}
	}
	return Answer{State: Absent, Code: code, Here: Place{File: file}, Expected: line, Fixable: true, Detail: detail}
}

func (e lineEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	line := w.Params["line"]
	file, named := e.file(in, w)
	if !named {
		build := w.site.module.BuildFile
		f := in.gradle(build)
		s, _ := shrinking(f)
		var block []string
		for _, up := range s.Up {
			block = append(block, strings.Join(f.Settle(up), "."))
		}
		text := "proguardFile(" + f.Quote(w.settings["file"]) + ")"
		if !f.Kotlin {
			text = "proguardFile " + f.Quote(w.settings["file"])
		}
		if err := p.into(w, build, f, block, strings.Join(block, "/")+"/"+gradle.Step("proguardFile", w.settings["file"]), text); err != nil {
			return err
		}
	}
	src, err := in.Tree.Read(file)
	if err != nil {
		p.create(w, file, nil)
		src = nil
	}
	if start, _, ok := lines.Find(src, line); ok && start >= 0 {
		return nil
	}
	return p.insert(w, file, "line("+line+")", lines.Append(src, line))
}
