package splice

import (
	"encoding/json"
	"strings"
	"testing"
)

// change is a way to set something, so that all of them can be tried alike.
type change func(existing string) (string, error)

func set(all ...change) change {
	return func(text string) (string, error) {
		for _, c := range all {
			var err error
			if text, err = c(text); err != nil {
				return "", err
			}
		}
		return text, nil
	}
}

func ini(section, key, value string) change {
	return func(t string) (string, error) { return SetINI(t, section, key, value) }
}

func xmlText(value string, steps ...Step) change {
	return func(t string) (string, error) { return SetXML(t, steps, "", value) }
}

func server(child string) []Step {
	return []Step{{Name: "settings"}, {Name: "servers"}, {Name: "server", Child: "id", Value: "platform"}, {Name: child}}
}

var cases = []struct {
	name, before string
	do           change
	after        string // "" for an error
}{
	{"ini: a new file", "", ini("", "registry", "http://x/"), "registry=http://x/\n"},
	{"ini: a new section", "[a]\nk = v", ini("global", "index-url", "u"), "[a]\nk = v\n\n[global]\nindex-url = u\n"},
	{"ini: another value", "# mine\nregistry = https://old/\nother=1\n", ini("", "registry", "http://x/"),
		"# mine\nregistry = http://x/\nother=1\n"},
	{"ini: without a last line end", "a=1", ini("", "b", "2"), "a=1\nb=2\n"},
	{"ini: before the first section", "a=1\n\n[s]\nb=2\n", ini("", "c", "3"), "a=1\nc=3\n\n[s]\nb=2\n"},
	{"ini: in a section in the middle", "[s]\na = 1\n\n[t]\nb = 2\n", ini("s", "c", "3"),
		"[s]\na = 1\nc = 3\n\n[t]\nb = 2\n"},
	{"ini: commented out is not set", "[s]\n# a = 1\n", ini("s", "a", "2"), "[s]\n# a = 1\na = 2\n"},
	{"ini: over several lines", "[s]\na =\n  1\n  2\nb = 3\n", ini("s", "a", "4"), "[s]\na =4\nb = 3\n"},
	{"ini: of Windows", "a=1\r\nb=2\r\n", ini("", "a", "3"), "a=3\r\nb=2\r\n"},
	{"ini: a line break in the value", "", ini("", "a", "1\n2"), ""},
	{"ini: a list begins", "", func(t string) (string, error) {
		return AddToINI(t, "distutils", "index-servers", "platform")
	}, "[distutils]\nindex-servers = platform\n"},
	{"ini: a list in one line", "[distutils]\nindex-servers = pypi\n", func(t string) (string, error) {
		return AddToINI(t, "distutils", "index-servers", "platform")
	},
		"[distutils]\nindex-servers =\n    pypi\n    platform\n"},
	{"ini: a list in several lines", "[distutils]\nindex-servers =\n  pypi\n  x\n\n[x]\n", func(t string) (string, error) {
		return AddToINI(t, "distutils", "index-servers", "platform")
	}, "[distutils]\nindex-servers =\n  pypi\n  x\n  platform\n\n[x]\n"},

	{"ini: a section with a comment behind", "[global] # mine\nindex-url = a\n", ini("global", "index-url", "u"), ""},
	{"ini: a section with spaces", "[ global ]\nindex-url = a\n", ini("global", "index-url", "u"), ""},
	{"ini: a section twice", "[global]\na = 1\n[x]\n[global]\nb = 2\n", ini("global", "index-url", "u"), ""},
	{"ini: with a colon", "[global]\nindex-url: https://old/\n", ini("global", "index-url", "u"), ""},
	{"ini: in another case", "[global]\nIndex-URL = https://old/\n", ini("global", "index-url", "u"), ""},
	{"ini: twice", "registry=a\nx=1\nregistry=b\n", ini("", "registry", "u"), ""},
	{"ini: a property with a blank", "realm Other\n", ini("", "realm", "Crelvo"), ""},
	{"ini: a key that begins alike", "//h/at/x/:_authToken=a\nregistry-x=1\n", ini("", "registry", "u"),
		"//h/at/x/:_authToken=a\nregistry-x=1\nregistry=u\n"},

	{"netrc: a macro", "machine a login b password c\nmacdef init\nmachine h\n\n", func(t string) (string, error) {
		return SetNetrc(t, "h", "u", "p")
	}, ""},
	{"netrc: quoted", "machine a login b password \"c machine h\"\n", func(t string) (string, error) {
		return SetNetrc(t, "h", "u", "p")
	}, ""},
	{"netrc: a new file", "", func(t string) (string, error) {
		return SetNetrc(t, "h", "u", "p")
	}, "machine h\n  login u\n  password p\n"},
	{"netrc: in one line", "machine a login b password c\nmachine h login x password y\nmachine z login b password c\n",
		func(t string) (string, error) { return SetNetrc(t, "h", "u", "p") },
		"machine a login b password c\nmachine h\n  login u\n  password p\nmachine z login b password c\n"},
	{"netrc: before the default", "# mine\nmachine a login b password c\ndefault login d password e\n",
		func(t string) (string, error) { return SetNetrc(t, "h", "u", "p") },
		"# mine\nmachine a login b password c\nmachine h\n  login u\n  password p\ndefault login d password e\n"},
	{"netrc: a space in the secret", "", func(t string) (string, error) { return SetNetrc(t, "h", "u", "p q") }, ""},

	{"yaml: a new file", "", func(t string) (string, error) {
		return SetYAML(t, []string{"npmRegistries", "//h/at", "npmAuthToken"}, `"x"`)
	},
		"npmRegistries:\n  \"//h/at\":\n    npmAuthToken: \"x\"\n"},
	{"yaml: another value", "# mine\nnpmRegistryServer: \"https://old\"\nnodeLinker: node-modules\n",
		func(t string) (string, error) { return SetYAML(t, []string{"npmRegistryServer"}, `"http://x"`) },
		"# mine\nnpmRegistryServer: \"http://x\"\nnodeLinker: node-modules\n"},
	{"yaml: below a key that is there", "npmRegistries:\n    '//a':\n        npmAuthToken: y\n\n# end\nz: 1\n",
		func(t string) (string, error) {
			return SetYAML(t, []string{"npmRegistries", "//h", "npmAuthToken"}, "x")
		},
		"npmRegistries:\n    '//a':\n        npmAuthToken: y\n    \"//h\":\n      npmAuthToken: x\n\n# end\nz: 1\n"},
	{"yaml: in one line", "npmRegistries: {}\n", func(t string) (string, error) {
		return SetYAML(t, []string{"npmRegistries", "//h", "npmAuthToken"}, "x")
	}, "npmRegistries: {\"//h\": {npmAuthToken: x}}\n"},
	{"yaml: among others in one line", "a: {\n  b: 1, # one\n  c: [2, 3],\n}\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a", "d"}, "x")
	}, "a: {\n  b: 1, # one\n  c: [2, 3], d: x}\n"},
	{"yaml: a value in one line", "a: {b: {c: old}, é: \"y\"} # mine\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a", "b", "c"}, "x")
	}, "a: {b: {c: x}, é: \"y\"} # mine\n"},
	{"yaml: the comment behind a value stays", "a: 'old'   # mine\nb: 1\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a"}, "x")
	}, "a: x   # mine\nb: 1\n"},
	{"yaml: nothing yet, and a comment", "a: # mine\nb: 1\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a", "c"}, "x")
	}, "a: # mine\n  c: x\nb: 1\n"},
	{"yaml: a value where none is", "a:\nb: 1\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a"}, "x")
	}, "a: x\nb: 1\n"},
	{"yaml: carriage returns", "# mine\r\na:\r\n  b: old\r\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a", "c"}, "x")
	}, "# mine\r\na:\r\n  b: old\r\n  c: x\r\n"},
	{"yaml: carriage returns here and there", "a: 1\r\nb: 2\n", func(t string) (string, error) {
		return SetYAML(t, []string{"c"}, "x")
	}, ""},
	{"yaml: a value with an anchor", "a: &old 1\nb: *old\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a"}, "x")
	}, ""},
	{"yaml: below a text", "a: text\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a", "b"}, "x")
	}, ""},
	{"yaml: two documents", "a: 1\n---\nb: 1\n", func(t string) (string, error) {
		return SetYAML(t, []string{"a"}, "x")
	}, ""},
	{"yaml: a document's head, and a map below", "---\na:\n  - 1\n\n# end\n", func(t string) (string, error) {
		return SetYAML(t, []string{"b"}, "x")
	}, "---\na:\n  - 1\nb: x\n\n# end\n"},
	{"yaml: a list of another form", "unsafeHttpWhitelist:\n  - a\n  - b\nz: 1\n", func(t string) (string, error) {
		return SetYAML(t, []string{"unsafeHttpWhitelist"}, "[a]")
	},
		"unsafeHttpWhitelist: [a]\nz: 1\n"},

	{"yaml: a flow map above", "{a: 1}\n", func(t string) (string, error) {
		return SetYAML(t, []string{"npmRegistryServer"}, "x")
	}, "{a: 1, npmRegistryServer: x}\n"},
	{"yaml: a text of several lines", "a: |\n  npmRegistries:\n    b: 1\nnpmRegistries:\n",
		func(t string) (string, error) {
			return SetYAML(t, []string{"npmRegistries", "b"}, "x")
		}, "a: |\n  npmRegistries:\n    b: 1\nnpmRegistries:\n  b: x\n"},
	{"yaml: a key twice", "a: 1\na: 2\n", func(t string) (string, error) { return SetYAML(t, []string{"b"}, "x") }, ""},

	{"toml: an inline table", "[http-basic]\nplatform = { username = \"a\" }\n", func(t string) (string, error) {
		return SetTOML(t, "http-basic.platform", "", []Setting{{"username", "u"}})
	}, ""},
	{"toml: a quoted head", "[http-basic.\"platform\"]\nusername = \"a\"\n", func(t string) (string, error) {
		return SetTOML(t, "http-basic.platform", "", []Setting{{"username", "u"}})
	}, "[http-basic.\"platform\"]\nusername = \"u\"\n"},
	{"toml: a spaced head", "[ http-basic . platform ]\nusername = \"a\"\n", func(t string) (string, error) {
		return SetTOML(t, "http-basic.platform", "", []Setting{{"username", "u"}})
	}, "[ http-basic . platform ]\nusername = \"u\"\n"},
	{"toml: a comment behind the value", "[r.p] # mine\nurl = \"a#b\"  # old # one\nx = 1\n",
		func(t string) (string, error) {
			return SetTOML(t, "r.p", "", []Setting{{"url", "u"}})
		}, "[r.p] # mine\nurl = \"u\"  # old # one\nx = 1\n"},
	{"toml: a text of several lines", "a = \"\"\"\n[r.p]\nurl = \"x\"\n\"\"\"\n", func(t string) (string, error) {
		return SetTOML(t, "r.p", "", []Setting{{"url", "u"}})
	}, "a = \"\"\"\n[r.p]\nurl = \"x\"\n\"\"\"\n\n[r.p]\nurl = \"u\"\n"},
	{"toml: another form of the name", "[[i]]\nname = 'platform'\nurl = \"2\"\n", func(t string) (string, error) {
		return SetTOML(t, "i", "name", []Setting{{"name", "platform"}, {"url", "u"}})
	}, "[[i]]\nname = 'platform'\nurl = \"u\"\n"},
	{"toml: none", "[[[\n", func(t string) (string, error) { return SetTOML(t, "i", "", []Setting{{"url", "u"}}) }, ""},
	{"toml: a new table", "[project]\nname = \"x\"", func(t string) (string, error) {
		return SetTOML(t, "tool.uv.index", "name", []Setting{{"name", "platform"}, {"url", "u"}, {"default", "true"}})
	}, "[project]\nname = \"x\"\n\n[[tool.uv.index]]\nname = \"platform\"\nurl = \"u\"\ndefault = true\n"},
	{"toml: one of several",
		"[[i]]\nname = \"a\"\nurl = \"1\" \n\n[[i]]\nname = \"platform\" \nurl = \"2\"\n# mine\n[z]\nq = 1\n",
		func(t string) (string, error) {
			return SetTOML(t, "i", "name", []Setting{{"name", "platform"}, {"url", "u"}})
		}, "[[i]]\nname = \"a\"\nurl = \"1\" \n\n[[i]]\nname = \"platform\" \nurl = \"u\"\n# mine\n[z]\nq = 1\n"},
	{"toml: a key more", "[http-basic.platform]\nusername = \"u\"\n\n[z]\n", func(t string) (string, error) {
		return SetTOML(t, "http-basic.platform", "", []Setting{{"username", "u"}, {"password", "p"}})
	}, "[http-basic.platform]\nusername = \"u\"\npassword = \"p\"\n\n[z]\n"},

	{"xml: a new file", "", set(xmlText("ci", server("username")...), xmlText("a<b", server("password")...)),
		"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<settings>\n  <servers>\n    <server>\n      <id>platform</id>\n" +
			"      <username>ci</username>\n      <password>a&lt;b</password>\n    </server>\n  </servers>\n</settings>\n"},
	{"xml: beside others",
		"<settings xmlns=\"http://maven.example/S\">\n\t<!-- mine -->\n\t<servers>\n\t\t<server><id>other</id></server>\n" +
			"\t</servers>\n</settings>\n", xmlText("ci", server("username")...),
		"<settings xmlns=\"http://maven.example/S\">\n\t<!-- mine -->\n\t<servers>\n\t\t<server><id>other</id></server>\n" +
			"\t\t<server>\n\t\t\t<id>platform</id>\n\t\t\t<username>ci</username>\n\t\t</server>\n\t</servers>\n</settings>\n"},
	{"xml: another value, the rest kept",
		"<settings><servers><server>\n" +
			"  <id> platform </id><configuration><t>1</t></configuration><username>x</username></server></servers></settings>",
		xmlText("ci", server("username")...),
		"<settings><servers><server>\n" +
			"  <id> platform </id><configuration><t>1</t></configuration><username>ci</username></server></servers></settings>"},
	{"xml: closes itself", "<settings>\n  <servers/>\n</settings>\n", xmlText("ci", server("username")...),
		"<settings>\n  <servers>\n    <server>\n      <id>platform</id>\n      <username>ci</username>\n    </server>\n" +
			"  </servers>\n</settings>\n"},
	{"xml: an attribute",
		"<configuration>\n  <packageSources>\n    <clear />\n    <add key=\"x\" value='1' />\n  </packageSources>\n" +
			"</configuration>", func(t string) (string, error) {
			steps := func(key string) []Step {
				return []Step{{Name: "configuration"}, {Name: "packageSources"}, {Name: "add", Attr: "key", Value: key}}
			}
			t, err := SetXML(t, steps("x"), "value", "2")
			if err == nil {
				t, err = SetXML(t, steps("y"), "value", "3")
			}
			if err == nil {
				t, err = SetXML(t, steps("y"), "protocolVersion", "3")
			}
			return t, err
		}, "<configuration>\n  <packageSources>\n    <clear />\n    <add key=\"x\" value=\"2\" />\n" +
			"    <add key=\"y\" value=\"3\" protocolVersion=\"3\" />\n  </packageSources>\n</configuration>"},
	{"xml: an element that its attribute names", "<ivysettings>\n</ivysettings>\n", func(t string) (string, error) {
		return SetXML(t, []Step{{Name: "ivysettings"}, {Name: "properties", Attr: "file", Value: "f"}}, "file", "f")
	}, "<ivysettings>\n  <properties file=\"f\" />\n</ivysettings>\n"},
	{"xml: another root", "<project/>", xmlText("ci", server("username")...), ""},
	{"xml: broken", "<settings><servers></settings>", xmlText("ci", server("username")...), ""},

	{"block: at the end", "plugins {}\n", func(t string) (string, error) { return Block(t, "//", "platform", "x {}") },
		"plugins {}\n\n// crelvo platform: begin\nx {}\n// crelvo platform: end\n"},
	{"block: again", "a\n// crelvo p: begin\nold\n// crelvo p: end\nb\n", func(t string) (string, error) {
		return Block(t, "//", "p", "new\n")
	},
		"a\n// crelvo p: begin\nnew\n// crelvo p: end\nb\n"},
	{"json: a text",
		"{\n  \"name\": \"x\",\n  \"publishConfig\": {\"tag\": \"a\\\"b\", \"registry\" : \"old\"},\n" +
			"  \"list\": [{\"publishConfig\": {\"registry\": \"no\"}}]\n}\n",
		func(t string) (string, error) {
			return SetJSON(t, []string{"publishConfig", "registry"}, "https://new/?a=1&b")
		},
		"{\n  \"name\": \"x\",\n  \"publishConfig\": {\"tag\": \"a\\\"b\", \"registry\" : \"https://new/?a=1&b\"},\n" +
			"  \"list\": [{\"publishConfig\": {\"registry\": \"no\"}}]\n}\n"},
	{"json: quotes within", `{"a": "x\\\"y"}`, func(t string) (string, error) {
		return SetJSON(t, []string{"a"}, "z")
	}, `{"a": "z"}`},
	{"json: nothing there", `{"a": {"b": 1}}`, func(t string) (string, error) {
		return SetJSON(t, []string{"a", "b"}, "z")
	}, `{"a": {"b": 1}}`},
	{"json: none", `{"a": `, func(t string) (string, error) { return SetJSON(t, []string{"a"}, "z") }, ""},
	{"block: its end is gone", "// crelvo p: begin\nold\n", func(t string) (string, error) {
		return Block(t, "//", "p", "new\n")
	}, ""},
}

// TestSet: what is set is set, all else stays, and a second time nothing changes.
// TestQuotedTable: a name with dots is one name.
func TestQuotedTable(t *testing.T) {
	const before = "[registry.\"a.example\"]\nmirrors = [\"x\"]\n"
	values := []Setting{{Key: "http", Value: "true"}}
	if got, err := SetTOML(before, `registry."a.example"`, "", values); err != nil || got != before+"http = true\n" {
		t.Errorf("%q, %v", got, err)
	}
	want := before + "\n[registry.\"b.example\"]\nhttp = true\n"
	if got, err := SetTOML(before, `registry."b.example"`, "", values); err != nil || got != want {
		t.Errorf("%q, %v", got, err)
	}
}

func TestSet(t *testing.T) {
	for _, c := range cases {
		got, err := c.do(c.before)
		if c.after == "" {
			if err == nil {
				t.Errorf("%s: done:\n%s", c.name, got)
			}
			continue
		}
		if err != nil || got != c.after {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.name, err, got, c.after)
			continue
		}
		if again, err := c.do(got); err != nil || again != got {
			t.Errorf("%s, a second time: %v\n%s", c.name, err, again)
		}
	}
}

func TestGet(t *testing.T) {
	if v, _ := GetINI("[s]\na = x\n  y\n", "s", "a"); v != "x\ny" {
		t.Errorf("%q", v)
	}
	if names := SectionsINI("a=1\n[b]\n[ c ]\n"); strings.Join(names, ",") != "b,c" {
		t.Error(names)
	}
	if v, ok := GetYAML("a:\n  'b':\n    c: \"d e\" \n", "a", "b", "c"); !ok || v != "d e" {
		t.Errorf("%q %v", v, ok)
	}
	// What was cut is no YAML, and what stands before it is found.
	if v, ok := GetYAML("b: {c: 1}\na: crelvo_x\ny\n", "a"); !ok || v != "crelvo_x" {
		t.Errorf("%q %v", v, ok)
	}
	if v, ok := GetYAML("a: [b, \"c\"] # d\r\ne: |\r\n  f\r\n", "a"); !ok || v != `[b, "c"]` {
		t.Errorf("%q %v", v, ok)
	}
	if v, ok := GetYAML("a:\n  - b\n  - c\nd: 1\n", "a"); !ok || v != "- b\n  - c" {
		t.Errorf("%q %v", v, ok)
	}
	if keys := KeysYAML("a:\n  b: 1\n  \"//c\": 2\nd: 3\n", "a"); strings.Join(keys, " ") != "b //c" {
		t.Error(keys)
	}
	if tables := GetTOML("[[i]]\nname = \"a\"\n[[i]]\nname = 'b'\nd = true\n", "i"); len(tables) != 2 ||
		tables[1]["name"] != "b" || tables[1]["d"] != "true" {
		t.Error(tables)
	}
	root, err := ReadXML("<s xmlns='u'><servers><server><id> a </id></server><server><id>b</id></server></servers></s>")
	if err != nil || len(root.Below("servers", "server")) != 2 || root.Below("servers", "server")[0].Says("id") != "a" {
		t.Error(root, err)
	}
	if l, p, ok := GetNetrc("machine h login u password p", "h"); !ok || l != "u" || p != "p" {
		t.Error(l, p, ok)
	}
}

// FuzzSet: whatever the file is, setting does not crash, and what was set is
// read again.
func FuzzSet(f *testing.F) {
	for _, c := range cases {
		f.Add(c.before)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if got, err := SetINI(text, "s", "key", "value"); err == nil {
			if v, ok := GetINI(got, "s", "key"); !ok || v != "value" {
				t.Errorf("ini: %q became %q, which says %q", text, got, v)
			}
		}
		if got, err := SetXML(text, server("password"), "", "value"); err == nil {
			if _, err := ReadXML(got); err != nil {
				t.Errorf("xml: %q became %q: %v", text, got, err)
			}
		}
		if got, err := SetYAML(text, []string{"a", "b"}, "value"); err == nil {
			if v, ok := GetYAML(got, "a", "b"); !ok || v != "value" {
				t.Errorf("yaml: %q became %q, which says %q", text, got, v)
			}
		}
		if got, err := SetNetrc(text, "host", "u", "p"); err == nil {
			if l, p, ok := GetNetrc(got, "host"); !ok || l != "u" || p != "p" {
				t.Errorf("netrc: %q became %q, which says %q %q", text, got, l, p)
			}
		}
		if got, err := SetJSON(text, []string{"a"}, "value"); err == nil && got != text {
			var is struct {
				A any `json:"a"`
			}
			if err := json.Unmarshal([]byte(got), &is); err != nil && json.Valid([]byte(text)) {
				t.Errorf("json: %q became %q: %v", text, got, err)
			}
		}
		if _, err := SetTOML(text, "t", "name", []Setting{{"name", "x"}, {"url", "u"}}); err != nil {
			return
		}
	})
}

func TestRemoveXML(t *testing.T) {
	entry := []Step{{Name: "c"}, {Name: "off"}, {Name: "add", Attr: "key", Value: "x"}}
	for _, c := range []struct{ text, want string }{
		{"<c>\n  <off>\n    <add key=\"y\" />\n    <add key=\"x\" />\n  </off>\n</c>\n",
			"<c>\n  <off>\n    <add key=\"y\" />\n  </off>\n</c>\n"},
		{"<c>\r\n<off>\r\n<add key='x'>1</add> \r\n</off>\r\n</c>", "<c>\r\n<off>\r\n</off>\r\n</c>"},
		{`<c><off><add key="x"/><!-- stays --></off></c>`, `<c><off><!-- stays --></off></c>`},
		{`<c><off><add key="y"/></off></c>`, `<c><off><add key="y"/></off></c>`},
		{`<d><off><add key="x"/></off></d>`, `<d><off><add key="x"/></off></d>`},
		{"", ""},
	} {
		if made, err := RemoveXML(c.text, entry); made != c.want || err != nil {
			t.Errorf("%q: %q, %v; want %q", c.text, made, err, c.want)
		}
	}
	if _, err := RemoveXML("<c><off></c>", entry); err == nil {
		t.Error("what is not XML was changed")
	}
}
