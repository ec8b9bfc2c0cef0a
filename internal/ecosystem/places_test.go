package ecosystem

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"crelvo/internal/core/budget/budgettest"
)

func TestXMLPlaces(t *testing.T) {
	const text = "\xef\xbb\xbf<?xml version='1.0' encoding='ISO-8859-15'?>\n<a x = \"1\" y='(2)'>\n <b>\tone \xe9 two\n" +
		"</b><b><![CDATA[raw]]></b><c>x<!-- y -->z</c><d/><e>&lt;</e></a>\n<!-- end -->"
	root, err := ParseXMLPlaces([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	if root.Name != "a" || len(root.Children) != 5 || root.TextOf("none") != "" || root.Child("none").Child("x") != nil {
		t.Fatalf("%+v", root)
	}
	for _, c := range []struct {
		i           int
		text, there string
	}{{0, "one ? two", ""}, {1, "raw", ""}, {2, "xz", ""}, {3, "", ""}, {4, "<", ""}} {
		got := root.Children[c.i]
		if got.Text != c.text || got.To != 0 && text[got.From:got.To] != c.there {
			t.Errorf("child %d: %q at %d to %d", c.i, got.Text, got.From, got.To)
		}
	}
	for name, want := range map[string]string{"x": "1", "y": "(2)", "z": ""} {
		value, from, to := root.Attribute(name)
		if value != want || text[from:to] != want {
			t.Errorf("%s is %q, at %q", name, value, text[from:to])
		}
	}
	plain, err := ParseXMLPlaces([]byte("<v>  1.0\n</v>"))
	if err != nil || plain.Text != "1.0" || plain.From != 5 || plain.To != 8 {
		t.Errorf("%+v, %v", plain, err)
	}
	for _, bad := range []string{"", "text", "<a>", "<a></b>", "<!DOCTYPE a><a/>", "<a/><b/>", strings.Repeat("<a>", 100) +
		strings.Repeat("</a>", 100)} {
		if root, err := ParseXMLPlaces([]byte(bad)); err == nil {
			t.Errorf("%.30q: %+v", bad, root)
		}
	}
}

func TestJSONPlaces(t *testing.T) {
	const text = ` {"a" : "one \" \\", "b":[1, -2.50e3 ,{"c\u00e9":"x"}, [] , null, "last"], "":{"":"empty"}, "a":"again", "t": true}`
	places, err := ParseJSONPlaces([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range places {
		got = append(got, strings.Join(p.Path, "/")+"="+text[p.From:p.To])
	}
	want := []string{`a="one \" \\"`, "b/0=1", "b/1=-2.50e3", `b/2/cé="x"`, `b/5="last"`, `/="empty"`, `a="again"`}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%q\ninstead of\n%q", got, want)
	}
	if p := places[3]; p.Key() != "cé" || !p.Is("b", "*", "cé") || p.Is("b", "2") || !p.Ends("2", "cé") || p.parent(1) != "b\x002" ||
		p.parent(9) != "" {
		t.Errorf("%+v", p)
	}
	for _, bad := range []string{"{", `{"a" 1}`, "[1,", strings.Repeat("[", 100)} {
		if places, err := ParseJSONPlaces([]byte(bad)); err == nil {
			t.Errorf("%.30q: %+v", bad, places)
		}
	}
}

func TestSwap(t *testing.T) {
	own := Stamp{Name: "tide-model", From: "1.4.0-SNAPSHOT", Upload: "1.4.0-20261101.080910-3", To: "1.4.0"}
	other := Stamp{Name: "fare-engine", From: "1.4.0-SNAPSHOT", To: "1.4.1"}
	third := Stamp{Name: "line", From: "2-SNAPSHOT", To: "2"}
	f := ToRestamp{Stamp: own, All: Stamps{own, other, third}}
	for text, want := range map[string]string{
		"1.4.0-SNAPSHOT": "1.4.0", "[1.4.0-SNAPSHOT,2)": "[1.4.0,2)", "v1.4.0-SNAPSHOT": "v1.4.0",
		"11.4.0-SNAPSHOT": "11.4.0-SNAPSHOT", "1.4.0-SNAPSHOTS": "1.4.0-SNAPSHOTS",
		"0.1.4.0-SNAPSHOT": "0.1.4.0-SNAPSHOT", "tide-model-1.4.0-20261101.080910-3.jar": "tide-model-1.4.0.jar",
		"fare-engine-1.4.0-SNAPSHOT.jar": "fare-engine-1.4.1.jar",
		"line 2-SNAPSHOT, 2-SNAPSHOT":    "line 2, 2", "1.4.0-20261101.080910-31": "1.4.0-20261101.080910-31", "": "",
		"é1.4.0-SNAPSHOTé": "é1.4.0é",
	} {
		if got := f.Swap(text, nil); got != want {
			t.Errorf("%q became %q, not %q", text, got, want)
		}
	}
}

func FuzzXMLPlaces(f *testing.F) {
	f.Add([]byte(`<a x="1"><b> two </b></a>`))
	f.Add([]byte("<?xml version='1.0' encoding='latin1'?><a>\xe9</a>"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		budgettest.Fuzzed(t, "<x>", string(raw), "</x>", func(raw []byte) {
			_, _ = ParseXMLPlaces(raw)
		}) // only what it costs
		root, err := ParseXMLPlaces(raw)
		if err != nil {
			return
		}
		var splices []Splice
		var walk func(p *XMLPlace)
		walk = func(p *XMLPlace) {
			if p.To != 0 {
				splices = append(splices, Splice{p.From, p.To, string(raw[p.From:p.To])})
			}
			if value, from, to := p.Attribute("x"); to != 0 && string(raw[from:to]) != value {
				t.Errorf("the attribute %q stands at %q", value, raw[from:to])
			}
			for _, child := range p.Children {
				walk(child)
			}
		}
		walk(root)
		if got := Spliced(raw, splices); string(got) != string(raw) {
			t.Errorf("%q became %q", raw, got)
		}
	})
}

func FuzzJSONPlaces(f *testing.F) {
	f.Add([]byte(`{"a":["b",1,{"c":"\\\""}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		budgettest.Fuzzed(t, "[", strings.TrimSuffix(string(raw), ",")+",", "1]", func(raw []byte) {
			_, _ = ParseJSONPlaces(raw)
		}) // only what it costs
		places, err := ParseJSONPlaces(raw)
		if err != nil {
			return
		}
		for _, p := range places {
			var value any
			if err := json.Unmarshal(raw[p.From:p.To], &value); err != nil {
				t.Fatalf("%q: %q stands at %q", raw, p.Value, raw[p.From:p.To])
			}
			if text, ok := value.(string); ok == p.Number || ok && text != p.Value {
				t.Errorf("%q: %q is %v", raw, p.Value, value)
			}
		}
	})
}
