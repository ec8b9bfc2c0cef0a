package ecosystem

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
)

// ferries are settings of a made-up client, in two files of a form: the address in a project's,
// the secret in a personal one.
func ferries(form Form, address, secret, user []string) Settings {
	project := Source{File: "ferry.conf", Title: "Where", Form: form, Read: []string{"ferry.conf", "other.conf"}}
	personal := Source{File: "~/.ferry", Title: "Who", Form: form}
	return Settings{All: []Setting{
		{In: project, Path: address, Value: "to+{address}", Env: "FERRY_{ID}_URL"},
		{In: personal, Path: user, Value: "{user}"},
		{In: personal, Path: secret, Value: "{token}", Env: "FERRY_{ID}_TOKEN"}}}
}

// TestSettings: what is written into files of each form is read back, and nothing else.
func TestSettings(t *testing.T) {
	for form, s := range map[string]Settings{
		"toml": ferries(TOML, []string{"piers", "{id}", "url"}, []string{"piers", "{id}", "token"},
			[]string{"piers", "{id}", "user"}),
		"toml of arrays": ferries(TOML, []string{"piers@name={id}", "url"}, []string{"secrets@of={id}", "token"},
			[]string{"secrets@of={id}", "user"}),
		"ini": ferries(INI, []string{"{id}", "url"}, []string{"{id}", "token"}, []string{"{id}", "user"}),
		"xml": ferries(XML, []string{"ferry", "piers", "add@key={id}", "@url"},
			[]string{"ferry", "secrets", "{id}", "add@key=Token", "@value"},
			[]string{"ferry", "secrets", "{id}", "add@key=User", "@value"}),
		"xml of elements": ferries(XML, []string{"ferry", "piers", "{id}", "url"},
			[]string{"ferry", "secrets", "{id}", "token"}, []string{"ferry", "secrets", "{id}", "user"}),
	} {
		t.Run(form, func(t *testing.T) { settingsHold(t, s) })
	}
}

func settingsHold(t *testing.T, s Settings) {
	p := Pointing{Address: "https://packages.skerry.example/at/north-pier/barge/", ID: "north-pier", User: "deckhand",
		Secret: "crelvo_secret"}
	files := map[string]string{}
	for _, piece := range s.Parts(p) {
		text, err := piece.Edit(files[piece.File])
		if err != nil {
			t.Fatal(err)
		}
		if again, err := piece.Edit(text); err != nil || again != text {
			t.Errorf("a second time: %v\n%s", err, again)
		}
		if files[piece.File] = text; piece.Secret != strings.Contains(text, "crelvo_secret") {
			t.Errorf("%s: secret is %v", piece.File, piece.Secret)
		}
	}
	env := map[string]string{}
	f := Files{Read: func(file string) string { return files[file] }, Env: func(name string) string { return env[name] },
		Ours: func(address string) bool { return strings.HasPrefix(address, "https://packages.skerry.example/") }}
	uses := s.Uses(f)
	if len(uses) != 1 || uses[0].Address != p.Address || uses[0].ID != p.ID || uses[0].Secret != p.Secret ||
		uses[0].User != p.User || uses[0].In != "ferry.conf" || uses[0].SecretIn != "~/.ferry" || uses[0].Wrong != "" {
		t.Errorf("%+v of\n%v", uses, files)
	}
	files["~/.ferry"] = strings.ReplaceAll(files["~/.ferry"], "north-pier", "south-pier")
	if uses = s.Uses(f); len(uses) != 1 || !strings.Contains(uses[0].Wrong, "south-pier") {
		t.Errorf("a secret under another name: %+v", uses)
	}
	env["FERRY_NORTH_PIER_TOKEN"] = "crelvo_other"
	if uses = s.Uses(f); len(uses) != 1 || uses[0].Secret != "crelvo_other" || uses[0].Wrong != "" {
		t.Errorf("a variable goes before: %+v", uses)
	}
	files["ferry.conf"] = strings.ReplaceAll(files["ferry.conf"], "packages.", "elsewhere.")
	if uses = s.Uses(f); len(uses) != 0 {
		t.Errorf("another server's: %+v", uses)
	}
	env["FERRY_NORTH_PIER_URL"] = "https://elsewhere.example/"
	if said := s.Strays(f, p); len(said) != 1 || !strings.Contains(said[0], "FERRY_NORTH_PIER_URL") {
		t.Errorf("%q", said)
	}
	var names []string
	for _, v := range s.Variables(p) {
		names = append(names, v.Key+"="+v.Value)
	}
	if want := []string{"FERRY_NORTH_PIER_URL=to+" + p.Address,
		"FERRY_NORTH_PIER_TOKEN=crelvo_secret"}; !slices.Equal(names,
		want) {
		t.Errorf("%q", names)
	}
}

// TestSettingsElse: a setting that says something else already is told, where it matters.
func TestSettingsElse(t *testing.T) {
	in := Source{File: "ferry.toml", Form: TOML}
	s := Settings{All: []Setting{{In: in, Path: []string{"all", "from"}, Value: "{id}", Else: "takes all from %s",
		Only: func(p Pointing) bool { return p.Everything }},
		{In: in, Path: []string{"all", "kinds"}, Value: `["a", "b"]`, Env: "FERRY_KINDS"}}}
	f := Files{Read: func(string) string { return "[all]\nfrom = \"old\"\n" }, Env: func(string) string { return "" }}
	if said := s.Strays(f, Pointing{ID: "new", Everything: true}); len(said) != 1 ||
		said[0] != `ferry.toml takes all from old: write all.from = "new" there` {
		t.Errorf("%q", said)
	}
	if said := s.Strays(f, Pointing{ID: "new"}); said != nil {
		t.Errorf("%q", said)
	}
	if v := s.Variables(Pointing{}); len(v) != 1 || v[0].Value != "a b" {
		t.Errorf("a list of words: %+v", v)
	}
}

// TestSettingsBeside: a list that names it, a key that is changed only where it stands, an address
// to publish to, a secret in the address or in ~/.netrc.
func TestSettingsBeside(t *testing.T) {
	in := Source{File: "ferry.toml", Form: TOML}
	list := Source{File: "ferry.ini", Form: INI}
	s := Settings{All: []Setting{{In: in, Path: []string{"piers@name={id}", "url"}, Value: "{address}boats/"},
		{In: in, Path: []string{"piers@name={id}", "rank"}, Value: "first", IfThere: true},
		{In: in, Path: []string{"piers@name={id}", "land"}, Value: "{address}", Only: Pointing.Publishes, Publishes: true},
		{In: list, Path: []string{"all", "piers"}, Value: "{id}", List: true},
		{Value: "{user}", Env: "FERRY_{ID}_USER"}, {Value: "{token}", Env: "FERRY_{ID}_TOKEN"}}}
	files := map[string]string{"~/.netrc": "machine h login mate password crelvo_net\n",
		"ferry.ini": "[all]\npiers = south\n"}
	env := map[string]string{}
	f := Files{Read: func(file string) string { return files[file] }, Env: func(name string) string { return env[name] },
		Ours: func(address string) bool { return strings.HasPrefix(address, "http://h/") }}
	write := func(p Pointing) {
		for _, piece := range s.Parts(p) {
			text, err := piece.Edit(files[piece.File])
			if err != nil {
				t.Fatal(err)
			}
			files[piece.File] = text
		}
	}
	p := Pointing{Address: "http://h/at/north/", ID: "north"}
	write(p)
	if want := "[[piers]]\nname = \"north\"\nurl = \"http://h/at/north/boats/\"\n"; files["ferry.toml"] != want {
		t.Errorf("%s, not\n%s", files["ferry.toml"], want)
	}
	if piers, _ := INI.get(files["ferry.ini"], []string{"all", "piers"}); strings.Join(strings.Fields(piers), " ") !=
		"south north" {
		t.Errorf("%q", files["ferry.ini"])
	}
	uses := s.Uses(f)
	if len(uses) != 1 || uses[0].Address != p.Address || uses[0].Publish || uses[0].User != "mate" ||
		uses[0].Secret != "crelvo_net" || uses[0].SecretIn != "~/.netrc" {
		t.Errorf("%+v", uses)
	}
	files["ferry.toml"] = strings.ReplaceAll(files["ferry.toml"], "//h", "//cook:crelvo_in@h") + "rank = \"last\"\n"
	if uses = s.Uses(f); len(uses) != 1 || uses[0].User != "cook" || uses[0].Secret != "crelvo_in" ||
		uses[0].SecretIn != "ferry.toml" {
		t.Errorf("%+v", uses)
	}
	p.PublishReleases = true
	write(p)
	if !strings.Contains(files["ferry.toml"], "rank = \"first\"") {
		t.Errorf("what stands there stayed: %s", files["ferry.toml"])
	}
	env["FERRY_NORTH_TOKEN"], env["FERRY_NORTH_USER"] = "crelvo_env", "purser"
	if uses = s.Uses(f); len(uses) != 1 || !uses[0].Publish || uses[0].Secret != "crelvo_env" || uses[0].User != "purser" {
		t.Errorf("%+v", uses)
	}
}

func TestOrders(t *testing.T) {
	o := Orders{Build: "ferry go", Add: "ferry load {what} from {id}", Version: "@",
		Publish: "ferry land at {id}"}.Of(PlainName)
	for want, p := range map[string]Pointing{
		"ferry go":                  {ID: "pier"},
		"ferry load kelp from pier": {ID: "pier", PURL: purl.PURL{Name: "kelp"}},
		"ferry load kelp@1.0 from pier; ferry land at pier": {ID: "pier", PURL: purl.PURL{Name: "kelp", Version: "1.0"},
			PublishReleases: true},
	} {
		if got := strings.Join(o(p), "; "); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}

// TestLines: a list has a line for each version, and an end.
func TestLines(t *testing.T) {
	var seen []string
	err := Lines(strings.NewReader("a\nb\n"), func(line []byte) error {
		seen = append(seen, string(line))
		return nil
	})
	if err != nil || !slices.Equal(seen, []string{"a", "b"}) {
		t.Errorf("%q, %v", seen, err)
	}
	stop := errors.New("enough")
	if err := Lines(strings.NewReader("a\nb\n"), func([]byte) error { return stop }); err != stop {
		t.Error(err)
	}
	if err := Lines(strings.NewReader(strings.Repeat("x\n", maxLines+1)), func([]byte) error { return nil }); err == nil {
		t.Error("a list without an end was read")
	}
	if err := CutUpload(io.ErrUnexpectedEOF); !fault.Is(err, fault.Invalid) || !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Error(err)
	}
	if len(Reads(map[string]func(*Call) error{"/a": nil, "/b": nil})) != 4 {
		t.Error("a path is read by GET and by HEAD")
	}
}

// TestReadTarball: what is of interest stands in the only folder.
func TestReadTarball(t *testing.T) {
	pack := func(entries ...string) SizedReaderAt { return packedFiles(t, entries...) }
	for name, c := range map[string]struct {
		file                    SizedReaderAt
		manifest, readme, wrong string
		other                   string
	}{
		"all": {file: pack("x/it.json", "{}", "x/README.rst", "hi", "x/y/README", "no"), manifest: "{}",
			readme: "text/x-rst"},
		"plain":          {file: pack("x/readme", "hi", "x/it.json", "1"), manifest: "1", readme: "text/plain"},
		"marked":         {file: pack("x/README.md", "hi", "x/it.json", "1"), manifest: "1", readme: "text/markdown"},
		"none":           {file: pack("x/other", "1", "it.json", "{}"), wrong: "no it.json"},
		"too long":       {file: pack("x/it.json", strings.Repeat("1", 200)), wrong: "more than"},
		"two folders":    {file: pack("x/it.json", "1", "y/it.json", "2"), manifest: "1", other: "y"},
		"not an archive": {file: content("x"), wrong: "gzip"},
	} {
		got, err := ReadTarball(t.Context(), c.file, "it.json", 100)
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		format := ""
		if got.Readme != nil {
			format = got.Readme.Format
		}
		if err != nil || string(got.Manifest) != c.manifest || format != c.readme || got.Other != c.other ||
			got.Folder != "x" {
			t.Errorf("%s: %+v, %s, %v", name, got, format, err)
		}
	}
}

// TestDeclared: of what is declared, versions that are restamped change, and all else stays.
func TestDeclared(t *testing.T) {
	stamp := Stamp{Name: "kelp", From: "1.0-dev.1", To: "1.0"}
	other := Stamp{Name: "salt", From: "2.0-dev.1", To: "2.0"}
	whose := func(p TextPlace) (Stated, bool) {
		switch {
		case p.Is("version"), p.Is("kelp", "version"):
			return Stated{Own: true, What: "version"}, true
		case p.Is("needs", "*"):
			return Stated{Name: p.Key()}, true
		case p.Is("kelp", "needs", "@version"):
			return Stated{Name: p.Beside("@name")}, true
		case p.Is("package", "*", "sum"):
			return Stated{Name: p.Beside("name"), What: "sum", Digest: func(d catalog.Digests) string {
				return fmt.Sprintf("%d bytes", d.Size)
			}}, true
		case p.Is("package", "*", "of", "it"):
			return Stated{Name: p.BesideParent("name")}, true
		}
		return Stated{}, false
	}
	f := ToRestamp{SizedReaderAt: packedFiles(t,
		"kelp-1.0-dev.1/it.json", `{"version": "1.0-dev.1", "needs": {"salt": "^2.0-dev.1", "sand": "2.0-dev.1"}, "n": 1}`,
		"kelp-1.0-dev.1/it.toml",
		"version = \"v1.0\"\n[[package]]\nname = \"salt\"\nsum = \"00\"\nof = { it = \"2.0-dev.1\" }\n",
		"kelp-1.0-dev.1/it.xml", `<kelp><version>1.0-dev.1</version><needs name="salt" version="2.0-dev.1"/></kelp>`,
		"kelp-1.0-dev.1/deep/it.json", `{"version": "1.0-dev.1"}`), Stamp: stamp, All: Stamps{stamp, other},
		Made: func(s Stamp) (catalog.Digests, bool, error) { return catalog.Digests{Size: 7}, s.Name == "salt", nil }}
	r, err := RestampFolder(t.Context(), f, "kelp-1.0.tgz",
		Statement{Document: InFolder("it.json"), Places: ParseJSONPlaces, Whose: whose},
		Statement{Document: InFolder("it.toml"), Places: ParseTOMLPlaces, Whose: whose},
		Statement{Document: InFolder("it.xml"), Places: ParseXMLTexts("name", "version"), Whose: whose})
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	if err := r.WriteTo(&out, nil); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	if err := WalkTarGz(t.Context(), content(out.String()), func(name string, _ int64, entry io.Reader) error {
		raw, err := io.ReadAll(entry)
		got[name] = string(raw)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"kelp-1.0/it.json": `{"version": "1.0", "needs": {"salt": "^2.0", "sand": "2.0-dev.1"}, "n": 1}`,
		"kelp-1.0/it.toml": "version = \"v1.0\"\n[[package]]\nname = \"salt\"\nsum = \"7 bytes\"\n" +
			"of = { it = \"2.0\" }\n",
		"kelp-1.0/it.xml":       `<kelp><version>1.0</version><needs name="salt" version="2.0"/></kelp>`,
		"kelp-1.0/deep/it.json": `{"version": "1.0-dev.1"}`} {
		if got[name] != want {
			t.Errorf("%s is\n%s, not\n%s", name, got[name], want)
		}
	}
	if len(r.Changes) < 6 {
		t.Errorf("%+v", r.Changes)
	}
	written := Declared(f, func(string) string { return stamp.From },
		Statement{Document: InFolder("it.toml"), Places: ParseTOMLPlaces, Whose: whose})
	if edited, _, err := written.Edit("x/it.toml", []byte("version = \"one\"\n")); err != nil ||
		string(edited) != "version = \"1.0\"\n" {
		t.Errorf("another form of the version: %s, %v", edited, err)
	}
	const sum = "[[package]]\nname = \"salt\"\nsum = \"00\"\n"
	unknown := func(err error) func(Stamp) (catalog.Digests, bool, error) {
		return func(Stamp) (catalog.Digests, bool, error) { return catalog.Digests{}, false, err }
	}
	for want, made := range map[string]func(Stamp) (catalog.Digests, bool, error){
		"[[package]]\nname = \"salt\"\n":                        unknown(nil),
		"[[package]]\nname = \"salt\"\nsum = \"that of 2.0\"\n": nil,
		"": unknown(io.ErrUnexpectedEOF),
	} {
		f.Made = made
		edited, _, err := Declared(f, nil,
			Statement{Document: InFolder("it.toml"), Places: ParseTOMLPlaces, Whose: whose}).Edit("x/it.toml", []byte(sum))
		if string(edited) != want || (err != nil) != (want == "") {
			t.Errorf("%q, %v; want %q", edited, err, want)
		}
	}
	if _, _, err := written.Edit("x/it.toml", []byte("version = ")); err == nil {
		t.Error("a document that is none was edited")
	}
	if written.Wants("x/it.json") || stamp.RenameFolder("other-1.0/x") != "other-1.0/x" {
		t.Error("what is not declared changes")
	}
}

// packedFiles are a .tar.gz of names and contents.
func packedFiles(t *testing.T, entries ...string) content {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for i := 0; i < len(entries); i += 2 {
		err := w.WriteHeader(&tar.Header{Name: entries[i], Mode: 0o644, Size: int64(len(entries[i+1]))})
		if err == nil {
			_, err = io.WriteString(w, entries[i+1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}
