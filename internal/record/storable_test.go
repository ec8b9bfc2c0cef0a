package record

import (
	"encoding/json"
	"testing"
	"unicode/utf8"
)

func TestStorableJSON(t *testing.T) {
	for raw, want := range map[string]string{
		`{"a":"b"}`: `{"a":"b"}`, `"a\u0000b"`: `"ab"`, `"a\\u0000b"`: `"a\\u0000b"`, `"\\\u0000"`: `"\\"`,
		`"\ud83d\ude00"`: `"\ud83d\ude00"`, `"\ud83d"`: `"\ufffd"`, `"\ude00x"`: `"\ufffdx"`,
		`"\ud83d\u0041"`: `"\ufffd\u0041"`,
		"\"\xff\"":       "\"\uFFFD\"", `"\u00e4\u0000"`: `"\u00e4"`,
	} {
		if got := string(storableJSON([]byte(raw))); got != want {
			t.Errorf("%s becomes %s; want %s", raw, got, want)
		}
	}
}

func FuzzStorableJSON(f *testing.F) {
	f.Add([]byte(`{"a":"\ud800\u0000\\u0000"}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if !json.Valid(raw) {
			return
		}
		got := storableJSON(raw)
		if !json.Valid(got) || !utf8.Valid(got) || string(storableJSON(got)) != string(got) {
			t.Errorf("%q becomes %q", raw, got)
		}
	})
}
