package act

import (
	"fmt"
	"regexp"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
)

// Invalid is a fault of what somebody gave.
func Invalid(code, format string, args ...any) *fault.Error {
	return fault.New(fault.Invalid, code, format, args...)
}

// Plural counts things in a sentence.
func Plural(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// TimeForm is how times stand in sentences.
const TimeForm = "2006-01-02 15:04 UTC"

// Itoa writes the number of a record.
func Itoa(id int64) string { return fmt.Sprint(id) }

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,61}[a-z0-9]$`)

// CheckName checks a name for a repository, user, robot or the like.
func CheckName(what, name string) error {
	if nameForm.MatchString(name) {
		return nil
	}
	return fault.New(fault.Invalid, "bad-name", "%q cannot be the name of a %s", name, what).
		WithHint("Use 2 to 63 lower-case letters, digits and hyphens, with no hyphen at either end.")
}

// Set writes a value that was given, and leaves the field where none was.
func Set[T any](field *T, to *T) {
	if to != nil {
		*field = *to
	}
}

// PURLOf is the package URL of a version; with version "" of its package.
func PURLOf(key catalog.PackageKey, version string) purl.PURL {
	return purl.PURL{Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name, Version: version}
}

// Everything is what is about no repository.
var Everything = access.Object{}
