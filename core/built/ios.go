package built

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"ligare/core/syntax/plist"
)

// mostApps bounds the bundles that are read of one IPA.
const mostApps = 200

// apps finds the app and everything inside it that has an identifier of its own: extensions, watch apps, clips.
func (a *Archive) apps() ([]*App, error) {
	var dirs []string
	for name := range a.files {
		dir, base := path.Split(name)
		dir = strings.TrimSuffix(dir, "/")
		ext := path.Ext(dir)
		if base != "Info.plist" || !strings.HasPrefix(dir, "Payload/") || ext != ".app" && ext != ".appex" {
			continue
		}
		dirs = append(dirs, dir)
	}
	slices.Sort(dirs)
	if len(dirs) > mostApps {
		return nil, problem("Payload", "it has %d bundles, more than any app has", len(dirs))
	}
	var out []*App
	for _, dir := range dirs {
		x, err := a.app(dir)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

func (a *Archive) app(dir string) (*App, error) {
	src, err := a.read(dir+"/Info.plist", maxText)
	if err != nil {
		return nil, err
	}
	f, err := plist.Parse(src)
	if err != nil {
		return nil, &Problem{dir + "/Info.plist", err}
	}
	x := ofPropertyList(f)
	x.Path, x.Kind = dir, kindOf(dir, x.ExtensionPoint, f)
	a.profile(x)
	a.codeSignature(x)
	for _, name := range a.names() {
		switch {
		case len(x.Privacy)+len(x.DisplayNames)+len(x.Problems) > mostApps:
			a.note("%s holds more privacy manifests and names than any app", dir)
			return x, nil
		case path.Base(name) == "PrivacyInfo.xcprivacy" && a.ownerOf(name) == dir:
			x.Privacy = append(x.Privacy, a.privacy(x, name))
		case path.Base(name) == "InfoPlist.strings" && path.Dir(path.Dir(name)) == dir:
			a.localNames(x, name)
		}
	}
	return x, nil
}

// ofPropertyList reads what an Info.plist says of its bundle.
func ofPropertyList(f *plist.File) *App {
	text := func(keys ...string) string {
		if v := f.Path(keys...); v != nil {
			return v.Text
		}
		return ""
	}
	x := &App{Kind: kindOf("", text("NSExtension", "NSExtensionPointIdentifier"), f), BundleID: text("CFBundleIdentifier"), DisplayName: text("CFBundleDisplayName"), Version: text("CFBundleShortVersionString"),
		Build: text("CFBundleVersion"), MinimumOS: text("MinimumOSVersion"), Executable: text("CFBundleExecutable"), ExtensionPoint: text("NSExtension", "NSExtensionPointIdentifier"),
		SDK: text("DTSDKName"), QuerySchemes: list(f.Path("LSApplicationQueriesSchemes")), BackgroundModes: list(f.Path("UIBackgroundModes")), Encoding: string(f.Form)}
	if x.ExtensionPoint == "" {
		x.ExtensionPoint = text("EXAppExtensionAttributes", "EXExtensionPointIdentifier")
	}
	if x.DisplayName == "" {
		x.DisplayName = text("CFBundleName")
	}
	if t := f.Path("CFBundleURLTypes"); t != nil {
		for _, item := range t.Items {
			x.URLSchemes = append(x.URLSchemes, list(item.Get("CFBundleURLSchemes"))...)
		}
	}
	for _, e := range f.Root.Entries {
		if strings.HasSuffix(e.Key, "UsageDescription") {
			if x.UsageDescriptions == nil {
				x.UsageDescriptions = map[string]string{}
			}
			x.UsageDescriptions[e.Key] = e.Value.Text
		}
	}
	return x
}

// privacy reads a privacy manifest.
func (a *Archive) privacy(x *App, name string) Privacy {
	out := Privacy{Path: name}
	src, err := a.read(name, maxText)
	if err != nil {
		x.Problems = append(x.Problems, err.Error())
		return out
	}
	f, err := plist.Parse(src)
	if err != nil {
		x.Problems = append(x.Problems, name+": "+err.Error())
		return out
	}
	if v := f.Path("NSPrivacyTracking"); v != nil {
		out.Tracking = v.Kind == plist.True
	}
	out.TrackingDomains = list(f.Path("NSPrivacyTrackingDomains"))
	if v := f.Path("NSPrivacyAccessedAPITypes"); v != nil {
		for _, i := range v.Items {
			if kind := i.Get("NSPrivacyAccessedAPIType"); kind != nil {
				out.Uses = append(out.Uses, PrivacyUse{kind.Text, list(i.Get("NSPrivacyAccessedAPITypeReasons"))})
			}
		}
	}
	if v := f.Path("NSPrivacyCollectedDataTypes"); v != nil {
		for _, i := range v.Items {
			if kind := i.Get("NSPrivacyCollectedDataType"); kind != nil {
				out.Collects = append(out.Collects, kind.Text)
			}
		}
	}
	return out
}

// localNames reads what the app is called in one language.
func (a *Archive) localNames(x *App, name string) {
	src, err := a.read(name, maxText)
	if err != nil {
		x.Problems = append(x.Problems, err.Error())
		return
	}
	f, err := plist.Parse(src)
	if err != nil { // as text, without the braces of a dictionary
		if f, err = plist.Parse(slices.Concat([]byte("{"), src, []byte("}"))); err != nil {
			x.Problems = append(x.Problems, name+": "+err.Error())
			return
		}
	}
	for _, key := range []string{"CFBundleDisplayName", "CFBundleName"} {
		if v := f.Path(key); v != nil {
			x.DisplayNames = append(x.DisplayNames, Text{strings.TrimSuffix(path.Base(path.Dir(name)), ".lproj"), v.Text})
			return
		}
	}
}

// kindOf says what a bundle is.
func kindOf(dir, point string, f *plist.File) string {
	switch {
	case path.Ext(dir) == ".appex" || point != "":
		return "extension"
	case strings.Contains(dir, "/Watch/"):
		return "watch app"
	case strings.Contains(dir, "/AppClips/") || f.Path("NSAppClip") != nil:
		return "app clip"
	}
	return "app"
}

// ownerOf gives the innermost bundle that an entry lies in.
func (a *Archive) ownerOf(name string) string {
	for dir := path.Dir(name); dir != "." && dir != "Payload"; dir = path.Dir(dir) {
		if ext := path.Ext(dir); (ext == ".app" || ext == ".appex") && a.files[dir+"/Info.plist"] != nil {
			return dir
		}
	}
	return ""
}

func list(v *plist.Value) []string {
	if v == nil {
		return nil
	}
	var out []string
	for _, i := range v.Items {
		if i.Kind == plist.String {
			out = append(out, i.Text)
		}
	}
	return out
}

// plain gives a property list's value as JSON has it. Data is Base64, dates are RFC 3339 as they stand.
func plain(v *plist.Value) any {
	switch v.Kind {
	case plist.Dict:
		out := map[string]any{}
		for _, e := range v.Entries {
			if _, twice := out[e.Key]; !twice {
				out[e.Key] = plain(e.Value)
			}
		}
		return out
	case plist.Array:
		out := []any{}
		for _, i := range v.Items {
			out = append(out, plain(i))
		}
		return out
	case plist.True, plist.False:
		return v.Kind == plist.True
	}
	return v.Text
}

func dict(v *plist.Value) map[string]any {
	if v == nil || v.Kind != plist.Dict {
		return map[string]any{}
	}
	return plain(v).(map[string]any)
}

func moment(v *plist.Value) *time.Time {
	if v == nil {
		return nil
	}
	t, err := time.Parse(time.RFC3339, v.Text)
	if err != nil {
		return nil
	}
	t = t.UTC()
	return &t
}

// profile reads the provisioning profile that a bundle embeds.
func (a *Archive) profile(x *App) {
	name := x.Path + "/embedded.mobileprovision"
	if a.files[name] == nil {
		return
	}
	src, err := a.read(name, maxText)
	if err == nil {
		x.Profile, err = readProfile(src)
	}
	if err != nil {
		x.Problems = append(x.Problems, fmt.Sprintf("%s: %v", path.Base(name), err))
	}
}

// codeSignature reads what the executable's signature says.
func (a *Archive) codeSignature(x *App) {
	name := x.Path + "/" + x.Executable
	if x.Executable == "" || strings.Contains(x.Executable, "/") || a.files[name] == nil {
		x.Problems = append(x.Problems, "the executable that Info.plist names is not there: "+x.Executable)
		return
	}
	rc, _, err := a.Entry(name)
	if err != nil {
		x.Problems = append(x.Problems, err.Error())
		return
	}
	defer rc.Close()
	var problems []string
	x.Signature, x.entitlements, problems = readExecutable(rc, x.Executable)
	x.Problems = append(x.Problems, problems...)
}
