package record

import (
	"fmt"
	"time"

	"crelvo/internal/core/catalog"
)

// moment writes a moment into a statement.
func moment(at catalog.Moment) string {
	return "timestamptz '" + at.Time().Format(time.RFC3339Nano) + "'"
}

// seen is the condition that a version v can be seen: now, or as of a moment.
func seen(at catalog.Moment) string {
	if at == 0 {
		return " v.visible_from is not null and v.visible_until is null "
	}
	return fmt.Sprintf(
		` v.visible_from <= %[1]s and (v.visible_until is null or v.visible_until > %[1]s) and v.reclaimed_at is null
		and not exists (select from absence a where a.version_id = v.id and a.gone_from <= %[1]s and a.back_at > %[1]s) `,
		moment(at))
}

// addedBy is the condition that a file f of such a version was there.
func addedBy(at catalog.Moment) string {
	if at == 0 {
		return ""
	}
	return " and f.added_at <= " + moment(at)
}
