package symbols

import (
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	core "crelvo/internal/core/symbols"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

// TestSymbolDoors: what debuggers ask for is answered by both protocols, from what is known to lie in sets.
func TestSymbolDoors(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Symbols{})
	const id = "c0ffee00c0ffee00c0ffee00c0ffee00c0ffee00"
	program, debug := madeup.ELF(id, true, false), madeup.ELF(id, false, true)
	d.Contents = map[string][]byte{"bin/gate": program, "debug/gate.debug": debug, "src/gate.c": []byte("int main() {}\n"),
		"gate.pdb": []byte("made up")}
	at := func(path, key string, format core.Format, code, debug bool) core.At {
		return core.At{Symbol: core.Symbol{Format: format, Key: key, Code: code, Debug: debug}, VersionID: 1,
			Of: d.Repository.Key("generic", "", "turnstile-firmware"), Version: "3.0.0", Path: path}
	}
	const pdbKey = "0123456789abcdef0123456789abcdef1"
	d.Symbols = []core.At{at("gone", id, core.ELF, true, true), at("bin/gate", id, core.ELF, true, false),
		at("debug/gate.debug", id, core.ELF, false, true), at("gate.pdb", pdbKey, core.PDB, false, true)}
	for path, want := range map[string]string{
		"buildid/" + id + "/executable":                     string(program),
		"buildid/" + strings.ToUpper(id) + "/debuginfo":     string(debug),
		"buildid/" + id + "/source/build/src/gate.c":        "int main() {}\n",
		"buildid/" + id + "/section/.debug_info":            strings.Repeat("made up ", 512),
		"gate/elf-buildid-" + id + "/gate":                  string(program),
		"_.debug/elf-buildid-sym-" + id + "/_.debug":        string(debug),
		"gate.pdb/" + strings.ToUpper(pdbKey) + "/gate.pdb": "made up",
	} {
		if got := d.Get(http.StatusOK, path); got != want {
			t.Errorf("%s has %d bytes, and not %d", path, len(got), len(want))
		}
	}
	a := d.Ask(http.MethodGet, "buildid/"+id+"/debuginfo", nil)
	if a.Header().Get(sizeHeader) == "" || a.Header().Get(fileHeader) != "gate.debug" {
		t.Errorf("%v", a.Header())
	}
	for _, no := range []string{"buildid/" + id + "/source/build/other.c", "buildid/" + id + "/section/.none",
		"buildid/00/debuginfo", "buildid/" + id + "/other", "gate.pdb/" + pdbKey + "/gate.pd_", "other.pdb/" + pdbKey + "/other.pdb"} {
		d.Get(http.StatusNotFound, no)
	}
	ecosystemtest.Says(t, d.Get(http.StatusOK, "metadata?key=file&value=bin/gate"),
		`{"results":[{"type":"executable","buildid":"`+id+`","file":"bin/gate"}],"complete":true}`)
	ecosystemtest.Says(t, d.Get(http.StatusOK, "metadata?key=buildid&value="+id), "debug/gate.debug", "gone")
	d.Get(http.StatusBadRequest, "metadata?key=glob&value=*")
}

// TestConformance: nothing is published as symbols alone.
func TestConformance(t *testing.T) {
	ecosystemtest.Run(t, Symbols{}, ecosystemtest.Samples{Tagged: true, Snapshot: "debuginfo", Release: "executable",
		Bad: []ecosystemtest.Sample{{Name: "by themselves", Files: map[string][]byte{"gate.debug": {1}},
			As: "pkg:symbols/c0ffee00c0ffee00@debuginfo"}},
		Foreign: map[string][]byte{"gate.debug": {1}}})
}

// TestPlaces: what upstreams are asked for has a place, where no path leads elsewhere.
func TestPlaces(t *testing.T) {
	const id = "c0ffee00c0ffee00c0ffee00c0ffee00c0ffee00"
	for version, file := range map[string]string{"debuginfo": "debuginfo", "executable": "executable",
		"section/.gdb_index": ".gdb_index", "source/usr/src/gate-1.0/gate.c": "gate.c", "source/gate.c": "gate.c",
		"": "", "other": "", "debuginfo/x": "", "section/": "", "section/a/b": "", "source/": "", "source": "",
		"source/../../x": "", "source//x": "", "source/x/": "", "source/a:b": "", "/source/x": "",
		"source/" + strings.Repeat("x/", 200) + "y": ""} {
		q := catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: Name, Name: id}, Version: version}
		place, err := Symbols{}.PlaceOf(q)
		if place.FileName != file || (err == nil) != (file != "") {
			t.Errorf("%q is %q: %v", version, place.FileName, err)
		}
		if err == nil && (Symbols{}.FilePath(place) != "buildid/"+id+"/"+version || place.Check() != nil) {
			t.Errorf("%q is asked for at %q: %v", version, Symbols{}.FilePath(place), place.Check())
		}
	}
	for _, no := range []string{"", "c0ff", "../x", "C0FFEE00C0FFEE00", "c0ffee00c0ffee0", strings.Repeat("ab", 65)} {
		q := catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: Name, Name: no}, Version: "debuginfo"}
		if place, err := (Symbols{}).PlaceOf(q); err == nil {
			t.Errorf("the build id %q has the place %+v", no, place)
		}
	}
	for source, version := range map[string]string{"usr/src/a.c": "source/usr/src/a.c", "/zoo//../bar/./a.c": "source/bar/a.c",
		"../../etc/passwd": "source/etc/passwd", "": "source/"} {
		if got := sourceVersion(source); got != version {
			t.Errorf("the source %q is %q", source, got)
		}
	}
}

// TestInspect: what an upstream sends has the build id that was asked for.
func TestInspect(t *testing.T) {
	const id, other = "c0ffee00c0ffee00", "c0ffee00c0ffee01"
	program, debug := madeup.ELF(id, true, false), madeup.ELF(id, false, true)
	for _, c := range []struct {
		name, version string
		content       []byte
		fits          bool
	}{{id, "executable", program, true}, {id, "debuginfo", debug, true}, {id, "executable", debug, false},
		{other, "executable", program, false}, {other, "debuginfo", debug, false}, {id, "debuginfo", []byte("no"), false},
		{id, "section/.text", []byte("any"), true}, {id, "source/a.c", nil, true}} {
		_, err := Symbols{}.Inspect(t.Context(), ecosystem.Place{Name: c.name, Version: c.version, FileName: "x"},
			ecosystemtest.Bytes(c.content))
		if (err == nil) != c.fits {
			t.Errorf("%s of %s: %v", c.version, c.name, err)
		}
	}
	said := Symbols{}.SaidBeside(http.Header{fileHeader: {"/usr/bin/gate"}, archiveHeader: {"/pool/gate_1.0-1_amd64.deb"}})
	if said.Description != "/usr/bin/gate, of gate_1.0-1_amd64.deb" {
		t.Errorf("%q", said.Description)
	}
}
