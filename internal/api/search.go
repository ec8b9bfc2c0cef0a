package api

import (
	"time"

	"crelvo/internal/core/bundle"
)

// Folder is a level of a repository's tree.
type Folder struct {
	Repository string  `json:"repository"`
	Ecosystem  string  `json:"ecosystem"`
	Path       string  `json:"path"`
	Address    string  `json:"address" doc:"of the folder, for package clients"`
	Entries    []Entry `json:"entries"`
	Total      int     `json:"total" doc:"how many entries there are, on all pages"`
	Next       string  `json:"next,omitempty" doc:"there are more: ask again with after set to this"`
}

// Entry is a line of a folder.
type Entry struct {
	Name      string            `json:"name"`
	Folder    bool              `json:"folder"`
	Size      int64             `json:"size"`
	ChangedAt *time.Time        `json:"changedAt,omitempty"`
	PURL      string            `json:"purl,omitempty" doc:"of the package or version that it is"`
	Document  bool              `json:"document,omitempty" doc:"made by Crelvo from its records"`
	Checksums map[string]string `json:"checksums,omitempty" doc:"hexadecimal, by algorithm"`
}

// PackageLine is a package in a list.
type PackageLine struct {
	PURL        string    `json:"purl"`
	Ecosystem   string    `json:"ecosystem"`
	Namespace   string    `json:"namespace"`
	Name        string    `json:"name"`
	Repository  string    `json:"repository"`
	Latest      string    `json:"latest" doc:"the version that arrived last; of images the newest tag"`
	Versions    int64     `json:"versions"`
	Bytes       int64     `json:"bytes"`
	ChangedAt   time.Time `json:"changedAt"`
	PublishedBy string    `json:"publishedBy"`
	Description string    `json:"description"`
}

// PackageList is a page of packages.
type PackageList struct {
	Packages []PackageLine `json:"packages"`
	More     bool          `json:"more" doc:"there are more; ask with a higher skip"`
}

// Package is all that is known of a package, or of one version of it.
type Package struct {
	PURL         string         `json:"purl"`
	Ecosystem    string         `json:"ecosystem"`
	Namespace    string         `json:"namespace"`
	Name         string         `json:"name"`
	Title        string         `json:"title"`
	Description  string         `json:"description"`
	Homepage     string         `json:"homepage,omitempty"`
	Source       string         `json:"source,omitempty"`
	Repositories []string       `json:"repositories"`
	Versions     []VersionGroup `json:"versions" doc:"the newest first"`
	Total        int            `json:"total" doc:"how many versions there are, on all pages"`
	Next         string         `json:"next,omitempty" doc:"there are more: ask again with after set to this"`
}

// VersionGroup is a version in one repository with its uploads: one for a
// release, any number for a snapshot, the newest first.
type VersionGroup struct {
	Version    string     `json:"version"`
	Title      string     `json:"title" doc:"what people call it: the version, or labels and the beginning of a digest"`
	What       string     `json:"what,omitempty" doc:"what it is, in a few words: the platforms of an image"`
	BelongsTo  string     `json:"belongsTo,omitempty" doc:"the version that it is part of, or about"`
	BelongsAs  string     `json:"belongsAs,omitempty" enum:"part,about"`
	PURL       string     `json:"purl"`
	Repository string     `json:"repository"`
	Snapshot   bool       `json:"snapshot"`
	Listed     bool       `json:"listed,omitempty" doc:"the upstream of a mirror lists it, and nothing of it is kept yet"`
	Downloads  int64      `json:"downloads"`
	LastUse    *time.Time `json:"lastUse,omitempty" doc:"when it was downloaded last"`
	Users      int64      `json:"users" doc:"distinct users who downloaded it"`
	Uploads    []Upload   `json:"uploads" doc:"the newest hundred"`
	// UploadCount is how many there are.
	UploadCount int `json:"uploadCount"`
	// Bytes are those of the newest upload, with those of what it is made of.
	Bytes int64 `json:"bytes" doc:"of the newest upload, with what it is made of"`
	// Labels are movable names that are at the version, as npm's dist-tags.
	Labels    []string    `json:"labels"`
	Withdrawn *Withdrawal `json:"withdrawn,omitempty" doc:"not to be used any more"`
	Findings  []Finding   `json:"findings,omitempty" doc:"what advisories say of it, the worst first"`
	KeptOut   string      `json:"keptOut,omitempty" doc:"why its repository does not hand it out; left out if it does"`
}

// LabelMove is that a label was set to a version.
type LabelMove struct {
	Label   string     `json:"label"`
	Version string     `json:"version"`
	Before  string     `json:"before,omitempty" doc:"the version that it pointed to before"`
	By      string     `json:"by"`
	At      time.Time  `json:"at"`
	Until   *time.Time `json:"until,omitempty" doc:"when it moved on or was taken away; left out if it is there"`
}

// Ecosystem is a kind of package that the service knows.
type Ecosystem struct {
	Name     string `json:"name" doc:"the purl type, and the door in addresses"`
	Title    string `json:"title"`
	Mirrored bool   `json:"mirrored" doc:"its packages can be fetched from elsewhere"`
	Layered  bool   `json:"layered" doc:"its versions consist of layers"`
}

// SavedSearch is a query with a name.
type SavedSearch struct {
	Name   string    `json:"name"`
	Query  string    `json:"query"`
	Owner  string    `json:"owner"`
	Shared bool      `json:"shared" doc:"with everybody who signs in"`
	At     time.Time `json:"at"`
}

// SaveSearch is a query to be kept.
type SaveSearch struct {
	Query  string `json:"query" minLength:"1" maxLength:"1000"`
	Shared bool   `json:"shared,omitempty"`
}

// Completion is how a query could go on.
type Completion struct {
	Text  string `json:"text" doc:"in place of the query's last term"`
	Means string `json:"means"`
}

// Readme is the text about a version.
type Readme struct {
	Version string `json:"version"`
	HTML    string `json:"html" doc:"safe to show: no scripts, styles, forms or pictures"`
}

// Upload is one publication.
type Upload struct {
	Name         string         `json:"name"`
	PublishedBy  string         `json:"publishedBy"`
	Build        string         `json:"build,omitempty" doc:"that made it, as NAME#NUMBER"`
	Promotions   []int64        `json:"promotions,omitempty" doc:"that it was part of, the first first"`
	Origin       *bundle.Origin `json:"origin,omitempty" doc:"where it came from, if that was another Crelvo or a bundle, and what promotions it went through there"`
	PublishedAt  time.Time      `json:"publishedAt"`
	Size         int64          `json:"size"`
	Packaging    string         `json:"packaging,omitempty"`
	Parent       string         `json:"parent,omitempty"`
	Licences     []Licence      `json:"licences"`
	Authors      []string       `json:"authors"`
	Dependencies []Dependency   `json:"dependencies"`
	Files        []File         `json:"files"`
	Set          *FileSet       `json:"set,omitempty" doc:"what is in it, of a file set; its files are listed by folder"`
}

// FileSet is what is in a version of a file set.
type FileSet struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
}

// SetFolder is what stands in a folder of a file set.
type SetFolder struct {
	PURL       string     `json:"purl" doc:"of the version"`
	Repository string     `json:"repository"`
	Folder     string     `json:"folder" doc:"empty, or a path that ends with a slash"`
	Entries    []SetEntry `json:"entries"`
	Next       string     `json:"next,omitempty" doc:"the name to go on after"`
	// Shared are told with the first entries of the set itself.
	Shared []SharedVersion `json:"shared,omitempty" doc:"versions that are kept in the same packs"`
}

// SharedVersion is another version of a file set that is kept in some of the same packs.
type SharedVersion struct {
	PURL    string `json:"purl"`
	Version string `json:"version" doc:"or the name of its upload"`
	Bytes   int64  `json:"bytes" doc:"of the packs that both are kept in"`
}

// SetEntry is a file, a folder or a link.
type SetEntry struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind" enum:"file,folder,link"`
	Bytes    int64      `json:"bytes" doc:"of a folder: of all files below it"`
	Files    int        `json:"files,omitempty" doc:"below a folder"`
	Mode     string     `json:"mode,omitempty" example:"644"`
	Modified *time.Time `json:"modified,omitempty"`
	SHA256   string     `json:"sha256,omitempty"`
	Target   string     `json:"target,omitempty" doc:"where a link leads"`
	Path     string     `json:"path,omitempty" doc:"where a file is to be had, below the server's address"`
}

// Licence is a licence as the package states it, or as its text is recognised.
type Licence struct {
	Name string `json:"name"`
	URL  string `json:"url,omitempty"`
	Sure int    `json:"sure,omitempty" doc:"where it is known by its text alone, how sure that is, in percent"`
}

// Dependency is something that a version needs.
type Dependency struct {
	PURL     string `json:"purl"`
	Version  string `json:"version,omitempty"`
	Scope    string `json:"scope,omitempty"`
	Optional bool   `json:"optional,omitempty"`
}

// File is a file of a version.
type File struct {
	Name       string            `json:"name"`
	Classifier string            `json:"classifier,omitempty"`
	Extension  string            `json:"extension"`
	Size       int64             `json:"size"`
	AddedBy    string            `json:"addedBy,omitempty"`
	AddedAt    time.Time         `json:"addedAt"`
	Path       string            `json:"path" doc:"where to get it, below the address of the service"`
	Checksums  map[string]string `json:"checksums"`
	MadeFrom   string            `json:"madeFrom,omitempty" doc:"the SHA-256 of what it was before a restamp"`
}
