package built

import (
	"time"

	"ligare/core/cert"
)

// Facts is what a package holds.
type Facts struct {
	Kind    Kind     `json:"kind"`
	Inside  string   `json:"inside,omitempty"` // the entry of an archive of packages that this is
	Size    int64    `json:"size"`             // bytes
	Android *Android `json:"android,omitempty"`
	IOS     []*App   `json:"ios,omitempty"`
	Signing *Signing `json:"signing,omitempty"`
	Files   []File   `json:"files"` // config and licence files, as far as sheets know them

	Profile    *Profile       `json:"profile,omitempty"`    // of a provisioning profile by itself
	Executable *CodeSignature `json:"executable,omitempty"` // of an executable by itself

	Notes []string `json:"notes,omitempty"`
}

// Text is a text in one configuration: "" is the default one.
type Text struct {
	Config string `json:"config,omitempty"`
	Value  string `json:"value"`
}

// Android is what an Android package says.
type Android struct {
	ApplicationID    string       `json:"applicationId"`
	VersionCode      string       `json:"versionCode,omitempty"`
	VersionName      string       `json:"versionName,omitempty"`
	MinSDK           string       `json:"minSdk,omitempty"`
	TargetSDK        string       `json:"targetSdk,omitempty"`
	MaxSDK           string       `json:"maxSdk,omitempty"`
	CompileSDK       string       `json:"compileSdk,omitempty"`
	Split            string       `json:"split,omitempty"` // name of the part this is of an app in several packages
	SharedUserID     string       `json:"sharedUserId,omitempty"`
	Label            []Text       `json:"label,omitempty"`
	Debuggable       bool         `json:"debuggable"`
	TestOnly         bool         `json:"testOnly"`
	ApplicationClass string       `json:"applicationClass,omitempty"`
	LauncherActivity string       `json:"launcherActivity,omitempty"`
	Permissions      []Permission `json:"permissions"`
	Features         []Feature    `json:"features,omitempty"`
	Metadata         []Metadata   `json:"metadata"`
	Components       []Component  `json:"components"`
	Queries          Queries      `json:"queries"`
	URLSchemes       []string     `json:"urlSchemes,omitempty"`
	AppLinks         []string     `json:"appLinks,omitempty"` // hosts of https links that the app claims
	Strings          []Resource   `json:"strings,omitempty"`
	Modules          []string     `json:"modules,omitempty"` // of a bundle
	NativeABIs       []string     `json:"nativeAbis,omitempty"`
}

// Permission is one the app asks for.
type Permission struct {
	Name   string `json:"name"`
	MaxSDK string `json:"maxSdk,omitempty"`
}

// Feature is a feature of devices that the app uses.
type Feature struct {
	Name     string `json:"name"`
	Required bool   `json:"required"`
}

// Metadata is one entry of the application element.
type Metadata struct {
	Name     string `json:"name"`
	Value    string `json:"value"`              // what the app reads
	Type     string `json:"type"`               // string, int, float, boolean, reference, color, dimension, fraction, attribute, null
	Resource string `json:"resource,omitempty"` // type/name, when the entry names a resource
	Values   []Text `json:"values,omitempty"`   // of a resource, in every configuration
	Lost     bool   `json:"lost,omitempty"`     // a long number that became a float: its last digits are gone
	Written  string `json:"written,omitempty"`  // how it was written, where the package still says
}

// Component is an activity, alias, service, receiver or provider.
type Component struct {
	Kind        string   `json:"kind"`
	Name        string   `json:"name"`
	Target      string   `json:"target,omitempty"`   // of an alias
	Exported    *bool    `json:"exported,omitempty"` // nil when it is not said
	Enabled     bool     `json:"enabled"`
	Permission  string   `json:"permission,omitempty"`
	Authorities string   `json:"authorities,omitempty"`
	Filters     []Filter `json:"filters,omitempty"`

	Metadata []Metadata `json:"metadata,omitempty"`
}

// Filter is an intent filter.
type Filter struct {
	AutoVerify bool     `json:"autoVerify,omitempty"`
	Actions    []string `json:"actions,omitempty"`
	Categories []string `json:"categories,omitempty"`
	Data       []Data   `json:"data,omitempty"`
}

// Data is one data element of a filter.
type Data struct {
	Scheme      string `json:"scheme,omitempty"`
	Host        string `json:"host,omitempty"`
	Port        string `json:"port,omitempty"`
	Path        string `json:"path,omitempty"`
	PathPrefix  string `json:"pathPrefix,omitempty"`
	PathPattern string `json:"pathPattern,omitempty"`
	MIMEType    string `json:"mimeType,omitempty"`
}

// Queries are the other apps that the app wants to see.
type Queries struct {
	Packages  []string `json:"packages,omitempty"`
	Providers []string `json:"providers,omitempty"`
	Intents   []Filter `json:"intents,omitempty"`
}

// Resource is a string resource in all its configurations.
type Resource struct {
	Name   string `json:"name"`
	Values []Text `json:"values"`
}

// File is a file of the package that a sheet knows.
type File struct {
	Path    string   `json:"path"`
	Service string   `json:"service"`
	File    string   `json:"file"` // in the sheet
	Reads   []Read   `json:"reads,omitempty"`
	Problem string   `json:"problem,omitempty"`
	Lost    []string `json:"lost,omitempty"`   // numbers in it that became floats
	Source  string   `json:"source,omitempty"` // where it would stand in a source tree, where its entry is called otherwise
}

// Read is one thing that a config file says.
type Read struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Signing is how a package is signed.
type Signing struct {
	Signers  []Signer `json:"signers"`
	Verified *bool    `json:"verified,omitempty"` // nil when it was not asked
	Note     string   `json:"note,omitempty"`
}

// Signer is one signer by one scheme.
type Signer struct {
	Scheme       string        `json:"scheme"` // 1, 2, 3, 3.1; for iOS "code signature"
	File         string        `json:"file,omitempty"`
	MinSDK       int           `json:"minSdk,omitempty"`
	MaxSDK       int           `json:"maxSdk,omitempty"`
	Certificates []Certificate `json:"certificates"` // that of the signer first
	Lineage      []Ancestor    `json:"lineage,omitempty"`
	Verified     *bool         `json:"verified,omitempty"`
	Problem      string        `json:"problem,omitempty"`
}

// Ancestor is an older certificate that the signer's key descends from.
type Ancestor struct {
	Certificate
	Abilities []string `json:"abilities"`
}

// Certificate is one certificate, with its digests in every form. One that cannot be parsed has its digests still.
type Certificate struct {
	Subject   string       `json:"subject,omitempty"`
	Issuer    string       `json:"issuer,omitempty"`
	Serial    string       `json:"serial,omitempty"` // hexadecimal
	NotBefore *time.Time   `json:"notBefore,omitempty"`
	NotAfter  *time.Time   `json:"notAfter,omitempty"`
	Key       string       `json:"keyAlgorithm,omitempty"`
	Bits      int          `json:"keySize,omitempty"`
	Digests   cert.Digests `json:"digests"`
	Problem   string       `json:"problem,omitempty"`

	DER []byte `json:"-"`
}

// App is an iOS app, or an extension inside one.
type App struct {
	Path              string            `json:"path"`
	Kind              string            `json:"kind"` // app, extension, watch app, app clip
	BundleID          string            `json:"bundleId"`
	DisplayName       string            `json:"displayName,omitempty"`
	DisplayNames      []Text            `json:"displayNames,omitempty"` // by language
	Version           string            `json:"version,omitempty"`
	Build             string            `json:"build,omitempty"`
	MinimumOS         string            `json:"minimumOs,omitempty"`
	SDK               string            `json:"sdk,omitempty"` // it was built with
	Executable        string            `json:"executable,omitempty"`
	ExtensionPoint    string            `json:"extensionPoint,omitempty"`
	URLSchemes        []string          `json:"urlSchemes,omitempty"`
	QuerySchemes      []string          `json:"querySchemes,omitempty"`
	BackgroundModes   []string          `json:"backgroundModes,omitempty"`
	UsageDescriptions map[string]string `json:"usageDescriptions,omitempty"`
	Profile           *Profile          `json:"profile,omitempty"`
	Signature         *CodeSignature    `json:"signature,omitempty"`
	Privacy           []Privacy         `json:"privacyManifests,omitempty"`
	Encoding          string            `json:"encoding"` // of Info.plist: XML, binary, ...
	Problems          []string          `json:"problems,omitempty"`

	entitlements []byte
}

// Privacy is a privacy manifest, of the app or of a part in it.
type Privacy struct {
	Path            string       `json:"path"`
	Tracking        bool         `json:"tracking"`
	TrackingDomains []string     `json:"trackingDomains,omitempty"`
	Collects        []string     `json:"collects,omitempty"`
	Uses            []PrivacyUse `json:"uses,omitempty"`
}

// PrivacyUse is a kind of interface that has to be given reasons for.
type PrivacyUse struct {
	Kind    string   `json:"kind"`
	Reasons []string `json:"reasons,omitempty"`
}

// Profile is an embedded provisioning profile. It is read and not trusted: who signed it is said, no chain is followed.
type Profile struct {
	Name         string         `json:"name"`
	Kind         string         `json:"kind"` // development, ad hoc, enterprise, store
	UUID         string         `json:"uuid"`
	Team         []string       `json:"team"`
	TeamName     string         `json:"teamName,omitempty"`
	AppIDName    string         `json:"appIdName,omitempty"`
	Created      *time.Time     `json:"created,omitempty"`
	Ends         *time.Time     `json:"ends,omitempty"`
	AllDevices   bool           `json:"allDevices"`
	Devices      []string       `json:"devices,omitempty"`
	Platforms    []string       `json:"platforms,omitempty"`
	Entitlements map[string]any `json:"entitlements"`
	Certificates []Certificate  `json:"certificates,omitempty"` // of those who may sign with it
	SignedBy     []Certificate  `json:"signedBy,omitempty"`     // the profile itself; not followed to anybody
}

// CodeSignature is what the code signature of an executable says.
type CodeSignature struct {
	Identifier   string         `json:"identifier"`
	Team         string         `json:"team,omitempty"`
	Adhoc        bool           `json:"adhoc"`
	Entitlements map[string]any `json:"entitlements,omitempty"`
	Slices       []Slice        `json:"slices"`
	Certificates []Certificate  `json:"certificates,omitempty"`
	Differs      []string       `json:"differs,omitempty"` // what the slices of a universal executable do not agree on
}

// Slice is one architecture of an executable.
type Slice struct {
	Architecture string `json:"architecture"`
	Signed       bool   `json:"signed"`
	Identifier   string `json:"identifier,omitempty"`
}
