package pypi

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"strings"
	"testing"

	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

var (
	cast  = ecosystem.Stamp{Name: "tidecast", From: "0.7.0.dev83", To: "0.7.0"}
	buoys = ecosystem.Stamp{Name: "buoy-names", From: "1.0.dev1", To: "1.0"}
)

// hashed is a wheel whose RECORD has digests, as build tools make it.
func hashed(entries ...madeup.Entry) []byte {
	record := ""
	for _, e := range entries {
		sum := sha256.Sum256([]byte(e.Content))
		record += fmt.Sprintf("%s,sha256=%s,%d\r\n", e.Name, base64.RawURLEncoding.EncodeToString(sum[:]), len(e.Content))
	}
	record += "tidecast-0.7.0.dev83.dist-info/RECORD,,\r\n"
	return madeup.Zip(append(entries, madeup.Entry{Name: "tidecast-0.7.0.dev83.dist-info/RECORD", Content: record})...)
}

// TestRestampWheel restamps a wheel, whose record must be true afterwards.
func TestRestampWheel(t *testing.T) {
	metadata := "Metadata-Version: 2.1\nName: tidecast\nVersion: 0.7.0.dev83\nRequires-Dist: buoy-names ==1.0.dev1\n" +
		"Requires-Dist: soundings >=2\n\nVersion: 0.7.0.dev83 of old\n"
	content := hashed(madeup.Entry{Name: "tidecast/__init__.py",
		Content: "__version__ = '0.7.0.dev83'\nolder = '0.7.0.dev8'\n"},
		madeup.Entry{Name: "tidecast/tables.bin", Content: "\x00\x01 0.7.0.dev8"},
		madeup.Entry{Name: "tidecast-0.7.0.dev83.data/scripts/tide", Content: "#!python\n"},
		madeup.Entry{Name: "tidecast-0.7.0.dev83.dist-info/METADATA", Content: metadata},
		madeup.Entry{Name: "tidecast-0.7.0.dev83.dist-info/WHEEL", Content: "Wheel-Version: 1.0\n"})
	r, result := ecosystemtest.CheckRestamp(t, PyPI{},
		ecosystemtest.Restamp{Name: "tidecast-0.7.0.dev83-py3-none-any.whl", Content: content, Stamp: cast,
			All: ecosystem.Stamps{buoys}})
	if r.Name != "tidecast-0.7.0-py3-none-any.whl" || len(r.Mentions) != 1 { // in the description
		t.Errorf("%s: %v", r.Name, r.Mentions)
	}
	checkRecord(t, result, 6)
	p := madeup.Package{Name: "tidecast", Version: "0.7.0.dev83", Needs: map[string]string{"Buoy_Names": "==1.0.dev1"}}
	r, _ = ecosystemtest.CheckRestamp(t, PyPI{}, ecosystemtest.Restamp{Name: p.WheelName(), Content: p.Wheel(),
		Stamp: cast, All: ecosystem.Stamps{buoys}})
	if len(r.Changes) != 11 {
		t.Errorf("%d changes: %+v", len(r.Changes), r.Changes)
	}
	p.Files = []madeup.Entry{{Name: "tidecast-0.7.0.dev83.dist-info/RECORD.p7s", Content: "sealed"}}
	ecosystemtest.CheckRestamp(t, PyPI{}, ecosystemtest.Restamp{Name: p.WheelName(), Content: p.Wheel(), Stamp: cast,
		All: ecosystem.Stamps{buoys}, Obstacles: []string{"the archive is signed"}})
}

// checkRecord compares the record of a wheel with what is in it.
func checkRecord(t *testing.T, wheel []byte, entries int) {
	t.Helper()
	archive, err := zip.NewReader(bytes.NewReader(wheel), int64(len(wheel)))
	if err != nil {
		t.Fatal(err)
	}
	contents := map[string][]byte{}
	for _, f := range archive.File {
		from, err := f.Open()
		if err == nil {
			contents[f.Name], err = io.ReadAll(from)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	lines := strings.Split(strings.TrimSpace(string(contents["tidecast-0.7.0.dist-info/RECORD"])), "\r\n")
	if len(lines) != entries || len(contents) != entries {
		t.Fatalf("%d lines, %d entries: %q", len(lines), len(contents), lines)
	}
	for _, line := range lines {
		parts := strings.Split(line, ",")
		content, ok := contents[parts[0]]
		sum := sha256.Sum256(content)
		if !ok || parts[1] != "" && (parts[1] != "sha256="+base64.RawURLEncoding.EncodeToString(sum[:]) ||
			parts[2] != fmt.Sprint(len(content))) {
			t.Errorf("the record says %s", line)
		}
	}
}

// TestRestampSource restamps source distributions, from which a build must make
// the release.
func TestRestampSource(t *testing.T) {
	p := madeup.Package{Name: "tidecast", Version: "0.7.0.dev83", Readme: "0.7.0.dev83", Files: []madeup.Entry{
		{Name: "tidecast-0.7.0.dev83/pyproject.toml",
			Content: "[project]\nname = \"tidecast\"\nversion = \"0.7.0.dev83\"\nrequires = \"0.7.0.dev8\"\n"},
		{Name: "tidecast-0.7.0.dev83/setup.cfg", Content: "[metadata]\nversion = 0.7.0.dev83\n"},
		{Name: "tidecast-0.7.0.dev83/setup.py", Content: "setup(name='tidecast', version='0.7.0.dev83')\n"},
		{Name: "tidecast-0.7.0.dev83/tests/setup.txt", Content: "version='0.7.0.dev83'\n"}}}
	r, _ := ecosystemtest.CheckRestamp(t, PyPI{},
		ecosystemtest.Restamp{Name: p.SdistName(), Content: p.Sdist(), Stamp: cast})
	inside := 0
	for _, c := range r.Changes {
		if c.What != "name" {
			inside++
		}
	}
	if inside != 5 || len(r.Mentions) != 2 || r.Name != "tidecast-0.7.0.tar.gz" {
		t.Errorf("%d, %+v", inside, r)
	}
}
