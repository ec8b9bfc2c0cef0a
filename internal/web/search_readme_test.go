package web

import (
	"runtime"
	"strings"
	"testing"
	"time"

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
		got := safeHTML(catalog.Readme{Text: text, Format: "text/markdown; variant=GFM"})
		if !strings.Contains(got, want) {
			t.Errorf("%q becomes %q; want %q in it", text, got, want)
		}
		lower := strings.ToLower(got)
		for _, bad := range []string{"<script", "<img", "<form", "<input", "<style", "style=", "<iframe", "<svg", "onclick",
			"onerror", "javascript:", "data:", "class=", "id=", "<picture", "../"} {
			if strings.Contains(lower, bad) {
				t.Errorf("%q becomes %q, with %s", text, got, bad)
			}
		}
	}
	if got := safeHTML(catalog.Readme{Text: "<b>\n====", Format: "text/x-rst"}); got != "<pre>&lt;b&gt;\n====</pre>" {
		t.Errorf("%q", got)
	}
}

// TestReadmeCost: a text costs about its length, whatever it is made of, and what
// would not is shown as it was written.
func TestReadmeCost(t *testing.T) {
	n := maxMarkdown
	staircase := func(mark string) string {
		var b strings.Builder
		for i := 0; b.Len() < n; i++ {
			b.WriteString(strings.Repeat(" ", i%200) + mark + "\n")
		}
		return b.String()
	}
	texts := map[string]string{"table": strings.Repeat("a|", n/4) + "\n" + strings.Repeat("-|", n/4) + "\n" +
		strings.Repeat("a\n", n/4),
		"wide tables": strings.Repeat(strings.Repeat("a|", 50)+"\n"+strings.Repeat("-|", 50)+"\n"+strings.Repeat("a\n", 300)+
			"\n", 100),
		"stairs": staircase("- a"), "quoted stairs": staircase("> a"),
		"links in blocks": strings.Repeat(strings.Repeat("[a](", maxOpeners)+"\n\n", n/(4*maxOpeners))}
	for _, piece := range []string{"[", "[a](", "[a](<", "![", "[a]: u\n", "[a][", "*a **a ", "*a_ ", ">", "> ", "> > a\n",
		"- ", "1. ", "` `` ```", "<!--", "<a ", "<b>", "~~a ~", "www.a.", "a@b.", "\\", "&#x", "](", "*_`[", "<div>\n"} {
		texts[piece] = strings.Repeat(piece, n/len(piece))
		texts[piece+" in blocks"] = strings.Repeat(strings.Repeat(piece, 100)+"\n\n", n/(100*len(piece)+2))
	}
	for what, text := range texts {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		begun := time.Now()
		got := safeHTML(catalog.Readme{Text: text, Format: "text/markdown"})
		took := time.Since(begun)
		runtime.ReadMemStats(&after)
		if took > 5*time.Second || after.TotalAlloc-before.TotalAlloc > 200<<20 || len(got) > 2*maxHTML {
			t.Errorf("%s: %d bytes took %s and %d MiB, for %d bytes of HTML", what, len(text), took,
				(after.TotalAlloc-before.TotalAlloc)>>20, len(got))
		}
	}
	plain := strings.Repeat(
		"# Tides\n\nA [link](https://skerry.example/), a list:\n\n- one\n  - two\n\n| a | b |\n| --- | --- |\n| 1 | 2 |\n\n"+
			"---\n\n", 200)
	if intricate(plain) || !strings.HasPrefix(safeHTML(catalog.Readme{Text: plain, Format: "text/markdown"}), "<h1>") {
		t.Error("an ordinary text is not read")
	}
}

func FuzzSafeHTML(f *testing.F) {
	f.Add("# x\n<a href=javascript:x>y</a>")
	f.Fuzz(func(t *testing.T, text string) {
		if got := safeHTML(catalog.Readme{Text: text, Format: "text/markdown"}); strings.Contains(strings.ToLower(got),
			"<script") {
			t.Errorf("%q becomes %q", text, got)
		}
	})
}
