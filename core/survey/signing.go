package survey

import (
	"fmt"
	"io/fs"
	"path"
	"slices"

	"ligare/core/survey/fact"
	"ligare/core/survey/script"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
)

// signing finds the keystore a variant signs with. A build type's configuration beats a flavor's, so that debug, which
// always has one, ignores the flavor's.
func (s *moduleReader) signing(v *AndroidVariant) {
	config := func(path ...string) (name string, f Fact) {
		f = script.Last(s.model.At(append(path, "signingConfig")...), func(st script.Stmt) Fact {
			file, l, c := st.Place()
			name := reference(st.Script(), st.Arg())
			if name == "null" {
				name = ""
			}
			return fact.Of(name, file, l, c)
		})
		if len(f.Possible) > 0 {
			return f.Possible[0].Value, f
		}
		return f.String(), f
	}
	name, f := config("android", "buildTypes", v.BuildType)
	for from, i := v.BuildType, 0; !f.Set() && i < 5; i++ {
		with := s.model.At("android", "buildTypes", from, "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			break
		}
		if from = reference(with[0].Script(), with[0].Args[0]); from == "" {
			break
		}
		if from == "debug" { // copied with debug's own configuration
			name, f = "debug", fact.Of("debug", "", 0, 0, "copied from build type debug")
		}
		if n, got := config("android", "buildTypes", from); got.Set() {
			name, f = n, got
		}
	}
	if !f.Set() && v.BuildType != "debug" && (v.BuildType != "profile" || slices.Contains(s.named("buildTypes"), "profile")) {
		for _, fl := range v.Flavors {
			if n, got := config("android", "productFlavors", fl); got.Set() && !f.Set() {
				name, f = n, got
			}
		}
		if !f.Set() {
			name, f = config("android", "defaultConfig")
		}
	}
	if !f.Set() && (v.BuildType == "debug" || v.BuildType == "profile") {
		name, f = "debug", fact.Of("debug", "", 0, 0, "the platform's default for debug builds")
	}
	v.SigningConfig = f
	if name == "" {
		if len(f.Possible) > 0 || f.Unresolved != "" {
			v.KeyStore = fact.Open("the signing configuration depends on "+f.Say(), f.File, f.Line, f.Column)
		}
		return // unsigned
	}
	if len(f.Possible) > 1 {
		var all Fact
		for i, p := range f.Possible {
			got := s.keyStore(p.Value, nil)
			got = got.With(func(t string) string { return t })
			if got.Known() {
				all.Possible = append(all.Possible, Possible{Value: got.String(), When: p.When})
				if i == 0 {
					all.File, all.Line, all.Column = got.File, got.Line, got.Column
				}
			}
		}
		if len(all.Possible) == len(f.Possible) {
			v.KeyStore = all
		} else {
			v.KeyStore = fact.Open("the signing configuration is "+f.Say(), f.File, f.Line, f.Column)
		}
		return
	}
	v.KeyStore = s.keyStore(name, v)
	if len(f.Possible) == 1 && v.KeyStore.Known() {
		v.KeyStore.Possible, v.KeyStore.Value = []Possible{{Value: v.KeyStore.String(), When: f.Possible[0].When}}, nil
	}
}

// DebugKeyStore says where the platform keeps the keystore that debug builds sign with.
const DebugKeyStore = "the platform's debug keystore, outside the tree: $ANDROID_USER_HOME/debug.keystore, else $HOME/.android/debug.keystore"

// keyStore resolves a signing configuration's storeFile, alias and password, also through initWith.
func (s *moduleReader) keyStore(name string, v *AndroidVariant) Fact {
	var out Fact
	for i, from := 0, name; i < 5; i++ {
		for _, st := range s.model.At("android", "signingConfigs", from, "storeFile") {
			if len(st.Arg()) == 0 || out.Known() && i > 0 {
				continue
			}
			holds := st.Holds()
			if holds == "false" {
				continue
			}
			in, f := st.Where(st.Arg())
			if in == "home" {
				f.Via = append(f.Via, "below the user's home folder")
			}
			if holds == "" && f.Known() {
				f = fact.Open(fmt.Sprintf("%s, when %s", f.String(), st.Cond), f.File, f.Line, f.Column)
			}
			out = f
		}
		if v != nil {
			if !v.KeyAlias.Set() {
				v.KeyAlias = s.model.Setting("android", "signingConfigs", from, "keyAlias")
			}
			if !v.storePassword.Set() {
				v.storePassword = s.model.Setting("android", "signingConfigs", from, "storePassword")
			}
			if !v.keyPassword.Set() {
				v.keyPassword = s.model.Setting("android", "signingConfigs", from, "keyPassword")
			}
		}
		if out.Set() {
			return out
		}
		with := s.model.At("android", "signingConfigs", from, "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			break
		}
		from = reference(with[0].Script(), with[0].Args[0])
		name = from
	}
	if name == "debug" {
		return s.debugKeyStore()
	}
	if at := s.model.At("android", "signingConfigs", name); len(at) > 0 {
		file, l, c := at[0].Place()
		return fact.Open(fmt.Sprintf("signing configuration %q names no storeFile", name), file, l, c)
	}
	return s.orUnknown(name)
}

func (s *moduleReader) orUnknown(name string) Fact {
	return fact.Open(fmt.Sprintf("there is no signing configuration %q in the files", name), s.m.BuildFile, 0, 0)
}

// debugKeyStore finds the platform's own keystore where the home folder was given.
func (s *moduleReader) debugKeyStore() Fact {
	if dir := s.o.Env["ANDROID_USER_HOME"]; dir != "" {
		return fact.Of(path.Join(dir, "debug.keystore"), "", 0, 0, "the platform's debug keystore, in $ANDROID_USER_HOME")
	}
	if s.o.Home == nil {
		return fact.Open(DebugKeyStore, "", 0, 0)
	}
	if _, err := fs.Stat(s.o.Home, ".android/debug.keystore"); err != nil {
		return fact.Open("the platform's debug keystore, ~/.android/debug.keystore, is not there yet: the first debug build makes it", "", 0, 0)
	}
	return fact.Of("~/.android/debug.keystore", "", 0, 0, "the platform's debug keystore")
}

// reference reads buildTypes.release, getByName("release"), signingConfigs["x"] or signingConfigs.getByName("x").
func reference(f *gradle.File, e gradle.Expr) string {
	if len(e) == 0 {
		return ""
	}
	for i := len(e) - 1; i >= 0; i-- {
		if e[i].Kind == lex.Group && f.Src[e[i].Start] != '{' {
			if in := lex.Solid(e[i].Inner()); len(in) == 1 {
				if text, ok := lex.Literal(f.Src, in[0]); ok {
					return text
				}
			}
			return ""
		}
		if e[i].Kind == lex.Word {
			return e[i].Of(f.Src)
		}
		if text, ok := lex.Literal(f.Src, e[i]); ok {
			return text
		}
	}
	return ""
}
