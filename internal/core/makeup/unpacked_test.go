package makeup

import (
	"encoding/binary"
	"fmt"
	"testing"
)

func TestCodeOf(t *testing.T) {
	pe := make([]byte, HeadLength)
	copy(pe, "MZ")
	binary.LittleEndian.PutUint32(pe[0x3c:], 0x80)
	text := []byte("MZ is how this text begins, and it is no program of any kind; it only begins so.")
	for _, c := range []struct {
		head []byte
		want string
	}{
		{[]byte("\x7fELF\x02\x01\x01"), "ELF"}, {pe, "PE"}, {text, ""}, {[]byte("MZ"), ""},
		{[]byte("\x00asm\x01\x00\x00\x00"), "WebAssembly"},
		{[]byte("\xfe\xed\xfa\xcf\x00\x00\x00\x01"), "Mach-O"}, {[]byte("\xcf\xfa\xed\xfe\x00\x00\x00\x01"), "Mach-O"},
		{[]byte("\xca\xfe\xba\xbe\x00\x00\x00\x02"), "Mach-O"}, // for two processors
		{[]byte("\xca\xfe\xba\xbe\x00\x00\x00\x34"), ""},       // a class of Java 8
		{[]byte("#!/bin/sh\n"), ""}, {nil, ""},
	} {
		if got := CodeOf(c.head); got != c.want {
			t.Errorf("%q is %q, not %q", c.head, got, c.want)
		}
	}
}

func TestUnpacked(t *testing.T) {
	unpacked := func(prefix string, files map[string]byte) Tree {
		var all []File
		for name, sum := range files {
			all = append(all, File{Path: prefix + name, Size: int64(sum), Sum: [32]byte{sum}})
		}
		return Unpacked(all)
	}
	before := unpacked("kelp-1.0/", map[string]byte{"a": 1, "b/c": 2, "d": 3})
	after := unpacked("kelp-1.1/", map[string]byte{"a": 1, "b/c": 4, "e": 5})
	said := ""
	for _, d := range Differences(before, after) {
		said += fmt.Sprintf("%s %t %t; ", d.Path, d.Before != nil, d.After != nil)
	}
	if said != "b/c true true; d true false; e false true; " {
		t.Errorf("different are %s", said)
	}
	if all := Differences(after, after); all != nil {
		t.Errorf("the same differ: %+v", all)
	}
	// Where not all files are in one folder, none is taken for one that names the version.
	for _, files := range []map[string]byte{{"lib/a": 1, "b": 2}, {"lib/a": 1, "bin/b": 2}} {
		if tree := unpacked("", files); tree["lib/a"] == nil {
			t.Errorf("%+v", tree)
		}
	}
}

func TestChoose(t *testing.T) {
	for _, c := range []struct {
		names []string
		want  string
	}{
		{[]string{"x-1.0-py3-none-any.whl", "x-1.0.tar.gz"}, "x-1.0.tar.gz"},
		{[]string{"x-1.0.pom", "x-1.0-sources.jar", "x-1.0.jar"}, "x-1.0.jar"},
		{[]string{"x-1.0.tgz"}, "x-1.0.tgz"}, {[]string{"x-1.0.pom"}, ""}, {nil, ""},
	} {
		if got := Choose(c.names); got != c.want {
			t.Errorf("of %v %q is chosen, not %q", c.names, got, c.want)
		}
	}
}
