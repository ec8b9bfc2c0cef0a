package service

import (
	"reflect"
	"strings"
	"sync/atomic"
	"testing"
	"unsafe"

	"crelvo/internal/core/access"
	"crelvo/internal/record/recordtest"
)

// keptThrough are fields that need not be forgotten, with the reason.
var keptThrough = map[string]string{
	"small":    "contents by their digest",
	"sights":   "what a text says, by that text",
	"rendered": "documents, each with the very value that it was made of",
	"brake":    "counted by every node for itself",
}

// TestForgetAll: after a lost connection nothing that another node may have
// changed is taken for what it was. Every cache and every generation of the
// Service is looked at, so that a new one cannot be left out.
func TestForgetAll(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	all := reflect.ValueOf(n.Service).Elem()
	type generation struct {
		of     *atomic.Uint64
		before uint64
	}
	generations, caches := map[string]generation{}, map[string]interface{ Len() int }{}
	for i := range all.NumField() {
		name := all.Type().Field(i).Name
		field := reflect.NewAt(all.Field(i).Type(), unsafe.Pointer(all.Field(i).UnsafeAddr()))
		if counter, ok := field.Interface().(*atomic.Uint64); ok {
			generations[name] = generation{counter, counter.Load()}
		}
		kind := strings.TrimPrefix(all.Field(i).Type().String(), "*")
		if !strings.HasPrefix(kind, "lru.Cache") && !strings.HasPrefix(kind, "service.weighted") || keptThrough[name] != "" {
			continue
		}
		cache := field.Elem()
		add := cache.MethodByName("Add")
		add.Call([]reflect.Value{reflect.Zero(add.Type().In(0)), reflect.Zero(add.Type().In(1))})
		if strings.HasPrefix(kind, "service.weighted") {
			inner := cache.Elem().FieldByName("lru")
			cache = reflect.NewAt(inner.Type(), unsafe.Pointer(inner.UnsafeAddr())).Elem()
		}
		caches[name] = cache.Interface().(interface{ Len() int })
		if caches[name].Len() == 0 {
			t.Fatalf("%s keeps nothing", name)
		}
	}
	if len(generations) < 4 || len(caches) < 6 {
		t.Fatalf("%d generations and %d caches were found", len(generations), len(caches))
	}
	n.forgetAll()
	for name, g := range generations {
		if g.of.Load() == g.before {
			t.Errorf("%s is the same after everything was forgotten", name)
		}
	}
	for name, cache := range caches {
		if cache.Len() > 0 {
			t.Errorf("%s still has what it had", name)
		}
	}
}

// TestRightsAfterALostConnection: a right that was taken away while a node heard
// nothing ends with the next connection.
func TestRightsAfterALostConnection(t *testing.T) {
	url := recordtest.URL(t)
	here, there := newNode(t, url), newNode(t, url)
	given, err := here.AddGrant(t.Context(), here.admin, NewGrant{Holder: access.Anonymous, Role: string(access.Reader), Repositories: "*"})
	if err != nil {
		t.Fatal(err)
	}
	if c, err := there.Nobody(t.Context(), Origin{}); err != nil || len(c.Grants) != 1 {
		t.Fatalf("%+v, %v", c, err)
	}
	// The other node listens to nothing meanwhile: neither of them runs.
	if err := here.RemoveGrant(t.Context(), here.admin, given.ID); err != nil {
		t.Fatal(err)
	}
	there.forgetAll() // as after its connection was lost
	if c, err := there.Nobody(t.Context(), Origin{}); err != nil || len(c.Grants) != 0 {
		t.Errorf("a right that was taken away stays: %+v, %v", c.Grants, err)
	}
}
