package api

import "time"

// Advisory is a known vulnerability, or a malicious package.
type Advisory struct {
	ID        string     `json:"id" example:"ISLE-2026-0007"`
	Aliases   []string   `json:"aliases,omitempty" doc:"other ids of it"`
	Severity  string     `json:"severity" enum:"unknown,none,low,medium,high,critical" doc:"the worst that it says of any package"`
	Score     float64    `json:"score,omitempty" doc:"by CVSS, 0 to 10; left out where no vector says it"`
	Vector    string     `json:"vector,omitempty" doc:"the vector of CVSS that the score is of"`
	Malicious bool       `json:"malicious" doc:"the package itself means harm; it is not handed out"`
	Summary   string     `json:"summary"`
	Modified  time.Time  `json:"modified"`
	Published *time.Time `json:"published,omitempty"`
	Withdrawn *time.Time `json:"withdrawn,omitempty" doc:"when it turned out to be none"`
	By        string     `json:"by" doc:"the feed that brought it, or who imported it"`
	ArrivedAt time.Time  `json:"arrivedAt"`
}

// AdvisoryList is a page of advisories.
type AdvisoryList struct {
	Advisories []Advisory     `json:"advisories"`
	More       bool           `json:"more" doc:"there are older ones: ask again with before and skip of the last one"`
	Known      AdvisoryCounts `json:"known"`
}

// AdvisoryCounts tell how much is known.
type AdvisoryCounts struct {
	Advisories int64      `json:"advisories" doc:"that were not withdrawn"`
	Malicious  int64      `json:"malicious" doc:"of these, about malicious packages"`
	Packages   int64      `json:"packages" doc:"that any is about"`
	Newest     *time.Time `json:"newest,omitempty" doc:"when one changed last"`
}

// AdvisoryPage is an advisory with what it means here.
type AdvisoryPage struct {
	Advisory
	Details    string            `json:"details,omitempty" doc:"Markdown"`
	References []Reference       `json:"references"`
	About      []AffectedPackage `json:"about" doc:"the packages that it is about"`
	Kept       []Affected        `json:"kept" doc:"versions that it is about and that are kept where the caller may read"`
	Listed     []ListedAffected  `json:"listed" doc:"what upstreams list, and nothing is kept of"`
	Users      []VersionUser     `json:"users" doc:"who downloaded any of them, last first"`
	Builds     []string          `json:"builds" doc:"builds that used any of them, as NAME#NUMBER, the newest first"`
	Waivers    []Waiver          `json:"waivers" doc:"that accept it somewhere"`
}

// Reference is an address at which there is more.
type Reference struct {
	Kind string `json:"kind,omitempty"`
	URL  string `json:"url"`
}

// AffectedPackage is a package that an advisory is about.
type AffectedPackage struct {
	PURL     string   `json:"purl"`
	Versions string   `json:"versions" doc:"which ones" example:">= 1.2.0, < 1.4.1"`
	FixedIn  []string `json:"fixedIn"`
}

// Affected is a version that is kept and that an advisory is about.
type Affected struct {
	PURL       string     `json:"purl"`
	Inside     string     `json:"inside,omitempty" doc:"what it has inside, as a bill of materials says, and the advisory is about"`
	Label      string     `json:"label,omitempty" doc:"of the version, or of one that it is part of, where it is known by its content"`
	Repository string     `json:"repository"`
	Advisory   string     `json:"advisory"`
	Severity   string     `json:"severity"`
	Score      float64    `json:"score,omitempty"`
	Malicious  bool       `json:"malicious"`
	Summary    string     `json:"summary"`
	KeptOut    bool       `json:"keptOut" doc:"it is not handed out"`
	WaivedBy   int64      `json:"waivedBy,omitempty" doc:"the waiver that accepts it"`
	Better     string     `json:"better,omitempty" doc:"a version of the same repository that no advisory is about"`
	FixedIn    []string   `json:"fixedIn" doc:"versions that the advisory names as mended"`
	Downloads  int64      `json:"downloads"`
	UsedAt     *time.Time `json:"usedAt,omitempty" doc:"when it was downloaded last"`
}

// ListedAffected are versions of a package that an advisory is about, and that the upstream of a mirror
// lists.
type ListedAffected struct {
	Repository string   `json:"repository"`
	PURL       string   `json:"purl" doc:"of the package"`
	Versions   []string `json:"versions" doc:"the newest first, 100 at most"`
	Total      int      `json:"total" doc:"how many there are in all"`
	KeptOut    bool     `json:"keptOut" doc:"they are not let in because of it"`
}

// AffectedList is everything that is kept and that advisories are about.
type AffectedList struct {
	Affected []Affected     `json:"affected" doc:"the worst first"`
	Total    int            `json:"total" doc:"how many there are in all"`
	AsOf     time.Time      `json:"asOf" doc:"when it was found out"`
	Known    AdvisoryCounts `json:"known"`
}

// Stated is what became of the statements of a document.
type Stated struct {
	Made    []Waiver     `json:"made"`
	Already int          `json:"already" doc:"packages that such a waiver stands for"`
	Passed  []PassedOver `json:"passed" doc:"statements of which no waiver was made"`
}

// PassedOver is a statement of which no waiver was made, and why.
type PassedOver struct {
	Advisory string `json:"advisory"`
	Why      string `json:"why"`
}

// Finding is what an advisory says of a version.
type Finding struct {
	Advisory  string   `json:"advisory"`
	Severity  string   `json:"severity"`
	Score     float64  `json:"score,omitempty"`
	Malicious bool     `json:"malicious"`
	Summary   string   `json:"summary"`
	FixedIn   []string `json:"fixedIn"`
	Inside    string   `json:"inside,omitempty" doc:"what the version has inside and the advisory is about; left out if that is the version itself"`
}

// Feed is a source of advisories.
type Feed struct {
	Name         string     `json:"name"`
	Location     string     `json:"location" doc:"a folder or archive of the server's, or an address"`
	EverySeconds int        `json:"everySeconds" doc:"how often it is read"`
	By           string     `json:"by"`
	AddedAt      time.Time  `json:"addedAt"`
	Running      bool       `json:"running"`
	BegunAt      *time.Time `json:"begunAt,omitempty" doc:"when it was read last, or began to be"`
	EndedAt      *time.Time `json:"endedAt,omitempty"`
	Failure      string     `json:"failure,omitempty" doc:"why it could not be read"`
	Report       FeedReport `json:"report"`
}

// FeedReport is what reading a feed or a file did.
type FeedReport struct {
	Read    int      `json:"read" doc:"records that were looked at"`
	Added   int      `json:"added" doc:"that were not here"`
	Changed int      `json:"changed" doc:"that are not as they were"`
	Foreign int      `json:"foreign" doc:"that are about no ecosystem that is known here"`
	Failed  int      `json:"failed"`
	Faults  []string `json:"faults,omitempty" doc:"the first of what was wrong"`
}

// NewFeed is a source of advisories to be added.
type NewFeed struct {
	Name         string `json:"name" minLength:"2" maxLength:"63" example:"openshore"`
	Location     string `json:"location" maxLength:"2000" doc:"the whole path of a folder or archive on the server, or the address of a layout as OSV publishes" example:"https://advisories.openshore.example"`
	EverySeconds int    `json:"everySeconds,omitempty" minimum:"0" maximum:"31622400" doc:"how often it is read; left out: every hour"`
}

// Waiver accepts an advisory for what a pattern fits.
type Waiver struct {
	ID       int64      `json:"id"`
	Advisory string     `json:"advisory"`
	Pattern  string     `json:"pattern"`
	Reason   string     `json:"reason"`
	By       string     `json:"by"`
	MadeAt   time.Time  `json:"madeAt"`
	Until    *time.Time `json:"until,omitempty" doc:"when it ends by itself"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	EndedBy  string     `json:"endedBy,omitempty"`
	// Justification is why it is not affected.
	Justification string `json:"justification,omitempty" doc:"why it is not affected, in the words of OpenVEX; left out: it is, and that is accepted"`
}

// NewWaiver is a waiver to be made.
type NewWaiver struct {
	Advisory string     `json:"advisory" minLength:"1" maxLength:"200" doc:"its id, or an alias" example:"ISLE-2026-0007"`
	Pattern  string     `json:"pattern" minLength:"1" maxLength:"1000" doc:"what it is accepted for" example:"pkg:npm/kelp-colors@1.2.0"`
	Reason   string     `json:"reason" minLength:"1" maxLength:"2000"`
	Until    *time.Time `json:"until,omitempty" doc:"when it ends; left out: when somebody ends it"`
	// Justification is why it is not affected.
	Justification string `json:"justification,omitempty" enum:"component_not_present,vulnerable_code_not_present,vulnerable_code_not_in_execute_path,vulnerable_code_cannot_be_controlled_by_adversary,inline_mitigations_already_exist" doc:"why it is not affected; left out: it is, and that is accepted"`
}
