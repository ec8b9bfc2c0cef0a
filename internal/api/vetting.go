package api

import (
	"slices"
	"time"
)

// Admission is what a repository lets in, besides what advisories say.
type Admission struct {
	CooldownDays    int      `json:"cooldownDays" doc:"how old a version must be that comes from outside and is not kept yet; 0: not"`
	Vetted          bool     `json:"vetted" doc:"what comes from outside needs a decision"`
	Accepts         []string `json:"accepts" doc:"rules that accept what no person decided about; the first that fits counts"`
	AllowLicences   []string `json:"allowLicences" doc:"identifiers of SPDX; if there are any, what is neither allowed nor refused awaits a decision"`
	RefuseLicences  []string `json:"refuseLicences" doc:"identifiers of SPDX, with * for any run of characters"`
	UnstatedLicence string   `json:"unstatedLicence" enum:"let-in,await,refuse" doc:"what is done with a version that states no licence"`
}

// AdmissionChange is what is to be different; what is left out stays.
type AdmissionChange struct {
	CooldownDays    *int      `json:"cooldownDays,omitempty" minimum:"0" maximum:"365"`
	Vetted          *bool     `json:"vetted,omitempty"`
	Accepts         *[]string `json:"accepts,omitempty" doc:"conditions with commas between them: older-than 14d, licences MIT Apache-2.0, no-advisories from medium, no-scripts, same-maintainers, size-within 50%, downloads 100, signed-by KEY, built-from ADDRESS, no-binaries, only PATTERN"`
	AllowLicences   *[]string `json:"allowLicences,omitempty"`
	RefuseLicences  *[]string `json:"refuseLicences,omitempty"`
	UnstatedLicence *string   `json:"unstatedLicence,omitempty" enum:"let-in,await,refuse"`
}

// Same tells whether a change would leave everything as it is.
func (c AdmissionChange) Same(as Admission) bool {
	lists := func(a *[]string, b []string) bool { return a == nil || slices.Equal(*a, b) }
	return (c.CooldownDays == nil || *c.CooldownDays == as.CooldownDays) && (c.Vetted == nil || *c.Vetted == as.Vetted) &&
		lists(c.Accepts, as.Accepts) && lists(c.AllowLicences, as.AllowLicences) &&
		lists(c.RefuseLicences, as.RefuseLicences) &&
		(c.UnstatedLicence == nil || *c.UnstatedLicence == as.UnstatedLicence)
}

// NewVetting is a decision to be taken.
type NewVetting struct {
	Decision     string     `json:"decision" enum:"accepted,refused"`
	Patterns     []string   `json:"patterns" minItems:"1" maxItems:"500" doc:"package URLs, with * for any run of characters, or a range as version" example:"pkg:npm/kelp-colors@1.2.0"`
	Repositories []string   `json:"repositories,omitempty" maxItems:"100" doc:"names, or patterns of them; left out: all"`
	Reason       string     `json:"reason" maxLength:"1000"`
	Until        *time.Time `json:"until,omitempty" doc:"when it ends; left out: when somebody ends it"`
}

// Vetting is a decision that was taken.
type Vetting struct {
	ID           int64      `json:"id"`
	Decision     string     `json:"decision" enum:"accepted,refused"`
	Pattern      string     `json:"pattern"`
	Repositories []string   `json:"repositories" doc:"none: all"`
	Reason       string     `json:"reason"`
	By           string     `json:"by"`
	MadeAt       time.Time  `json:"madeAt"`
	Until        *time.Time `json:"until,omitempty" doc:"when it ends by itself"`
	EndedAt      *time.Time `json:"endedAt,omitempty" doc:"when somebody ended it"`
	EndedBy      string     `json:"endedBy,omitempty"`
}

// VersionFacts are what is known of a version for a decision about it.
type VersionFacts struct {
	PublishedAt *time.Time `json:"publishedAt,omitempty" doc:"left out: nobody says"`
	Kept        bool       `json:"kept"`
	Licences    []string   `json:"licences" doc:"as it states them; one of them is enough"`
	RunsScripts bool       `json:"runsScripts" doc:"installing it runs scripts of its own"`
	Maintainers []string   `json:"maintainers" doc:"who looks after it or published it, as its ecosystem says"`
	Downloads   int64      `json:"downloads" doc:"how often its package was downloaded from this server"`
	Looked      bool       `json:"looked" doc:"somebody looked inside"`
	Code        []string   `json:"code,omitempty" doc:"the files inside that a processor runs as they are"`
	// BuiltFrom is empty where nothing that is trusted says it.
	BuiltFrom []Provenance `json:"builtFrom" doc:"where it was built, as far as that is verified"`
	Size      int64        `json:"size,omitempty" doc:"bytes of its files, as far as is known"`
	Files     int          `json:"files"`
	Authors   []string     `json:"authors"`
	Needs     []string     `json:"needs" doc:"what it needs, with the range that it says"`
	Findings  []Finding    `json:"findings"`
}

// Provenance is where something was built, as the certificate says by whose key the statement about it is
// signed.
type Provenance struct {
	Source     string `json:"source" doc:"the address of the repository with the sources"`
	Ref        string `json:"ref,omitempty" doc:"which state of them" example:"refs/tags/v1.2.0"`
	VerifiedBy string `json:"verifiedBy" doc:"the trusted root, a key that was added here"`
}

// LookedInside is what a version has inside.
type LookedInside struct {
	PURL    string   `json:"purl"`
	Archive string   `json:"archive" doc:"that was looked into"`
	Files   int      `json:"files"`
	Bytes   int64    `json:"bytes" doc:"of all of them"`
	Code    []string `json:"code" doc:"the files that a processor runs as they are, 100 at most"`
	// Before is left out where no version before it is let in.
	Before      string          `json:"before,omitempty" doc:"the version before it that is let in"`
	WhyNot      string          `json:"whyNot,omitempty" doc:"why it was not compared with that"`
	Differences FileDifferences `json:"differences" doc:"from the version before"`
}

// LookWish names a version that is to be looked into.
type LookWish struct {
	PURL string `json:"purl" maxLength:"1024" doc:"without a version: the newest release"`
}

// Assessment is how a version is decided about, and what is known of it.
type Assessment struct {
	Repository string        `json:"repository"`
	PURL       string        `json:"purl"`
	LetIn      bool          `json:"letIn"`
	Ground     string        `json:"ground,omitempty" enum:"advisory,refused,licence,cooldown,awaiting" doc:"what it is kept out for"`
	Why        string        `json:"why,omitempty"`
	From       *time.Time    `json:"from,omitempty" doc:"when it will be old enough"`
	By         *Vetting      `json:"by,omitempty" doc:"the decision that counts"`
	Rule       int           `json:"rule,omitempty" doc:"the rule that accepts it, by its place from 1"`
	Facts      VersionFacts  `json:"facts"`
	Rules      []TriedRule   `json:"rules"`
	Needs      []Need        `json:"needs" doc:"what it needs, in turn, each in the version that fits and that clients take; only if that was asked for"`
	Before     string        `json:"before,omitempty" doc:"the version before it that is let in"`
	BeforeThat *VersionFacts `json:"beforeFacts,omitempty"`
}

// TriedRule is what a rule says of a version.
type TriedRule struct {
	Rule       string           `json:"rule"`
	Fits       bool             `json:"fits"`
	Conditions []TriedCondition `json:"conditions"`
}

// TriedCondition is what one condition of a rule says.
type TriedCondition struct {
	Condition string `json:"condition"`
	Fits      bool   `json:"fits"`
	Fact      string `json:"fact"`
}

// Need is a package that a version needs.
type Need struct {
	PURL  string `json:"purl" doc:"with the version that fits and that clients take: the newest, for NuGet the lowest"`
	Range string `json:"range,omitempty" doc:"which versions are needed"`
	By    string `json:"by" doc:"what needs it"`
	State string `json:"state" enum:"let in,awaiting,kept out,not there,not known"`
	Why   string `json:"why,omitempty"`
}

// Waiting is a version that awaits a decision.
type Waiting struct {
	Assessment
	FirstAt   time.Time `json:"firstAt"`
	LastAt    time.Time `json:"lastAt"`
	Asked     int64     `json:"asked" doc:"how often it was asked for, counted once a minute and person"`
	WantedBy  []string  `json:"wantedBy" doc:"for those who may decide"`
	Purpose   string    `json:"purpose,omitempty"`
	Unknown   string    `json:"unknown,omitempty" doc:"why nothing can be told of it at the moment"`
	MayDecide bool      `json:"mayDecide"`
}

// VettingQueue is what awaits a decision.
type VettingQueue struct {
	Waiting []Waiting `json:"waiting" doc:"what was wanted last comes first"`
	More    bool      `json:"more" doc:"there is more"`
}

// VettingWish puts a version before those who decide.
type VettingWish struct {
	Repository string `json:"repository"`
	PURL       string `json:"purl" maxLength:"1024"`
	Purpose    string `json:"purpose,omitempty" maxLength:"500" doc:"what it is needed for"`
}

// Versions are package URLs with versions.
type Versions struct {
	PURLs []string `json:"purls" minItems:"1" maxItems:"500"`
}

// CheckedVersion is what whoever asked a repository for a version would be told.
type CheckedVersion struct {
	PURL  string `json:"purl"`
	State string `json:"state" enum:"let in,awaiting,kept out,not there,not known"`
	Why   string `json:"why,omitempty"`
	Hint  string `json:"hint,omitempty" doc:"what to do"`
}

// LockedFile is what a file names in which a package client writes down what it uses.
type LockedFile struct {
	What     string          `json:"what" doc:"what kind of file it is" example:"npm's lock file"`
	Packages []LockedPackage `json:"packages"`
}

// LockedPackage is a version that a file names.
type LockedPackage struct {
	PURL string `json:"purl"`
	Line int    `json:"line,omitempty" doc:"where it is named, from 1; left out: not known"`
}
