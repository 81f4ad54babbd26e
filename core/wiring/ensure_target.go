package wiring

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/syntax/pbxproj"
)

// edited folds an edit of the want's project into the plan.
func (in Input) edited(w *Want, p *Plan, edit func(*pbxproj.Editor) error) error {
	px, err := in.project(w)
	if err != nil {
		return err
	}
	ed, err := px.Edit()
	if err != nil {
		return fmt.Errorf("%s: %w", w.site.project.File(), err)
	}
	if err := edit(ed); err != nil {
		return fmt.Errorf("%s: %w", w.site.project.File(), err)
	}
	file := w.site.project.File()
	for _, s := range ed.Steps { // each was read back when it was made
		p.Ops = append(p.Ops, Op{Do: "insert", Want: w, File: file, Address: s.Address, Before: s.Before, Text: s.Text, After: s.After})
	}
	for _, address := range ed.Shared {
		p.share(w, file, address)
	}
	if len(ed.Steps) > 0 {
		p.Tree.Put(file, ed.Src)
		in.keep("project", file, ed.Src, ed.Project)
	}
	return nil
}

// inProject gives a path of the tree as the project writes it, relative to its folder.
func inProject(w *Want, file string) string {
	if d := w.site.project.Dir; d != "." {
		return strings.TrimPrefix(file, d+"/")
	}
	return file
}

func unreadableProject(w *Want, err error) Answer {
	return Answer{State: Unknown, Code: "project-unreadable", Here: Place{File: w.site.project.File()}, Detail: err.Error()}
}

// memberEnsure sees to a framework, a bundle, a script or an extension of a target.
type memberEnsure struct{}

func (e memberEnsure) look(in Input, w *Want) Answer {
	px, err := in.project(w)
	if err != nil {
		return unreadableProject(w, err)
	}
	t := pbxTarget(px, w.site.target.Name)
	switch w.settings["phase"] {
	case "frameworks":
		return e.lookLinked(w, px, t, w.Params["name"])
	case "resources":
		return e.lookBundle(in, w, px, t)
	case "script":
		return e.lookScript(w, px, t)
	case "extension":
		return e.lookExtension(in, w, px, t)
	}
	return Answer{State: Unknown, Code: "role-unknown", Detail: "no build phase " + w.settings["phase"]}
}

// members gives the build files of a phase that bear a name.
func members(px *pbxproj.Project, phase *pbxproj.Object, name string) []*pbxproj.Object {
	if phase == nil {
		return nil
	}
	var out []*pbxproj.Object
	for _, id := range phase.Dict.Texts("files") {
		if b := px.Objects[id]; b != nil {
			if r := px.Objects[b.Dict.Text("fileRef")]; r != nil && path.Base(r.Dict.Text("path")) == name {
				out = append(out, b)
			}
		}
	}
	return out
}

func (e memberEnsure) lookLinked(w *Want, px *pbxproj.Project, t *pbxproj.Target, name string) Answer {
	file := w.site.project.File()
	hits := members(px, px.Phase(t, "PBXFrameworksBuildPhase"), name)
	switch len(hits) {
	case 0:
		return Answer{State: Absent, Code: "framework-unlinked", Here: Place{File: file}, Expected: name, Fixable: true, Detail: fmt.Sprintf("target %s does not link %s", t.Name, name)}
	case 1:
		return Answer{State: Right, Here: place(file, px.Src, hits[0].Entry.Start)}
	}
	return Answer{State: Twice, Code: "member-twice", Here: place(file, px.Src, hits[1].Entry.Start), Others: []Place{place(file, px.Src, hits[0].Entry.Start)}, Detail: fmt.Sprintf("target %s links %s twice", t.Name, name)}
}

// lying finds a folder of the tree by its name, below the project's.
func (memberEnsure) lying(in Input, w *Want, name string) string {
	out := ""
	in.Tree.Walk(func(file string) {
		rel := inProject(w, file)
		if w.site.project.Dir != "." && rel == file || out != "" {
			return
		}
		if at := strings.Index("/"+rel, "/"+name+"/"); at >= 0 {
			out = strings.TrimPrefix(("/" + rel)[:at+1]+name, "/")
		}
	})
	return out
}

func (e memberEnsure) lookBundle(in Input, w *Want, px *pbxproj.Project, t *pbxproj.Target) Answer {
	file, name := w.site.project.File(), w.Params["name"]
	hits := members(px, px.Phase(t, "PBXResourcesBuildPhase"), name)
	switch {
	case len(hits) > 1:
		return Answer{State: Twice, Code: "member-twice", Here: place(file, px.Src, hits[1].Entry.Start), Others: []Place{place(file, px.Src, hits[0].Entry.Start)}, Detail: fmt.Sprintf("%s is in the resources of target %s twice", name, t.Name)}
	case len(hits) == 1:
		return Answer{State: Right, Here: place(file, px.Src, hits[0].Entry.Start)}
	}
	at := e.lying(in, w, name)
	for _, f := range px.SyncFolders() {
		if at != "" && contains(f.Targets, t.Name) && strings.HasPrefix(at, f.Path+"/") {
			return Answer{State: Right, Here: Place{File: path.Join(w.site.project.Dir, at)}}
		}
	}
	return Answer{State: Absent, Code: "bundle-missing", Here: Place{File: file}, Expected: name, Fixable: at != "", Detail: fmt.Sprintf("%s is not in the resources of target %s", name, t.Name)}
}

func (e memberEnsure) lookScript(w *Want, px *pbxproj.Project, t *pbxproj.Target) Answer {
	file := w.site.project.File()
	name, text := w.Params["name"], strings.TrimSpace(w.Params["script"])
	var hit *pbxproj.Script
	for _, phase := range px.Scripts(t) {
		if strings.Contains(phase.Text, text) || phase.Name == name {
			if hit != nil && strings.Contains(hit.Text, text) {
				return Answer{State: Twice, Code: "member-twice", Here: place(file, px.Src, phase.Entry.Start), Others: []Place{place(file, px.Src, hit.Entry.Start)}, Detail: "the script phase stands twice"}
			}
			hit = &phase
		}
	}
	if hit == nil {
		return Answer{State: Absent, Code: "script-missing", Here: Place{File: file}, Expected: text, Fixable: true, Detail: fmt.Sprintf("target %s has no script phase that does it", t.Name)}
	}
	at := place(file, px.Src, hit.Entry.Start)
	switch {
	case !strings.Contains(hit.Text, text):
		return Answer{State: Conflicting, Code: "script-differs", Here: at, Expected: text, Actual: hit.Text, Fixable: true, Detail: fmt.Sprintf("the script phase %q does something else", name)}
	case hit.Index < px.PhaseIndex(t, "PBXSourcesBuildPhase"):
		return Answer{State: WrongPlace, Code: "script-early", Here: at, Expected: "after compiling", Actual: "before it", Detail: fmt.Sprintf("the script phase %q runs before compiling, when there is nothing yet that it could read", hit.Name)}
	case hit.Dict.Text("runOnlyForDeploymentPostprocessing") == "1":
		return Answer{State: OtherForm, Here: at, Detail: "it runs only when installing"}
	}
	return Answer{State: Right, Here: at}
}

func (e memberEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	name := w.Params["name"]
	switch a.Code {
	case "framework-unlinked":
		return in.edited(w, p, func(ed *pbxproj.Editor) error { return ed.AddFramework(w.site.target.Name, name) })
	case "bundle-missing":
		at := e.lying(in, w, name)
		if at == "" {
			return nil
		}
		return in.edited(w, p, func(ed *pbxproj.Editor) error {
			return ed.AddResource(w.site.target.Name, path.Dir(at), path.Base(at))
		})
	case "script-missing":
		var inputs []string
		for _, l := range strings.Split(w.Params["inputs"], "\n") {
			if strings.TrimSpace(l) != "" {
				inputs = append(inputs, strings.TrimSpace(l))
			}
		}
		return in.edited(w, p, func(ed *pbxproj.Editor) error {
			return ed.AddScript(w.site.target.Name, name, strings.TrimSpace(w.Params["script"])+"\n", inputs, nil)
		})
	case "script-differs":
		px, err := in.project(w)
		if err != nil {
			return err
		}
		for _, s := range px.Scripts(pbxTarget(px, w.site.target.Name)) {
			if s.Name == name {
				return p.replace(w, w.site.project.File(), "object("+s.ID+")/shellScript", "shellScript = "+pbxproj.Quote(strings.TrimSpace(w.Params["script"])+"\n")+";")
			}
		}
	case "extension-missing":
		return e.addExtension(in, w, p)
	}
	return nil
}
