package generic

import (
	"net/http"
	"strings"
	"testing"

	"crelvo/internal/core/fileset"
	"crelvo/internal/core/symbols"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

// TestSymbolDoors: what debuggers ask for is answered by both protocols, from what is known to lie in sets.
func TestSymbolDoors(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	const id = "c0ffee00c0ffee00c0ffee00c0ffee00c0ffee00"
	program, debug := madeup.ELF(id, true, false), madeup.ELF(id, false, true)
	d.Send(http.StatusCreated, http.MethodPut, "turnstile-firmware/3.0.0?unpack=tar.gz", tarGz(t, map[string][]byte{
		"bin/gate": program, "debug/gate.debug": debug, "src/gate.c": []byte("int main() {}\n"),
		"gate.pdb": []byte("made up")}))
	at := func(path, key string, format symbols.Format, code, debug bool) symbols.At {
		return symbols.At{Symbol: symbols.Symbol{Format: format, Key: key, Code: code, Debug: debug}, VersionID: 1,
			Of: d.Repository.Key(Name, "", "turnstile-firmware"), Version: "3.0.0", Path: path}
	}
	const pdbKey = "0123456789abcdef0123456789abcdef1"
	d.Symbols = []symbols.At{at("gone", id, symbols.ELF, true, true), at("bin/gate", id, symbols.ELF, true, false),
		at("debug/gate.debug", id, symbols.ELF, false, true), at("gate.pdb", pdbKey, symbols.PDB, false, true)}
	door := symbolsDoor + "/"
	for path, want := range map[string]string{
		"buildid/" + id + "/executable":                     string(program),
		"buildid/" + strings.ToUpper(id) + "/debuginfo":     string(debug),
		"buildid/" + id + "/source/build/src/gate.c":        "int main() {}\n",
		"buildid/" + id + "/section/.debug_info":            strings.Repeat("made up ", 512),
		"gate/elf-buildid-" + id + "/gate":                  string(program),
		"_.debug/elf-buildid-sym-" + id + "/_.debug":        string(debug),
		"gate.pdb/" + strings.ToUpper(pdbKey) + "/gate.pdb": "made up",
	} {
		if got := d.Get(http.StatusOK, door+path); got != want {
			t.Errorf("%s has %d bytes, and not %d", path, len(got), len(want))
		}
	}
	a := d.Ask(http.MethodGet, door+"buildid/"+id+"/debuginfo", nil)
	if a.Header().Get("X-DEBUGINFOD-SIZE") == "" || a.Header().Get("X-DEBUGINFOD-FILE") != "gate.debug" {
		t.Errorf("%v", a.Header())
	}
	for _, no := range []string{"buildid/" + id + "/source/build/other.c", "buildid/" + id + "/section/.none",
		"buildid/00/debuginfo", "buildid/" + id + "/other", "gate.pdb/" + pdbKey + "/gate.pd_", "other.pdb/" + pdbKey + "/other.pdb"} {
		d.Get(http.StatusNotFound, door+no)
	}
	ecosystemtest.Says(t, d.Get(http.StatusOK, door+"metadata?key=file&value=bin/gate"),
		`{"results":[{"type":"executable","buildid":"`+id+`","file":"bin/gate"}],"complete":true}`)
	ecosystemtest.Says(t, d.Get(http.StatusOK, door+"metadata?key=buildid&value="+id), "debug/gate.debug", "gone")
	d.Get(http.StatusBadRequest, door+"metadata?key=glob&value=*")
}

// TestSigned: a version comes with a signature, or without one for good.
func TestSigned(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.0.0?unpack=tar.gz",
		tarGz(t, map[string][]byte{"a": []byte("a")}))
	manifest := []byte(d.Get(http.StatusOK, ".sets/chart-tiles/1.0.0/manifest.jsonl"))
	send := func(status int, version, header string) string {
		t.Helper()
		return d.Send(status, http.MethodPut, ".sets/chart-tiles/"+version+"/manifest.jsonl", manifest,
			fileset.SignatureHeader, header)
	}
	ecosystemtest.Says(t, send(http.StatusBadRequest, "1.0.1", "?"), "not in Base64")
	ecosystemtest.Says(t, send(http.StatusBadRequest, "1.0.1", "eA=="), "no armored detached OpenPGP signature")
	ecosystemtest.Says(t, send(http.StatusUnprocessableEntity, "1.0.0", "eA=="), "published already, without a signature")
}
