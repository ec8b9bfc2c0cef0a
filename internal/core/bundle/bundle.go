// Package bundle is the form in which packages are carried to where no network leads: a tar archive
// (POSIX.1-1988, with sizes by POSIX.1-2001) whose first member says what it holds, whose second one
// is an OpenPGP signature of the first, and whose others are files, each named by its SHA-256.
// docs/bundle.md describes it for whoever wants to read or write one.
package bundle

import (
	"archive/tar"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/junit"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
)

// Form is what a manifest says of the form of its bundle.
const Form = "crelvo-bundle/1"

// The members of the archive.
const (
	manifestName  = "manifest.json"
	signatureName = "manifest.json.asc"
	filesPrefix   = "files/sha256/"
)

const (
	// MaxManifest is how many bytes a manifest has at most, and maxSignature a signature.
	MaxManifest  = 64 << 20
	maxSignature = 64 << 10
	// maxSaid is how many bytes there may be of what a publisher said of a version.
	maxSaid = 4 << 20
	// mostPromotions is how many promotions a version went through at most.
	mostPromotions = 1000
	// mostFiles is how many files a version has at most.
	mostFiles = 10000
)

// Manifest is what a bundle holds.
type Manifest struct {
	Form   string    `json:"form"`
	ID     string    `json:"id"`
	MadeAt time.Time `json:"madeAt"`
	MadeBy string    `json:"madeBy"`
	// From are the repositories that it was made from, and Only the patterns of what was wanted of them;
	// none: everything.
	From []string `json:"from"`
	Only []string `json:"only,omitempty"`
	// Since is the bundle that this one goes on from: what was in it, and before, is not in this one.
	Since    *Basis    `json:"since,omitempty"`
	Packages []Package `json:"packages"`
	// Vettings and Waivers are the decisions that stood where it was made, about what is in it.
	Vettings []Vetting `json:"vettings,omitempty"`
	Waivers  []Waiver  `json:"waivers,omitempty"`
	// LeftOut is what was wanted, and is not in it.
	LeftOut []LeftOut `json:"leftOut,omitempty"`
}

// Basis names a bundle.
type Basis struct {
	ID     string    `json:"id"`
	MadeAt time.Time `json:"madeAt"`
}

// Package is what a bundle has of a package of a repository.
type Package struct {
	Repository string `json:"repository"`
	Ecosystem  string `json:"ecosystem"`
	Namespace  string `json:"namespace,omitempty"`
	Name       string `json:"name"`
	// Labels are all of the package, and Withdrawn why versions are not to be used any more: of those in
	// the bundle, and of those in the ones before it.
	Labels    map[string]string `json:"labels,omitempty"`
	Withdrawn map[string]string `json:"withdrawn,omitempty"`
	Versions  []Version         `json:"versions"`
}

// PURL names the package.
func (p Package) PURL() purl.PURL {
	return purl.PURL{Ecosystem: p.Ecosystem, Namespace: p.Namespace, Name: p.Name}
}

// Version is a version of it, or an upload of a snapshot.
type Version struct {
	Version     string    `json:"version"`
	Upload      string    `json:"upload,omitempty"`
	Snapshot    bool      `json:"snapshot,omitempty"`
	UploadedAt  time.Time `json:"uploadedAt"`
	UploadCount int       `json:"uploadCount,omitempty"`
	PublishedAt time.Time `json:"publishedAt"`
	PublishedBy string    `json:"publishedBy,omitempty"`
	Build       string    `json:"build,omitempty"`  // NAME#NUMBER
	Needed      bool      `json:"needed,omitempty"` // it is here because another one needs it
	// Promotions are those that put it where it is, there and before, the first first.
	Promotions []Promotion `json:"promotions,omitempty"`
	// Said is what its publisher said of it, in the words of its ecosystem.
	Said  map[string]json.RawMessage `json:"said,omitempty"`
	Files []File                     `json:"files"`
}

// Bytes is how many bytes its files have.
func (v Version) Bytes() (n int64) {
	for _, f := range v.Files {
		n += f.Size
	}
	return n
}

// File is a file of it.
type File struct {
	Name       string `json:"name"`
	Classifier string `json:"classifier,omitempty"`
	Extension  string `json:"extension,omitempty"`
	MediaType  string `json:"mediaType,omitempty"`
	SHA256     Sum    `json:"sha256"`
	Size       int64  `json:"size"`
}

// Promotion is that a version was promoted.
type Promotion struct {
	Track string    `json:"track,omitempty"`
	From  string    `json:"from"`
	To    string    `json:"to"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// Origin is where a version came from, as it was told there.
type Origin struct {
	From string `json:"from"` // a server and a repository, or a bundle
	// Promotions are those that it went through before, the first first.
	Promotions []Promotion `json:"promotions,omitempty"`
}

// Build is a run of a CI system that made versions.
type Build struct {
	Name      string            `json:"name"`
	Number    string            `json:"number"`
	Revision  string            `json:"revision,omitempty"`
	Branch    string            `json:"branch,omitempty"`
	Link      string            `json:"link,omitempty"`
	Agent     string            `json:"agent,omitempty"`
	By        string            `json:"by,omitempty"`
	StartedAt time.Time         `json:"startedAt"`
	EndedAt   *time.Time        `json:"endedAt,omitempty"`
	Notes     map[string]string `json:"notes,omitempty"`
	Tests     *junit.Summary    `json:"tests,omitempty"`
}

// Title is name#number.
func (b Build) Title() string { return b.Name + "#" + b.Number }

// Vetting is a decision about what a pattern fits.
type Vetting struct {
	Pattern      string     `json:"pattern"`
	Refused      bool       `json:"refused,omitempty"`
	Repositories []string   `json:"repositories,omitempty"`
	Reason       string     `json:"reason"`
	By           string     `json:"by"`
	MadeAt       time.Time  `json:"madeAt"`
	Until        *time.Time `json:"until,omitempty"`
}

// Waiver accepts an advisory for what a pattern fits.
type Waiver struct {
	Advisory      string     `json:"advisory"`
	Pattern       string     `json:"pattern"`
	Justification string     `json:"justification,omitempty"`
	Reason        string     `json:"reason"`
	By            string     `json:"by"`
	MadeAt        time.Time  `json:"madeAt"`
	Until         *time.Time `json:"until,omitempty"`
}

// LeftOut is something that was wanted, and why it is not there.
type LeftOut struct {
	PURL string `json:"purl"`
	Why  string `json:"why"`
}

// Sum is a SHA-256, in JSON as 64 small hexadecimal digits.
type Sum [32]byte

func (s Sum) String() string { return hex.EncodeToString(s[:]) }

// MarshalText implements encoding.TextMarshaler.
func (s Sum) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Sum) UnmarshalText(given []byte) error {
	raw, err := hex.DecodeString(string(given))
	if err != nil || len(raw) != len(s) || string(given) != strings.ToLower(string(given)) {
		return fmt.Errorf("%q is no SHA-256", given)
	}
	copy(s[:], raw)
	return nil
}

// Files are the files of a bundle and their sizes, each once.
func (m Manifest) Files() map[Sum]int64 {
	all := map[Sum]int64{}
	for _, p := range m.Packages {
		for _, v := range p.Versions {
			for _, f := range v.Files {
				all[f.SHA256] = f.Size
			}
		}
	}
	return all
}

// Totals are how many versions a bundle has, and the bytes of its files, each once.
func (m Manifest) Totals() (versions int, bytes int64) {
	for _, p := range m.Packages {
		versions += len(p.Versions)
	}
	for _, size := range m.Files() {
		bytes += size
	}
	return versions, bytes
}

// Parse reads a manifest, and refuses one that cannot be true, whoever signed it.
func Parse(raw []byte) (m Manifest, err error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	if err := d.Decode(&m); err != nil {
		return m, fmt.Errorf("its manifest cannot be read: %w", err)
	}
	if m.Form != Form {
		return m, fmt.Errorf("its form is %q, and only %s can be read", text.Clean(m.Form, false, 50), Form)
	}
	return m, m.check()
}

// word checks a word that must be there.
func word(what, is string) error {
	if is == "" {
		return fmt.Errorf("%s is missing", what)
	}
	return text.Check(what, is, false, text.MaxName)
}

// longestPattern is how long a pattern is at most.
const longestPattern = 2000

func (m Manifest) check() error {
	if err := word("the id of the bundle", m.ID); err != nil {
		return err
	}
	if m.MadeAt.IsZero() {
		return errors.New("the time when it was made is missing")
	}
	if err := text.Check("who made the bundle", m.MadeBy, false, text.MaxName); err != nil {
		return err
	}
	for _, given := range append(slices.Clone(m.From), m.Only...) {
		if err := text.Check("what the bundle is made from", given, false, longestPattern); err != nil {
			return err
		}
	}
	if m.Since != nil {
		if err := word("the id of the bundle before it", m.Since.ID); err != nil {
			return err
		}
	}
	if err := m.checkDecisions(); err != nil {
		return err
	}
	return Check(m.Packages)
}

// Check refuses packages that cannot be true, whoever tells of them.
func Check(all []Package) error {
	sizes := map[Sum]int64{}
	for _, p := range all {
		if err := p.check(sizes); err != nil {
			return fmt.Errorf("%s: %w", text.Clean(p.PURL().String(), false, 300), err)
		}
	}
	return nil
}

// mostDecisions is how many decisions a bundle has at most, of each kind.
const mostDecisions = 1000

func (m Manifest) checkDecisions() error {
	if len(m.Vettings) > mostDecisions || len(m.Waivers) > mostDecisions {
		return fmt.Errorf("it has more than %d decisions", mostDecisions)
	}
	one := func(pattern, reason string) error {
		if _, err := purl.ParsePattern(pattern); err != nil {
			return err
		}
		return text.Check("the reason of a decision", reason, true, text.MaxText)
	}
	for _, v := range m.Vettings {
		err := one(v.Pattern, v.Reason)
		for _, name := range v.Repositories {
			err = errors.Join(err, word("the repository of a decision", name))
		}
		if err != nil {
			return err
		}
	}
	for _, w := range m.Waivers {
		if err := errors.Join(one(w.Pattern, w.Reason), word("an advisory", w.Advisory),
			text.Check("a justification", w.Justification, false, text.MaxName)); err != nil {
			return err
		}
	}
	return nil
}

func (p Package) check(sizes map[Sum]int64) error {
	if err := errors.Join(word("its repository", p.Repository), word("its ecosystem", p.Ecosystem),
		word("its name", p.Name)); err != nil {
		return err
	}
	for label, version := range p.Labels {
		if err := errors.Join(word("a label", label), word("the version of a label", version)); err != nil {
			return err
		}
	}
	for version, reason := range p.Withdrawn {
		if err := errors.Join(word("a version that is withdrawn", version),
			text.Check("why it is withdrawn", reason, true, text.MaxText)); err != nil {
			return err
		}
	}
	seen := map[[2]string]bool{}
	for _, v := range p.Versions {
		is := [2]string{v.Version, v.Upload}
		if seen[is] || v.Version == "" || v.Upload != "" && !v.Snapshot {
			return fmt.Errorf("version %q is there twice, or is no version", v.Version)
		}
		seen[is] = true
		if err := v.check(sizes); err != nil {
			return fmt.Errorf("version %q: %w", v.Version, err)
		}
	}
	return nil
}

func (v Version) check(sizes map[Sum]int64) error {
	if len(v.Files) == 0 || len(v.Files) > mostFiles {
		return fmt.Errorf("it has %d files", len(v.Files))
	}
	said := 0
	for _, raw := range v.Said {
		said += len(raw)
	}
	if said > maxSaid {
		return fmt.Errorf("what its publisher said of it has %d bytes, and %d are possible", said, maxSaid)
	}
	for what, given := range map[string]string{"its name": v.Version, "the name of its upload": v.Upload,
		"who published it": v.PublishedBy, "its build": v.Build} {
		if err := text.Check(what, given, false, text.MaxName); err != nil {
			return err
		}
	}
	if len(v.Promotions) > mostPromotions {
		return fmt.Errorf("it went through %d promotions", len(v.Promotions))
	}
	for _, p := range v.Promotions {
		for _, name := range []string{p.Track, p.From, p.To, p.By} {
			if err := text.Check("a promotion of it", name, false, text.MaxName); err != nil {
				return err
			}
		}
	}
	var names []string
	for _, f := range v.Files {
		if err := text.CheckFileName(f.Name); err != nil {
			return err
		}
		if size, known := sizes[f.SHA256]; f.Size < 0 || known && size != f.Size {
			return fmt.Errorf("%s has other sizes elsewhere", f.Name)
		}
		// Where files are asked for by their content, the name is the content's.
		if sum, named := strings.CutPrefix(f.Name, "sha256-"); named && f.MediaType != "" && sum != f.SHA256.String() {
			return fmt.Errorf("%s is not what it is called", f.Name)
		}
		if err := text.Check("a media type", f.MediaType, false, text.MaxName); err != nil {
			return err
		}
		sizes[f.SHA256] = f.Size
		names = append(names, f.Name)
	}
	slices.Sort(names)
	if len(slices.Compact(names)) != len(v.Files) {
		return errors.New("a file is there twice")
	}
	return nil
}

// Signed is a manifest as it was signed.
type Signed struct {
	Raw       []byte // JSON
	Signature []byte // OpenPGP, armored and detached (RFC 9580)
}

// Writer writes a bundle.
type Writer struct {
	tar *tar.Writer
	at  time.Time
}

// NewWriter begins a bundle.
func NewWriter(w io.Writer, s Signed, at time.Time) (*Writer, error) {
	b := &Writer{tar: tar.NewWriter(w), at: at.UTC().Truncate(time.Second)}
	for _, member := range []struct {
		name    string
		content []byte
	}{{manifestName, s.Raw}, {signatureName, s.Signature}} {
		if err := b.header(member.name, int64(len(member.content))); err != nil {
			return nil, err
		}
		if _, err := b.tar.Write(member.content); err != nil {
			return nil, err
		}
	}
	return b, nil
}

// NewFilesWriter begins an archive of files alone, as the rest of a bundle is.
func NewFilesWriter(w io.Writer, at time.Time) *Writer {
	return &Writer{tar: tar.NewWriter(w), at: at.UTC().Truncate(time.Second)}
}

func (b *Writer) header(name string, size int64) error {
	return b.tar.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o644, ModTime: b.at})
}

// Add adds a file, which must give as many bytes as it has.
func (b *Writer) Add(sum Sum, size int64, r io.Reader) error {
	if err := b.header(filesPrefix+sum.String(), size); err != nil {
		return err
	}
	_, err := io.Copy(b.tar, r)
	return err
}

// Close ends the bundle.
func (b *Writer) Close() error { return b.tar.Close() }

// Reader reads a bundle, once, from its beginning to its end.
type Reader struct {
	Signed
	tar *tar.Reader
}

// ErrNoBundle is for what is none.
var ErrNoBundle = errors.New("it is no bundle, or only the middle of one")

// NewReader reads what a bundle says of itself. Whether that can be believed is for the caller to find out.
func NewReader(r io.Reader) (*Reader, error) {
	b := &Reader{tar: tar.NewReader(r)}
	for _, member := range []struct {
		name string
		most int64
		into *[]byte
	}{{manifestName, MaxManifest, &b.Raw}, {signatureName, maxSignature, &b.Signature}} {
		header, err := b.tar.Next()
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, tar.ErrHeader) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, err
		}
		if err != nil || header.Name != member.name || !plain(header) {
			return nil, ErrNoBundle
		}
		if header.Size > member.most {
			return nil, fmt.Errorf("%s has %d bytes, and %d are possible", member.name, header.Size, member.most)
		}
		if *member.into, err = io.ReadAll(b.tar); err != nil {
			return nil, err
		}
	}
	return b, nil
}

// NewFilesReader reads an archive of files alone, as the rest of a bundle is.
func NewFilesReader(r io.Reader) *Reader { return &Reader{tar: tar.NewReader(r)} }

// plain tells whether a member is a file that has all the bytes that it says: of one with holes a few bytes
// make as many as somebody likes.
func plain(h *tar.Header) bool {
	for key := range h.PAXRecords {
		if strings.HasPrefix(key, "GNU.sparse.") {
			return false
		}
	}
	return h.Typeflag == tar.TypeReg
}

// Next gives the next file; io.EOF is the end of the bundle. r gives its bytes until Next is asked again.
func (b *Reader) Next() (sum Sum, size int64, r io.Reader, err error) {
	header, err := b.tar.Next()
	if err != nil {
		if errors.Is(err, tar.ErrHeader) {
			err = fmt.Errorf("the bundle is damaged: %w", err)
		}
		return sum, 0, nil, err
	}
	name, ok := strings.CutPrefix(header.Name, filesPrefix)
	if !ok || !plain(header) || sum.UnmarshalText([]byte(name)) != nil {
		return sum, 0, nil, fmt.Errorf("the bundle has a member that does not belong there: %q",
			text.Clean(header.Name, false, 300))
	}
	return sum, header.Size, b.tar, nil
}
