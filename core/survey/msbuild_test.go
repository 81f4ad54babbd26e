package survey

import (
	"strings"
	"testing"
)

// eval reads one project for a configuration and a target framework.
func msbuildOf(t *testing.T, files map[string]string, configuration, framework string) *msbuild {
	t.Helper()
	m := newMSBuild(in(files), &Report{}, map[string]string{"Configuration": configuration, "TargetFramework": framework})
	m.project("App/App.csproj")
	return m
}

func TestMSBuildConditions(t *testing.T) {
	for _, c := range []struct{ condition, want string }{
		{"'$(Configuration)' == 'Release'", "yes"}, {"'$(Configuration)' == 'Debug'", "no"}, {"'$(Configuration)' != 'Debug'", "yes"}, {"'$(configuration)'=='release'", "yes"},
		{"$(TargetFramework.Contains('-android'))", "yes"}, {"$(TargetFramework.StartsWith('net9'))", "no"}, {"$(TargetFramework.EndsWith('android'))", "yes"},
		{"$([MSBuild]::GetTargetPlatformIdentifier('$(TargetFramework)')) == 'android'", "yes"}, {"'$([MSBuild]::GetTargetPlatformIdentifier('$(TargetFramework)'))' == 'ios'", "no"},
		{"'$(Nothing)' == ''", "yes"}, {"'$(Nothing)' != ''", "no"}, {"!('$(Configuration)' == 'Debug')", "yes"}, {"'$(A)' == '1' and '$(Configuration)' == 'Release'", "yes"},
		{"'$(A)' == '2' or '$(Configuration)' == 'Release'", "yes"}, {"('$(A)' == '2' or '$(A)' == '1') and '$(Configuration)' == 'Debug'", "no"}, {"Exists('here.props')", "yes"},
		{"Exists('away.props')", "?"}, {"$([MSBuild]::IsOSPlatform('windows'))", "?"}, {"'$(A)' == '2' and $([MSBuild]::IsOSPlatform('windows'))", "no"}, {"'$(A)' == '1' or $([MSBuild]::IsOSPlatform('windows'))", "yes"},
		{"true", "yes"}, {"false", "no"}, {"$(Flag)", "yes"}, {"'$(A", "?"}, {"$(", "?"}, {"1 > 0", "?"},
	} {
		m := msbuildOf(t, map[string]string{"App/here.props": "<Project/>",
			"App/App.csproj": `<Project><PropertyGroup><A>1</A><Flag>true</Flag></PropertyGroup><PropertyGroup Condition="` + strings.ReplaceAll(c.condition, `"`, "&quot;") + `"><X>set</X></PropertyGroup></Project>`}, "Release", "net8.0-android")
		got := "no"
		switch f := m.get("X"); {
		case f.Known():
			got = "yes"
		case f.Set():
			got = "?"
		}
		if got != c.want {
			t.Errorf("%s: %s (%s)", c.condition, got, m.get("X").Say())
		}
	}
}

func TestMSBuildPropertiesInOrder(t *testing.T) {
	files := map[string]string{
		"Directory.Build.props": "<Project><PropertyGroup><Base>example</Base><Over>outer</Over></PropertyGroup></Project>",
		"App/shared.props":      "<Project><PropertyGroup><Shared>$(Base).shared</Shared></PropertyGroup></Project>",
		"App/App.csproj": `<Project Sdk="x"><Import Project="shared.props"/><Import Project="$(Unknown)/away.props"/>
<PropertyGroup><Over>inner</Over><Id>$(Base).$(Over)</Id><Id>$(Id).again</Id><Empty></Empty></PropertyGroup>
<Choose><When Condition="'$(Configuration)' == 'Debug'"><PropertyGroup><C>debug</C></PropertyGroup></When><Otherwise><PropertyGroup><C>other</C></PropertyGroup></Otherwise></Choose>
<PropertyGroup><Late Condition="'$(Configuration)' == 'Debug'">d</Late><Low>$(Over.ToUpper())</Low></PropertyGroup>
<ItemGroup Condition="'$(Configuration)' == 'Debug'"><PackageReference Include="OnlyDebug" Version="1"/></ItemGroup>
<ItemGroup><PackageReference Include="Always"><Version>$(Base)-2</Version></PackageReference></ItemGroup></Project>`,
	}
	m := msbuildOf(t, files, "Release", "net8.0-ios")
	for name, want := range map[string]string{"Id": "example.inner.again", "Shared": "example.shared", "C": "other", "Low": "INNER", "Late": "", "Empty": "", "Nowhere": ""} {
		if got := m.get(name); got.String() != want {
			t.Errorf("%s: %s", name, got.Say())
		}
	}
	if id := m.get("id"); id.Place() != "App/App.csproj:2:62" || len(id.Via) == 0 {
		t.Errorf("%s via %v", id.Place(), id.Via)
	}
	if len(m.items) != 1 || m.items[0].include != "Always" || m.items[0].version.String() != "example-2" {
		t.Errorf("%+v", m.items)
	}
	if d := msbuildOf(t, files, "Debug", ""); d.get("C").String() != "debug" || d.get("Late").String() != "d" || len(d.items) != 2 {
		t.Errorf("debug: %s %s %d", d.get("C").Say(), d.get("Late").Say(), len(d.items))
	}
}

func TestWhatIsADotnetApp(t *testing.T) {
	head := "<Project><PropertyGroup>"
	for _, c := range []struct {
		name, body   string
		android, ios int
	}{
		{"a library", "<TargetFrameworks>net8.0-android;net8.0-ios</TargetFrameworks>", 0, 0},
		{"a program for computers", "<TargetFramework>net8.0</TargetFramework><OutputType>Exe</OutputType>", 0, 0},
		{"a program for both", "<TargetFrameworks>net8.0-android;net8.0-ios17.0</TargetFrameworks><OutputType>Exe</OutputType>", 1, 1},
		{"only Android", "<TargetFramework>net8.0-android</TargetFramework><OutputType>Exe</OutputType>", 1, 0},
		{"a program on one of them only", "<TargetFrameworks>net8.0;net8.0-android</TargetFrameworks><OutputType Condition=\"$(TargetFramework.EndsWith('-android'))\">Exe</OutputType>", 1, 0},
		{"the older kind", "<AndroidApplication>True</AndroidApplication><TargetFrameworkVersion>v12.0</TargetFrameworkVersion><OutputType>Library</OutputType>", 1, 0},
	} {
		r := Survey(in(map[string]string{"A.csproj": head + c.body + "</PropertyGroup></Project>", "Properties/AndroidManifest.xml": `<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="example.older.app"/>`}))
		if len(r.Android.Modules) != c.android || len(r.IOS.Projects) != c.ios {
			t.Errorf("%s: %d %d", c.name, len(r.Android.Modules), len(r.IOS.Projects))
		}
		for _, m := range r.Android.Modules {
			if id := m.Variants[0].ApplicationID; id.String() != "example.older.app" || id.File != "Properties/AndroidManifest.xml" {
				t.Errorf("%s: %s at %s", c.name, id.Say(), id.Place())
			}
		}
	}
}
