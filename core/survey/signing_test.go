package survey

import (
	"strings"
	"testing"
	"testing/fstest"
)

// Which keystore a variant really signs with: a build type's configuration beats a flavor's, debug has one of its own,
// what is copied is copied, and what cannot be known is said.
func TestWhichKeystoreSigns(t *testing.T) {
	const configs = "signingConfigs { debug { storeFile file('own-debug.jks') }\n shop { storeFile rootProject.file('keys/shop.p12'); keyAlias 'shop'; storePassword 'in-the-file' }\n other { initWith shop\n keyAlias 'other' }\n empty { } }\n"
	for _, c := range []struct {
		name, build, variant string
		store, alias         string // "?" begins what an open question says
	}{
		{"a build type's", configs + "buildTypes { release { signingConfig signingConfigs.shop } }", "release", "keys/shop.p12", "shop"},
		{"by name", configs + "buildTypes { release { signingConfig signingConfigs.getByName('shop') } }", "release", "keys/shop.p12", "shop"},
		{"by index", configs + "buildTypes { release { signingConfig = signingConfigs['shop'] } }", "release", "keys/shop.p12", "shop"},
		{"a copied configuration", configs + "buildTypes { release { signingConfig signingConfigs.other } }", "release", "keys/shop.p12", "other"},
		{"none at all", configs, "release", "", ""},
		{"taken away", configs + "buildTypes { release { signingConfig signingConfigs.shop\n signingConfig null } }", "release", "", ""},
		{"of defaultConfig", configs + "defaultConfig { signingConfig signingConfigs.shop }", "release", "keys/shop.p12", "shop"},
		{"debug leaves that alone", configs + "defaultConfig { signingConfig signingConfigs.shop }", "debug", "app/own-debug.jks", ""},
		{"debug by the platform", "", "debug", "?.android/debug.keystore", ""},
		{"a copied build type", configs + "buildTypes { release { signingConfig signingConfigs.shop }\n qa { initWith release } }", "qa", "keys/shop.p12", "shop"},
		{"copied from debug", configs + "buildTypes { qa { initWith debug } }", "qa", "app/own-debug.jks", ""},
		{"the template's release", configs + "buildTypes { release { signingConfig signingConfigs.debug } }", "release", "app/own-debug.jks", ""},
		{"one that names no file", configs + "buildTypes { release { signingConfig signingConfigs.empty } }", "release", "?names no storeFile", ""},
		{"one that is not there", "buildTypes { release { signingConfig signingConfigs.nowhere } }", "release", "?no signing configuration \"nowhere\"", ""},
		{"under a condition", configs + "buildTypes { release { if (project.hasProperty('ci')) { signingConfig signingConfigs.shop } else { signingConfig signingConfigs.debug } } }", "release", "?keys/shop.p12 when project.hasProperty('ci'), or app/own-debug.jks when not (project.hasProperty('ci'))", ""},
		{"from a property file that is kept out", "def p = new Properties()\nif (rootProject.file('k.properties').exists()) { p.load(new FileInputStream(rootProject.file('k.properties'))) }\nsigningConfigs { shop { storeFile file(p['file']); keyAlias p['alias'] } }\nbuildTypes { release { signingConfig signingConfigs.shop } }", "release", "?k.properties is not in the tree", "?k.properties"},
		{"of the environment", "signingConfigs { shop { storeFile file(System.getenv('STORE')) } }\nbuildTypes { release { signingConfig signingConfigs.shop } }", "release", "?environment variable STORE", ""},
		{"outside the tree", "signingConfigs { shop { storeFile file('/srv/keys/shop.jks') } }\nbuildTypes { release { signingConfig signingConfigs.shop } }", "release", "/srv/keys/shop.jks", ""},
		{"in the home folder", "signingConfigs { shop { storeFile file(\"${System.getProperty('user.home')}/shop.jks\") } }\nbuildTypes { release { signingConfig signingConfigs.shop } }", "release", "~/shop.jks", ""},
		{"above the tree", "signingConfigs { shop { storeFile file('../../shop.jks') } }\nbuildTypes { release { signingConfig signingConfigs.shop } }", "release", "../shop.jks", ""},
	} {
		vs, _ := one(t, map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + "android {\n namespace 'n.s'\n" + c.build + "\n}"})
		v := vs[c.variant]
		for what, x := range map[string]struct {
			got  Fact
			want string
		}{"store": {v.KeyStore, c.store}, "alias": {v.KeyAlias, c.alias}} {
			why, open := strings.CutPrefix(x.want, "?")
			if open && !strings.Contains(x.got.Unresolved+x.got.Say(), why) || !open && x.got.String() != x.want || !open && x.want == "" && x.got.Set() {
				t.Errorf("%s: %s is %s", c.name, what, x.got.Say())
			}
		}
	}
}

func TestFlavorsSignToo(t *testing.T) {
	vs, _ := one(t, map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + `android { namespace 'n.s'
 signingConfigs { a { storeFile file('a.jks') }
 b { storeFile file('b.jks') } }
 flavorDimensions 'one', 'two'
 productFlavors { x { dimension 'one'; signingConfig signingConfigs.a }
 y { dimension 'one' }
 z { dimension 'two'; signingConfig signingConfigs.b } }
 buildTypes { beta { signingConfig signingConfigs.a } } }`})
	for name, want := range map[string]string{"xZRelease": "app/a.jks", "yZRelease": "app/b.jks", "yZBeta": "app/a.jks"} {
		if got := vs[name].KeyStore.String(); got != want {
			t.Errorf("%s: %s", name, vs[name].KeyStore.Say())
		}
	}
	if d := vs["xZDebug"]; d.KeyStore.Known() || d.SigningConfig.String() != "debug" {
		t.Errorf("debug takes no flavor's: %s", d.KeyStore.Say())
	}
}

func TestTheDebugKeystoreOfAGivenHome(t *testing.T) {
	files := map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + "android { namespace 'n.s' }"}
	look := func(o Options) Fact { return With(in(files), o).Android.Modules[0].Variants[0].KeyStore }
	if got := look(Options{Home: fstest.MapFS{}}); !strings.Contains(got.Unresolved, "the first debug build makes it") {
		t.Errorf("a home without one: %s", got.Say())
	}
	if got := look(Options{Home: fstest.MapFS{".android/debug.keystore": {}}}); got.String() != "~/.android/debug.keystore" {
		t.Errorf("in the home: %s", got.Say())
	}
	if got := look(Options{Env: map[string]string{"ANDROID_USER_HOME": "/srv/android"}}); got.String() != "/srv/android/debug.keystore" {
		t.Errorf("by the environment: %s", got.Say())
	}
}
