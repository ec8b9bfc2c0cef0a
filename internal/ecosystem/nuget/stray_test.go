package nuget

import (
	"strings"
	"testing"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// TestStrays: what keeps NuGet from a source is told, and set right where that is there.
func TestStrays(t *testing.T) {
	p := ecosystem.Pointing{Address: "http://h/at/platform/nuget/", ID: "platform", Everything: true}
	const personal = "~/.config/NuGet/NuGet.Config"
	for _, c := range []struct {
		name, project, own, variable string
		want                         string // "" is nothing
		after                        string // what the file says then that is mended
	}{
		{name: "nothing", project: "<configuration><packageSources/></configuration>"},
		{name: "switched off",
			own:  `<configuration><disabledPackageSources><add key="platform" value="true"/></disabledPackageSources></configuration>`,
			want: personal + " switches the source platform off", after: `<disabledPackageSources></disabledPackageSources>`},
		{name: "switched off by the key alone",
			own:  `<configuration><disabledPackageSources><add key="Platform" value="false"/></disabledPackageSources></configuration>`,
			want: personal + " switches the source platform off", after: `<disabledPackageSources></disabledPackageSources>`},
		{name: "another that is switched off",
			own: `<configuration><disabledPackageSources><add key="other" value="true"/></disabledPackageSources></configuration>`},
		{name: "a mapping to others",
			project: `<configuration><packageSourceMapping><packageSource key="old"><package pattern="*"/></packageSource></packageSourceMapping></configuration>`,
			want:    "gives packages to other sources, and none to platform", after: `<packageSource key="platform">`},
		{name: "a mapping to us too",
			project: `<configuration><packageSourceMapping><packageSource key="platform"><package pattern="Skerry.*"/></packageSource></packageSourceMapping></configuration>`},
		{name: "a variable", variable: "NuGetPackageSourceCredentials_platform", want: "goes before what the files say"},
	} {
		files := map[string]string{projectFile: c.project, personal: c.own}
		f := ecosystem.Files{Read: func(file string) string {
			return files[file]
		}, Ours: func(a string) bool { return strings.HasPrefix(a, "http://h/") },
			Env: func(name string) string {
				if name == c.variable {
					return "Username=x;Password=y"
				}
				return ""
			}}
		said := strings.Join(straysWith(personal)(f, p), "\n")
		if (said == "") != (c.want == "") || !strings.Contains(said, c.want) {
			t.Errorf("%s: %q, want %q", c.name, said, c.want)
		}
		for _, piece := range mendsWith(personal)(f, p) {
			text, err := piece.Edit(files[piece.File])
			if err != nil {
				t.Fatal(err)
			}
			if _, err := splice.ReadXML(text); err != nil || !strings.Contains(text, c.after) {
				t.Errorf("%s: mended to %s, %v", c.name, text, err)
			}
			files[piece.File] = text
		}
		if said := straysWith(personal)(f, p); c.after != "" && len(said) > 0 {
			t.Errorf("%s: still %q in %v", c.name, said, files)
		}
	}
}
