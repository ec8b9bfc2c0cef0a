package record

import (
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/access"
)

// Scope is what a list is made of: the packages of some repositories, in their
// order, and of those that have an entry in Parts only what is in that sight.
type Scope struct {
	Repositories []int64
	Parts        map[int64]access.Sight
}

// Key tells different scopes apart.
func (s Scope) Key() string {
	repositories := slices.Sorted(slices.Values(s.Repositories))
	return fmt.Sprint(repositories, s.Parts)
}

// and is the condition on packages p that Parts make, with its arguments added;
// "" if there are none.
func (s Scope) and(arguments *[]any) string {
	if len(s.Parts) == 0 {
		return ""
	}
	arg := func(v any) string {
		*arguments = append(*arguments, v)
		return fmt.Sprintf("$%d", len(*arguments))
	}
	var partial []int64
	for id := range s.Parts {
		partial = append(partial, id)
	}
	slices.Sort(partial)
	either := []string{"p.repository_id <> all(" + arg(partial) + "::bigint[])"}
	for _, id := range partial {
		all := []string{"p.repository_id = " + arg(id)}
		for _, list := range s.Parts[id] {
			var any []string
			for _, pattern := range list {
				kind, name, _ := pattern.Parts()
				any = append(any, "p.ecosystem like "+arg(globs(kind))+" and "+fullName+" like "+arg(globs(name)))
			}
			all = append(all, "("+strings.Join(any, " or ")+")")
		}
		either = append(either, strings.Join(all, " and "))
	}
	return " and (" + strings.Join(either, " or ") + ")"
}

// fullName is the name of a package p with its namespace.
const fullName = "case when p.namespace = '' then p.name else p.namespace || '/' || p.name end"
