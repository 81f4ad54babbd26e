package wiring

import (
	"fmt"

	"ligare/core/syntax/pbxproj"
)

// packageEnsure sees to a product of a Swift package linked into a target: reference, product, build file, phase and
// both lists, all or none.
type packageEnsure struct{}

func (packageEnsure) look(in Input, w *Want) Answer {
	file := w.site.project.File()
	px, err := in.project(w)
	if err != nil {
		return Answer{State: Unknown, Code: "project-unreadable", Here: Place{File: file}, Detail: err.Error()}
	}
	t := pbxTarget(px, w.site.target.Name)
	var hits []Place
	linked := false
	for _, pk := range px.Packages(t) {
		if pbxproj.SamePackage(pk.URL, w.Params["url"]) {
			hits = append(hits, place(file, px.Src, pk.Entry.Start))
			linked = linked || contains(pk.Products, w.Params["product"])
		}
	}
	switch {
	case len(hits) > 1:
		return Answer{State: Twice, Code: "package-twice", Here: hits[1], Others: hits[:1], Detail: "the package " + w.Params["url"] + " is referenced twice"}
	case len(hits) == 1 && linked:
		return Answer{State: Right, Here: hits[0]}
	case len(hits) == 1:
		return Answer{State: WrongPlace, Code: "package-not-linked", Here: hits[0], Expected: w.Params["product"], Fixable: true,
			Detail: fmt.Sprintf("the package is referenced, but target %s does not link its product %s", t.Name, w.Params["product"])}
	}
	return Answer{State: Absent, Code: "package-missing", Here: Place{File: file}, Expected: w.Params["url"], Fixable: true, Detail: "the project does not reference the package " + w.Params["url"]}
}

func (packageEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	return in.edited(w, p, func(ed *pbxproj.Editor) error {
		return ed.AddPackage(w.site.target.Name, w.Params["url"], w.Params["version"], w.Params["product"])
	})
}
