package npm

import (
	"strings"
	"testing"

	"crelvo/internal/core/fault"
)

// TestContradicts: what counts is in the tarball; what is said beside it may have
// another form, and no other meaning.
func TestContradicts(t *testing.T) {
	const plain = `{"name":"@skerry/deck-ui","version":"1.0.0",`
	for _, c := range []struct{ said, read, field string }{
		{`"license":"MIT"}`, `"license":"GPL-3.0-only"}`, "license"},
		{`"license":"MIT"}`, `"description":"x"}`, "license"},
		{`"description":"x"}`, `"scripts":{"postinstall":"curl evil"}}`, "scripts"},
		{`"scripts":{"test":"x"}}`, `"scripts":{"preinstall":"a"}}`, "scripts"},
		{`"dependencies":{"kelp":"^1.0.0"}}`, `"dependencies":{"kelp":"^1.0.0-dev.1"}}`, "dependencies"},
		{`"dependencies":{}}`, `"dependencies":{"kelp":"1"}}`, "dependencies"},
		{`"peerDependencies":{"kelp":"1"}}`, `"x":1}`, "peerDependencies"},
		{`"bin":{"deck":"a.js"}}`, `"bin":{"deck":"b.js"}}`, "bin"},
		{`"os":["linux"]}`, `"os":["win32"]}`, "os"},
		// The forms that clients write.
		{`"bin":{"deck-ui":"cli.js"}}`, `"bin":"./cli.js"}`, ""},
		{`"dependencies":{"kelp":"1","fathom":"2"},"optionalDependencies":{"fathom":"2"}}`,
			`"dependencies":{"kelp":"1"},"optionalDependencies":{"fathom":"2"}}`, ""},
		{`"scripts":{"install":"node-gyp rebuild"},"gypfile":true}`, `"x":1}`, ""},
		{`"license":{"type":"MIT"}}`, `"license":"MIT"}`, ""},
		{`"repository":{"type":"git","url":"git+https://skerry.example/x.git"},"gitHead":"abc","readme":"y"}`,
			`"repository":"https://skerry.example/x"}`, ""},
		{`"os":["linux","darwin"],"engines":{}}`, `"os":["darwin","linux"]}`, ""},
		{`"devDependencies":{"x":"1"}}`, `"name2":"y"}`, ""},
	} {
		said, err := parseManifest([]byte(plain+c.said), false)
		if err != nil {
			t.Fatal(err)
		}
		read, err := parseManifest([]byte(plain+c.read), false)
		if err != nil {
			t.Fatal(err)
		}
		a, err := said.details()
		if err != nil {
			t.Fatal(err)
		}
		b, err := read.details()
		if err != nil {
			t.Fatal(err)
		}
		err = New().Contradicts(a, b)
		if (err != nil) != (c.field != "") || err != nil &&
			(!fault.Is(err, fault.Invalid) || !strings.Contains(err.Error(), "another "+c.field+" ")) {
			t.Errorf("said %s, read %s: %v; want %q", c.said, c.read, err, c.field)
		}
	}
}
