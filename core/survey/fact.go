// Package survey reads a source tree and answers what every variant of it is: identifiers, minimums, launcher,
// permissions, resources, signing. Each answer is a Fact that says where it stands and how it was resolved; what cannot
// be resolved from the files is said to be so, never guessed.
//
// It knows the platforms' build files and nothing of any service. Start reading at Survey.
package survey

import (
	"ligare/core/survey/fact"
	"ligare/core/survey/script"
)

// Fact is one answer; see package fact.
type Fact = fact.Fact

// Possible is one outcome of a fact that depends on something outside the files.
type Possible = fact.Possible

// Build is one Gradle build; see package script.
type Build = script.Build

// Entry is a fact with the name it stands under: a permission, a metadata name, a property-list key.
type Entry struct {
	Name string `json:"name"`
	Fact
}

// Report is what a survey answers.
type Report struct {
	Layouts     []string       `json:"layouts"`
	Android     Android        `json:"android"`
	IOS         IOS            `json:"ios"`
	Frameworks  []*Framework   `json:"frameworks"`
	ConfigFiles []ConfigFile   `json:"configFiles"`
	Ignore      []string       `json:"ignoreFiles"`
	Files       []Interest     `json:"-"`     // said with what version control knows of them
	Notes       []OpenQuestion `json:"notes"` // what was read and looks wrong by itself
	Unresolved  []OpenQuestion `json:"unresolved"`
}

// Android is the app modules of all Gradle builds in the tree, and what other layouts build for Android.
type Android struct {
	Modules []*Module `json:"modules"`
}

// IOS is the Xcode projects of the tree, and what other layouts build for iOS.
type IOS struct {
	Projects []*Project `json:"projects"`
}

// OpenQuestion is a fact that could not be resolved, with what it belongs to.
type OpenQuestion struct {
	What string `json:"what"`
	Why  string `json:"why"`
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`

	// Broken says that the file itself cannot be read, so that what it holds is missing from the survey.
	Broken bool `json:"broken,omitempty"`
}

// Module is one thing that builds an Android app: a Gradle module, or a project of another layout.
type Module struct {
	Layout       string            `json:"layout"`
	Framework    string            `json:"framework,omitempty"` // that lies over it
	Dir          string            `json:"dir"`
	BuildFile    string            `json:"buildFile"`
	Root         string            `json:"root"`
	Plugins      []Entry           `json:"plugins,omitempty"`
	Repositories []Repository      `json:"repositories,omitempty"`
	Dependencies []Dependency      `json:"dependencies,omitempty"`
	Variants     []*AndroidVariant `json:"variants"`
	build        *Build
	model        *script.Model
	sets         map[string]sourceSet
}

// Build gives the Gradle build the module belongs to; nil in other layouts.
func (m *Module) Build() *Build { return m.build }

// AndroidVariant is one way a module builds.
type AndroidVariant struct {
	Name             string       `json:"name"`
	BuildType        string       `json:"buildType"`
	Flavors          []string     `json:"flavors,omitempty"`
	SourceSets       []string     `json:"sourceSets"` // highest priority first
	ApplicationID    Fact         `json:"applicationId"`
	Identifiers      []Entry      `json:"identifiers"` // every place an ID can be read from; the one that counts comes first
	Namespace        Fact         `json:"namespace"`
	MinSDK           Fact         `json:"minSdk"`
	TargetSDK        Fact         `json:"targetSdk"`
	CompileSDK       Fact         `json:"compileSdk"`
	VersionCode      Fact         `json:"versionCode"`
	VersionName      Fact         `json:"versionName"`
	LauncherActivity Fact         `json:"launcherActivity"`
	ApplicationClass Fact         `json:"applicationClass"`
	DisplayName      Fact         `json:"displayName"`
	Manifests        []string     `json:"manifests,omitempty"` // that merge, highest priority first
	Permissions      []Fact       `json:"permissions,omitempty"`
	Metadata         []Entry      `json:"metadata,omitempty"` // of the application element
	Activities       []Activity   `json:"activities,omitempty"`
	Queries          []Fact       `json:"queries,omitempty"` // packages, and actions or schemes of intents
	URLSchemes       []Fact       `json:"urlSchemes,omitempty"`
	AppLinks         []Fact       `json:"appLinks,omitempty"`  // hosts of https links the app claims
	Strings          []Entry      `json:"strings,omitempty"`   // string resources of the default locale
	Constants        []Entry      `json:"constants,omitempty"` // fields of the generated build constants
	Placeholders     []Entry      `json:"placeholders,omitempty"`
	SigningConfig    Fact         `json:"signingConfig"`
	KeyStore         Fact         `json:"keyStore"`
	KeyAlias         Fact         `json:"keyAlias"`
	Certificate      *Signer      `json:"certificate,omitempty"`
	Entry            []EntryPoint `json:"entryPoints,omitempty"`
	storePassword    Fact
	keyPassword      Fact
}

// Activity is a screen that the merged manifest declares.
type Activity struct {
	Class      Fact   `json:"class"`
	Exported   Fact   `json:"exported"`
	URLSchemes []Fact `json:"urlSchemes,omitempty"`
}

// Repository is where build scripts look for packages.
type Repository struct {
	Where string `json:"where"` // build script, plugins, all projects, module, dependency management
	Fact         // the address, or the name of a well-known one: google()
}

// Dependency is a package or module that a module uses.
type Dependency struct {
	Configuration string `json:"configuration"`
	Name          string `json:"name"` // group:name, or :module
	Version       Fact   `json:"version"`
	File          string `json:"file"`
	Line          int    `json:"line"`
}

// Signer is the public part of the certificate a variant signs with, or why it could not be read.
type Signer struct {
	File       string   `json:"file"`
	Kind       string   `json:"kind,omitempty"` // JKS, PKCS#12
	Alias      string   `json:"alias,omitempty"`
	Subject    string   `json:"subject,omitempty"`
	NotAfter   string   `json:"notAfter,omitempty"` // RFC 3339
	SHA1       string   `json:"sha1,omitempty"`     // hex with colons
	SHA256     string   `json:"sha256,omitempty"`   // hex with colons
	Warnings   []string `json:"warnings,omitempty"`
	Unresolved string   `json:"unresolved,omitempty"`
	Problem    Problem  `json:"-"`
}

// Problem is why a certificate could not be read.
type Problem string

// NoAlias is the problem of a keystore that is read, and has no entry of the name wanted.
const NoAlias Problem = "no alias"

// KeyPassword gives the key's password where the build files hold it. It is never part of a report.
func (v *AndroidVariant) KeyPassword() Fact { return v.keyPassword }

// StorePassword gives the keystore's password where the build files hold it. It is never part of a report.
func (v *AndroidVariant) StorePassword() Fact { return v.storePassword }

// Project is one Xcode project, or what another layout builds for iOS.
type Project struct {
	Layout    string    `json:"layout"`
	Framework string    `json:"framework,omitempty"` // that lies over it
	Path      string    `json:"path"`                // of the .xcodeproj, or of the file that stands for it in other layouts
	Dir       string    `json:"dir"`
	Version   int       `json:"objectVersion,omitempty"`
	Podfile   string    `json:"podfile,omitempty"`
	Packages  []Entry   `json:"packages,omitempty"` // Swift packages: address and requirement
	Pods      []Entry   `json:"pods,omitempty"`     // pods asked for, with the requirement
	Targets   []*Target `json:"targets"`
	foreign   []Entry   // references into folders of dependencies
}

// File gives the project file's path.
func (p *Project) File() string {
	if p.Version == 0 {
		return p.Path
	}
	return p.Path + "/project.pbxproj"
}

// Target is one native target.
type Target struct {
	Name           string           `json:"name"`
	ProductType    string           `json:"productType"`
	Platform       string           `json:"platform"` // iphoneos, watchos, appletvos, macosx, xros
	Resources      []string         `json:"resources,omitempty"`
	Frameworks     []string         `json:"frameworks,omitempty"`
	ScriptPhases   []string         `json:"scriptPhases,omitempty"`
	Configurations []*Configuration `json:"configurations"`
}

// App reports whether the target builds an app that users open.
func (t *Target) App() bool { return t.ProductType == appProduct && t.Platform == "iphoneos" }

// Test reports whether the target builds tests.
func (t *Target) Test() bool { return testProducts[t.ProductType] }

// Extension reports whether the target builds an extension that ships inside an app.
func (t *Target) Extension() bool { return extensionProducts[t.ProductType] }

var extensionProducts = map[string]bool{"com.apple.product-type.app-extension": true, "com.apple.product-type.extensionkit-extension": true, "com.apple.product-type.app-extension.messages": true}

const appProduct = "com.apple.product-type.application"

var testProducts = map[string]bool{"com.apple.product-type.bundle.unit-test": true, "com.apple.product-type.bundle.ui-testing": true, "com.apple.product-type.bundle.ocunit-test": true}

// Configuration is one way a target builds.
type Configuration struct {
	Name              string       `json:"name"`
	BundleID          Fact         `json:"bundleId"`
	DeploymentTarget  Fact         `json:"deploymentTarget"`
	ProductName       Fact         `json:"productName"`
	Version           Fact         `json:"version"`
	BuildNumber       Fact         `json:"buildNumber"`
	InfoPlist         Fact         `json:"infoPlist"`
	DisplayName       Fact         `json:"displayName"`
	PlistKeys         []Entry      `json:"plistKeys,omitempty"`
	URLSchemes        []Fact       `json:"urlSchemes,omitempty"`
	QuerySchemes      []Fact       `json:"querySchemes,omitempty"`
	BackgroundModes   []Fact       `json:"backgroundModes,omitempty"`
	Entitlements      Fact         `json:"entitlements"`
	EntitlementKeys   []Entry      `json:"entitlementKeys,omitempty"`
	AssociatedDomains []Fact       `json:"associatedDomains,omitempty"`
	PrivacyManifest   Fact         `json:"privacyManifest"`
	PrivacyKeys       []Entry      `json:"privacyKeys,omitempty"`
	SigningTeam       Fact         `json:"signingTeam"`
	SigningStyle      Fact         `json:"signingStyle"`
	SigningIdentity   Fact         `json:"signingIdentity"`
	Profile           Fact         `json:"profile"`
	IdentifierPrefix  Fact         `json:"identifierPrefix"`
	Entry             []EntryPoint `json:"entryPoints,omitempty"`
}

// Framework is a cross-platform framework that a folder of the tree uses, with how it links the native parts of packages.
type Framework struct {
	Name     string       `json:"name"` // flutter, react-native, web-wrapper, dotnet, engine, hosted-web
	Dir      string       `json:"dir"`
	Version  Fact         `json:"version"`
	Facts    []Entry      `json:"facts,omitempty"`
	Linking  string       `json:"linking"` // what the framework does by itself, from which version on
	Packages []Linked     `json:"packages,omitempty"`
	Entry    []EntryPoint `json:"entryPoints,omitempty"`
}

// Linked is one package of a framework, and how its native half comes into each platform's project.
type Linked struct {
	Name    string `json:"name"`
	Version Fact   `json:"version"`
	Android Link   `json:"android"`
	IOS     Link   `json:"ios"`
}

// Link says how a native half is linked: framework, hand, twice, missing, none (it has no such half), or unknown.
type Link struct {
	How    string   `json:"how"`
	Why    string   `json:"why,omitempty"`
	Places []string `json:"places,omitempty"` // where it is linked by hand
}

// EntryPoint is a place in the source where SDKs are started or results come back.
type EntryPoint struct {
	Kind     string  `json:"kind"` // application, launcher, app-delegate, scene-delegate, app-struct, main, root
	Class    string  `json:"class,omitempty"`
	File     string  `json:"file"`
	Line     int     `json:"line"`
	Calls    []Entry `json:"calls,omitempty"`    // made at start, in order
	Handlers []Entry `json:"handlers,omitempty"` // methods that take a result or an address
}

// ConfigFile is a file that looks like one that a service issued: it holds an identifier of the app, or bears a name
// that was asked about.
type ConfigFile struct {
	File        string   `json:"file"`
	Why         string   `json:"why"`
	Identifiers []string `json:"identifiers,omitempty"` // of the app, found inside
}

// Interest is a file whose state in version control matters: it must be kept, or must not be.
type Interest struct {
	File  string `json:"file"`
	What  string `json:"what"` // config file, keystore, signing properties, lock file, record of Ligare
	There bool   `json:"there"`
}
