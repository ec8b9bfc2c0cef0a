package ecosystem

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
)

// Statement declares which places of a document of an archive state a version: of the
// package itself, or of one that it needs.
type Statement struct {
	// Document tells whether an entry, by its path in the archive, is such a document.
	Document func(name string) bool
	// Places reads it: ParseJSONPlaces, ParseTOMLPlaces or ParseXMLTexts.
	Places func(raw []byte) ([]TextPlace, error)
	// Whose says whose version stands at a place, or whose digest; false: nobody's.
	Whose func(p TextPlace) (Stated, bool)
}

// Stated is what stands at a place.
type Stated struct {
	Own             bool // the version of the package itself
	Namespace, Name string
	What            string // in words; "" is dependency on Name
	// Digest says how a digest of that version, which becomes another one, is written; nil
	// where the version itself stands. If it cannot be known, its line is left out, as what
	// makes the document writes it again.
	Digest func(d catalog.Digests) string
	// Becomes is what stands there afterwards, where it is no version by itself; "" is that
	// it is one.
	Becomes string
}

// InFolder tells whether a name is one of those in the only folder of an archive.
func InFolder(names ...string) func(name string) bool {
	return func(name string) bool {
		folder, base := path.Split(path.Clean(name))
		return strings.Count(folder, "/") == 1 && slices.Contains(names, base)
	}
}

// Declared makes the edit of an archive from what is declared of its documents. written
// gives a version as Crelvo writes it, for versions that may be written otherwise; nil is
// as it stands.
func Declared(f ToRestamp, written func(version string) string, all ...Statement) ArchiveEdit {
	of := func(name string) *Statement {
		if i := slices.IndexFunc(all, func(s Statement) bool { return s.Document(name) }); i >= 0 {
			return &all[i]
		}
		return nil
	}
	return ArchiveEdit{
		Wants: func(name string) bool { return of(name) != nil },
		Edit: func(name string, raw []byte) ([]byte, []Edit, error) {
			edited, changes, err := of(name).edit(f, raw, written)
			for i := range changes {
				changes[i].Entry = name
			}
			return edited, changes, err
		},
	}
}

func (s *Statement) edit(f ToRestamp, raw []byte, written func(string) string) ([]byte, []Edit, error) {
	places, err := s.Places(raw)
	if err != nil {
		return nil, nil, fmt.Errorf("it cannot be read: %w", err)
	}
	var splices []Splice
	var changes []Edit
	for _, p := range places {
		stated, ok := s.Whose(p)
		stamp := &f.Stamp
		if !stated.Own {
			stamp = f.All.Of(stated.Namespace, stated.Name)
		}
		if !ok || stamp == nil && stated.Becomes == "" || p.Number {
			continue
		}
		what := stated.What
		if what == "" {
			what = "dependency on " + stated.Name
		}
		text := stated.Becomes
		if text == "" {
			text = stamp.Swap(p.Value)
		}
		switch {
		case stated.Becomes != "":
		case stated.Digest != nil && f.Made == nil:
			text = "that of " + stamp.To
		case stated.Digest != nil:
			d, known, err := f.Made(*stamp)
			if err != nil {
				return nil, nil, err
			}
			if !known {
				from, to := lineOf(raw, p)
				splices = append(splices, Splice{Start: from, End: to})
				changes = append(changes, Edit{What: what, Old: p.Value, New: "(left out)"})
				continue
			}
			text = stated.Digest(d)
		case written != nil && written(p.Value) == stamp.From:
			text = stamp.To
		}
		if text != p.Value {
			splices = append(splices, Splice{Start: p.From, End: p.To, New: p.quoted(text)})
			changes = append(changes, Edit{What: what, Old: p.Value, New: text})
		}
	}
	return Spliced(raw, splices), changes, nil
}

// lineOf is the line that a place stands in, with its end.
func lineOf(raw []byte, p TextPlace) (from, to int) {
	from = bytes.LastIndexByte(raw[:p.From], '\n') + 1
	if end := bytes.IndexByte(raw[p.To:], '\n'); end >= 0 {
		return from, p.To + end + 1
	}
	return from, len(raw)
}

// Swap gives a text in which the old version stands the new one.
func (s Stamp) Swap(text string) string {
	return ToRestamp{Stamp: s, All: Stamps{s}}.Swap(text, nil)
}

// RenameFolder renames the folder NAME-VERSION at the root of an archive.
func (s Stamp) RenameFolder(name string) string {
	folder, rest, ok := strings.Cut(name, "/")
	if stem, cut := strings.CutSuffix(folder, "-"+s.From); ok && cut {
		return stem + "-" + s.To + "/" + rest
	}
	return name
}

// RestampFolder rewrites a .tar.gz by what is declared of the documents in its folder.
func RestampFolder(ctx context.Context, f ToRestamp, name string, all ...Statement) (Rewriting, error) {
	edit := Declared(f, nil, all...)
	edit.Rename = f.Stamp.RenameFolder
	return RestampTarGz(ctx, f, name, edit)
}
