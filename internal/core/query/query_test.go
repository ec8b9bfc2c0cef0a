package query

import (
	"fmt"
	"strings"
	"testing"

	"crelvo/internal/core/fault"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "[] [] [] []",
		"berth  planner":         "[berth planner] [] [] []",
		`"berth planner" x`:      "[berth planner x] [] [] []",
		"example.skerry:planner": "[example.skerry planner] [] [] []",
		"@skerry/deck-ui":        "[@skerry deck-ui] [] [] []",
		"@stale berth":           "[berth] [] [] [stale]",
		"pkg:npm/@skerry/*":      "[] [pkg:npm/@skerry/*] [] []",
		"repo:releases age:>30d downloads:0 licence:MIT holds:snapshots": "[] [] [repo=releases age>>30d downloads=0 " +
			"licence=MIT holds=snapshots] []",
		"-repo:snapshots size:>=10MiB used:<2w": "[] [] [-repo=snapshots size>=>=10MiB used<<2w] []",
		`by:"ci berth"`:                         "[] [] [by=ci berth] []",
		"needs:pkg:npm/@skerry/deck-ui needs:pkg:npm/%40skerry/deck-*": "[] [] [needs=pkg:npm/%40skerry/deck-ui " +
			"needs=pkg:npm/%40skerry/deck-*] []",
		"needs:pkg:*/*kelp*": "[] [] [needs=pkg:*/*kelp*] []",
		"licence:a:b":        "[] [] [licence=a:b] []",
		"withdrawn:yes, x":   "[x] [] [withdrawn=yes] []",
	} {
		q, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		var conditions []string
		for _, c := range q.Conditions {
			sign := ""
			if c.Not {
				sign = "-"
			}
			conditions = append(conditions, sign+c.Key+c.Op+c.Text)
		}
		if got := fmt.Sprint(q.Words, q.Patterns, conditions, q.Saved); got != want {
			t.Errorf("%q is read as %s; want %s", text, got, want)
		}
	}
	q, err := Parse("age:>30d size:<1GiB")
	if err != nil || q.Conditions[0].Length.Hours() != 720 || q.Conditions[1].Number != 1<<30 {
		t.Errorf("%+v, %v", q, err)
	}
}

// TestWrong: what is wrong is pointed at.
func TestWrong(t *testing.T) {
	for text, want := range map[string]string{
		"berth aeg:>3d":           `at character 7, "aeg:"`,
		"licence: x":              `at character 1, "licence:": it has no value`,
		"x age:30d":               `at character 7, "30d": a length of time needs > or <`,
		"needs:pkg:npm/deck@1":    `at character 7, "pkg:npm/deck@1": what is needed is asked for without a version`,
		"needs:pkg:npm":           `at character 7, "pkg:npm": this is no pattern`,
		"age:>30":                 `at character 5, ">30": this cannot be read`,
		"downloads:many":          `at character 11, "many"`,
		"size:>9999999999TiB":     `at character 6`,
		"holds:both":              `at character 7, "both": this is none of its values`,
		`say "hello`:              `at character 5, "\"": the quote is not closed`,
		"pkg:nonsense":            `at character 1, "pkg:nonsense": this is no pattern`,
		"ü pkg:npm/x@vers:npm/>1": `at character 3, "pkg:npm/x@vers:npm/>1": a range of versions`,
		strings.Repeat("x ", 40):  `at character 61`,
	} {
		_, err := Parse(text)
		f := fault.Of(err)
		if err == nil || !strings.HasPrefix(f.Message, want) || f.Hint == "" {
			t.Errorf("%q: %v (%s); want %s", text, err, f.Hint, want)
		}
	}
	if _, err := Parse("aeg:>3d"); fault.Of(err).Hint != "Did you mean age: ?" {
		t.Errorf("%s", fault.Of(err).Hint)
	}
}

func TestComplete(t *testing.T) {
	values := func(key string) []string {
		return map[string][]string{"repo": {"releases", "snapshots"}, "@": {"stale-snapshots"}}[key]
	}
	for text, want := range map[string]string{
		"":                "",
		"berth re":        "removed: repo:",
		"-re":             "-removed: -repo:",
		"repo:":           "repo:releases repo:snapshots",
		"x repo:s":        "repo:snapshots",
		"holds:":          "holds:snapshots holds:releases",
		"age:":            "age:>30d",
		"@st":             "@stale-snapshots",
		`"na`:             "",
		"na":              "name: namespace:",
		"repo:snapshots":  "",
		"repo:releases n": "name: namespace: needs:",
	} {
		var got []string
		for _, c := range Complete(text, values) {
			got = append(got, c.Text)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q: %v; want %s", text, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{`repo:x age:>3d "a b" pkg:npm/x @y`, "size:>", `-:"`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		q, err := Parse(text)
		if err == nil && len(q.Words)+len(q.Conditions)+len(q.Patterns)+len(q.Saved) == 0 &&
			strings.Trim(text, " \t\n,\":/") != "" {
			t.Errorf("%q asks for nothing", text)
		}
		Complete(text, func(string) []string { return []string{"x"} })
	})
}
