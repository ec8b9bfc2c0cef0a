package service

import (
	"reflect"
	"strings"
	"sync/atomic"
	"testing"
	"unsafe"

	"crelvo/internal/core/access"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/rights"
)

// keptThrough are fields that need not be forgotten, with the reason.
var keptThrough = map[string]string{
	"small":    "contents by their digest",
	"sights":   "what a text says, by that text",
	"rendered": "documents, each with the very value that it was made of",
	"brake":    "counted by every node for itself",
}

// TestForgetAll: after a lost connection nothing that another node may have
// changed is taken for what it was. Every cache and every generation of every room is
// looked at, so that a new one cannot be left out.
func TestForgetAll(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	type generation struct {
		of     *atomic.Uint64
		before uint64
	}
	generations, caches := map[string]generation{}, map[string]interface{ Len() int }{}
	rooms := reflect.ValueOf(n.Service).Elem()
	for i := range rooms.NumField() {
		if rooms.Field(i).Kind() != reflect.Pointer {
			continue
		}
		room := rooms.Field(i).Elem()
		for i := range room.NumField() {
			name := room.Type().Field(i).Name
			field := reflect.NewAt(room.Field(i).Type(), unsafe.Pointer(room.Field(i).UnsafeAddr()))
			if counter, ok := field.Interface().(*atomic.Uint64); ok {
				generations[name] = generation{counter, counter.Load()}
			}
			kind := strings.TrimPrefix(room.Type().Field(i).Type.String(), "*")
			if !strings.HasPrefix(kind, "lru.Cache") && !strings.HasPrefix(kind, "act.Weighted") || keptThrough[name] != "" {
				continue
			}
			cache := field.Elem()
			add := cache.MethodByName("Add")
			add.Call([]reflect.Value{reflect.Zero(add.Type().In(0)), reflect.Zero(add.Type().In(1))})
			if strings.HasPrefix(kind, "act.Weighted") {
				inner := cache.Elem().FieldByName("lru")
				cache = reflect.NewAt(inner.Type(), unsafe.Pointer(inner.UnsafeAddr())).Elem()
			}
			caches[name] = cache.Interface().(interface{ Len() int })
			if caches[name].Len() == 0 {
				t.Fatalf("%s keeps nothing", name)
			}
		}
	}
	if len(generations) < 4 || len(caches) < 6 {
		t.Fatalf("%d generations and %d caches were found", len(generations), len(caches))
	}
	n.ForgetAll()
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
	given, err := here.Rights.AddGrant(t.Context(), here.admin,
		rights.NewGrant{Holder: access.Anonymous, Role: string(access.Reader), Repositories: "*"})
	if err != nil {
		t.Fatal(err)
	}
	if c, err := there.Rights.Nobody(t.Context(), rights.Origin{}); err != nil || len(c.Grants) != 1 {
		t.Fatalf("%+v, %v", c, err)
	}
	// The other node listens to nothing meanwhile: neither of them runs.
	if err := here.Rights.RemoveGrant(t.Context(), here.admin, given.ID); err != nil {
		t.Fatal(err)
	}
	there.ForgetAll() // as after its connection was lost
	if c, err := there.Rights.Nobody(t.Context(), rights.Origin{}); err != nil || len(c.Grants) != 0 {
		t.Errorf("a right that was taken away stays: %+v, %v", c.Grants, err)
	}
}

// TestPartsAreRooms: what a room inherits is not what makes it a part, or it would be told
// of everything for ever.
func TestPartsAreRooms(t *testing.T) {
	var a any = new(act.Act)
	for name, is := range map[string]func() bool{
		"Purger": func() bool {
			_, ok := a.(act.Purger)
			return ok
		}, "Hearer": func() bool { _, ok := a.(act.Hearer); return ok },
		"Busy": func() bool {
			_, ok := a.(act.Busy)
			return ok
		}, "Runner": func() bool { _, ok := a.(act.Runner); return ok },
		"Ender": func() bool { _, ok := a.(act.Ender); return ok },
	} {
		if is() {
			t.Errorf("act.Act is a %s", name)
		}
	}
}
