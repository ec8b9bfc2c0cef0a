package web

import (
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
)

// TestSafeHTML: nothing that people publish may act in the console.
func TestSafeHTML(t *testing.T) {
	for text, want := range map[string]string{
		"# Deck\n\n| a | b |\n| --- | --- |\n| 1 | 2 |":           "<table>",
		"**bold** ~~gone~~ `code`":                                "<strong>bold</strong> <del>gone</del> <code>code</code>",
		"[bridge](https://skerry.example/)":                       `rel="nofollow noreferrer noopener"`,
		"see https://skerry.example/x":                            `href="https://skerry.example/x"`,
		"<details><summary>More</summary>x</details>":             "",
		"<script>alert(1)</script>":                               "",
		"<img src=x onerror=alert(1)>":                            "",
		"![x](https://tracker.example/p.png)":                     "",
		"[x](javascript:alert(1)) [y](data:text/html,z)":          "",
		"<a href=\"java&#115;cript:alert(1)\">x</a>":              "",
		"<form action=https://x.example><input name=p></form>":    "",
		"<style>body{display:none}</style><p style=\"top:0\">x":   "",
		"<iframe src=https://x.example></iframe><svg onload=a()>": "",
		"<p onclick=\"a()\" class=\"fixed\" id=\"root\">x</p>":    "<p>x</p>",
		"[x](../../api/v1/session)":                               "",
	} {
		got, err := safeHTML(catalog.Readme{Text: text, Format: "text/markdown; variant=GFM"})
		if err != nil || !strings.Contains(got, want) {
			t.Errorf("%q becomes %q, %v; want %q in it", text, got, err, want)
		}
		lower := strings.ToLower(got)
		for _, bad := range []string{"<script", "<img", "<form", "<input", "<style", "style=", "<iframe", "<svg", "onclick", "onerror", "javascript:", "data:", "class=", "id=", "<picture", "../"} {
			if strings.Contains(lower, bad) {
				t.Errorf("%q becomes %q, with %s", text, got, bad)
			}
		}
	}
	if got, err := safeHTML(catalog.Readme{Text: "<b>\n====", Format: "text/x-rst"}); err != nil || got != "<pre>&lt;b&gt;\n====</pre>" {
		t.Errorf("%q, %v", got, err)
	}
}

func FuzzSafeHTML(f *testing.F) {
	f.Add("# x\n<a href=javascript:x>y</a>")
	f.Fuzz(func(t *testing.T, text string) {
		got, err := safeHTML(catalog.Readme{Text: text, Format: "text/markdown"})
		if err == nil && strings.Contains(strings.ToLower(got), "<script") {
			t.Errorf("%q becomes %q", text, got)
		}
	})
}
