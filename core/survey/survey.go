package survey

import (
	"path"
	"sort"
	"strings"

	"ligare/core/tree"
)

// Survey reads a tree. A file that cannot be read becomes an open question; the rest is answered all the same.
func Survey(t *tree.Tree) *Report {
	r := &Report{Layouts: []string{}, Android: Android{Modules: []*Module{}}, IOS: IOS{Projects: []*Project{}}, Unresolved: []OpenQuestion{}}
	var gradle, projects []string
	layouts := map[string]bool{}
	t.Walk(func(name string) {
		switch base := path.Base(name); {
		case base == "build.gradle" || base == "build.gradle.kts":
			gradle = append(gradle, name)
		case base == "project.pbxproj" && strings.HasSuffix(path.Dir(name), ".xcodeproj"):
			projects = append(projects, name)
		case base == "pubspec.yaml":
			layouts["flutter"] = true
		}
	})
	for _, m := range readModules(t, gradle, r) {
		r.Android.Modules = append(r.Android.Modules, m)
		layouts["android-gradle"] = true
	}
	for _, name := range projects {
		if p := readProject(t, name, r); p != nil {
			r.IOS.Projects = append(r.IOS.Projects, p)
			layouts["ios-xcode"] = true
		}
	}
	for l := range layouts {
		r.Layouts = append(r.Layouts, l)
	}
	sort.Strings(r.Layouts)
	r.collect()
	return r
}

func (r *Report) ask(what, why, file string, line int) {
	r.Unresolved = append(r.Unresolved, OpenQuestion{What: what, Why: why, File: file, Line: line})
}

// broken records a file that cannot be read.
func (r *Report) broken(what, why, file string, line int) {
	for _, q := range r.Unresolved {
		if q.What == what {
			return
		}
	}
	r.Unresolved = append(r.Unresolved, OpenQuestion{What: what, Why: why, File: file, Line: line, Broken: true})
}

// collect lists every fact that stayed unresolved.
func (r *Report) collect() {
	add := func(what string, f Fact) {
		if f.Unresolved != "" {
			r.ask(what, f.Unresolved, f.File, f.Line)
		}
	}
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			of := " of Android variant " + v.Name + " in " + m.Dir
			add("application ID"+of, v.ApplicationID)
			add("namespace"+of, v.Namespace)
			add("minimum SDK"+of, v.MinSDK)
			add("target SDK"+of, v.TargetSDK)
			add("launcher activity"+of, v.LauncherActivity)
			add("keystore"+of, v.KeyStore)
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				of := " of iOS target " + t.Name + ", configuration " + c.Name
				add("bundle ID"+of, c.BundleID)
				add("deployment target"+of, c.DeploymentTarget)
				add("Info.plist"+of, c.InfoPlist)
			}
		}
	}
}

// Empty reports whether the tree holds no app at all.
func (r *Report) Empty() bool { return len(r.Android.Modules) == 0 && len(r.IOS.Projects) == 0 }
