package ecosystemtest

import (
	"bytes"
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

// OpenSymbol implements ecosystem.SymbolFinder, of what Contents has.
func (d *Desk) OpenSymbol(_ context.Context, _ catalog.Repository, s symbols.At) (ecosystem.SizedFile, error) {
	return d.contentOf(s.Path)
}

// OpenSource implements ecosystem.SymbolFinder: Contents has a source file by the last two parts of its path.
func (d *Desk) OpenSource(
	_ context.Context, _ catalog.Repository, _ symbols.At, path string,
) (ecosystem.SizedFile, error) {
	parts := strings.Split(path, "/")
	return d.contentOf(strings.Join(parts[max(0, len(parts)-2):], "/"))
}

// MoreSymbols implements ecosystem.SymbolFinder.
func (d *Desk) MoreSymbols(catalog.Repository) bool { return d.Repository.Fetches() }

func (d *Desk) contentOf(path string) (ecosystem.SizedFile, error) {
	content, ok := d.Contents[path]
	if !ok {
		return nil, ecosystem.ErrNoFile
	}
	return opened{bytes.NewReader(content)}, nil
}

var _ ecosystem.SymbolFinder = (*Desk)(nil)
