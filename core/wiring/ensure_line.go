package wiring

import (
	"fmt"

	"ligare/core/syntax/lines"
)

// lineEnsure sees to a line in a list file at the tree's root, such as an ignore file.
type lineEnsure struct{}

func (lineEnsure) look(in Input, w *Want) Answer {
	file, line := w.settings["file"], w.Params["line"]
	src, err := in.Tree.Read(file)
	if err == nil {
		if start, _, ok := lines.Find(src, line); ok {
			return Answer{State: Right, Here: place(file, src, start)}
		}
	}
	return Answer{State: Absent, Code: "line-missing", Here: Place{File: file}, Expected: line, Fixable: true, Detail: fmt.Sprintf("%s has no line %q", file, line)}
}

func (lineEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	file, line := w.settings["file"], w.Params["line"]
	if !in.Tree.Has(file) {
		p.create(w, file, nil)
	}
	src, err := in.Tree.Read(file)
	if err != nil {
		return err
	}
	return p.insert(w, file, "line("+line+")", lines.Append(src, line))
}
