package maven

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

const (
	metadataName   = "maven-metadata.xml"
	snapshotSuffix = "SNAPSHOT"
	maxPath        = 1024
	maxSegment     = 255
	// stampLayout is the time in the name of a snapshot's upload.
	stampLayout = "20060102.150405"
)

// target is what a path of the repository layout
// (https://maven.apache.org/repositories/layout.html) asks for.
type target struct {
	kind     targetKind
	checksum string // the algorithm, if the path asks for a checksum of the target
	segments []string
	place    ecosystem.Place // for artifact
	literal  bool            // an artifact named -SNAPSHOT, whose newest upload is meant
}

type targetKind int

const (
	folder targetKind = iota
	metadata
	artifact
)

var (
	uploadForm = regexp.MustCompile(`^(\d{8}\.\d{6})-(\d{1,9})`)
	// allowed are the characters of a path segment.
	allowed = func() (set [256]bool) {
		for _, c := range []byte("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._+~$@=,!()-") {
			set[c] = true
		}
		return set
	}()
)

// parsePath reads a decoded path below the repository's door.
func parsePath(at string) (target, error) {
	at = strings.TrimPrefix(at, "/")
	if len(at) > maxPath {
		return target{}, fault.New(fault.Invalid, "path-too-long",
			"the path has %d characters; at most %d are allowed", len(at), maxPath)
	}
	if at == "" || strings.HasSuffix(at, "/") {
		trimmed := strings.Trim(at, "/")
		var segments []string
		if trimmed != "" {
			segments = strings.Split(trimmed, "/")
		}
		return target{kind: folder, segments: segments}, checkSegments(segments)
	}
	t := target{segments: strings.Split(at, "/")}
	if err := checkSegments(t.segments); err != nil {
		return target{}, err
	}
	last := len(t.segments) - 1
	for _, algorithm := range catalog.Algorithms {
		if base, ok := strings.CutSuffix(t.segments[last], "."+algorithm); ok && base != "" {
			t.checksum, t.segments[last] = algorithm, base
			break
		}
	}
	if t.segments[last] == metadataName {
		t.kind, t.segments = metadata, t.segments[:last]
		return t, nil
	}
	t.kind = artifact
	return t, t.parseArtifact()
}

func checkSegments(segments []string) error {
	for _, s := range segments {
		if !fitsPath(s) {
			if len(s) > 60 {
				s = s[:60] + "…"
			}
			return fault.New(fault.Invalid, "bad-path", "%q cannot be part of a Maven path", s).
				WithHint("Letters, digits and . _ - + ~ $ @ = , ! ( ) are allowed, up to %d of them.", maxSegment)
		}
	}
	return nil
}

func fitsPath(segment string) bool {
	if segment == "" || segment == "." || segment == ".." || len(segment) > maxSegment {
		return false
	}
	for i := range len(segment) {
		if !allowed[segment[i]] {
			return false
		}
	}
	return true
}

// parseArtifact fills place from group/…/artifact/version/file.
func (t *target) parseArtifact() error {
	n := len(t.segments)
	if n < 4 {
		return fault.New(fault.NotFound, "no-such-path", "%q is no path of a Maven repository",
			strings.Join(t.segments, "/")).
			WithHint("Files stand at group/artifact/version/artifact-version.extension.")
	}
	file, version, name := t.segments[n-1], t.segments[n-2], t.segments[n-3]
	p := ecosystem.Place{Namespace: strings.Join(t.segments[:n-3], "."), Name: name, Version: version,
		Snapshot: purl.IsSnapshot("maven", version), FileName: file}
	wrong := func() error {
		return fault.New(fault.Invalid, "bad-file-name", "%q does not belong in %s/%s", file, name, version).
			WithHint("Its name must be %s-%s, an optional -classifier, and an .extension.", name, version)
	}
	rest, stem, ok := "", "", false
	for _, stem = range stems(name) {
		if rest, ok = strings.CutPrefix(file, stem+"-"); ok {
			break
		}
	}
	if !ok && beside(file) {
		p.Extension = file
		t.place, t.literal = p, p.Snapshot
		return nil
	}
	if !ok {
		return wrong()
	}
	switch after, exact := strings.CutPrefix(rest, version); {
	case exact && !p.Snapshot:
		rest = after
	case exact:
		rest, t.literal = after, true
	case p.Snapshot:
		base := strings.TrimSuffix(version, snapshotSuffix)
		after, ok := strings.CutPrefix(rest, base)
		found := uploadForm.FindStringSubmatch(after)
		if !ok || found == nil {
			return wrong()
		}
		at, err := time.Parse(stampLayout, found[1])
		if err != nil {
			return wrong()
		}
		p.UploadedAt = at
		if p.UploadCount, err = strconv.Atoi(found[2]); err != nil {
			return wrong()
		}
		p.Upload = base + found[0]
		rest = after[len(found[0]):]
	default:
		return wrong()
	}
	if p.Classifier, p.Extension, ok = splitClassifier(rest); !ok {
		return wrong()
	}
	if t.literal {
		p.Rename = renamer(stem, p)
	}
	t.place = p
	return nil
}

// renamer names a file of a snapshot once its upload has a name.
func renamer(stem string, p ecosystem.Place) func(string) string {
	return func(upload string) string { return fileName(stem, upload, p.Classifier, p.Extension) }
}

// pluginForm is the name of a plugin of sbt, which says for which versions of Scala
// and of sbt it is; its files are named with or without these.
var pluginForm = regexp.MustCompile(`^(.+)_\d+(?:\.\d+)*_\d+(?:\.\d+)*$`)

// stems are what the names of an artifact's files begin with, the usual one first.
func stems(name string) []string {
	if m := pluginForm.FindStringSubmatch(name); m != nil {
		return []string{name, m[1]}
	}
	return []string{name}
}

// mainTypes are the types of files that an artifact's name stands before.
var mainTypes = []string{".jar", ".war", ".ear", ".aar", ".pom", ".module", ".klib"}

// beside tells whether a file may stand beside those of a version under a name of
// its own, as ivy.xml does.
func beside(file string) bool {
	for _, ending := range signatureEndings {
		file = strings.TrimSuffix(file, ending)
	}
	extension := path.Ext(file)
	return len(extension) > 1 && len(extension) < len(file) && (extension[1] < '0' || extension[1] > '9') &&
		!slices.Contains(mainTypes, extension) && !strings.HasPrefix(file, "maven-metadata")
}

// fileName is the name of a file in the layout.
func fileName(artifact, version, classifier, extension string) string {
	if classifier != "" {
		classifier = "-" + classifier
	}
	return artifact + "-" + version + classifier + "." + extension
}

// UploadName implements ecosystem.Ecosystem.
func (Maven) UploadName(version string, at time.Time, n int) string {
	return fmt.Sprintf("%s%s-%d", strings.TrimSuffix(version, snapshotSuffix), at.UTC().Format(stampLayout), n)
}

// Endings that belong to the extension as a whole.
var (
	signatureEndings = []string{".asc", ".sig", ".sigstore.json", ".sigstore"}
	compoundEndings  = []string{".tar.gz", ".tar.bz2", ".tar.xz", ".tar.zst", ".tar.lzma"}
)

// splitClassifier reads what follows artifact-version in a file name:
// .extension or -classifier.extension.
func splitClassifier(rest string) (classifier, extension string, ok bool) {
	if extension, ok := strings.CutPrefix(rest, "."); ok {
		return "", extension, extension != ""
	}
	rest, ok = strings.CutPrefix(rest, "-")
	if !ok {
		return "", "", false
	}
	signature := ""
	for _, ending := range signatureEndings {
		if base, found := strings.CutSuffix(rest, ending); found {
			rest, signature = base, ending
			break
		}
	}
	ending := ""
	for _, compound := range compoundEndings {
		if strings.HasSuffix(rest, compound) {
			ending = compound
		}
	}
	if ending == "" {
		dot := strings.LastIndexByte(rest, '.')
		if dot < 0 {
			return "", "", false
		}
		ending = rest[dot:]
	}
	classifier = strings.TrimSuffix(rest, ending)
	extension = strings.TrimPrefix(ending+signature, ".")
	return classifier, extension, classifier != "" && extension != "" && ending != "."
}

// folderOf is the path of a version's folder.
func folderOf(namespace, name, version string) string {
	return strings.ReplaceAll(namespace, ".", "/") + "/" + name + "/" + version
}
