package sheet

// EnsureKind is one of the few generic things the core can see to in a tree. Named placements are data above them.
type EnsureKind struct {
	Name     string
	Doc      string
	Settings []Setting
}

// Setting is one setting of an ensure: given by the named placement, or by the sheet as a parameter of the same name.
type Setting struct {
	Name string
	Need bool
	Doc  string
}

// Ensure gives an ensure by name, or nil.
func Ensure(name string) *EnsureKind {
	return find(Ensures, func(e *EnsureKind) bool { return e.Name == name })
}

// Ensures is all of them. What each does in which layout is the business of package wiring.
var Ensures = []EnsureKind{
	{"file", "A file of the registration at its place: in a source set's folder, or in a target and its resources.", []Setting{
		{"file", true, "the file of the sheet"},
		{"folder", false, "folder below the source set or target: res/xml, assets"},
	}},
	{"xml-element", "An element at a path in an XML file, told apart by an attribute.", []Setting{
		{"file", true, "file name: strings.xml, AndroidManifest.xml"},
		{"folder", false, "folder below the source set: res/values"},
		{"root", true, "the document element"},
		{"parent", false, "path of elements below the root: application, queries"},
		{"element", true, "the element's name"},
		{"key", false, "the attribute that tells it apart"},
		{"key-value", false, "that attribute's value"},
		{"attributes", false, "more attributes, as NAME=VALUE, one a line"},
		{"as-text", false, "attributes whose value must stay text: what the platform would read as a number goes into a string resource"},
		{"children", false, "elements inside it, as XML"},
		{"text", false, "its text"},
		{"escape", false, "android-string: the escaping of Android's string resources"},
	}},
	{"key-value", "A value at a key path in a property list, YAML, JSON or TOML file.", []Setting{
		{"file", true, "the file, or the role of one: info-plist, entitlements, privacy-manifest, package-manifest"},
		{"path", true, "the key path, / between keys; [] is an item of a list, [KEY=VALUE] the dictionary in a list whose KEY is VALUE"},
		{"value", true, "the value"},
		{"type", false, "string, integer, boolean, strings or dictionary; string if not said"},
		{"also", false, "other values that will do as well, blanks between them"},
		{"own", false, "yes: any text of the app's own will do, and none is exchanged"},
	}},
	{"build-entry", "A call or entry inside a block of a given role in a build file.", []Setting{
		{"role", true, "repositories, dependencies, plugins, plugin-classpath, pods, default-config, build-types, modules"},
		{"configuration", false, "of a dependency: implementation"},
		{"url", false, "of a repository"},
		{"module", false, "coordinate group:name"},
		{"version", false, "version"},
		{"id", false, "of a plugin"},
		{"after", false, "the plugin it comes after"},
		{"pod", false, "name of a pod"},
		{"requirement", false, "version requirement of a pod"},
		{"name", false, "name of the entry"},
		{"value", false, "value of the entry"},
	}},
	{"project-package", "A Swift package and its product in an Xcode project.", []Setting{
		{"url", true, "of the package's repository"},
		{"version", true, "least version"},
		{"product", true, "the product that is linked"},
	}},
	{"build-setting", "A build setting, in every configuration that builds a covered identity.", []Setting{
		{"name", true, "the setting"},
		{"value", true, "its value; lists are added to"},
		{"least", false, "yes: a version that is raised to, never lowered"},
	}},
	{"folder", "A folder or archive of the registration, unpacked into the tree and referenced.", []Setting{
		{"file", true, "the archive of the sheet"},
		{"folder", true, "where it is unpacked"},
		{"link", false, "the framework inside it that is linked"},
		{"bundle", false, "the resource bundle inside it that is copied"},
		{"include", false, "the build-settings file inside it that every configuration's base file includes"},
	}},
	{"target-member", "A framework, bundle or script in a target's build phases, or an extension embedded in it.", []Setting{
		{"phase", true, "frameworks, resources, script or extension"},
		{"name", true, "of the framework, bundle, phase or extension"},
		{"suffix", false, "of an extension: what its bundle ID has after the app's"},
		{"script", false, "of a script phase"},
		{"inputs", false, "files that a script phase reads, one a line: a sandboxed build keeps it from all others"},
		{"after", false, "the phase it comes after: compile"},
	}},
	{"source-call", "A call, import or handler in source, at a given role and order.", []Setting{
		{"role", true, "start, root-component, open-url, activity-result, update-check"},
		{"order", false, "first: before everything else of the role; after-binding: after the framework's own"},
		{"call", true, "the call"},
		{"arguments", false, "its arguments, as written in source"},
		{"import", false, "what has to be imported for it"},
		{"guard", false, "the platforms on which it may be called"},
		{"objc", false, "the statement in Objective-C; without, a call that takes no arguments is written as a message"},
	}},
	{"line", "A line in a list file.", []Setting{
		{"file", true, "the file: .gitignore, proguard-rules.pro"},
		{"line", true, "the line"},
	}},
	{"builder-field", "A field in a hosted builder's settings.", []Setting{
		{"field", true, "the field"},
		{"value", true, "its value"},
	}},
}
