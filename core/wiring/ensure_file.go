package wiring

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/pbxproj"
)

// fileEnsure sees to a config file: under its exact name, in a source set or in a target's resources, with the
// content the service issued for this identity.
type fileEnsure struct{}

// target gives where the file belongs.
func (fileEnsure) target(in Input, w *Want) string {
	if w.site.module != nil {
		return path.Join(w.site.module.Folder(w.site.set, w.Params["folder"]), w.file.Name)
	}
	if w.copied {
		return path.Join(w.site.project.Dir, copies, w.Variants[0], w.file.Name)
	}
	if w.site.foreign() == survey.Shipped {
		return path.Join(w.site.project.Dir, w.file.Name)
	}
	if w.site.foreign() != "" {
		return path.Join(w.site.project.Dir, platformFolder(in, w, "iOS"), "Resources", w.file.Name)
	}
	px, err := in.project(w)
	if err != nil {
		return path.Join(w.site.project.Dir, w.file.Name)
	}
	for _, f := range px.SyncFolders() {
		for _, t := range f.Targets {
			if t == w.site.target.Name {
				return path.Join(w.site.project.Dir, f.Path, w.file.Name)
			}
		}
	}
	dir := ""
	if t := pbxTarget(px, w.site.target.Name); t != nil {
		dir = px.SourceDir(t)
	}
	return path.Join(w.site.project.Dir, dir, w.file.Name)
}

// platformFolder gives the folder of a platform in a project that keeps several, "" in one that is for one.
func platformFolder(in Input, w *Want, platform string) string {
	dir := path.Join("Platforms", platform)
	if len(in.Tree.Dir(path.Join(w.site.project.Dir, dir))) == 0 {
		return ""
	}
	return dir
}

func pbxTarget(px *pbxproj.Project, name string) *pbxproj.Target {
	for _, t := range px.Targets() {
		if t.Name == name {
			return t
		}
	}
	return nil
}

func (e fileEnsure) look(in Input, w *Want) Answer {
	if w.identity == nil || w.content() == nil && w.identity.FileDigests[w.file.ID] == "" {
		return Answer{State: Unknown, Code: "file-not-issued", Detail: "the service has issued no config file for " + identityOf(w) + " yet"}
	}
	if w.site.module != nil || w.site.foreign() != "" {
		return e.lookAndroid(in, w)
	}
	return e.lookIOS(in, w)
}

func identityOf(w *Want) string {
	switch {
	case w.identity == nil:
		return "this app"
	case w.several:
		return "these identities"
	}
	return w.identity.ID
}

func (e fileEnsure) lookAndroid(in Input, w *Want) Answer {
	want := e.target(in, w)
	if src, err := in.Tree.Read(want); err == nil {
		return e.content(w, want, src)
	} else if in.Tree.Has(want) {
		return Answer{State: Unknown, Code: "file-unreadable", Here: Place{File: want}, Detail: err.Error()}
	}
	var roots []string
	if w.site.module != nil {
		roots = []string{w.site.module.Dir, w.site.module.Root}
	} else {
		roots = []string{w.site.project.Dir}
	}
	if a, ok := e.stray(in, w, want, roots...); ok {
		return a
	}
	return Answer{State: Absent, Code: "file-missing", Here: Place{File: want}, Expected: want, Fixable: true, Detail: want + " is not there"}
}

// stray looks for the file under a copy's name, in other letter case or in another folder.
func (e fileEnsure) stray(in Input, w *Want, want string, roots ...string) (Answer, bool) {
	var renamed, misplaced string
	seen := map[string]bool{}
	in.Tree.Walk(func(name string) {
		inside := false
		for _, r := range roots {
			inside = inside || r == "." || strings.HasPrefix(name, r+"/")
		}
		if !inside || seen[name] || name == want {
			return
		}
		seen[name] = true
		base := path.Base(name)
		if stem(base) != stem(w.file.Name) {
			return
		}
		src, err := in.Tree.Read(name)
		if err != nil {
			return
		}
		known := false
		if got, err := w.file.Contents(src); err == nil {
			id, ok := sheet.One(got, "identity")
			if known = ok; ok && id.Value != w.identity.ID {
				return // the file of another identity, in a place of its own
			}
		}
		if !known && string(src) != string(w.content()) && otherSet(w, want, name) {
			return // it says of nobody whose it is, and stands where another source set has its own
		}
		if base != w.file.Name {
			renamed = name
		} else {
			misplaced = name
		}
	})
	switch {
	case misplaced != "":
		return Answer{State: WrongPlace, Code: "file-misplaced", Here: Place{File: misplaced, Line: 1, Column: 1}, Expected: want, Actual: misplaced, Fixable: true,
			Detail: fmt.Sprintf("%s lies in %s, where the build does not look for it", w.file.Name, folder(misplaced))}, true
	case renamed != "":
		return Answer{State: WrongPlace, Code: "file-renamed", Here: Place{File: renamed, Line: 1, Column: 1}, Expected: want, Actual: renamed, Fixable: true,
			Detail: fmt.Sprintf("it is called %q; %s", path.Base(renamed), renameCause(path.Base(renamed), w.file.Name))}, true
	}
	return Answer{}, false
}

// otherSet reports whether a file stands in another source set where it is wanted in this one.
func otherSet(w *Want, want, name string) bool {
	if w.site.module == nil || w.site.set == "" {
		return false
	}
	root, rest, ok := strings.Cut(want, "/src/"+w.site.set+"/")
	if !ok {
		return false
	}
	for _, v := range w.site.module.Variants {
		for _, set := range v.SourceSets {
			if name == root+"/src/"+set+"/"+rest {
				return true
			}
		}
	}
	return false
}

func folder(name string) string {
	if d := path.Dir(name); d != "." {
		return d + "/"
	}
	return "the tree's root"
}

func renameCause(got, want string) string {
	if strings.EqualFold(got, want) {
		return "letter case counts in file names"
	}
	return "a second download or a copy got a name of its own"
}

// stem folds what a copy adds to a name: " (1)", "-2", "_2", " copy", " - Copy", and letter case.
func stem(name string) string {
	ext := strings.ToLower(path.Ext(name))
	s := strings.ToLower(strings.TrimSuffix(name, path.Ext(name)))
	for {
		t := strings.TrimRight(s, " ()0123456789-_")
		t = strings.TrimSuffix(t, "copy")
		if t == s || t == "" {
			return s + ext
		}
		s = t
	}
}

// content compares a file that stands in its place with what was issued.
func (e fileEnsure) content(w *Want, name string, src []byte) Answer {
	here := Place{File: name, Line: 1, Column: 1}
	if string(src) == string(w.content()) {
		return Answer{State: Right, Here: here}
	}
	got, err := w.file.Contents(src)
	if err != nil {
		return Answer{State: Conflicting, Code: "file-unreadable", Here: here, Expected: w.file.Name + " as issued", Actual: "unreadable", Detail: err.Error(), Fixable: true}
	}
	if w.content() == nil {
		return e.byDigest(w, here, src, got)
	}
	want, err := w.file.Contents(w.content())
	if err != nil {
		return Answer{State: Unknown, Code: "file-unreadable", Here: here, Detail: "the issued file itself: " + err.Error()}
	}
	at := func(r sheet.Reading) Place { return Place{File: name, Line: r.Line, Column: r.Column} }
	for _, fact := range sorted(w.file.Read) {
		if fact == "revision" || fact == "digests" {
			continue
		}
		a, okA := sheet.One(got, fact)
		b, _ := sheet.One(want, fact)
		if a.Value == b.Value {
			continue
		}
		p := here
		if okA {
			p = at(a)
		}
		code := "file-of-another"
		if fact != "identity" && sameIdentity(got, want) {
			code = "file-outdated"
		}
		return Answer{State: Conflicting, Code: code, Here: p, Expected: b.Value, Actual: a.Value, Fixable: true,
			Detail: fmt.Sprintf("its %s is not the one issued for %s: %s", fact, w.identity.ID, ident.Difference(b.Value, a.Value))}
	}
	a, okA := sheet.One(got, "revision")
	b, okB := sheet.One(want, "revision")
	if okA && okB && a.Value != b.Value {
		older := "another revision than"
		x, errX := strconv.Atoi(a.Value)
		y, errY := strconv.Atoi(b.Value)
		if errX == nil && errY == nil && x < y {
			older = "older than"
		}
		return Answer{State: Conflicting, Code: "file-outdated", Here: at(a), Expected: "revision " + b.Value, Actual: "revision " + a.Value, Fixable: true,
			Detail: fmt.Sprintf("the file is %s the registration (revision %s, now %s): a digest or a feature was added since", older, a.Value, b.Value)}
	}
	return Answer{State: OtherForm, Here: here, Detail: "the same facts, written differently"}
}

// byDigest judges without a server: by the digest, the identity and the revision that the tree's record holds.
func (fileEnsure) byDigest(w *Want, here Place, src []byte, got map[string][]sheet.Reading) Answer {
	if Digest(string(src)) == w.identity.FileDigests[w.file.ID] {
		return Answer{State: Right, Here: here}
	}
	at := here
	if id, ok := sheet.One(got, "identity"); ok && id.Value != w.identity.ID {
		at.Line, at.Column = id.Line, id.Column
		return Answer{State: Conflicting, Code: "file-of-another", Here: at, Expected: w.identity.ID, Actual: id.Value,
			Detail: "its identity is not " + w.identity.ID + ": " + ident.Difference(w.identity.ID, id.Value)}
	}
	if r, ok := sheet.One(got, "revision"); ok && w.revision > 0 && r.Value != strconv.Itoa(w.revision) {
		at.Line, at.Column = r.Line, r.Column
		return Answer{State: Conflicting, Code: "file-outdated", Here: at, Expected: fmt.Sprintf("revision %d", w.revision), Actual: "revision " + r.Value, Detail: "the file is of another revision than the one placed"}
	}
	return Answer{State: Conflicting, Code: "file-outdated", Here: at, Expected: "the file as it was placed", Actual: "another content", Detail: "the file was changed since it was placed"}
}

func sameIdentity(a, b map[string][]sheet.Reading) bool {
	x, okX := sheet.One(a, "identity")
	y, okY := sheet.One(b, "identity")
	return okX && okY && x.Value == y.Value
}

func (e fileEnsure) lookIOS(in Input, w *Want) Answer {
	file := w.site.project.File()
	px, err := in.project(w)
	if err != nil {
		return Answer{State: Unknown, Code: "project-unreadable", Here: Place{File: file}, Detail: err.Error()}
	}
	t := pbxTarget(px, w.site.target.Name)
	want := e.target(in, w)
	dir := w.site.project.Dir
	if w.copied {
		return e.lookCopied(in, w, px, t, want)
	}
	var refs []pbxproj.Reference
	for _, r := range px.References() {
		if path.Base(r.Path) == w.file.Name {
			refs = append(refs, r)
		}
	}
	for _, r := range refs {
		full := path.Join(dir, r.Path)
		at := place(file, px.Src, r.Entry.Start)
		in2 := px.InPhase(px.Phase(t, "PBXResourcesBuildPhase"), r.ID)
		src, err := in.Tree.Read(full)
		switch {
		case err != nil && in2:
			if a, ok := e.stray(in, w, full, dir); ok {
				return a
			}
			return Answer{State: Conflicting, Code: "file-reference-broken", Here: at, Expected: full, Actual: "no such file", Detail: "the project refers to " + full + ", which is not there", Fixable: true}
		case err != nil:
			continue
		case !in2:
			return Answer{State: WrongPlace, Code: "file-not-in-target", Here: at, Expected: "in the resources of target " + t.Name, Actual: "only referenced", Fixable: true,
				Detail: fmt.Sprintf("%s is in the project but not in the resources of target %s: it will not be in the app", full, t.Name)}
		case count(px, t, r.ID) > 1:
			return Answer{State: Twice, Code: "file-twice", Here: at, Detail: full + " is in the resources of target " + t.Name + " twice"}
		}
		return e.content(w, full, src)
	}
	for _, f := range px.SyncFolders() {
		full := path.Join(dir, f.Path, w.file.Name)
		src, err := in.Tree.Read(full)
		if err != nil || !contains(f.Targets, t.Name) {
			continue
		}
		if contains(f.Except[t.Name], w.file.Name) {
			return Answer{State: WrongPlace, Code: "file-not-in-target", Here: Place{File: full, Line: 1, Column: 1}, Expected: "a member of target " + t.Name, Actual: "excepted from it",
				Detail: full + " lies in a synchronised folder but is excepted from target " + t.Name}
		}
		return e.content(w, full, src)
	}
	if in.Tree.Has(want) {
		return Answer{State: WrongPlace, Code: "file-not-in-project", Here: Place{File: want, Line: 1, Column: 1}, Expected: "in the resources of target " + t.Name, Actual: "only on the disk", Fixable: true,
			Detail: want + " lies on the disk but the project does not know it: it will not be in the app"}
	}
	if a, ok := e.stray(in, w, want, dir); ok {
		return a
	}
	return Answer{State: Absent, Code: "file-missing", Here: Place{File: want}, Expected: want, Fixable: true, Detail: want + " is not there"}
}

func count(px *pbxproj.Project, t *pbxproj.Target, ref string) int {
	n := 0
	if phase := px.Phase(t, "PBXResourcesBuildPhase"); phase != nil {
		for _, id := range phase.Dict.Texts("files") {
			if b := px.Objects[id]; b != nil && b.Dict.Text("fileRef") == ref {
				n++
			}
		}
	}
	return n
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

func (e fileEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	want := e.target(in, w)
	if a.Code == "file-twice" {
		return nil
	}
	src, err := in.Tree.Read(want)
	if err != nil || a.State == Conflicting && string(src) != string(w.content()) {
		p.create(w, want, w.content())
	}
	if a.Code == "file-misplaced" || a.Code == "file-renamed" {
		p.Next = append(p.Next, fmt.Sprintf("delete %s: the file now stands at %s", a.Actual, want))
	}
	if w.site.module != nil || w.site.foreign() != "" {
		return nil
	}
	if w.copied {
		return e.copy(in, w, p)
	}
	px, err := in.project(w)
	if err != nil {
		return err
	}
	for _, f := range px.SyncFolders() {
		if contains(f.Targets, w.site.target.Name) && path.Dir(want) == path.Join(w.site.project.Dir, f.Path) {
			return nil // lying in the folder is membership
		}
	}
	rel := strings.TrimPrefix(path.Dir(want), w.site.project.Dir)
	if w.site.project.Dir == "." {
		rel = path.Dir(want)
	}
	return in.edited(w, p, func(ed *pbxproj.Editor) error {
		return ed.AddResource(w.site.target.Name, strings.Trim(rel, "/"), w.file.Name)
	})
}

// copies is the folder of files of which each configuration has its own.
const copies = "ConfigFiles"

// lookCopied answers for the file of one configuration, which a script phase has to copy into the app.
func (e fileEnsure) lookCopied(in Input, w *Want, px *pbxproj.Project, t *pbxproj.Target, want string) Answer {
	src, err := in.Tree.Read(want)
	if err != nil {
		return Answer{State: Absent, Code: "file-missing", Here: Place{File: want}, Expected: want, Fixable: true, Detail: fmt.Sprintf("%s, the file of configuration %s, is not there", want, w.Variants[0])}
	}
	if hits := members(px, px.Phase(t, "PBXResourcesBuildPhase"), w.file.Name); len(hits) > 0 {
		return Answer{State: Twice, Code: "file-twice", Here: place(w.site.project.File(), px.Src, hits[0].Entry.Start), Others: []Place{{File: want}},
			Detail: fmt.Sprintf("%s is in the resources of target %s for every configuration, and %s has one of its own", w.file.Name, t.Name, w.Variants[0])}
	}
	for _, s := range px.Scripts(t) {
		if text := strings.NewReplacer("{", "", "}", "").Replace(s.Text); strings.Contains(text, copies+"/$CONFIGURATION/"+w.file.Name) {
			return e.content(w, want, src)
		}
	}
	return Answer{State: WrongPlace, Code: "file-not-in-target", Here: Place{File: want, Line: 1, Column: 1}, Expected: "copied into the app", Actual: "only on the disk", Fixable: true,
		Detail: want + " lies on the disk, and no script phase of target " + t.Name + " copies it: it will not be in the app"}
}

// copy adds the script phase that copies the file of the configuration that is built.
func (e fileEnsure) copy(in Input, w *Want, p *Plan) error {
	if a := e.lookIOS(in, w); a.Good() {
		return nil
	}
	from := "$SRCROOT/" + copies + "/$CONFIGURATION/" + w.file.Name
	to := "$TARGET_BUILD_DIR/$UNLOCALIZED_RESOURCES_FOLDER_PATH/" + w.file.Name
	paths := strings.NewReplacer("$SRCROOT", "$(SRCROOT)", "$CONFIGURATION", "$(CONFIGURATION)", "$TARGET_BUILD_DIR", "$(TARGET_BUILD_DIR)", "$UNLOCALIZED_RESOURCES_FOLDER_PATH", "$(UNLOCALIZED_RESOURCES_FOLDER_PATH)")
	return in.edited(w, p, func(ed *pbxproj.Editor) error {
		return ed.AddScript(w.site.target.Name, "Copy "+w.file.Name+" of the configuration", "cp \""+from+"\" \""+to+"\"\n", []string{paths.Replace(from)}, []string{paths.Replace(to)})
	})
}
