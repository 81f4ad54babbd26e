package survey

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"ligare/core/tree"
)

// configExts are the kinds of file that services issue.
var configExts = map[string]bool{".json": true, ".plist": true, ".xml": true, ".yaml": true, ".yml": true, ".lic": true, ".properties": true, ".jws": true, ".txt": true}

// ownFiles are the project's own, which hold its identifiers by nature.
var ownFiles = map[string]bool{"AndroidManifest.xml": true, "package.json": true, "package-lock.json": true, "app.json": true, "pubspec.yaml": true, "Info.plist": true,
	"gradle.properties": true, "output-metadata.json": true, "ligare.yaml": true, "tsconfig.json": true, "ProjectSettings.asset": true, "strings.xml": true, "Contents.json": true}

// maxConfig bounds the size of a file that is looked into.
const maxConfig = 1 << 20

// readConfigFiles finds files that look like a config file a service issued: by a name that was asked about, copies and
// misspellings included, or because they hold an identifier of the app.
func readConfigFiles(t *tree.Tree, f *found, o Options, r *Report) {
	ids := r.identifiers()
	wanted := map[string]string{} // by stem
	for _, want := range o.ConfigFiles {
		if s := stem(want); len(s) > 3 {
			wanted[s] = want
		}
	}
	for _, name := range f.all {
		base := path.Base(name)
		why := ""
		if want, ok := wanted[stem(base)]; ok {
			why = fmt.Sprintf("its name is almost %s", want)
		}
		if slices.Contains(o.ConfigFiles, base) {
			why = "it bears the name of a config file"
		}
		if why == "" && (!configExts[strings.ToLower(path.Ext(base))] || ownFiles[base] || strings.HasPrefix(name, ".ligare/") || strings.Contains(name, ".xcassets/") ||
			strings.Contains(name, ".xcodeproj/") || strings.Contains(name, ".xcworkspace/") || strings.HasPrefix(base, "capacitor.") || strings.HasSuffix(base, ".config.json")) {
			continue
		}
		if !t.Small(name, maxConfig) {
			if why != "" {
				r.ConfigFiles = append(r.ConfigFiles, ConfigFile{File: name, Why: why})
			}
			continue
		}
		src, err := t.Read(name)
		if err != nil {
			if why != "" {
				r.broken("config file "+name, err.Error(), name, 0)
			}
			continue
		}
		c := ConfigFile{File: name, Why: why}
		for _, id := range ids {
			if holdsWord(src, id) {
				c.Identifiers = append(c.Identifiers, id)
			}
		}
		if why == "" && len(c.Identifiers) > 0 {
			c.Why = "it holds an identifier of the app"
		}
		if c.Why != "" {
			r.ConfigFiles = append(r.ConfigFiles, c)
		}
	}
}

// identifiers lists the IDs of all variants.
func (r *Report) identifiers() []string {
	var out []string
	add := func(f Fact) {
		for _, v := range append([]string{f.String()}, values(f)...) {
			if strings.Count(v, ".") > 0 && !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			add(v.ApplicationID)
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			if !t.Test() {
				for _, c := range t.Configurations {
					add(c.BundleID)
				}
			}
		}
	}
	sort.Strings(out)
	return out
}

func values(f Fact) []string {
	var out []string
	for _, p := range f.Possible {
		out = append(out, p.Value)
	}
	return out
}

// holdsWord finds an identifier that stands by itself, not as part of a longer one.
func holdsWord(src []byte, id string) bool {
	for at := 0; ; {
		i := bytes.Index(src[at:], []byte(id))
		if i < 0 {
			return false
		}
		start, end := at+i, at+i+len(id)
		part := func(c byte) bool {
			return c == '.' || c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		}
		if (start == 0 || !part(src[start-1])) && (end == len(src) || !part(src[end])) {
			return true
		}
		at = start + 1
	}
}

// CopyOf reports whether a file's name is another's with something added, as a second download or a copy gets, or in
// other letters.
func CopyOf(name, of string) bool { return stem(name) == stem(of) }

// stem gives what a name keeps when case, extension and a copy's suffix are taken away.
func stem(s string) string {
	s = strings.ToLower(s)
	s = strings.TrimSuffix(s, path.Ext(s))
	if i := strings.LastIndex(s, " ("); i > 0 && strings.HasSuffix(s, ")") {
		s = s[:i]
	}
	for _, tail := range []string{" copy", "-copy", "_copy"} {
		s = strings.TrimSuffix(s, tail)
	}
	s = strings.TrimPrefix(s, "copy of ")
	if trimmed := strings.TrimRight(s, "0123456789"); trimmed != s && strings.ContainsAny(trimmed[max(0, len(trimmed)-1):], "- _") {
		s = trimmed[:len(trimmed)-1]
	}
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r == ' ' {
			return -1
		}
		return r
	}, s)
}

// lockFiles say what is really installed.
var lockFiles = map[string]bool{"Podfile.lock": true, "package-lock.json": true, "yarn.lock": true, "pnpm-lock.yaml": true, "bun.lock": true, "pubspec.lock": true,
	"Package.resolved": true, "gradle.lockfile": true, "packages.lock.json": true}

// What some of the files are whose state in version control matters.
const (
	LockFile          = "lock file"
	InstalledPackages = "installed packages" // a file that a package manager leaves among what it installed
)

// readInterest lists the files whose state in version control matters.
func (r *Report) readInterest(t *tree.Tree, f *found) {
	seen := map[string]bool{}
	add := func(name, what string) {
		if name == "" || path.IsAbs(name) || strings.HasPrefix(name, "~") || seen[name] {
			return
		}
		seen[name] = true
		r.Files = append(r.Files, Interest{File: name, What: what, There: t.Has(name)})
	}
	for _, c := range r.ConfigFiles {
		add(c.File, "config file")
	}
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			if v.KeyStore.Known() {
				add(v.KeyStore.String(), "keystore")
			}
			for _, x := range []Fact{v.KeyAlias, v.storePassword} {
				if path.Ext(x.File) == ".properties" {
					add(x.File, "signing properties")
				}
			}
		}
	}
	for _, p := range r.IOS.Projects {
		if lock := path.Join(path.Dir(p.Podfile), "Pods/Manifest.lock"); p.Podfile != "" && t.Has(lock) {
			add(lock, InstalledPackages)
		}
	}
	for _, x := range r.Frameworks {
		if lock := path.Join(x.Dir, "node_modules/.package-lock.json"); t.Has(lock) {
			add(lock, InstalledPackages)
		}
	}
	for _, name := range f.all {
		base := path.Base(name)
		switch ext := strings.ToLower(path.Ext(base)); {
		case ext == ".jks" || ext == ".keystore" || ext == ".p12" || ext == ".pfx" || ext == ".p8" || ext == ".mobileprovision":
			add(name, map[bool]string{true: "key or profile", false: "keystore"}[ext == ".p8" || ext == ".mobileprovision"])
		case base == "key.properties" || base == "keystore.properties" || base == "signing.properties":
			add(name, "signing properties")
		case strings.HasPrefix(base, ".env"):
			add(name, "environment file")
		case lockFiles[base]:
			add(name, LockFile)
		case base == "ligare.yaml" || strings.HasPrefix(name, ".ligare/placed/"):
			add(name, "record of Ligare")
		}
	}
	if t.Has("ligare.yaml") {
		for _, n := range t.Dir(".ligare/placed") {
			add(path.Join(".ligare/placed", n), "record of Ligare")
		}
	}
	sort.Slice(r.Files, func(i, j int) bool { return r.Files[i].File < r.Files[j].File })
}
