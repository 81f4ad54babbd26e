package job

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"ligare/core/cert"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/sheets"
	"ligare/vcs"
)

// Look says what may be read besides the tree: only what is given.
type Look struct {
	Home        bool // the user's home folder: Gradle's own properties, the debug keystore
	Environment bool // environment variables
}

// options gives what the survey is told: the roots, and what the sheets know of config files and bridges.
func (l Look) options() (survey.Options, error) {
	var o survey.Options
	if l.Home {
		home, err := os.UserHomeDir()
		if err != nil {
			return o, err
		}
		o.Home = os.DirFS(home)
	}
	if l.Environment {
		o.Env = map[string]string{}
		for _, e := range os.Environ() {
			k, v, _ := strings.Cut(e, "=")
			o.Env[k] = v
		}
	}
	all, err := shipped()
	if err != nil {
		return o, err
	}
	for _, s := range all {
		for _, f := range s.Issues.Files {
			o.ConfigFiles = append(o.ConfigFiles, f.Name)
		}
	}
	o.Bridges, err = sheet.LoadBridges(sheets.FS)
	return o, err
}

// Described is a survey with what version control says of the files that matter.
type Described struct {
	*survey.Report
	VersionControl VersionControl `json:"versionControl"`
}

// VersionControl is what git knows. Known is false where there is no repository; Why says so.
type VersionControl struct {
	Known   bool        `json:"known"`
	Why     string      `json:"why,omitempty"`
	Shallow bool        `json:"shallow,omitempty"` // history is cut short, so that everCommitted may be wrong
	Files   []FileState `json:"files"`
}

// FileState is one file that matters.
type FileState struct {
	File  string `json:"file"`
	What  string `json:"what"`
	There bool   `json:"there"`
	vcs.State
}

// Describe completes the survey: certificates of the keystores that variants sign with, as far as they can be read
// without asking, and version control.
func (w *Work) Describe(ctx context.Context) (*Described, error) {
	for _, m := range w.Survey.Android.Modules {
		for _, v := range m.Variants {
			v.Certificate = w.certificateOf(v)
		}
	}
	d := &Described{Report: w.Survey, VersionControl: VersionControl{Files: []FileState{}}}
	repo, err := vcs.Open(ctx, w.Root)
	if errors.Is(err, vcs.ErrNone) {
		d.VersionControl.Why = err.Error()
	} else if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range w.Survey.Files {
		d.VersionControl.Files = append(d.VersionControl.Files, FileState{File: f.File, What: f.What, There: f.There})
		names = append(names, f.File)
	}
	if repo == nil {
		return d, nil
	}
	d.VersionControl.Known, d.VersionControl.Shallow = true, repo.Shallow
	states, err := repo.States(ctx, names)
	if err != nil {
		return nil, err
	}
	for i := range d.VersionControl.Files {
		d.VersionControl.Files[i].State = states[d.VersionControl.Files[i].File]
	}
	return d, nil
}

// errSilent is the answer to a question for a password that is not asked.
var errSilent = stop("", "its password is not in the build files")

// certificateOf reads the certificate a variant signs with, without asking for anything.
func (w *Work) certificateOf(v *survey.AndroidVariant) *survey.Signer {
	if !v.KeyStore.Known() {
		return nil
	}
	list, one, err := w.SignerOf(v, func() (string, error) { return "", errSilent })
	if list != nil {
		for _, x := range list.List {
			k := cert.Known{Label: v.KeyStore.String() + ", alias " + x.Alias, DER: x.DER}
			if !x.Chain && !slices.ContainsFunc(w.certificates, func(h cert.Known) bool { return h.Label == k.Label }) {
				w.certificates = append(w.certificates, k)
			}
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return &survey.Signer{File: v.KeyStore.String(), Unresolved: "the keystore is not there"}
	} else if err != nil {
		x := &survey.Signer{File: v.KeyStore.String(), Unresolved: err.Error()}
		if errors.Is(err, errNoAlias) {
			x.Problem = survey.NoAlias
		}
		return x
	}
	return &survey.Signer{File: v.KeyStore.String(), Alias: one.Alias, Kind: list.Kind, Subject: one.Subject, NotAfter: one.NotAfter.UTC().Format(time.RFC3339),
		SHA1: one.Digests.SHA1Colons, SHA256: one.Digests.SHA256Colons, Warnings: one.Warnings}
}

// onDisk gives where a keystore named by the survey lies.
func (w *Work) onDisk(name string) (string, error) {
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		home, err := os.UserHomeDir()
		return path.Join(home, rest), err
	}
	if path.IsAbs(name) {
		return name, nil
	}
	return path.Join(w.Root, name), nil
}

// Only keeps one Android variant or iOS configuration in the survey.
func (w *Work) Only(name string) error {
	var have []string
	for _, m := range w.Survey.Android.Modules {
		for _, v := range m.Variants {
			have = append(have, v.Name)
		}
	}
	for _, p := range w.Survey.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				have = append(have, c.Name)
			}
		}
	}
	slices.Sort(have)
	if have = slices.Compact(have); !slices.Contains(have, name) {
		return stop("Use one of: "+join(have)+".", "there is no variant %q", name)
	}
	for _, m := range w.Survey.Android.Modules {
		m.Variants = slices.DeleteFunc(m.Variants, func(v *survey.AndroidVariant) bool { return v.Name != name })
	}
	for _, p := range w.Survey.IOS.Projects {
		for _, t := range p.Targets {
			t.Configurations = slices.DeleteFunc(t.Configurations, func(c *survey.Configuration) bool { return c.Name != name })
		}
		p.Targets = slices.DeleteFunc(p.Targets, func(t *survey.Target) bool { return len(t.Configurations) == 0 })
	}
	w.Survey.Android.Modules = slices.DeleteFunc(w.Survey.Android.Modules, func(m *survey.Module) bool { return len(m.Variants) == 0 })
	w.Survey.IOS.Projects = slices.DeleteFunc(w.Survey.IOS.Projects, func(p *survey.Project) bool { return len(p.Targets) == 0 })
	w.Survey.Unresolved = slices.DeleteFunc(w.Survey.Unresolved, func(q survey.OpenQuestion) bool {
		other := func(before, after string) bool {
			_, rest, ok := strings.Cut(q.What, before)
			return ok && rest != name && !strings.HasPrefix(rest, name+after)
		}
		return other(" of Android variant ", " in ") || other(", configuration ", " ")
	})
	return nil
}
