package wiring

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"ligare/core/syntax/pbxproj"
)

// folderEnsure sees to an archive of the registration, unpacked into the tree, with what of it is linked and copied.
type folderEnsure struct{}

// Bounds of an archive that is unpacked.
const (
	maxArchiveFiles = 20000
	maxArchiveBytes = 512 << 20
)

// unpacked reads an archive: names below the folder it is unpacked into, and contents. What points outside is refused.
func (folderEnsure) unpacked(content []byte, folder string) (map[string][]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil, fmt.Errorf("the archive cannot be read: %w", err)
	}
	if len(z.File) > maxArchiveFiles {
		return nil, fmt.Errorf("the archive holds %d files, more than %d", len(z.File), maxArchiveFiles)
	}
	out := map[string][]byte{}
	total := int64(0)
	for _, f := range z.File {
		name := strings.TrimPrefix(f.Name, folder+"/")
		if strings.HasSuffix(f.Name, "/") || name == "" {
			continue
		}
		if !fs.ValidPath(name) || strings.Contains(name, "\\") || f.Mode()&fs.ModeType != 0 {
			return nil, fmt.Errorf("the archive holds %q, which would not lie in the folder as a plain file", f.Name)
		}
		r, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("the archive's %s: %w", f.Name, err)
		}
		b, err := io.ReadAll(io.LimitReader(r, maxArchiveBytes-total+1))
		if err := r.Close(); err != nil {
			return nil, fmt.Errorf("the archive's %s: %w", f.Name, err)
		}
		if err != nil {
			return nil, fmt.Errorf("the archive's %s: %w", f.Name, err)
		}
		if total += int64(len(b)); total > maxArchiveBytes {
			return nil, fmt.Errorf("the archive unpacks to more than %d MB", maxArchiveBytes>>20)
		}
		if _, twice := out[name]; twice {
			return nil, fmt.Errorf("the archive holds %q twice", f.Name)
		}
		out[name] = b
	}
	return out, nil
}

func (e folderEnsure) look(in Input, w *Want) Answer {
	dir := path.Join(w.site.project.Dir, w.Params["folder"])
	if w.identity == nil || w.content() == nil {
		if len(in.Tree.Dir(dir)) > 0 {
			return Answer{State: OtherForm, Here: Place{File: dir}, Detail: "the folder is there; its content is compared only with the server"}
		}
		return Answer{State: Unknown, Code: "file-not-issued", Detail: "the service has issued no archive for " + identityOf(w) + " yet"}
	}
	files, err := e.unpacked(w.content(), w.Params["folder"])
	if err != nil {
		return Answer{State: Unknown, Code: "archive-unreadable", Detail: err.Error()}
	}
	if len(in.Tree.Dir(dir)) == 0 {
		return Answer{State: Absent, Code: "folder-missing", Here: Place{File: dir}, Expected: dir, Fixable: true, Detail: dir + " is not there"}
	}
	for _, name := range sorted(files) {
		at := path.Join(dir, name)
		got, err := in.Tree.Read(at)
		switch {
		case err != nil && !in.Tree.Has(at):
			return Answer{State: Conflicting, Code: "folder-incomplete", Here: Place{File: at}, Expected: at, Actual: "not there", Fixable: true, Detail: "the folder lacks " + at + " of the archive"}
		case err == nil && !bytes.Equal(got, files[name]):
			return Answer{State: Conflicting, Code: "folder-outdated", Here: Place{File: at, Line: 1, Column: 1}, Expected: "as in the archive", Actual: "another content", Fixable: true, Detail: at + " is of another version of the archive, or was changed"}
		}
	}
	if link := w.Params["link"]; link != "" {
		px, err := in.project(w)
		if err != nil {
			return unreadableProject(w, err)
		}
		if a := (memberEnsure{}).lookLinked(w, px, pbxTarget(px, w.site.target.Name), link); !a.Good() {
			return a
		}
	}
	return Answer{State: Right, Here: Place{File: dir}}
}

func (e folderEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	if w.content() == nil {
		return nil
	}
	dir := path.Join(w.site.project.Dir, w.Params["folder"])
	files, err := e.unpacked(w.content(), w.Params["folder"])
	if err != nil {
		return err
	}
	for _, name := range sorted(files) {
		at := path.Join(dir, name)
		if got, err := in.Tree.Read(at); err != nil && !in.Tree.Has(at) || err == nil && !bytes.Equal(got, files[name]) {
			p.create(w, at, files[name])
		}
	}
	link := w.Params["link"]
	if link == "" {
		return nil
	}
	px, err := in.project(w)
	if err != nil {
		return err
	}
	if t := pbxTarget(px, w.site.target.Name); len(members(px, px.Phase(t, "PBXFrameworksBuildPhase"), link)) > 0 {
		return nil
	}
	return in.edited(w, p, func(ed *pbxproj.Editor) error {
		return ed.LinkReference(w.site.target.Name, path.Join(w.Params["folder"], link))
	})
}
