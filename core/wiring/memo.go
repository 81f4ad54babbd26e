package wiring

import (
	"fmt"

	"ligare/core/survey"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/source"
	"ligare/core/syntax/xml"
)

// memo keeps what was read of files as long as they stay what they are: an evaluation looks at the same few files for
// every placement. A file that was edited is another slice and is read again.
type memo struct {
	kept   map[string]kept
	survey *survey.Report // of the tree after so many edits
	at     int

	settings map[string]opened // of configurations, after so many edits
	settled  int
}

type kept struct {
	src  []byte
	read any
	err  error
}

// remember gives an input a memo, if it has none.
func (in Input) remember() Input {
	if in.memo == nil {
		in.memo = &memo{kept: map[string]kept{}, survey: in.Survey, at: in.Tree.Edits()}
	}
	return in
}

// opened is the build settings of a configuration; ok is false when there are none.
type opened struct {
	survey.Settings
	ok bool
}

// settingsOf gives the build settings of a configuration as the tree stands.
func (in Input) settingsOf(w *Want, px *pbxproj.Project, target, config string) (survey.Settings, bool) {
	key := w.site.project.Path + "\x00" + target + "\x00" + config
	if in.memo != nil {
		if in.memo.settled != in.Tree.Edits() || in.memo.settings == nil {
			in.memo.settings, in.memo.settled = map[string]opened{}, in.Tree.Edits()
		}
		if had, ok := in.memo.settings[key]; ok {
			return had.Settings, had.ok
		}
	}
	s, ok := survey.SettingsOf(in.Tree, w.site.project, px, target, config)
	if in.memo != nil {
		in.memo.settings[key] = opened{s, ok}
	}
	return s, ok
}

// read gives what a reader makes of a file, from the memo if the file is the one that was read before.
func read[T any](in Input, kind, name string, src []byte, reader func([]byte) (T, error)) (T, error) {
	if in.memo == nil {
		return reader(src)
	}
	key := kind + " " + name
	if had, ok := in.memo.kept[key]; ok && len(had.src) == len(src) && (len(src) == 0 || &had.src[0] == &src[0]) {
		out, _ := had.read.(T)
		return out, had.err
	}
	out, err := reader(src)
	in.memo.kept[key] = kept{src, out, err}
	return out, err
}

// keep puts into the memo what a file is known to read as.
func (in Input) keep(kind, name string, src []byte, what any) {
	if in.memo != nil {
		in.memo.kept[kind+" "+name] = kept{src: src, read: what}
	}
}

// project reads the Xcode project of a want's site as it stands.
func (in Input) project(w *Want) (*pbxproj.Project, error) {
	file := w.site.project.File()
	src, err := in.Tree.Read(file)
	if err != nil {
		return nil, err
	}
	px, err := read(in, "project", file, src, pbxproj.Parse)
	if err != nil {
		return nil, fmt.Errorf("%s:%w", file, err)
	}
	return px, nil
}

func (in Input) gradle(name string) *gradle.File {
	if name == "" {
		return nil
	}
	src, err := in.Tree.Read(name)
	if err != nil {
		return nil
	}
	f, _ := read(in, "gradle", name, src, func(src []byte) (*gradle.File, error) { return gradle.Parse(name, src), nil })
	return f
}

func (in Input) xml(name string, src []byte) *xml.Doc {
	d, _ := read(in, "xml", name, src, func(src []byte) (*xml.Doc, error) { return xml.Parse(src), nil })
	return d
}

// source reads a source file; nil for one that is none or has problems.
func (in Input) source(name string, src []byte) *source.File {
	f, _ := read(in, "source", name, src, func(src []byte) (*source.File, error) {
		f, ok := source.Parse(name, src)
		if !ok || len(f.Tree.Problems) > 0 {
			return nil, nil
		}
		return f, nil
	})
	return f
}
