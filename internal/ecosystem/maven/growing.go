package maven

import "crelvo/internal/core/catalog"

// MayNotGrow implements ecosystem.Growing. Files with a classifier are asked for
// by it; those without are what a version is, by whichever ending.
func (Maven) MayNotGrow(_ []catalog.File, name, classifier, _ string) string {
	if classifier == "" {
		return "a file without a classifier would be taken for the version itself"
	}
	return ""
}
