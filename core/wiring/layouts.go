package wiring

import (
	"fmt"
	"strings"

	"ligare/core/ident"
	"ligare/core/sheet"
)

// Layout is a kind of tree, or of part of one, that placements go into.
type Layout struct{ ID, Title string }

// Layouts are all of them. A framework's native projects are Android and Apple projects like any others; its own package
// list and source are a layout of their own.
var Layouts = []Layout{
	{"android", "Android project (Gradle)"},
	{"ios", "Apple project (Xcode)"},
	{"flutter", "Flutter's own files"},
	{"react-native", "React Native's own files"},
	{"web-wrapper", "web tree in a wrapper"},
	{"hosted-web", "web tree behind a hosted builder"},
	{"dotnet", ".NET mobile project"},
	{"engine", "engine project"},
	{"builder", "hosted builder, without source"},
}

// How a named placement is seen to in a layout.
const (
	Automatic = "automatic"
	ByGuide   = "by guide"
	NotThere  = "not applicable"
)

// Support says how a named placement is seen to in a layout, and why not by itself.
type Support struct{ How, Why string }

var auto = Support{How: Automatic}

// own are the layouts of a framework's own files, in which nothing native stands.
var own = map[string]string{"flutter": "stands in the native projects below", "react-native": "stands in the native projects below", "web-wrapper": "stands in the native projects below", "hosted-web": "the tree has no native project: the builder's own settings say it"}

// SupportOf says how a named placement is seen to in a layout.
func SupportOf(lib sheet.Library, n *sheet.Named, layout string) Support {
	if len(n.Either) > 0 {
		out := Support{How: NotThere, Why: "none of its forms exists here"}
		for _, e := range n.Either {
			if s := SupportOf(lib, lib[e], layout); rank[s.How] > rank[out.How] {
				out = s
			}
		}
		return out
	}
	switch {
	case n.Ensure == "builder-field" && layout == "builder":
		return Support{Automatic, "through the builder's interface, with the rebuild it needs: ligare builder"}
	case n.Ensure == "builder-field":
		return Support{NotThere, "a hosted builder's settings are no part of a tree"}
	case layout == "builder":
		return Support{NotThere, "there is no source; the builder's fields say what they can"}
	case n.Ensure == "line" && n.Settings["file"] == ".gitignore":
		return auto
	case layout == "android" && n.Platform == ident.IOS, layout == "ios" && n.Platform == ident.Android:
		return Support{NotThere, "is for the other platform"}
	}
	switch n.Ensure {
	case "file":
		if why := own[layout]; why != "" {
			return Support{NotThere, why}
		}
		if layout == "engine" {
			return Support{ByGuide, "the engine has a folder for each kind of asset; put the file where its library's guide says"}
		}
		return auto
	case "source-call":
		return sourceSupport(n, layout)
	case "key-value":
		return valueSupport(n, layout)
	}
	if why := own[layout]; why != "" {
		return Support{NotThere, why}
	}
	switch layout {
	case "android":
		if n.Platform == "" || n.Platform == ident.Android {
			if n.Ensure == "folder" {
				return Support{ByGuide, "unpack it where the build file says, and name it there"}
			}
			return auto
		}
	case "ios":
		return auto
	case "dotnet":
		switch {
		case n.Ensure == "xml-element":
			return auto
		case n.Name == "minimum-sdk" || n.Name == "deployment-target":
			return Support{Automatic, "in SupportedOSPlatformVersion, if the project says one; else by guide"}
		case n.Name == "signing-configuration":
			return Support{ByGuide, "set AndroidKeyStore and what belongs to it in the project file or on the command line"}
		case n.Ensure == "line":
			return Support{ByGuide, "name a ProguardConfiguration in the project file and write the rule there"}
		case n.Name == "app-extension":
			return Support{ByGuide, "make a project of its own for the extension and refer to it"}
		}
		return Support{NotThere, "the framework's packages carry their native parts"}
	case "engine":
		switch {
		case n.Name == "minimum-sdk" || n.Name == "deployment-target":
			return Support{Automatic, "in the engine's settings asset"}
		case n.Ensure == "xml-element" && n.Settings["folder"] == "":
			return Support{Automatic, "in the manifest of Assets/Plugins/Android, if the tree has one; else by guide"}
		case n.Ensure == "xml-element":
			return Support{ByGuide, "resources lie in an Android library of the engine's own kind"}
		case n.Ensure == "build-entry" && n.Platform == ident.Android, n.Ensure == "line":
			return Support{ByGuide, "in the engine's template of the build file, if the library does not bring it"}
		}
		return Support{ByGuide, "the engine writes the Apple project anew with every build: say it in a script of the build"}
	}
	return Support{NotThere, "is for the other platform"}
}

var rank = map[string]int{NotThere: 0, ByGuide: 1, Automatic: 2}

func sourceSupport(n *sheet.Named, layout string) Support {
	script := n.Settings["role"] == "root-component"
	switch layout {
	case "android":
		if n.Platform == ident.IOS || script || n.Settings["role"] == "update-check" {
			return Support{NotThere, "is for a framework's own source"}
		}
		return auto
	case "ios":
		if n.Platform == ident.Android || script || n.Settings["role"] == "update-check" {
			return Support{NotThere, "is for a framework's own source"}
		}
		return auto
	case "react-native":
		if n.Platform == "" {
			return auto
		}
		return Support{NotThere, own[layout]}
	case "flutter", "hosted-web", "web-wrapper":
		switch {
		case n.Platform != "":
			return Support{NotThere, own[layout]}
		case script:
			return Support{ByGuide, "the root component of such a source has no one form"}
		}
		return auto
	case "dotnet":
		if n.Settings["role"] == "start" {
			return Support{Automatic, "behind the app builder, with a guard for the platforms"}
		}
		return Support{ByGuide, "override the method in the platform's class"}
	}
	return Support{ByGuide, "call it in a component of the first scene"}
}

func valueSupport(n *sheet.Named, layout string) Support {
	switch n.Settings["file"] {
	case infoPlist, entitlements, privacyManifest:
		switch {
		case layout == "ios":
			return auto
		case layout == "dotnet":
			return Support{Automatic, "in the file below Platforms/iOS, if the project has one; else by guide"}
		case layout == "engine":
			return Support{ByGuide, "the engine writes the Apple project anew with every build: say it in a script of the build"}
		case layout == "android":
			return Support{NotThere, "is for the other platform"}
		}
		return Support{NotThere, own[layout]}
	}
	switch layout {
	case "android", "ios":
		return Support{NotThere, "has no package list of a framework"}
	case "engine":
		return auto
	}
	if n.Settings["file"] != "package-manifest" {
		return Support{NotThere, "is for engine projects"}
	}
	return auto
}

// layout gives the layout of a site.
func (s site) layout() string {
	switch {
	case s.framework != nil:
		return s.framework.Name
	case s.foreign() != "":
		return s.foreign()
	case s.module != nil:
		return "android"
	}
	return "ios"
}

// Table writes the matrix of named placements and layouts as Markdown, with the reasons below it.
func Table(lib sheet.Library) string {
	var b strings.Builder
	b.WriteString("# Placements and layouts\n\nHow each named placement is seen to in each layout. A framework's native projects are the first two columns.\n\n" +
		"- **automatic**: `ligare place` writes it in the form the tree already uses, and `ligare unplace` takes it out.\n" +
		"- **by guide**: `ligare place --guide` says what has to be true and why; a person writes it.\n- **–**: not applicable.\n\n| placement |")
	for _, l := range Layouts {
		b.WriteString(" " + l.Title + " |")
	}
	b.WriteString("\n|---|" + strings.Repeat("---|", len(Layouts)) + "\n")
	var reasons []string
	number := map[string]int{}
	for _, name := range sorted(lib) {
		b.WriteString("| " + name + " |")
		for _, l := range Layouts {
			s := SupportOf(lib, lib[name], l.ID)
			how := s.How
			if how == NotThere {
				how = "–"
			}
			if s.Why != "" {
				if number[s.Why] == 0 {
					reasons = append(reasons, s.Why)
					number[s.Why] = len(reasons)
				}
				how += fmt.Sprintf(" [%d]", number[s.Why])
			}
			b.WriteString(" " + how + " |")
		}
		b.WriteString("\n")
	}
	b.WriteString("\n## Reasons\n\n")
	for i, r := range reasons {
		fmt.Fprintf(&b, "%d. %s\n", i+1, strings.ToUpper(r[:1])+r[1:])
	}
	return b.String()
}
