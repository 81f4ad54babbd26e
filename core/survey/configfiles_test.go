package survey

import (
	"strings"
	"testing"
)

func TestAnyNameLikeAConfigFile(t *testing.T) {
	files := map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + "android { defaultConfig { applicationId 'example.hive.app' } }",
		"app/src/main/res/xml/thornmill_config.xml": "<x/>", "app/thornmill_config (1).xml": "<x/>", "app/Thornmill-Config.json": "{}", "app/thornmill_config copy.xml": "<x/>", "app/thornmill_config-2.xml": "",
		"app/other.json": `{"app": "example.hive.app"}`, "app/longer.json": `{"app": "example.hive.app.other"}`, "app/plain.json": "{}", "app/huge.json": strings.Repeat(" ", maxConfig+1) + "example.hive.app",
		"app/thornmill.xml": "<x/>", "app/src/main/AndroidManifest.xml": "<manifest package='example.hive.app'/>"}
	r := With(in(files), Options{ConfigFiles: []string{"thornmill_config.xml"}})
	got := map[string]string{}
	for _, c := range r.ConfigFiles {
		got[c.File] = c.Why
	}
	for name, want := range map[string]string{"app/src/main/res/xml/thornmill_config.xml": "bears the name", "app/thornmill_config (1).xml": "almost", "app/Thornmill-Config.json": "almost",
		"app/thornmill_config copy.xml": "almost", "app/thornmill_config-2.xml": "almost", "app/other.json": "holds an identifier"} {
		if !strings.Contains(got[name], want) {
			t.Errorf("%s: %q", name, got[name])
		}
		delete(got, name)
	}
	if len(got) > 0 {
		t.Errorf("taken for config files: %v", got)
	}
}
