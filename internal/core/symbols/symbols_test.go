package symbols

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// identify reads one file.
func identify(t *testing.T, path string) []Symbol {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	all, err := Identify(filepath.Base(path), bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// TestGCC: a program as gcc makes it, without its symbols, and the symbols alone.
func TestGCC(t *testing.T) {
	dir := t.TempDir()
	run := func(name string, args ...string) {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v %s", name, err, out)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "a.c"), []byte("int main(void) { return 0; }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	run("gcc", "-g", "-Wl,--build-id", "-o", "whole", "a.c")
	run("objcopy", "--only-keep-debug", "whole", "whole.debug")
	run("objcopy", "--strip-all", "whole", "stripped")
	whole, alone, stripped := identify(t, dir+"/whole"), identify(t, dir+"/whole.debug"), identify(t, dir+"/stripped")
	if len(whole) != 1 || len(whole[0].Key) != 40 || !whole[0].Code || !whole[0].Debug {
		t.Errorf("%+v", whole)
	}
	if len(alone) != 1 || alone[0].Key != whole[0].Key || alone[0].Code || !alone[0].Debug {
		t.Errorf("%+v", alone)
	}
	if len(stripped) != 1 || stripped[0].Key != whole[0].Key || !stripped[0].Code || stripped[0].Debug {
		t.Errorf("%+v", stripped)
	}
}

// madePDB is a PDB with a guid and an age, as small as one can be.
func madePDB(guid []byte, age uint32) []byte {
	const block = 512
	u := binary.LittleEndian
	file := make([]byte, 7*block)
	copy(file, msfMagic)
	head := file[len(msfMagic):]
	directory := u.AppendUint32(nil, 4) // streams, with their sizes: old directory, info, types, debug
	for _, n := range []uint32{0, 28, 0, 12} {
		directory = u.AppendUint32(directory, n)
	}
	directory = u.AppendUint32(u.AppendUint32(directory, 5), 6) // the blocks of the second and the fourth
	for i, n := range []uint32{block, 1, 7, uint32(len(directory)), 0, 3} {
		u.PutUint32(head[4*i:], n)
	}
	u.PutUint32(file[3*block:], 4) // the directory is in block 4
	copy(file[4*block:], directory)
	copy(file[5*block+12:], guid)
	u.PutUint32(file[5*block+8:], 77)  // an age that counts for nothing
	u.PutUint32(file[6*block+8:], age) // the one that does
	return file
}

// madePortable is a portable PDB with an id.
func madePortable(id []byte) []byte {
	u := binary.LittleEndian
	b := append([]byte("BSJB"), 1, 0, 1, 0, 0, 0, 0, 0)
	b = u.AppendUint32(b, 12)
	b = append(b, "PDB v1.0\x00\x00\x00\x00"...)
	b = append(b, 0, 0, 2, 0)
	b = u.AppendUint32(u.AppendUint32(b, 100), 4)
	b = append(b, "#Strings\x00\x00\x00\x00"...)
	b = u.AppendUint32(u.AppendUint32(b, 120), 32)
	b = append(b, "#Pdb\x00\x00\x00\x00"...)
	b = append(b, make([]byte, 120-len(b))...)
	return append(append(b, id...), make([]byte, 16)...)
}

// TestPDB: the keys are those of the specification's examples (SSQP, "SSQP Key Conventions").
func TestPDB(t *testing.T) {
	guid := []byte{0x97, 0xc0, 0x97, 0x49, 0x56, 0xc7, 0xf1, 0x4a, 0x97, 0xb1, 0x1b, 0xf6, 0x26, 0xcc, 0xc5, 0xa7}
	for name, c := range map[string]struct {
		raw  []byte
		want Symbol
	}{
		"turnstile.pdb": {madePDB(guid, 0x1b), Symbol{PDB, "4997c097c7564af197b11bf626ccc5a71b", false, true}},
		"link.pdb":      {madePortable(guid), Symbol{PortablePDB, "4997c097c7564af197b11bf626ccc5a7ffffffff", false, true}},
		"deck.js.map":   {[]byte(`{"version":3}`), Symbol{SourceMap, "", false, true}},
	} {
		all, err := Identify(name, bytes.NewReader(c.raw), int64(len(c.raw)))
		if err != nil || len(all) != 1 || all[0] != c.want {
			t.Errorf("%s: %+v, %v; want %+v", name, all, err, c.want)
		}
		for cut := range len(c.raw) {
			_, _ = Identify(name, bytes.NewReader(c.raw[:cut]), int64(cut)) // it ends, whatever it says
		}
	}
	for name, raw := range map[string]string{"a.txt": "text", "empty": "", "A.class": "\xca\xfe\xba\xbe\x00\x00\x00\x41", "a.map": "no json",
		"half.so": "\x7fELF\x02\x01\x01"} {
		if all, _ := Identify(name, strings.NewReader(raw), int64(len(raw))); all != nil {
			t.Errorf("%s is %+v", name, all)
		}
	}
}

// TestPE: a program of Windows is asked for by the time that it was linked at and its size.
func TestPE(t *testing.T) {
	u := binary.LittleEndian
	file := make([]byte, 1024)
	copy(file, "MZ")
	u.PutUint32(file[0x3c:], 0x80)
	copy(file[0x80:], "PE\x00\x00")
	u.PutUint16(file[0x84:], 0x8664)     // amd64
	u.PutUint32(file[0x88:], 0x542d5742) // when
	u.PutUint16(file[0x94:], 240)        // of the optional header
	u.PutUint16(file[0x98:], 0x20b)
	u.PutUint32(file[0x98+56:], 0x32000)
	u.PutUint32(file[0x98+108:], 16)
	all, err := Identify("foo.exe", bytes.NewReader(file), 1024)
	if err != nil || len(all) != 1 || all[0] != (Symbol{PE, "542d574232000", true, false}) {
		t.Errorf("%+v, %v", all, err)
	}
}

// TestSourceAmong: a source is found by the end of the path that the compiler knew.
func TestSourceAmong(t *testing.T) {
	names := []string{"src/gate.c", "src/turn.c", "old/turn.c", "include/turn.h", "main.c"}
	for source, want := range map[string]string{"/build/firmware/src/turn.c": "src/turn.c", "/b/old/./turn.c": "old/turn.c",
		"/b/turn.c": "", "/x/include/../include/turn.h": "include/turn.h", "/b/absent.c": "", "main.c": "main.c", "": ""} {
		if got := SourceAmong(names, source); got != want {
			t.Errorf("%s is found as %q, not %q", source, got, want)
		}
	}
}

// FuzzIdentify: whatever a file is, looking at it ends.
func FuzzIdentify(f *testing.F) {
	f.Add("a.pdb", madePDB(make([]byte, 16), 1))
	f.Add("a.pdb", madePortable(make([]byte, 16)))
	f.Add("a", []byte("\x7fELF\x02\x01\x01\x00"))
	f.Add("a", []byte("MZ"))
	f.Add("a", []byte("\xcf\xfa\xed\xfe"))
	f.Fuzz(func(t *testing.T, name string, raw []byte) {
		all, _ := Identify(name, bytes.NewReader(raw), int64(len(raw)))
		for _, s := range all {
			if s.Key == "" && s.Format != SourceMap {
				t.Errorf("%+v", s)
			}
		}
		_, _ = InCore(bytes.NewReader(raw))
	})
}
