// Package catalog holds the plain values that all of Crelvo speaks of:
// repositories, packages, versions and files. It has no behaviour beyond what
// follows from the values themselves.
package catalog

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"hash"
	"maps"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/safety"
)

// Kind is what a repository does: hold, fetch or put together.
type Kind string

// The kinds of repository. Who asks what one can do asks Own, Fetches, Gathers or Accepts.
const (
	House  Kind = "house"
	Mirror Kind = "mirror"
	Chain  Kind = "chain"
)

// Holds says which maturities a house repository takes.
type Holds string

// What a house repository may hold.
const (
	Snapshots Holds = "snapshots"
	Releases  Holds = "releases"
	Both      Holds = "both"
)

// Takes tells whether a version of that maturity belongs there.
func (h Holds) Takes(snapshot bool) bool {
	return h == Both || (h == Snapshots) == snapshot
}

// Repository is one address and one set of rights.
type Repository struct {
	ID            int64
	Name          string
	Kind          Kind
	Holds         Holds  // of a chain, without meaning
	Ecosystem     string // mirror only
	Description   string
	AnonymousRead bool
	CreatedAt     time.Time
	ChangedAt     time.Time
	// OnlyBuilds and OnlyRobots: what is published to a house repository must come
	// from a build that began here, or from a robot.
	OnlyBuilds, OnlyRobots bool
	// Closed: a version that is complete takes no further files but signatures and
	// attestations.
	Closed bool
	// LargestFile is how large a published file may be, in bytes; 0 is what the
	// server says.
	LargestFile int64
	// Hosts are names of hosts under which it answers by itself, for clients that know only
	// a host; not to be changed.
	Hosts []string
	// ReleaseTags are patterns, with * for any run of characters, of labels that make
	// releases of their versions beside those that do so anyway, in ecosystems whose labels
	// do; not to be changed.
	ReleaseTags []string
	// StoreID is the store that what is new in it goes to; 0 is the default one.
	StoreID int16
	// FromStore: clients that follow where they are sent read large files from the object
	// store itself.
	FromStore bool
	// Safety says what it lets in.
	Safety safety.Rules
	// AsOf is the moment as of which it is read; 0 is now.
	AsOf Moment
	// Sight is the part of it that whoever asks may read; "" is all.
	Sight  Sight
	Mirror *MirrorSettings // mirror only; not to be changed
	Chain  *ChainSettings  // chain only; not to be changed
}

// Own tells whether what is in it is ours: published to it or promoted into it, and so to
// be withdrawn, removed or built upon.
func (r Repository) Own() bool { return r.Kind == House }

// Fetches tells whether it has upstreams, so that it may have more than it keeps.
func (r Repository) Fetches() bool { return r.Kind == Mirror }

// Gathers tells whether it keeps nothing itself, and answers with what its members have.
func (r Repository) Gathers() bool { return r.Kind == Chain }

// Accepts tells whether versions of that maturity can be published to it or promoted
// into it.
func (r Repository) Accepts(snapshot bool) bool { return r.Own() && r.Holds.Takes(snapshot) }

// At is the name as it stands in addresses: with the moment, if there is one.
func (r Repository) At() string {
	if r.AsOf == 0 {
		return r.Name
	}
	return r.Name + "@" + r.AsOf.String()
}

// Key names a package in the repository.
func (r Repository) Key(ecosystem, namespace, name string) PackageKey {
	return PackageKey{RepositoryID: r.ID, AsOf: r.AsOf, Sight: r.Sight, Ecosystem: ecosystem, Namespace: namespace,
		Name: name}
}

// Sight tells which part of a repository somebody may read, in a form that the
// service knows.
type Sight string

// PackageKey names a package inside one repository.
type PackageKey struct {
	RepositoryID int64
	AsOf         Moment
	Sight        Sight
	Ecosystem    string // purl type
	Namespace    string // "" where the ecosystem has none
	Name         string
}

// Package is a name and everything visible under it in one repository.
type Package struct {
	ID       int64
	Key      PackageKey
	Revision int64 // raised by every change; the version of its rendered documents
	Changed  time.Time
	Versions []Version // no order promised
	// Labels are movable names for versions: npm's dist-tags. Not to be changed.
	Labels map[string]string
	// KeptOut are versions that are there, and not let in; not to be changed.
	KeptOut []KeptOut
	// Stale names the mirrors that could not bring up to date what they say of
	// it.
	Stale []Staleness
}

// KeptOut is a version that a repository does not let in, and why, as a sentence goes on with it,
// and what to do.
type KeptOut struct {
	By                 int64 // the repository
	Version, Why, Hint string
	// Awaits: a person's decision would let it in.
	Awaits bool
}

// Staleness is that a mirror says what its upstream said some time ago.
type Staleness struct {
	Mirror string
	By     time.Duration // since it should have been brought up to date
	Why    string
}

// Version is one publication, or, in a mirror, what is kept of one. Every
// upload of a snapshot is a Version of its own; Version.Version groups them.
type Version struct {
	ID          int64
	Version     string // what clients ask for: 1.4.0, 1.4.0-SNAPSHOT
	Upload      string // the name of this upload of a snapshot; "" for a release
	Snapshot    bool
	UploadedAt  time.Time // when the client says it was made, or when it began to arrive
	UploadCount int       // the number of this upload of the snapshot; 0 for a release
	PublishedBy string
	BuildID     int64     // of the build that made it; 0 if none is known
	PublishedAt time.Time // when it became visible
	// Arrived is its place among what was published here, later than all that came
	// before; zero of what a mirror has, whose order is that of its upstream.
	Arrived time.Time
	Details Details
	Files   []File
	// Listed: an upstream says that it has it, and nothing of it is kept yet.
	Listed bool
	// Outside: a mirror has it from its upstream. Dated is when it was published there, as far
	// as is known: at the latest when it was first seen there; LongAgo if it was there before
	// anybody looked.
	Outside bool
	Dated   time.Time
	// Withdrawn: it is not to be used any more; nil if it is.
	Withdrawn *Withdrawal
}

// LongAgo is when something was published that was there before anybody looked.
var LongAgo = time.Unix(0, 0).UTC()

// Withdrawal is why a version is not to be used any more: what the ecosystems
// call yank, unlist or deprecate.
type Withdrawal struct {
	Reason string    `json:"reason,omitempty"`
	By     string    `json:"by,omitempty"`
	At     time.Time `json:"at,omitzero"`
}

// LabelsAt are the labels that are at a version, in their order.
func (p *Package) LabelsAt(version string) []string {
	labels := []string{}
	for label, at := range p.Labels {
		if at == version {
			labels = append(labels, label)
		}
	}
	slices.Sort(labels)
	return labels
}

// Newest is the version that comes last in an order, of those that accept fits
// or, if none does, of all; nil if there are no versions.
func (p *Package) Newest(compare func(a, b string) int, accept func(Version) bool) *Version {
	var newest *Version
	accepted := false
	for i := range p.Versions {
		v := &p.Versions[i]
		ok := accept(*v)
		switch {
		case newest == nil || ok && !accepted:
		case accepted && !ok:
			continue
		default:
			c := compare(v.Version, newest.Version)
			if c < 0 || c == 0 && !v.Newer(*newest) {
				continue
			}
		}
		newest, accepted = v, accepted || ok
	}
	return newest
}

// Exact is the most precise name of the version: the upload's, if it has one.
func (v Version) Exact() string {
	if v.Upload != "" {
		return v.Upload
	}
	return v.Version
}

// Newer tells whether v, an upload of the same snapshot, is newer than other.
func (v Version) Newer(other Version) bool {
	a, b := v.order(), other.order()
	switch {
	case !a.Equal(b):
		return a.After(b)
	case v.UploadCount != other.UploadCount:
		return v.UploadCount > other.UploadCount
	}
	return v.ID > other.ID
}

// order is by what uploads are ordered: when they arrived, and not what a client's
// clock says, unless nothing else is known.
func (v Version) order() time.Time {
	if v.Arrived.IsZero() {
		return v.UploadedAt
	}
	return v.Arrived
}

// Size is the sum of the sizes of the version's files that are kept, in bytes.
func (v Version) Size() (bytes int64) {
	for _, f := range v.Files {
		if f.Kept() {
			bytes += f.Digests.Size
		}
	}
	return bytes
}

// File is one file of a version.
type File struct {
	ID        int64 // 0 for one that an upstream lists and that is not kept
	VersionID int64
	// RepositoryID is where it is kept; behind a chain, not the chain.
	RepositoryID int64
	Name         string // as it stands in the repository
	Classifier   string // Maven
	Extension    string
	MediaType    string  // where its ecosystem names files by it; else ""
	Digests      Digests // of a listed one, as far as the upstream states them
	AddedAt      time.Time
	AddedBy      string // "" where it is not known
	// MadeFrom is the SHA-256 of what it was before a restamp; zero if it was not
	// restamped.
	MadeFrom [32]byte
}

// Kept tells whether the bytes of the file are here.
func (f File) Kept() bool { return f.ID != 0 }

// Label is a movable name for a version.
type Label struct {
	Name, Version string
	SetBy         string
	SetAt         time.Time
}

// Sum is a digest as clients write it: an algorithm that Digests has, and hexadecimal in
// small letters.
type Sum struct{ Algorithm, Hex string }

// String writes it as the OCI image specification does: sha256:….
func (s Sum) String() string { return s.Algorithm + ":" + s.Hex }

// FileName is it as the name of a file.
func (s Sum) FileName() string { return s.Algorithm + "-" + s.Hex }

// Of tells whether it is a digest of those bytes.
func (s Sum) Of(d Digests) bool { return s.Hex != "" && d.Hex(s.Algorithm) == s.Hex }

// ParseSum reads such a digest, of 256 bits or more; ok is false if it is none.
func ParseSum(text string) (s Sum, ok bool) {
	s.Algorithm, s.Hex, ok = strings.Cut(text, ":")
	var d Digests
	ok = ok && (s.Algorithm == "sha256" || s.Algorithm == "sha512") && s.Hex == strings.ToLower(s.Hex) &&
		d.ParseHex(s.Algorithm, s.Hex)
	return s, ok
}

// Details is what is known of a version from its own files.
type Details struct {
	Title        string       `json:"title,omitempty"`
	Description  string       `json:"description,omitempty"`
	Homepage     string       `json:"homepage,omitempty"`
	Source       string       `json:"source,omitempty"` // where its source code is
	Packaging    string       `json:"packaging,omitempty"`
	Parent       string       `json:"parent,omitempty"` // purl
	PluginPrefix string       `json:"pluginPrefix,omitempty"`
	Licences     []Licence    `json:"licences,omitempty"`
	Authors      []string     `json:"authors,omitempty"`
	Dependencies []Dependency `json:"dependencies,omitempty"`
	// Native is what the ecosystem's own documents say besides, by its own names.
	Native map[string]json.RawMessage `json:"native,omitempty"`
	// Readme is kept apart from the rest, since it may be long.
	Readme *Readme `json:"-"`
}

// Readme is a text about a version.
type Readme struct {
	Text   string
	Format string // a media type: text/markdown, text/plain, text/x-rst
}

// Licence is a licence as its package states it.
type Licence struct {
	Name string `json:"name"`
	URL  string `json:"url,omitempty"`
	// Sure is how sure it is that it is this one, in percent, where that is known by its text
	// alone; 0 where the package states it.
	Sure int `json:"sure,omitempty"`
}

// Dependency is one thing that a version needs.
type Dependency struct {
	PURL     string `json:"purl"` // without a version
	Version  string `json:"version,omitempty"`
	Scope    string `json:"scope,omitempty"`
	Optional bool   `json:"optional,omitempty"`
}

// byText tells whether licences are known by their texts alone.
func byText(all []Licence) bool {
	return slices.ContainsFunc(all, func(l Licence) bool { return l.Sure > 0 })
}

// Merge adds what other knows and d does not.
func (d Details) Merge(other Details) Details {
	pick := func(a *string, b string) {
		if *a == "" {
			*a = b
		}
	}
	pick(&d.Title, other.Title)
	pick(&d.Description, other.Description)
	pick(&d.Homepage, other.Homepage)
	pick(&d.Source, other.Source)
	pick(&d.Packaging, other.Packaging)
	pick(&d.Parent, other.Parent)
	pick(&d.PluginPrefix, other.PluginPrefix)
	if d.Licences == nil || other.Licences != nil && byText(d.Licences) && !byText(other.Licences) {
		d.Licences = other.Licences // what is stated counts more than what texts are like
	}
	if d.Authors == nil {
		d.Authors = other.Authors
	}
	if d.Dependencies == nil {
		d.Dependencies = other.Dependencies
	}
	if d.Readme == nil {
		d.Readme = other.Readme
	}
	if len(other.Native) > 0 {
		native := maps.Clone(other.Native)
		maps.Copy(native, d.Native)
		d.Native = native
	}
	return d
}

// DerivedFile is the name of a file that is made from the others of its version, and from the same ones may be made
// another time in another way: a release that was removed may come back with another one. No package has a file of
// its own that is called so.
const DerivedFile = "layout.bin"

// Digests identifies bytes; Size is in bytes.
type Digests struct {
	Size   int64
	SHA256 [32]byte
	SHA512 [64]byte
	SHA1   [20]byte
	MD5    [16]byte
}

// Algorithms are the names that Digests.Hex takes, which are also the
// extensions of checksum files.
var Algorithms = []string{"md5", "sha1", "sha256", "sha512"}

// Hex is the digest of that algorithm in lower-case hexadecimal, or "" for an
// algorithm that is not in Algorithms.
func (d Digests) Hex(algorithm string) string {
	switch strings.ToLower(algorithm) {
	case "md5":
		return hex.EncodeToString(d.MD5[:])
	case "sha1":
		return hex.EncodeToString(d.SHA1[:])
	case "sha256":
		return hex.EncodeToString(d.SHA256[:])
	case "sha512":
		return hex.EncodeToString(d.SHA512[:])
	}
	return ""
}

// NewHash begins to compute the digest of an algorithm; nil for one that is not in
// Algorithms.
func NewHash(algorithm string) hash.Hash {
	switch strings.ToLower(algorithm) {
	case "md5":
		return md5.New()
	case "sha1":
		return sha1.New()
	case "sha256":
		return sha256.New()
	case "sha512":
		return sha512.New()
	}
	return nil
}

// ParseHex sets the digest of that algorithm from hexadecimal; ok is false if
// it is none.
func (d *Digests) ParseHex(algorithm, text string) (ok bool) {
	var into []byte
	switch strings.ToLower(algorithm) {
	case "md5":
		into = d.MD5[:]
	case "sha1":
		into = d.SHA1[:]
	case "sha256":
		into = d.SHA256[:]
	case "sha512":
		into = d.SHA512[:]
	}
	if len(into) == 0 || hex.DecodedLen(len(text)) != len(into) {
		return false
	}
	raw, err := hex.DecodeString(text)
	copy(into, raw)
	return err == nil
}

// Has tells whether the digest of that algorithm is known.
func (d *Digests) Has(algorithm string) bool {
	switch algorithm {
	case "md5":
		return d.MD5 != [16]byte{}
	case "sha1":
		return d.SHA1 != [20]byte{}
	case "sha256":
		return d.SHA256 != [32]byte{}
	case "sha512":
		return d.SHA512 != [64]byte{}
	}
	return false
}

// Contradicts tells whether a digest that both have is not the same.
func (d *Digests) Contradicts(other Digests) bool {
	for _, algorithm := range Algorithms {
		if d.Has(algorithm) && other.Has(algorithm) && d.Hex(algorithm) != other.Hex(algorithm) {
			return true
		}
	}
	return false
}

// FileQuestion asks for one file. Either Name is given, with the exact Upload,
// or Classifier and Extension, and the newest upload that has one answers. With a Label
// in place of a version, it is that to which the label points; with neither, the file is
// a part of the package, whatever versions name it.
type FileQuestion struct {
	Key             PackageKey
	Version, Upload string
	Label           string
	Name            string
	Classifier      string
	Extension       string
	Open            bool  // also one whose version is not complete
	By              int64 // only of versions that this principal published; 0 for any
}
