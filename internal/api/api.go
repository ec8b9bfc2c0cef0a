// Package api holds the values that the management API speaks, for the service
// that answers and the client that asks. Sizes are in bytes, times in RFC 3339
// with a zone. The doc tags end up in the OpenAPI document.
package api

import "time"

// Problem is an error (RFC 9457).
type Problem struct {
	Status int      `json:"status" doc:"HTTP status"`
	Title  string   `json:"title" doc:"the class of the error"`
	Code   string   `json:"code" doc:"stable, for programs" example:"name-taken"`
	Detail string   `json:"detail" doc:"what happened, in a sentence"`
	Hint   string   `json:"hint,omitempty" doc:"what to do"`
	Errors []string `json:"errors,omitempty" doc:"what is wrong with the input, a line each"`
}

// Error makes a Problem an error.
func (p *Problem) Error() string { return p.Detail }

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is the media type of problems.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Status is how the service is.
type Status struct {
	Version      string    `json:"version"`
	StartedAt    time.Time `json:"startedAt"`
	Address      string    `json:"address" doc:"how clients reach the service"`
	Database     string    `json:"database" doc:"ok, or what is wrong" example:"ok"`
	Repositories int       `json:"repositories" doc:"those that the caller may read"`
	Packages     int64     `json:"packages"`
	Versions     int64     `json:"versions"`
	Bytes        int64     `json:"bytes"`
	Concerns     []Concern `json:"concerns" doc:"what is wrong, will be soon, or waits for somebody"`
}

// Concern is something that is wrong, will be soon, or waits for somebody.
type Concern struct {
	Level string `json:"level" enum:"wrong,soon,waits"`
	What  string `json:"what"`
	Do    string `json:"do" doc:"what to do about it"`
	Page  string `json:"page" doc:"of the console"`
}

// Me is who the caller is.
type Me struct {
	Name      string   `json:"name" doc:"empty for nobody"`
	Kind      string   `json:"kind" enum:"user,robot,anonymous"`
	Token     string   `json:"token,omitempty" doc:"the name of the token that was used"`
	Admin     bool     `json:"admin"`
	SomeAdmin bool     `json:"someAdmin" doc:"admin of some repository at least"`
	Roles     []Role   `json:"roles"`
	Teams     []string `json:"teams"`
	LimitedTo []string `json:"limitedTo,omitempty" doc:"the actions that the token is limited to"`
	// ChangePassword: somebody else chose the password.
	ChangePassword bool `json:"changePassword,omitempty" doc:"somebody else chose the password, so it is to be changed"`
	// TokenEnds is when the token ends that was used.
	TokenEnds *time.Time `json:"tokenEnds,omitempty"`
}

// SignIn starts a session.
type SignIn struct {
	Name     string `json:"name" minLength:"1" maxLength:"63"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
}

// Repository is a repository as the caller sees it.
type Repository struct {
	Name          string     `json:"name"`
	Kind          string     `json:"kind" enum:"house,mirror,chain"`
	Holds         string     `json:"holds" enum:"snapshots,releases,both"`
	Ecosystem     string     `json:"ecosystem,omitempty" doc:"of a mirror"`
	Mirror        *Mirror    `json:"mirror,omitempty" doc:"of a mirror"`
	Chain         *Chain     `json:"chain,omitempty" doc:"of a chain"`
	Description   string     `json:"description"`
	AnonymousRead bool       `json:"anonymousRead" doc:"anybody may read without signing in"`
	OnlyBuilds    bool       `json:"onlyBuilds" doc:"what is published must come from a build that began here"`
	OnlyRobots    bool       `json:"onlyRobots" doc:"only robots publish"`
	Closed        bool       `json:"closed" doc:"versions that are complete take no further files but signatures"`
	LargestFile   int64      `json:"largestFile,omitempty" doc:"the largest file that may be published, in bytes; left out: what the server says"`
	Address       string     `json:"address"`
	Ecosystems    []string   `json:"ecosystems" doc:"what it holds anything of"`
	Packages      int64      `json:"packages"`
	Versions      int64      `json:"versions"`
	Bytes         int64      `json:"bytes"`
	AsOf          *time.Time `json:"asOf,omitempty" doc:"the moment as of which it is read, if it is not now"`
	CreatedAt     time.Time  `json:"createdAt"`
	LastChange    *time.Time `json:"lastChange,omitempty" doc:"when its contents changed last"`
	May           []string   `json:"may" doc:"what the caller may do there"`
}

// NewRepository is a repository to be made.
type NewRepository struct {
	Name          string        `json:"name" minLength:"2" maxLength:"63" example:"snapshots"`
	Kind          string        `json:"kind,omitempty" enum:"house,mirror,chain" default:"house"`
	Holds         string        `json:"holds,omitempty" enum:"snapshots,releases,both" default:"both"`
	Ecosystem     string        `json:"ecosystem,omitempty" doc:"what a mirror mirrors" example:"maven"`
	Mirror        *MirrorChange `json:"mirror,omitempty"`
	Chain         *ChainChange  `json:"chain,omitempty"`
	Description   string        `json:"description,omitempty" maxLength:"500"`
	AnonymousRead bool          `json:"anonymousRead,omitempty"`
	OnlyBuilds    bool          `json:"onlyBuilds,omitempty" doc:"what is published must come from a build that began here"`
	OnlyRobots    bool          `json:"onlyRobots,omitempty" doc:"only robots publish"`
	Closed        bool          `json:"closed,omitempty" doc:"versions that are complete take no further files but signatures"`
	LargestFile   int64         `json:"largestFile,omitempty" minimum:"0" doc:"the largest file that may be published, in bytes; 0: what the server says"`
}

// RepositoryChange is what is to be different; what is left out stays.
type RepositoryChange struct {
	Holds         *string       `json:"holds,omitempty" enum:"snapshots,releases,both"`
	Description   *string       `json:"description,omitempty" maxLength:"500"`
	AnonymousRead *bool         `json:"anonymousRead,omitempty"`
	OnlyBuilds    *bool         `json:"onlyBuilds,omitempty"`
	OnlyRobots    *bool         `json:"onlyRobots,omitempty"`
	Closed        *bool         `json:"closed,omitempty"`
	LargestFile   *int64        `json:"largestFile,omitempty" minimum:"0"`
	Mirror        *MirrorChange `json:"mirror,omitempty"`
	Chain         *ChainChange  `json:"chain,omitempty"`
}

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
	Latest      string    `json:"latest" doc:"the version that arrived last"`
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
	// Labels are movable names that are at the version, as npm's dist-tags.
	Labels    []string    `json:"labels"`
	Withdrawn *Withdrawal `json:"withdrawn,omitempty" doc:"not to be used any more"`
}

// Withdrawal is why a version is not to be used any more.
type Withdrawal struct {
	Reason string     `json:"reason"`
	By     string     `json:"by,omitempty" doc:"empty where the upstream of a mirror says so"`
	At     *time.Time `json:"at,omitempty"`
}

// Receiving is a version that is being received: it is not complete, and nobody sees
// it but who sends it.
type Receiving struct {
	PURL       string    `json:"purl"`
	Upload     string    `json:"upload,omitempty" doc:"of a snapshot"`
	Repository string    `json:"repository"`
	By         string    `json:"by"`
	BegunAt    time.Time `json:"begunAt"`
	LastAt     time.Time `json:"lastAt" doc:"when its last file came"`
	Files      int       `json:"files"`
	Bytes      int64     `json:"bytes"`
	Lacks      string    `json:"lacks,omitempty" doc:"what it waits for"`
	Until      time.Time `json:"until" doc:"when it is listed if nothing more comes or, where it lacks something, given up"`
}

// Withdraw marks a version as not to be used any more, or takes the mark away.
type Withdraw struct {
	PURL   string `json:"purl" maxLength:"1024" doc:"with a version"`
	Reason string `json:"reason,omitempty" maxLength:"1000" doc:"clients show it where their protocol can"`
	Undo   bool   `json:"undo,omitempty"`
}

// Ecosystem is a kind of package that the service knows.
type Ecosystem struct {
	Name     string `json:"name" doc:"the purl type, and the door in addresses"`
	Title    string `json:"title"`
	Mirrored bool   `json:"mirrored" doc:"its packages can be fetched from elsewhere"`
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
	Name         string       `json:"name"`
	PublishedBy  string       `json:"publishedBy"`
	Build        string       `json:"build,omitempty" doc:"that made it, as NAME#NUMBER"`
	Promotions   []int64      `json:"promotions,omitempty" doc:"that it was part of, the first first"`
	PublishedAt  time.Time    `json:"publishedAt"`
	Size         int64        `json:"size"`
	Packaging    string       `json:"packaging,omitempty"`
	Parent       string       `json:"parent,omitempty"`
	Licences     []Licence    `json:"licences"`
	Authors      []string     `json:"authors"`
	Dependencies []Dependency `json:"dependencies"`
	Files        []File       `json:"files"`
}

// Licence is a licence as the package states it.
type Licence struct {
	Name string `json:"name"`
	URL  string `json:"url,omitempty"`
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

// RemovedRepository is a repository that is out of use, and can be brought back.
type RemovedRepository struct {
	Name  string    `json:"name"`
	Kind  string    `json:"kind"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Until time.Time `json:"until" doc:"then its bytes are freed"`
}

// Look asks what files would become if they were published.
type Look struct {
	As       string     `json:"as,omitempty" maxLength:"1024" doc:"what all of them are, as a package URL, if they do not say so; with together"`
	Together bool       `json:"together,omitempty" doc:"they are one publication; else those of one version are put together"`
	Files    []LookFile `json:"files" minItems:"1" maxItems:"100"`
}

// LookFile is a file that may be published, and what of it was asked for so far.
type LookFile struct {
	Name   string    `json:"name" maxLength:"255"`
	Size   int64     `json:"size" minimum:"0" doc:"in bytes"`
	SHA256 string    `json:"sha256,omitempty" maxLength:"64" doc:"in hexadecimal, if it is known: tells whether the bytes are here already"`
	As     string    `json:"as,omitempty" maxLength:"1024" doc:"what it is, as a package URL, if it does not say so"`
	Seen   []Stretch `json:"seen,omitempty" maxItems:"200"`
}

// Stretch is a part of a file.
type Stretch struct {
	At    int64  `json:"at" minimum:"0" doc:"where it begins"`
	Bytes []byte `json:"bytes" doc:"in base64"`
}

// Looked is what files would become.
type Looked struct {
	Publications []Intended `json:"publications" doc:"each would become visible in one act; not final while anything is wanted"`
	Wanted       []Wanted   `json:"wanted" doc:"parts to send along with the same question"`
}

// Intended is a version that files would become.
type Intended struct {
	PURL       string         `json:"purl,omitempty" doc:"left out if the files do not say what they are"`
	Repository string         `json:"repository,omitempty" doc:"that would take it; a chain passes it on"`
	Snapshot   bool           `json:"snapshot"`
	There      bool           `json:"there" doc:"such a release is there already"`
	Same       bool           `json:"same" doc:"and byte for byte"`
	Files      []IntendedFile `json:"files"`
	Refusal    *Refused       `json:"refusal,omitempty" doc:"why it would not be taken, as far as can be told"`
}

// IntendedFile is one of its files.
type IntendedFile struct {
	File int    `json:"file" doc:"its index in the question; -1 of one that is made"`
	Name string `json:"name" doc:"that it would get"`
	Size int64  `json:"size"`
	Here bool   `json:"here" doc:"its bytes need not be sent: a part named here with their SHA-256 will do"`
	// Arrived is of what was sent in pieces.
	Arrived int64 `json:"arrived" doc:"how many bytes of it came in pieces already (continue)"`
}

// ToldLater is the code of the refusal of what must be sent before it can be told what
// it is.
const ToldLater = "told-later"

// Refused is why something would not be done.
type Refused struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
	Hint   string `json:"hint,omitempty"`
}

// Arrived is how much of a file came in pieces.
type Arrived struct {
	Arrived int64 `json:"arrived"`
}

// Wanted is a part of a file that must be seen.
type Wanted struct {
	File   int   `json:"file"`
	At     int64 `json:"at"`
	Length int64 `json:"length"`
}

// Published is what came of publishing by hand.
type Published struct {
	PURL       string          `json:"purl"`
	Repository string          `json:"repository" doc:"where it is; a chain passes it on"`
	Same       bool            `json:"same" doc:"all of it was there already"`
	Name       string          `json:"name" doc:"of the upload; for a release its version"`
	Files      []PublishedFile `json:"files"`
}

// PublishedFile is a file that was published by hand.
type PublishedFile struct {
	Name   string `json:"name"`
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}
