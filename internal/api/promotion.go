package api

import (
	"time"

	"crelvo/internal/core/junit"
	"crelvo/internal/core/promotion"
)

// BuildHeader is the header by which an upload says which build it belongs to, as
// NAME#NUMBER; the query value build does the same.
const BuildHeader = "Crelvo-Build"

// BuildReport is what CI says of a build.
type BuildReport struct {
	Name      string            `json:"name" minLength:"1" maxLength:"100" example:"berth-planner"`
	Number    string            `json:"number" minLength:"1" maxLength:"40" example:"118"`
	Revision  string            `json:"revision,omitempty" maxLength:"1000" doc:"of the source code"`
	Branch    string            `json:"branch,omitempty" maxLength:"1000"`
	Link      string            `json:"link,omitempty" maxLength:"1000" doc:"the page of the CI system"`
	Agent     string            `json:"agent,omitempty" maxLength:"1000" doc:"where it ran"`
	StartedAt *time.Time        `json:"startedAt,omitempty"`
	Notes     map[string]string `json:"notes,omitempty" doc:"on the environment: names and values"`
	JUnit     []string          `json:"junit,omitempty" maxItems:"1000" text:"document" doc:"reports of tests, as JUnit XML"`
	Made      []string          `json:"made,omitempty" maxItems:"5000" doc:"package URLs with versions; without these and digests, what was published with the token since the build began"`
	Digests   []string          `json:"digests,omitempty" maxItems:"5000" doc:"SHA-256, in hexadecimal, of files that it published"`
	Used      []string          `json:"used,omitempty" maxItems:"5000" doc:"package URLs of what it used, besides what was downloaded with the token"`
	In        string            `json:"in,omitempty" maxLength:"63" doc:"the repository that made and used are in; left out: any"`
}

// Build is a build in a list.
type Build struct {
	Name      string         `json:"name"`
	Number    string         `json:"number"`
	Revision  string         `json:"revision"`
	Branch    string         `json:"branch"`
	Link      string         `json:"link"`
	Agent     string         `json:"agent"`
	By        string         `json:"by"`
	StartedAt time.Time      `json:"startedAt"`
	EndedAt   *time.Time     `json:"endedAt,omitempty" doc:"when it was recorded; left out while it runs"`
	Made      int            `json:"made" doc:"versions that it published"`
	Promoted  int            `json:"promoted" doc:"versions that promotions made of those"`
	Tests     *junit.Summary `json:"tests,omitempty"`
	Beside    []string       `json:"beside,omitempty" doc:"where it began just now: other builds that run with the same token"`
}

// BuildList is a page of builds.
type BuildList struct {
	Builds []Build `json:"builds"`
	Before int64   `json:"before,omitempty" doc:"ask with it for more; left out at the end"`
}

// BuildPage is all that is known of a build.
type BuildPage struct {
	Build
	Notes      map[string]string `json:"notes"`
	MadeIt     []BuiltVersion    `json:"versions" doc:"what it made, and where promotions put it"`
	Used       []BuiltVersion    `json:"used"`
	Documents  []BuildDocument   `json:"documents"`
	Promotions []Promotion       `json:"promotions"`
}

// BuiltVersion is a version that a build made or used.
type BuiltVersion struct {
	PURL       string     `json:"purl"`
	Upload     string     `json:"upload,omitempty"`
	Repository string     `json:"repository"`
	At         time.Time  `json:"at"`
	GoneAt     *time.Time `json:"goneAt,omitempty" doc:"when it was removed"`
	By         string     `json:"by"`
	Bytes      int64      `json:"bytes"`
	Files      int        `json:"files"`
	Digest     string     `json:"digest" doc:"SHA-256 over the names and the SHA-256 of its files, in hexadecimal"`
	Promotion  int64      `json:"promotion,omitempty" doc:"that put it there"`
	Build      string     `json:"build,omitempty"`
}

// BuildDocument is a document attached to a build.
type BuildDocument struct {
	ID       int64     `json:"id"`
	Name     string    `json:"name"`
	Kind     string    `json:"kind" enum:"in-toto,cyclonedx,spdx"`
	Type     string    `json:"type" doc:"the predicate type, or the version of the form"`
	Builder  string    `json:"builder,omitempty" doc:"who built it, by SLSA provenance"`
	Signed   bool      `json:"signed" doc:"it stands in an envelope with signatures"`
	SignedBy []string  `json:"signedBy" doc:"known keys whose signature is right"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Size     int64     `json:"size"`
}

// Difference is what is not the same in two builds.
type Difference struct {
	PURL       string `json:"purl"`
	Before     string `json:"before" doc:"empty: it was not there"`
	After      string `json:"after" doc:"empty: it is not there any more"`
	OtherBytes bool   `json:"otherBytes" doc:"the same version with other bytes"`
}

// BuildComparison is the difference of two builds.
type BuildComparison struct {
	Made []Difference `json:"made"`
	Used []Difference `json:"used"`
}

// Stage is a repository of a track, with what is asked for on the hop into it.
type Stage struct {
	Repository string   `json:"repository" maxLength:"63"`
	Gates      []string `json:"gates,omitempty" maxItems:"30" doc:"as they are written"`
	SignWith   string   `json:"signWith,omitempty" maxLength:"63" doc:"a signing key"`
	Onward     []string `json:"onward,omitempty" maxItems:"10" doc:"destinations"`
	// Sentences say what the gates ask for.
	Sentences []string `json:"sentences,omitempty" readOnly:"true" doc:"what the gates ask for"`
	Seen      bool     `json:"seen,omitempty" readOnly:"true" doc:"the caller may read the repository"`
	May       bool     `json:"may,omitempty" readOnly:"true" doc:"the caller may promote into it"`
}

// Track is an ordered list of repositories.
type Track struct {
	Name        string  `json:"name" maxLength:"63"`
	Description string  `json:"description,omitempty" maxLength:"500"`
	Stages      []Stage `json:"stages"`
}

// Standing is what of a build, or of a version without one, is in a stage.
type Standing struct {
	Repository string    `json:"repository"`
	Build      string    `json:"build,omitempty"`
	Name       string    `json:"name" doc:"one of the packages"`
	PURL       string    `json:"purl" doc:"of that one"`
	Version    string    `json:"version" doc:"the one that came last"`
	Numbers    int       `json:"numbers" doc:"how many different versions"`
	Versions   int       `json:"versions" doc:"how many packages"`
	At         time.Time `json:"at"`
	MovedOn    bool      `json:"movedOn" doc:"a promotion took it further"`
}

// TrackPicture is what stands where on a track, and what waits.
type TrackPicture struct {
	Track
	Standings []Standing  `json:"standings" doc:"the newest first"`
	Waiting   []Promotion `json:"waiting"`
}

// Arrival is a version that came into a repository.
type Arrival struct {
	BuiltVersion
	AskedBy   string `json:"askedBy,omitempty" doc:"who asked for the promotion"`
	Approvers string `json:"approvers,omitempty" doc:"who approved it"`
}

// NewPromotion asks for a promotion, of a build or of versions.
type NewPromotion struct {
	Track  string   `json:"track" minLength:"1" maxLength:"63"`
	To     string   `json:"to,omitempty" maxLength:"63" doc:"a stage; left out: the next one"`
	Build  string   `json:"build,omitempty" maxLength:"150" example:"berth-planner#118"`
	PURLs  []string `json:"purls,omitempty" maxItems:"5000"`
	As     []string `json:"as,omitempty" maxItems:"5000" doc:"the version that snapshots become, or package URLs with it; left out: the one that follows"`
	Notes  string   `json:"notes,omitempty" maxLength:"20000" doc:"release notes"`
	GoOn   bool     `json:"goOn,omitempty" doc:"also past what cannot be changed honestly"`
	DryRun bool     `json:"dryRun,omitempty" doc:"only say what would happen"`
}

// PlannedVersion is what becomes of a version.
type PlannedVersion struct {
	PURL     string        `json:"purl" doc:"as it is"`
	Upload   string        `json:"upload,omitempty" doc:"which upload of a snapshot"`
	To       string        `json:"to" doc:"the version that it becomes"`
	Restamp  bool          `json:"restamp" doc:"it gets another version inside"`
	Files    []PlannedFile `json:"files"`
	NewBytes int64         `json:"newBytes" doc:"about so many bytes are written anew"`
}

// PlannedFile is what becomes of a file.
type PlannedFile struct {
	Name     string          `json:"name"`
	To       string          `json:"to" doc:"its name afterwards; empty if it is left behind"`
	Size     int64           `json:"size"`
	Changes  []PlannedChange `json:"changes,omitempty"`
	Mentions []string        `json:"mentions,omitempty" doc:"texts for people that name the old version, and stay"`
	Dropped  string          `json:"dropped,omitempty" doc:"why it is left behind"`
	Signed   bool            `json:"signed,omitempty" doc:"a signature is made for it"`
}

// PlannedChange is a place that is changed.
type PlannedChange struct {
	Entry string `json:"entry,omitempty" doc:"of an archive"`
	What  string `json:"what"`
	Old   string `json:"old"`
	New   string `json:"new"`
}

// Vote is what somebody said to a promotion.
type Vote struct {
	Who     string    `json:"who"`
	Approve bool      `json:"approve"`
	Comment string    `json:"comment"`
	At      time.Time `json:"at"`
}

// Delivery is a version that goes on to another server.
type Delivery struct {
	Destination string     `json:"destination"`
	PURL        string     `json:"purl"`
	State       string     `json:"state" enum:"waiting,done,failed,cancelled"`
	Attempts    int        `json:"attempts"`
	Said        string     `json:"said" doc:"what came of the last attempt"`
	NextAt      *time.Time `json:"nextAt,omitempty"`
	EndedAt     *time.Time `json:"endedAt,omitempty"`
}

// PromotedVersion is a version of a promotion in a list.
type PromotedVersion struct {
	PURL   string `json:"purl" doc:"as it was"`
	Upload string `json:"upload,omitempty"`
	To     string `json:"to" doc:"the version that it became"`
}

// Promotion is one act of taking versions across a hop, asked for or done.
type Promotion struct {
	ID         int64              `json:"id" doc:"0 for a dry run"`
	State      string             `json:"state" enum:"waiting,underway,done,failed,refused,cancelled,undone"`
	Track      string             `json:"track"`
	From       string             `json:"from"`
	To         string             `json:"to"`
	Build      string             `json:"build,omitempty"`
	Versions   []PromotedVersion  `json:"versions"`
	Notes      string             `json:"notes"`
	Why        string             `json:"why,omitempty" doc:"why it was not done, a reason a line"`
	AskedBy    string             `json:"askedBy"`
	AskedAt    time.Time          `json:"askedAt"`
	EndedAt    *time.Time         `json:"endedAt,omitempty"`
	Answers    []promotion.Answer `json:"answers" doc:"of the gates, as they were then"`
	Votes      []Vote             `json:"votes"`
	Files      int                `json:"files"`
	FilesDone  int                `json:"filesDone" doc:"while it is underway"`
	SignWith   string             `json:"signWith,omitempty"`
	GoOn       bool               `json:"goOn,omitempty"`
	UndoneBy   string             `json:"undoneBy,omitempty"`
	UndoneAt   *time.Time         `json:"undoneAt,omitempty"`
	UndoReason string             `json:"undoReason,omitempty"`
	Next       map[string]string  `json:"next,omitempty" doc:"development versions to go on with, by package URL"`
	MayVote    bool               `json:"mayVote"`
	MayUndo    bool               `json:"mayUndo"`
	MayCancel  bool               `json:"mayCancel"`
	Already    bool               `json:"already,omitempty" doc:"the answer to a request for what was asked for before: it waits, is underway or done"`
	// Of one promotion only.
	Planned    []PlannedVersion `json:"planned,omitempty"`
	Problems   []string         `json:"problems,omitempty" doc:"of a dry run: why it cannot be"`
	Deliveries []Delivery       `json:"deliveries,omitempty"`
}

// PromotionList is a page of promotions.
type PromotionList struct {
	Promotions []Promotion `json:"promotions"`
	Before     int64       `json:"before,omitempty" doc:"ask with it for more; left out at the end"`
}

// Say approves or refuses a promotion.
type Say struct {
	Approve bool   `json:"approve"`
	Comment string `json:"comment,omitempty" maxLength:"2000" doc:"needed to refuse"`
}

// Reason is why something is done.
type Reason struct {
	Reason string `json:"reason,omitempty" maxLength:"2000"`
}

// BuildName is to whom builds of a name belong.
type BuildName struct {
	Name    string    `json:"name"`
	Owner   string    `json:"owner"`
	GivenBy string    `json:"givenBy,omitempty" doc:"the admin who gave it; empty: the owner was the first to use it"`
	At      time.Time `json:"at"`
	Builds  int       `json:"builds"`
}

// BuildNameOwner says to whom builds of a name belong from now on.
type BuildNameOwner struct {
	Owner string `json:"owner" maxLength:"63" doc:"a user or robot; empty: who uses it next"`
}

// Key is a public key: of others, or of one that Crelvo signs with.
type Key struct {
	Name        string    `json:"name"`
	Form        string    `json:"form" enum:"openpgp,pem"`
	Signs       bool      `json:"signs" doc:"Crelvo signs with it"`
	Fingerprint string    `json:"fingerprint,omitempty"`
	Public      string    `json:"public"`
	Address     string    `json:"address" doc:"where anybody gets the public key"`
	By          string    `json:"by"`
	At          time.Time `json:"at"`
}

// NewKey is a key to be added; without texts, a new one to sign with is made.
type NewKey struct {
	Name       string `json:"name" minLength:"1" maxLength:"63"`
	Public     string `json:"public,omitempty" maxLength:"100000" doc:"a public key of others: armored OpenPGP, or PEM for statements"`
	Secret     string `json:"secret,omitempty" maxLength:"100000" doc:"an armored OpenPGP secret key to sign with"`
	Passphrase string `json:"passphrase,omitempty" maxLength:"1000" doc:"of that"`
	Owner      string `json:"owner,omitempty" maxLength:"200" doc:"of a new key: Name <address>"`
}

// Destination is a repository on another server that promotions go on to.
type Destination struct {
	Name      string    `json:"name"`
	Ecosystem string    `json:"ecosystem"`
	URL       string    `json:"url"`
	HasSecret bool      `json:"hasSecret"`
	By        string    `json:"by"`
	At        time.Time `json:"at"`
}

// NewDestination is one to be made, or written anew.
type NewDestination struct {
	Name      string `json:"name" minLength:"1" maxLength:"63"`
	Ecosystem string `json:"ecosystem" maxLength:"30"`
	URL       string `json:"url" maxLength:"2000" doc:"where the ecosystem's clients publish to"`
	User      string `json:"user,omitempty" maxLength:"200"`
	Secret    string `json:"secret,omitempty" maxLength:"10000"`
}
