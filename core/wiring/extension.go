package wiring

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/survey"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/plist"
)

// identifierOf gives the bundle ID of a target's configuration as the tree stands.
func identifier(in Input, w *Want, px *pbxproj.Project, target, config string) survey.Fact {
	s, ok := in.settingsOf(w, px, target, config)
	if !ok {
		return survey.Fact{}
	}
	return s.Get("PRODUCT_BUNDLE_IDENTIFIER")
}

func (e memberEnsure) lookExtension(in Input, w *Want, px *pbxproj.Project, t *pbxproj.Target) Answer {
	file, name := w.site.project.File(), w.Params["name"]
	x := pbxTarget(px, name)
	if x == nil {
		for _, o := range px.Targets() { // one of another name that does the same
			if o.ProductType == "com.apple.product-type.app-extension" && e.fits(in, w, px, t, o) {
				x = o
			}
		}
	}
	if x == nil {
		return Answer{State: Absent, Code: "extension-missing", Here: Place{File: file}, Expected: name, Fixable: true, Detail: "the project has no extension " + name}
	}
	at := place(file, px.Src, x.Entry.Start)
	for _, c := range w.Variants {
		app, own := identifier(in, w, px, t.Name, c), identifier(in, w, px, x.Name, c)
		if app.Known() && own.Known() && own.String() != app.String()+w.Params["suffix"] {
			return Answer{State: Conflicting, Code: "extension-identifier", Here: Place{File: own.File, Line: own.Line, Column: own.Column}, Expected: app.String() + w.Params["suffix"], Actual: own.String(),
				Detail: fmt.Sprintf("the bundle ID of %s in %s does not begin with the app's, or ends otherwise", x.Name, c)}
		}
	}
	for _, id := range t.Dict.Texts("dependencies") {
		if d := px.Objects[id]; d != nil && d.Dict.Text("target") == x.ID {
			if x.Name != name {
				return Answer{State: OtherForm, Here: at, Detail: "the extension is called " + x.Name}
			}
			return Answer{State: Right, Here: at}
		}
	}
	return Answer{State: WrongPlace, Code: "extension-apart", Here: at, Expected: "embedded in " + t.Name, Actual: "built by itself", Detail: fmt.Sprintf("the extension %s is not part of target %s", x.Name, t.Name)}
}

// fits reports whether another extension has the wanted bundle ID.
func (e memberEnsure) fits(in Input, w *Want, px *pbxproj.Project, t, x *pbxproj.Target) bool {
	for _, c := range w.Variants {
		app, own := identifier(in, w, px, t.Name, c), identifier(in, w, px, x.Name, c)
		if !app.Known() || !own.Known() || own.String() != app.String()+w.Params["suffix"] {
			return false
		}
	}
	return true
}

// serviceSource is the source of a notification service extension that shows what came, unchanged, until its app's
// library is called in it.
const serviceSource = `import UserNotifications

class NotificationService: UNNotificationServiceExtension {
    private var handler: ((UNNotificationContent) -> Void)?
    private var content: UNMutableNotificationContent?

    override func didReceive(
        _ request: UNNotificationRequest,
        withContentHandler contentHandler: @escaping (UNNotificationContent) -> Void
    ) {
        handler = contentHandler
        content = request.content.mutableCopy() as? UNMutableNotificationContent
        contentHandler(content ?? request.content)
    }

    override func serviceExtensionTimeWillExpire() {
        if let handler, let content {
            handler(content)
        }
    }
}
`

const serviceList = plist.Head + `<dict>
	<key>CFBundleDevelopmentRegion</key>
	<string>$(DEVELOPMENT_LANGUAGE)</string>
	<key>CFBundleExecutable</key>
	<string>$(EXECUTABLE_NAME)</string>
	<key>CFBundleIdentifier</key>
	<string>$(PRODUCT_BUNDLE_IDENTIFIER)</string>
	<key>CFBundleInfoDictionaryVersion</key>
	<string>6.0</string>
	<key>CFBundleName</key>
	<string>$(PRODUCT_NAME)</string>
	<key>CFBundlePackageType</key>
	<string>$(PRODUCT_BUNDLE_PACKAGE_TYPE)</string>
	<key>CFBundleShortVersionString</key>
	<string>$(MARKETING_VERSION)</string>
	<key>CFBundleVersion</key>
	<string>$(CURRENT_PROJECT_VERSION)</string>
	<key>NSExtension</key>
	<dict>
		<key>NSExtensionPointIdentifier</key>
		<string>com.apple.usernotifications.service</string>
		<key>NSExtensionPrincipalClass</key>
		<string>$(PRODUCT_MODULE_NAME).NotificationService</string>
	</dict>
</dict>
</plist>
`

// addExtension writes the extension's folder and its target: for every configuration a bundle ID that begins with the
// app's there, and the app's own versions, devices and signing.
func (e memberEnsure) addExtension(in Input, w *Want, p *Plan) error {
	px, err := in.project(w)
	if err != nil {
		return err
	}
	t, name := pbxTarget(px, w.site.target.Name), w.Params["name"]
	x := pbxproj.Extension{Name: name, App: t.Name, Source: name + "/NotificationService.swift", Plist: name + "/Info.plist", Settings: map[string]map[string]string{}}
	var ids []string
	for _, c := range t.Configs {
		config := c.Dict.Text("name")
		s, _ := in.settingsOf(w, px, t.Name, config)
		id := s.Get("PRODUCT_BUNDLE_IDENTIFIER")
		if !id.Known() {
			return fmt.Errorf("the bundle ID of %s in %s is not known (%s), so its extension cannot get one", t.Name, config, id.Say())
		}
		own := map[string]string{"PRODUCT_BUNDLE_IDENTIFIER": id.String() + w.Params["suffix"], "INFOPLIST_FILE": x.Plist, "PRODUCT_NAME": "$(TARGET_NAME)", "SKIP_INSTALL": "YES",
			"LD_RUNPATH_SEARCH_PATHS": "$(inherited) @executable_path/Frameworks @executable_path/../../Frameworks"}
		for _, k := range []string{"CODE_SIGN_STYLE", "DEVELOPMENT_TEAM", "SWIFT_VERSION", "TARGETED_DEVICE_FAMILY", "IPHONEOS_DEPLOYMENT_TARGET", "MARKETING_VERSION", "CURRENT_PROJECT_VERSION", "SDKROOT"} {
			if f := s.Get(k); f.Known() && f.String() != "" {
				own[k] = f.String()
			}
		}
		if own["SWIFT_VERSION"] == "" {
			own["SWIFT_VERSION"] = "5.0"
		}
		x.Settings[config] = own
		if !contains(ids, own["PRODUCT_BUNDLE_IDENTIFIER"]) {
			ids = append(ids, own["PRODUCT_BUNDLE_IDENTIFIER"])
		}
	}
	for _, file := range []string{x.Source, x.Plist} {
		if at := path.Join(w.site.project.Dir, file); in.Tree.Has(at) {
			return fmt.Errorf("%s is there already, and no target %s; move it, or make the target from it", at, name)
		}
	}
	p.create(w, path.Join(w.site.project.Dir, x.Source), []byte(serviceSource))
	p.create(w, path.Join(w.site.project.Dir, x.Plist), []byte(serviceList))
	p.Next = append(p.Next, "sign the extension for "+strings.Join(ids, " and ")+" too")
	return in.edited(w, p, func(ed *pbxproj.Editor) error { return ed.AddExtension(x) })
}
