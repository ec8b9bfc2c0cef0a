package nuget

import "crelvo/internal/core/catalog"

// MayNotGrow implements ecosystem.Growing: symbols may come after their package.
func (NuGet) MayNotGrow(_ []catalog.File, _, _, extension string) string {
	if extension != symbols {
		return "a package has one file, and its symbols"
	}
	return ""
}
