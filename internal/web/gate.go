package web

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"time"
	"unicode/utf8"

	"crelvo/internal/api"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/text"
)

const (
	maxPath  = 4 << 10 // bytes, decoded
	maxValue = 8 << 10 // of one parameter of a query
)

// admit is the gate for the words of a request: its path, its query, and the
// headers that are an input. Whatever they are for, they are text, and bounded.
func admit(r *http.Request) error {
	if err := text.Check("the path", r.URL.Path, false, maxPath); err != nil {
		return err
	}
	if r.URL.RawQuery != "" {
		values, err := url.ParseQuery(r.URL.RawQuery)
		if err != nil {
			return fault.New(fault.Invalid, "bad-query", "the query of the address cannot be read").
				WithHint("Escape %% as %%25 and ; as %%3B.").WithCause(err)
		}
		for name, all := range values {
			if err := text.Check("a name in the query", name, false, text.MaxName); err != nil {
				return err
			}
			for _, value := range all {
				if err := text.Check(fmt.Sprintf("%q in the query", name), value, false, maxValue); err != nil {
					return err
				}
			}
		}
	}
	for _, name := range [...]string{api.BuildHeader, api.DryRunHeader} {
		if value := r.Header.Get(name); value != "" {
			if err := text.Check("the header "+name, value, false, text.MaxLine); err != nil {
				return err
			}
		}
	}
	return nil
}

// admitBody is the gate for the body of an operation, which was read into in:
// every text in it may have lines, and is bounded, by the schema if that says
// how and else by what a text may be at most.
func admitBody(in reflect.Value, where string, bounded bool) error {
	switch in.Kind() {
	case reflect.String:
		s := in.String()
		if strings.ContainsRune(s, utf8.RuneError) { // bytes that were no UTF-8 became this
			s = "\x00"
		}
		max := text.MaxText
		if bounded {
			max = len(s)
		}
		err := text.Check(where, s, true, max)
		if err != nil {
			f := fault.Of(err)
			f.Kind = unprocessable
		}
		return err
	case reflect.Pointer, reflect.Interface:
		if in.IsNil() {
			return nil
		}
		return admitBody(in.Elem(), where, bounded)
	case reflect.Slice, reflect.Array:
		if in.Type().Elem().Kind() == reflect.Uint8 {
			return nil // bytes, not text
		}
		for i := range in.Len() {
			if err := admitBody(in.Index(i), fmt.Sprintf("%s[%d]", where, i), bounded); err != nil {
				return err
			}
		}
	case reflect.Map:
		for _, key := range in.MapKeys() {
			if err := admitBody(key, "a name in "+where, bounded); err != nil {
				return err
			}
			if err := admitBody(in.MapIndex(key), where, bounded); err != nil {
				return err
			}
		}
	case reflect.Struct:
		if in.Type() == reflect.TypeFor[time.Time]() || in.Type() == reflect.TypeFor[json.RawMessage]() {
			return nil
		}
		for i := range in.NumField() {
			field := in.Type().Field(i)
			if !field.IsExported() || field.Tag.Get("text") == "document" {
				continue
			}
			name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
			if name == "" {
				name = field.Name
			}
			if where != "" && where != "Body" {
				name = where + "." + name
			}
			_, ruled := field.Tag.Lookup("maxLength")
			if err := admitBody(in.Field(i), name, ruled); err != nil {
				return err
			}
		}
	}
	return nil
}

// unprocessable is for bodies that can be read, and whose values cannot be used.
const unprocessable fault.Kind = http.StatusUnprocessableEntity
