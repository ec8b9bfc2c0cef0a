package ecosystem

import (
	"archive/zip"
	"context"
	"io"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/spdx"
)

// IsLicenceFile tells whether a file in a package has the text of its licence, by its name without
// a folder.
func IsLicenceFile(base string) bool {
	lower := strings.ToLower(base)
	if ext := path.Ext(lower); ext != "" && !slices.Contains([]string{".txt", ".md", ".rst", ".mit", ".apache"}, ext) {
		return false
	}
	for _, usual := range []string{"license", "licence", "copying", "unlicense"} {
		if strings.HasPrefix(lower, usual) {
			return true
		}
	}
	return false
}

// LicenceTexts collects the texts of licences of a package, which are looked at where it does not
// state one. The zero value is ready.
type LicenceTexts struct {
	ids  []string
	sure int
	bad  bool // one is of no licence that is known
}

// mostLicenceTexts is how many texts are looked at.
const mostLicenceTexts = 10

// Read takes a text.
func (l *LicenceTexts) Read(r io.Reader) error {
	if len(l.ids) == mostLicenceTexts {
		return nil
	}
	raw, err := io.ReadAll(io.LimitReader(r, spdx.LongestText))
	if err != nil {
		return err
	}
	id, sure := spdx.Recognise(string(raw))
	switch {
	case id == "":
		l.bad = true
	case !slices.Contains(l.ids, id):
		if len(l.ids) == 0 || sure < l.sure {
			l.sure = sure
		}
		l.ids = append(l.ids, id)
	}
	return nil
}

// Or are licences that a package states; if it states none, or only where it is written, the one
// that its texts are. Where there are several, nobody says that one is enough, so all count.
func (l *LicenceTexts) Or(stated []catalog.Licence) []catalog.Licence {
	if len(stated) > 0 && !slices.ContainsFunc(stated, func(s catalog.Licence) bool {
		return strings.HasPrefix(strings.ToUpper(s.Name), "SEE LICENSE IN ")
	}) || l.bad || len(l.ids) == 0 {
		return stated
	}
	slices.Sort(l.ids)
	return []catalog.Licence{{Name: strings.Join(l.ids, " AND "), Sure: l.sure}}
}

// ReadZip takes the texts in an archive whose places fit. One that cannot be read is of no licence
// that is known.
func (l *LicenceTexts) ReadZip(ctx context.Context, archive *zip.Reader, fits func(name string) bool) {
	for _, entry := range archive.File {
		if !fits(entry.Name) || strings.HasSuffix(entry.Name, "/") {
			continue
		}
		raw, err := ReadZipEntry(ctx, entry, spdx.LongestText)
		if err != nil {
			l.bad = true
			continue
		}
		_ = l.Read(strings.NewReader(string(raw))) // it is in memory
	}
}
