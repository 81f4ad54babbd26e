package built

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"ligare/core/cert"
	"ligare/core/syntax/macho"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/xml"
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
	text := func(keys ...string) string {
		if v := f.Path(keys...); v != nil {
			return v.Text
		}
		return ""
	}
	x := &App{Path: dir, Kind: kindOf(dir, text("NSExtension", "NSExtensionPointIdentifier"), f), BundleID: text("CFBundleIdentifier"), DisplayName: text("CFBundleDisplayName"), Version: text("CFBundleShortVersionString"),
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
	a.profile(x)
	a.codeSignature(x)
	for _, name := range a.names() {
		switch {
		case path.Base(name) == "PrivacyInfo.xcprivacy" && a.ownerOf(name) == dir:
			x.Privacy = append(x.Privacy, a.privacy(x, name))
		case path.Base(name) == "InfoPlist.strings" && path.Dir(path.Dir(name)) == dir:
			a.localNames(x, name)
		}
	}
	return x, nil
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

// profile reads an embedded provisioning profile: a property list in a signed message.
func (a *Archive) profile(x *App) {
	name := x.Path + "/embedded.mobileprovision"
	if a.files[name] == nil {
		return
	}
	bad := func(err error) { x.Problems = append(x.Problems, fmt.Sprintf("%s: %v", path.Base(name), err)) }
	src, err := a.read(name, maxText)
	if err != nil {
		bad(err)
		return
	}
	m, err := cert.ReadMessage(src)
	if err != nil {
		bad(err)
		return
	}
	f, err := plist.Parse(m.Content)
	if err != nil {
		bad(err)
		return
	}
	text := func(key string) string {
		if v := f.Path(key); v != nil {
			return v.Text
		}
		return ""
	}
	p := &Profile{Name: text("Name"), UUID: text("UUID"), Team: list(f.Path("TeamIdentifier")), TeamName: text("TeamName"), AppIDName: text("AppIDName"), Created: moment(f.Path("CreationDate")), Ends: moment(f.Path("ExpirationDate")),
		Devices: list(f.Path("ProvisionedDevices")), Platforms: list(f.Path("Platform")), Entitlements: dict(f.Path("Entitlements"))}
	if v := f.Path("ProvisionsAllDevices"); v != nil {
		p.AllDevices = v.Kind == plist.True
	}
	debuggable, _ := p.Entitlements["get-task-allow"].(bool)
	switch {
	case p.AllDevices:
		p.Kind = "enterprise"
	case len(p.Devices) > 0 && debuggable:
		p.Kind = "development"
	case len(p.Devices) > 0:
		p.Kind = "ad hoc"
	default:
		p.Kind = "store"
	}
	if v := f.Path("DeveloperCertificates"); v != nil {
		for _, c := range v.Items {
			der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(c.Text), ""))
			if err != nil {
				bad(fmt.Errorf("a certificate in it is no Base64: %w", err))
				continue
			}
			p.Certificates = append(p.Certificates, certificate(der))
		}
	}
	x.Profile = p
}

// binaryEntitlements reads the form of entitlements that phones believe since iOS 15, and holds the older one against it.
func (a *Archive) binaryEntitlements(x *App, s *CodeSignature, der []byte) {
	if der == nil {
		return
	}
	got, err := macho.Entitlements(der)
	switch {
	case err != nil:
		x.Problems = append(x.Problems, "the entitlements of "+x.Executable+" in their binary form: "+err.Error())
	case s.Entitlements == nil:
		s.Entitlements, x.entitlements = got, propertyList(got)
	case !reflect.DeepEqual(got, s.Entitlements):
		x.Problems = append(x.Problems, "the two forms of the entitlements of "+x.Executable+" differ; iOS 15 and later take the binary one")
		s.Entitlements, x.entitlements = got, propertyList(got)
	}
}

// propertyList writes values as a property list.
func propertyList(v map[string]any) []byte {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<plist version="1.0">` + "\n")
	var write func(v any)
	write = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			b.WriteString("<dict>\n")
			for _, k := range sorted(v) {
				b.WriteString("<key>" + xml.Encode(k) + "</key>")
				write(v[k])
			}
			b.WriteString("</dict>\n")
		case []any:
			b.WriteString("<array>\n")
			for _, i := range v {
				write(i)
			}
			b.WriteString("</array>\n")
		case bool:
			fmt.Fprintf(&b, "<%t/>\n", v)
		default:
			b.WriteString(plist.StringElement(fmt.Sprint(v)) + "\n")
		}
	}
	write(v)
	b.WriteString("</plist>\n")
	return []byte(b.String())
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
	parts, err := macho.Read(rc)
	if err != nil {
		x.Problems = append(x.Problems, x.Executable+": "+err.Error())
	}
	if len(parts) == 0 {
		return
	}
	s := &CodeSignature{}
	for i, p := range parts {
		s.Slices = append(s.Slices, Slice{p.Architecture, p.Signed, p.Identifier})
		if i > 0 {
			for what, pair := range map[string][2]string{"identifier": {parts[0].Identifier, p.Identifier}, "team": {parts[0].Team, p.Team}, "entitlements": {string(parts[0].Entitlements), string(p.Entitlements)}} {
				if pair[0] != pair[1] && !slices.Contains(s.Differs, what) {
					s.Differs = append(s.Differs, what)
				}
			}
		}
	}
	slices.Sort(s.Differs)
	first := parts[0]
	s.Identifier, s.Team, s.Adhoc = first.Identifier, first.Team, first.Adhoc
	if first.Entitlements != nil {
		if f, err := plist.Parse(bytes.TrimRight(first.Entitlements, "\x00")); err != nil {
			x.Problems = append(x.Problems, "the entitlements of "+x.Executable+": "+err.Error())
		} else {
			s.Entitlements = dict(f.Root)
			x.entitlements = bytes.TrimRight(first.Entitlements, "\x00")
		}
	}
	a.binaryEntitlements(x, s, first.DER)
	if len(first.CMS) > 0 {
		if m, err := cert.ReadMessage(first.CMS); err != nil {
			x.Problems = append(x.Problems, "who signed "+x.Executable+": "+err.Error())
		} else {
			for _, der := range m.Raw {
				s.Certificates = append(s.Certificates, certificate(der))
			}
		}
	}
	x.Signature = s
}
