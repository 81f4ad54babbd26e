package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
)

// iosWith is the least iOS project with other sources in the place of its app delegate; names keep their endings.
func iosWith(t testing.TB, name, text string) map[string]string {
	return map[string]string{"Hivelog/AppDelegate.swift": "", "Hivelog/" + name: text, hiveProject: project(t, "AppDelegate.swift", name)}
}

func TestSourceInEveryLanguage(t *testing.T) {
	stage(t, leastIOS(t), []scene{
		{name: "a declarative app gets a delegate through an adaptor", service: "thornmill", only: "ios-start",
			files: iosWith(t, "Hive.swift", "import SwiftUI\n\n@main\nstruct Hive: App {\n  @State var x = 1\n\n  var body: some Scene {\n    WindowGroup { Text(\"a\") }\n  }\n}\n"),
			want: map[string]string{"Hivelog/Hive.swift": "import SwiftUI\nimport Thornmill\n\nclass AppDelegate: NSObject, UIApplicationDelegate {\n  func application(\n    _ application: UIApplication,\n    didFinishLaunchingWithOptions launchOptions: [UIApplication.LaunchOptionsKey: Any]? = nil\n  ) -> Bool {\n    Thornmill.start()\n    return true\n  }\n}\n\n" +
				"@main\nstruct Hive: App {\n  @UIApplicationDelegateAdaptor(AppDelegate.self) private var appDelegate\n  @State var x = 1\n\n  var body: some Scene {\n    WindowGroup { Text(\"a\") }\n  }\n}\n"}},
		{name: "a declarative app that is started in its init is left", service: "thornmill", only: "ios-start",
			files: iosWith(t, "Hive.swift", "import SwiftUI\nimport Thornmill\n@main struct Hive: App {\n init() { Thornmill.start() }\n var body: some Scene { WindowGroup { V() } }\n}\n"),
			want:  map[string]string{"Hivelog/Hive.swift": "import SwiftUI\nimport Thornmill\n@main struct Hive: App {\n init() { Thornmill.start() }\n var body: some Scene { WindowGroup { V() } }\n}\n"}},
		{name: "an opened address in a declarative app", service: "gatepost", only: "ios-return",
			files: iosWith(t, "Hive.swift", "import SwiftUI\n\n@main\nstruct Hive: App {\n    var body: some Scene {\n        WindowGroup {\n            Root(\"}\")\n                .tint(.red)\n        }\n    }\n}\n"),
			want: map[string]string{"Hivelog/Hive.swift": "import SwiftUI\nimport Gatepost\n\n@main\nstruct Hive: App {\n    var body: some Scene {\n        WindowGroup {\n            Root(\"}\")\n                .tint(.red)\n" +
				"                .onOpenURL { url in\n                    Gatepost.finish(url)\n                }\n        }\n    }\n}\n"}},
		{name: "Objective-C++, a launch method and a handler that is there, with a name of its own", service: "gatepost", only: "ios-return",
			files: iosWith(t, "AppDelegate.mm", "#import \"AppDelegate.h\"\n\n@interface AppDelegate ()\n@end\n\n@implementation AppDelegate\n\n- (BOOL)application:(UIApplication *)a didFinishLaunchingWithOptions:(NSDictionary *)o\n{\n  return YES;\n}\n\n- (BOOL)application:(UIApplication *)a openURL:(NSURL *)address options:(NSDictionary *)o\n{\n  return [Links open:address];\n}\n\n@end\n"),
			want: map[string]string{"Hivelog/AppDelegate.mm": "#import \"AppDelegate.h\"\n#import <Gatepost/Gatepost.h>\n\n@interface AppDelegate ()\n@end\n\n@implementation AppDelegate\n\n- (BOOL)application:(UIApplication *)a didFinishLaunchingWithOptions:(NSDictionary *)o\n{\n  return YES;\n}\n\n" +
				"- (BOOL)application:(UIApplication *)a openURL:(NSURL *)address options:(NSDictionary *)o\n{\n  [Gatepost finish:address];\n  return [Links open:address];\n}\n\n@end\n"}},
		{name: "Objective-C, started with arguments, and no handler yet", service: "tallywick", only: "ios-start", values: map[string]string{"tally-secret": "S1"},
			files: iosWith(t, "AppDelegate.m", "#import \"AppDelegate.h\"\n\n@implementation AppDelegate\n- (BOOL)application:(UIApplication *)application didFinishLaunchingWithOptions:(NSDictionary *)launchOptions {\n    // [Tallywick beginWithSecret:@\"no\" parts:nil];\n    return YES;\n}\n@end\n"),
			want:  map[string]string{"Hivelog/AppDelegate.m": "#import \"AppDelegate.h\"\n#import <Tallywick/Tallywick.h>\n\n@implementation AppDelegate\n- (BOOL)application:(UIApplication *)application didFinishLaunchingWithOptions:(NSDictionary *)launchOptions {\n    [Tallywick beginWithSecret:@\"S1\" parts:@[@\"counts\"]];\n    // [Tallywick beginWithSecret:@\"no\" parts:nil];\n    return YES;\n}\n@end\n"}},
		{name: "Objective-C, a handler is written", service: "gatepost", only: "ios-return",
			files: iosWith(t, "AppDelegate.m", "@implementation AppDelegate\n- (BOOL)application:(UIApplication *)application didFinishLaunchingWithOptions:(NSDictionary *)launchOptions {\n    return YES;\n}\n@end\n"),
			lines: map[string]string{"Hivelog/AppDelegate.m": "#import <Gatepost/Gatepost.h>\n[Gatepost finish:url];\nopenURL:(NSURL *)url"}},
		{name: "scenes", service: "gatepost", only: "ios-return",
			files: iosWith(t, "Scene.swift", "import UIKit\n\n@main\nclass AppDelegate: UIResponder, UIApplicationDelegate {\n}\n\nclass SceneDelegate: UIResponder, UIWindowSceneDelegate {\n    var window: UIWindow?\n}\n"),
			want: map[string]string{"Hivelog/Scene.swift": "import UIKit\nimport Gatepost\n\n@main\nclass AppDelegate: UIResponder, UIApplicationDelegate {\n}\n\nclass SceneDelegate: UIResponder, UIWindowSceneDelegate {\n    var window: UIWindow?\n\n" +
				"    func scene(_ scene: UIScene, openURLContexts URLContexts: Set<UIOpenURLContext>) {\n        for context in URLContexts {\n            Gatepost.finish(context.url)\n        }\n    }\n}\n"}},
		{name: "a delegate with a parent of its own", service: "gatepost", only: "ios-return",
			files: iosWith(t, "AppDelegate.swift", "import UIKit\nimport Flutter\n\n@main\nclass AppDelegate: FlutterAppDelegate {\n}\n"),
			lines: map[string]string{"Hivelog/AppDelegate.swift": "override func application(\nGatepost.finish(url)\nreturn super.application(app, open: url, options: options)"}},
	})
	android := map[string]string{}
	for n, s := range leastAndroid {
		android[n] = s
	}
	android["app/src/main/AndroidManifest.xml"] = `<manifest xmlns:android="http://schemas.android.com/apk/res/android"><application><activity android:name=".Main" android:exported="true"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity></application></manifest>`
	delete(android, "app/src/main/java/App.kt")
	stage(t, android, []scene{
		{name: "Kotlin, a result handler is written", service: "gatepost", only: "android-result",
			files: map[string]string{"app/src/main/java/Main.kt": "package example.gold\n\nclass Main : Activity() {\n}\n"},
			want: map[string]string{"app/src/main/java/Main.kt": "package example.gold\n\nimport example.gatepost.Gatepost\n\nclass Main : Activity() {\n    @Deprecated(\"Deprecated in Java\")\n    override fun onActivityResult(requestCode: Int, resultCode: Int, data: android.content.Intent?) {\n" +
				"        super.onActivityResult(requestCode, resultCode, data)\n        Gatepost.finish(requestCode, resultCode, data)\n    }\n}\n"}},
		{name: "Java, one is there and calls its parameters otherwise", service: "gatepost", only: "android-result",
			files: map[string]string{"app/src/main/java/Main.java": "package example.gold;\n\npublic class Main extends Activity {\n  @Override\n  protected void onActivityResult(int code, int outcome, final Intent intent) {\n    super.onActivityResult(code, outcome, intent);\n    more();\n  }\n}\n"},
			want:  map[string]string{"app/src/main/java/Main.java": "package example.gold;\n\nimport example.gatepost.Gatepost;\n\npublic class Main extends Activity {\n  @Override\n  protected void onActivityResult(int code, int outcome, final Intent intent) {\n    super.onActivityResult(code, outcome, intent);\n    Gatepost.finish(code, outcome, intent);\n    more();\n  }\n}\n"}},
	})
	bell := map[string]string{"app-number": "n1"}
	stage(t, folderOf(t, "../../demo/studio/tern-crossing"), []scene{
		{name: "Dart, an arrow becomes an asynchronous main that binds first", service: "bellhanger", only: "flutter-start", values: bell,
			files: map[string]string{"lib/main.dart": "import 'package:flutter/material.dart';\n\nvoid main() => runApp(const App());\n\nclass App {}\n"},
			want:  map[string]string{"lib/main.dart": "import 'package:flutter/material.dart';\nimport 'package:bellhanger_flutter/bellhanger_flutter.dart';\n\nFuture<void> main() async {\n  WidgetsFlutterBinding.ensureInitialized();\n  await Bellhanger.hang('n1');\n  runApp(const App());\n}\n\nclass App {}\n"}},
		{name: "Dart, an entry for each flavor", service: "bellhanger", only: "flutter-start", values: bell,
			files: map[string]string{"lib/main.dart": "", "lib/main_dev.dart": "import 'app.dart';\n\nvoid main() {\n  runApp(App(1));\n}\n", "lib/main_live.dart": "import 'app.dart';\n\nvoid main() => runApp(App(2));\n"},
			want: map[string]string{
				"lib/main_dev.dart":  "import 'app.dart';\nimport 'package:bellhanger_flutter/bellhanger_flutter.dart';\n\nFuture<void> main() async {\n  WidgetsFlutterBinding.ensureInitialized();\n  await Bellhanger.hang('n1');\n  runApp(App(1));\n}\n",
				"lib/main_live.dart": "import 'app.dart';\nimport 'package:bellhanger_flutter/bellhanger_flutter.dart';\n\nFuture<void> main() async {\n  WidgetsFlutterBinding.ensureInitialized();\n  await Bellhanger.hang('n1');\n  runApp(App(2));\n}\n"}},
		{name: "Dart, entries that share a function", service: "bellhanger", only: "flutter-start", values: bell,
			files: map[string]string{"lib/main.dart": "", "lib/main_dev.dart": "import 'start.dart';\nvoid main() => start(1);\n", "lib/main_live.dart": "import 'start.dart';\nvoid main() => start(2);\n", "lib/start.dart": "import 'app.dart';\n\nvoid start(int n) {\n  runApp(App(n));\n}\n"},
			want:  map[string]string{"lib/main_dev.dart": "import 'start.dart';\nvoid main() => start(1);\n", "lib/start.dart": "import 'app.dart';\nimport 'package:bellhanger_flutter/bellhanger_flutter.dart';\n\nFuture<void> start(int n) async {\n  WidgetsFlutterBinding.ensureInitialized();\n  await Bellhanger.hang('n1');\n  runApp(App(n));\n}\n"}},
		{name: "Dart, a plain main with arguments", service: "bellhanger", only: "flutter-start", values: bell,
			files: map[string]string{"lib/main.dart": "import \"package:flutter/material.dart\";\n\nvoid main(List<String> args) {\n  // runApp(other);\n  runApp(App());\n}\n"},
			want:  map[string]string{"lib/main.dart": "import \"package:flutter/material.dart\";\nimport \"package:bellhanger_flutter/bellhanger_flutter.dart\";\n\nFuture<void> main(List<String> args) async {\n  // runApp(other);\n  WidgetsFlutterBinding.ensureInitialized();\n  await Bellhanger.hang('n1');\n  runApp(App());\n}\n"}},
		{name: "Dart, bound already, in a zone", service: "bellhanger", only: "flutter-start", values: bell,
			files: map[string]string{"lib/main.dart": "import 'a.dart';\n\nFuture<void> main() async {\n  runZonedGuarded(() async {\n    WidgetsFlutterBinding.ensureInitialized();\n    runApp(App());\n  }, (e, s) {});\n}\n"},
			want:  map[string]string{"lib/main.dart": "import 'a.dart';\nimport 'package:bellhanger_flutter/bellhanger_flutter.dart';\n\nFuture<void> main() async {\n  runZonedGuarded(() async {\n    WidgetsFlutterBinding.ensureInitialized();\n    await Bellhanger.hang('n1');\n    runApp(App());\n  }, (e, s) {});\n}\n"}},
	})
	stage(t, folderOf(t, "../../demo/studio/seedswap"), []scene{
		{name: "JavaScript, the root component wrapped and an update check at start", service: "patchquay", only: "root check-at-start",
			files: map[string]string{"index.js": "import {AppRegistry} from 'react-native';\nimport App from './App';\n\n// AppRegistry.registerComponent('x', () => patchquay(Other));\nAppRegistry.registerComponent('x', () => App);\n"},
			want:  map[string]string{"index.js": "import {AppRegistry} from 'react-native';\nimport App from './App';\nimport {patchquay} from '@patchquay/react';\n\npatchquay.look();\n\n// AppRegistry.registerComponent('x', () => patchquay(Other));\nAppRegistry.registerComponent('x', () => patchquay(App));\n"}},
		{name: "wrapped already, without semicolons", service: "patchquay", only: "root",
			files: map[string]string{"index.js": "import {AppRegistry} from 'react-native'\nimport {patchquay} from '@patchquay/react'\nimport App from './App'\n\nAppRegistry.registerComponent('x', () => patchquay(App))\n"},
			want:  map[string]string{"index.js": "import {AppRegistry} from 'react-native'\nimport {patchquay} from '@patchquay/react'\nimport App from './App'\n\nAppRegistry.registerComponent('x', () => patchquay(App))\n"}},
	})
	stage(t, map[string]string{"package.json": "{\n  \"dependencies\": {\n    \"vite\": \"6.0.0\"\n  }\n}\n", "index.html": "<p>", "src/main.ts": "import './style.css'\nimport {a} from \"./a\"\n\na()\n"}, []scene{
		{name: "a web tree behind a builder gets the bridge and its import", service: "shellwright", only: "bridge",
			want: map[string]string{"src/main.ts": "import './style.css'\nimport {a} from \"./a\"\nimport {bridge} from '@shellwright/bridge'\n\nbridge.open()\n\na()\n",
				"package.json": "{\n  \"dependencies\": {\n    \"vite\": \"6.0.0\",\n    \"@shellwright/bridge\": \"^2.2.0\"\n  }\n}\n"}},
	})
	stage(t, folderOf(t, "../survey/testdata/dotnet"), []scene{
		{name: "C#, behind the builder and guarded", service: "bellhanger", only: "dotnet-", values: bell,
			lines: map[string]string{"App/MauiProgram.cs": "using Bellhanger;\n        var builder = MauiApp.CreateBuilder();\n#if ANDROID || IOS\n        Bellhanger.Hang(\"n1\");\n#endif"}},
	})
}

func TestMistakesInSource(t *testing.T) {
	for _, c := range []struct{ name, dir, service, placement, file, text, code, at string }{
		{"Dart, before the binding", "../../demo/studio/tern-crossing", "bellhanger", "flutter-start", "lib/main.dart", "import 'package:bellhanger_flutter/bellhanger_flutter.dart';\nvoid main() async {\n  await Bellhanger.hang('1');\n  WidgetsFlutterBinding.ensureInitialized();\n}\n", "start-unbound", "3:9"},
		{"Dart, not awaited", "../../demo/studio/tern-crossing", "bellhanger", "flutter-start", "lib/main.dart", "import 'package:bellhanger_flutter/bellhanger_flutter.dart';\nvoid main() async {\n  WidgetsFlutterBinding.ensureInitialized();\n  Bellhanger.hang('1');\n}\n", "start-unbound", "4:3"},
		{"Dart, another number", "../../demo/studio/tern-crossing", "bellhanger", "flutter-start", "lib/main.dart", "import 'package:bellhanger_flutter/bellhanger_flutter.dart';\nvoid main() async {\n  WidgetsFlutterBinding.ensureInitialized();\n  await Bellhanger.hang('2');\n}\n", "start-differs", "4:25"},
		{"Swift, another key", "../../demo/studio/hivelog/ios", "tallywick", "ios-start", "Hivelog/AppDelegate.swift", "import UIKit\nimport Tallywick\n@main\nclass AppDelegate: UIResponder, UIApplicationDelegate {\n  func application(_ a: UIApplication, didFinishLaunchingWithOptions o: [UIApplication.LaunchOptionsKey: Any]?) -> Bool {\n    Tallywick.begin(\"2\", [.counts])\n    return true\n  }\n}\n", "start-differs", "6:21"},
		{"C#, on every platform", "../survey/testdata/dotnet", "bellhanger", "dotnet-start", "App/MauiProgram.cs", "using Bellhanger;\nclass P {\n  static object M() {\n    var b = MauiApp.CreateBuilder();\n    Bellhanger.Hang(\"1\");\n    return b;\n  }\n}\n", "start-unguarded", "5:5"},
		{"JavaScript, not imported", "../../demo/studio/seedswap", "patchquay", "root", "index.js", "AppRegistry.registerComponent('x', () => patchquay(App));\n", "import-missing", "1:42"},
		{"JavaScript, wrapped twice", "../../demo/studio/seedswap", "patchquay", "root", "index.js", "import {patchquay} from '@patchquay/react';\nconst A = patchquay(App);\nAppRegistry.registerComponent('x', () => patchquay(A));\n", "root-twice", "3:42"},
		{"no handler", "../../demo/studio/hivelog/ios", "gatepost", "ios-return", "Hivelog/AppDelegate.swift", "import UIKit\n@main\nclass AppDelegate: UIResponder, UIApplicationDelegate {\n}\n", "handler-missing", "2:1"},
	} {
		files := fstest.MapFS{}
		for n, s := range folderOf(t, c.dir) {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files[c.file] = &fstest.MapFile{Data: []byte(c.text)}
		in := with(t, files, c.service, map[string]string{"app-number": "1", "tally-secret": "1"})
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		found := of(answers, c.placement)
		if len(found) != 1 || found[0].Code != c.code || !strings.HasSuffix(found[0].Here.String(), ":"+c.at) {
			t.Errorf("%s: %+v", c.name, found)
			continue
		}
		if _, err := Make(in, found, Always); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if now := in.look(found[0].Want); found[0].Fixable && !now.Good() {
			t.Errorf("%s: after exchanging it is %s: %s", c.name, now.State, now.Detail)
		}
	}
}
