package ecosystemtest

import (
	"context"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/symbols"
	"crelvo/internal/ecosystem"
)

// SymbolsBy implements ecosystem.SymbolFinder, by what a test says is known.
func (d *Desk) SymbolsBy(_ context.Context, _ catalog.Repository, key string) ([]symbols.At, error) {
	return d.symbols(func(s symbols.At) bool { return s.Key == key }), nil
}

// SymbolsNamed implements ecosystem.SymbolFinder.
func (d *Desk) SymbolsNamed(_ context.Context, _ catalog.Repository, byKey bool, value string) ([]symbols.At, error) {
	return d.symbols(func(s symbols.At) bool {
		return byKey && s.Key == value || !byKey && (s.Path == value || s.Name() == value)
	}), nil
}

func (d *Desk) symbols(fit func(symbols.At) bool) []symbols.At {
	return slices.DeleteFunc(slices.Clone(d.Symbols), func(s symbols.At) bool { return !fit(s) })
}

// OpenSymbol implements ecosystem.SymbolFinder, of what is in a set.
func (d *Desk) OpenSymbol(ctx context.Context, _ catalog.Repository, s symbols.At) (ecosystem.SizedFile, error) {
	return d.ecosystem.(ecosystem.Filed).OpenFile(ctx, d, s.Of, s.Version, s.Path)
}

// OpenSource implements ecosystem.SymbolFinder: a source file lies in the set under the last two parts of its path.
func (d *Desk) OpenSource(
	ctx context.Context, _ catalog.Repository, s symbols.At, path string,
) (ecosystem.SizedFile, error) {
	parts := strings.Split(path, "/")
	return d.ecosystem.(ecosystem.Filed).OpenFile(ctx, d, s.Of, s.Version,
		strings.Join(parts[max(0, len(parts)-2):], "/"))
}

var _ ecosystem.SymbolFinder = (*Desk)(nil)
