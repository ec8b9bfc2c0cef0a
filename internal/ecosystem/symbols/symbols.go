// Package symbols is what debuggers ask for, as an ecosystem of its own: of a repository, whatever is known by a build
// id, wherever it was published, and besides that what upstreams have that speak the protocol of debuginfod
// (debuginfod(8), "WEBAPI").
//
// A package is a build id, and has what is to be had of it as versions: debuginfo, executable, section/NAME and
// source/PATH. There are such of mirrors alone; in houses, symbols are published in what they belong to.
package symbols

import (
	"context"
	"errors"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	core "crelvo/internal/core/symbols"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
)

// Name is the type in purls.
const Name = core.Type

// What is to be had of a build id, as versions of it.
const (
	debugVersion   = "debuginfo"
	codeVersion    = "executable"
	sectionVersion = "section/"
	sourcesVersion = "source/"
)

// Headers of debuginfod(8).
const (
	sizeHeader    = "X-Debuginfod-Size"
	fileHeader    = "X-Debuginfod-File"
	archiveHeader = "X-Debuginfod-Archive"
)

// idForm is a build id. The shortest that a linker makes has eight bytes (ld(1), --build-id); one can be given as well.
var idForm = regexp.MustCompile(`^([0-9a-f]{2}){4,64}$`)

// Symbols implements ecosystem.Ecosystem.
type Symbols struct{}

func init() {
	purl.Register(Name, purl.Rules{Sample: debugVersion, Is: isVersion, Name: strings.ToLower})
}

var _ interface {
	ecosystem.ByPath
	ecosystem.Described
	ecosystem.ByName
} = Symbols{}

// isVersion tells whether a text names something of a build id, whose file has a name that any system can have.
func isVersion(version string) bool {
	switch dir, file := path.Split(version); {
	case len(version) > text.MaxName || path.Clean("/"+version) != "/"+version || text.CheckFileName(file) != nil:
		return false
	case dir == "":
		return file == debugVersion || file == codeVersion
	default:
		return dir == sectionVersion || strings.HasPrefix(dir, sourcesVersion)
	}
}

// sourceVersion is the version that a source file is, by its path: clients may leave . and .. in it.
func sourceVersion(source string) string {
	return sourcesVersion[:len(sourcesVersion)-1] + path.Clean("/"+source)
}

// Name implements ecosystem.Ecosystem.
func (Symbols) Name() string { return Name }

// Title implements ecosystem.Ecosystem.
func (Symbols) Title() string { return "Debug symbols" }

// JudgedByName implements ecosystem.ByName.
func (Symbols) JudgedByName() {}

// Inspect implements ecosystem.Ecosystem: a program and its symbols have the build id in them. Sections and sources do
// not.
func (Symbols) Inspect(
	_ context.Context, place ecosystem.Place, file ecosystem.SizedReaderAt,
) (d catalog.Details, err error) {
	if place.Version != debugVersion && place.Version != codeVersion {
		return d, nil
	}
	found, err := core.Identify(place.FileName, file, file.Size())
	if err == nil && slices.ContainsFunc(found, func(s core.Symbol) bool {
		return s.Key == place.Name && (s.Code || place.Version == debugVersion)
	}) {
		return d, nil
	}
	return d, fault.New(fault.Invalid, "other-build-id", "it is not the %s of %.130s", place.Version, place.Name).
		WithCause(err)
}

// Whole implements ecosystem.Ecosystem.
func (Symbols) Whole(_ catalog.Details, files []catalog.File) bool { return len(files) > 0 }

// Place implements ecosystem.Ecosystem.
func (Symbols) Place(_ context.Context, _ []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Ecosystem != Name {
		return nil, ecosystem.ErrNotMine
	}
	return nil, fault.New(fault.Invalid, "not-published-alone", "symbols are not published by themselves").
		WithHint("Publish them in what they belong to, such as a file set; they are found there by their build ids.")
}

// UploadName implements ecosystem.Ecosystem.
func (Symbols) UploadName(version string, at time.Time, n int) string {
	return ecosystem.StampedUpload(version, at, n)
}

// Address implements ecosystem.Ecosystem.
func (Symbols) Address(p purl.PURL, _ string, _ catalog.File) string {
	return "buildid/" + p.Name + "/" + p.Version
}

// Folder implements ecosystem.Ecosystem: what came from upstreams, as their addresses are.
func (Symbols) Folder(
	ctx context.Context, desk ecosystem.Shelves, r catalog.Repository, at string,
) (f ecosystem.Folder, err error) {
	at = strings.Trim(at, "/")
	f.Path = at
	if at == "" || at == "buildid" {
		f, err = ecosystem.TreeFolder(ctx, desk, r, Name, "")
		if f.Path = at; at == "" && len(f.Entries) > 0 {
			f.Entries = []ecosystem.Entry{{Name: "buildid", Folder: true}}
		}
		return f, err
	}
	door, below, _ := strings.Cut(at, "/")
	id, below, _ := strings.Cut(below, "/")
	if door != "buildid" || !idForm.MatchString(id) {
		return f, ecosystem.ErrNoFolder
	}
	p, err := desk.Package(ctx, r.Key(Name, "", id))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		err = ecosystem.ErrNoFolder
	}
	if err != nil {
		return f, err
	}
	if below != "" {
		below += "/"
	}
	folders := map[string]bool{}
	for i := range p.Versions {
		v := &p.Versions[i]
		rest, ok := strings.CutPrefix(v.Version, below)
		if !ok || len(v.Files) == 0 {
			continue
		}
		name, _, deeper := strings.Cut(rest, "/")
		switch file := v.Files[0]; {
		case !deeper:
			f.Entries = append(f.Entries, ecosystem.Entry{Name: name, Size: file.Digests.Size, ChangedAt: file.AddedAt,
				Digests: &file.Digests})
		case !folders[name]:
			folders[name] = true
			f.Entries = append(f.Entries, ecosystem.Entry{Name: name, Folder: true, ChangedAt: file.AddedAt})
		}
	}
	if len(f.Entries) == 0 {
		return f, ecosystem.ErrNoFolder
	}
	return f, nil
}
