package api

import (
	"time"

	"crelvo/internal/core/junit"
)

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
}

// BegunBuild is a build that began just now.
type BegunBuild struct {
	Build
	Beside []string `json:"beside,omitempty" doc:"other builds that run with the same token"`
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
	Licences   []string   `json:"licences" doc:"that it states, of which one is enough"`
	Digest     string     `json:"digest" doc:"SHA-256 over the names and the SHA-256 of its files, in hexadecimal"`
	Promotion  int64      `json:"promotion,omitempty" doc:"that put it there"`
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
