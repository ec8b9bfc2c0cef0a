package api

import (
	"time"
)

// PolicyForms are what a policy is written with.
type PolicyForms struct {
	Settings []string `json:"settings"`
	Reasons  []string `json:"reasons" doc:"examples of each form of a reason to stay"`
}

// Policy says which versions of some repositories stay, and why.
type Policy struct {
	Name         string      `json:"name"`
	Text         string      `json:"text" doc:"the policy as it is written, in YAML"`
	Description  string      `json:"description,omitempty"`
	Repositories []string    `json:"repositories" doc:"names, with * for any run of characters"`
	About        []string    `json:"about" doc:"the repositories that it is about now, of those that the caller may read all of"`
	Packages     []string    `json:"packages" doc:"patterns of package URLs; none is all"`
	Platforms    []string    `json:"platforms,omitempty" doc:"it is about what is for these alone; none is all"`
	Where        string      `json:"where,omitempty" doc:"a query; it is about the versions that fit it"`
	Keep         []string    `json:"keep" doc:"the reasons to stay"`
	Grace        string      `json:"grace" example:"14d"`
	Schedule     string      `json:"schedule,omitempty"`
	Zone         string      `json:"zone,omitempty"`
	Next         []time.Time `json:"next" doc:"the next times of its schedule"`
	MostVersions int         `json:"mostVersions,omitempty"`
	MostShare    int         `json:"mostShare,omitempty" doc:"in percent"`
	Paused       bool        `json:"paused"`
	ChangedBy    string      `json:"changedBy"`
	ChangedAt    time.Time   `json:"changedAt"`
	Last         *Sweep      `json:"last,omitempty"`
	May          bool        `json:"may" doc:"whether the caller may change and run it"`
}

// SetPolicy makes or changes a policy.
type SetPolicy struct {
	Text   string `json:"text,omitempty" maxLength:"65536" doc:"the policy as it is written, in YAML; or its settings as rules"`
	Rules  *Rules `json:"rules,omitempty"`
	Paused bool   `json:"paused,omitempty" doc:"neither run on its schedule nor counted for what others keep"`
}

// Rules are the settings of a policy.
type Rules struct {
	Name         string   `json:"name" maxLength:"63"`
	Description  string   `json:"description,omitempty" maxLength:"500"`
	Repositories []string `json:"repositories" maxItems:"100"`
	Packages     []string `json:"packages,omitempty" maxItems:"100"`
	Platforms    []string `json:"platforms,omitempty" maxItems:"100"`
	Where        string   `json:"where,omitempty" maxLength:"500"`
	Keep         []string `json:"keep" maxItems:"100"`
	Grace        string   `json:"grace,omitempty" example:"14d"`
	Schedule     string   `json:"schedule,omitempty" maxLength:"100"`
	Zone         string   `json:"zone,omitempty" maxLength:"60"`
	MostVersions int      `json:"mostVersions,omitempty" minimum:"0"`
	MostShare    int      `json:"mostShare,omitempty" minimum:"0" maximum:"100"`
}

// PlanRequest asks what a policy, saved or not, would do.
type PlanRequest struct {
	Policy string `json:"policy,omitempty" maxLength:"63" doc:"the name of a saved one; or its text"`
	Text   string `json:"text,omitempty" maxLength:"65536"`
	AsOf   string `json:"asOf,omitempty" maxLength:"60" doc:"as of another moment than now"`
	Fate   string `json:"fate,omitempty" enum:"kept,swept,outside" doc:"list only those"`
	Match  string `json:"match,omitempty" maxLength:"200" doc:"list only packages whose URL has this in it"`
	Skip   int    `json:"skip,omitempty" minimum:"0"`
	Limit  int    `json:"limit,omitempty" minimum:"0" maximum:"10000" doc:"how many versions to list; all of them come as lines from /api/v1/sweeps/plans/lines"`
}

// PlanLine is a version in the plan of a sweep.
type PlanLine struct {
	Repository string     `json:"repository"`
	PURL       string     `json:"purl"`
	Upload     string     `json:"upload,omitempty"`
	Fate       string     `json:"fate" enum:"kept,swept,outside"`
	Reason     string     `json:"reason"`
	Policy     string     `json:"policy,omitempty" doc:"whose reason it is"`
	At         time.Time  `json:"at" doc:"when it was published"`
	UsedAt     *time.Time `json:"usedAt,omitempty" doc:"when it was downloaded last"`
	Users      int64      `json:"users"`
	Bytes      int64      `json:"bytes"`
	Freed      int64      `json:"freed" doc:"what its removal frees; bytes that something kept shares are not"`
}

// PlanTotal sums a part of a plan up.
type PlanTotal struct {
	Name       string `json:"name"`
	Kept       int    `json:"kept"`
	Swept      int    `json:"swept"`
	Outside    int    `json:"outside"`
	KeptBytes  int64  `json:"keptBytes"`
	SweptBytes int64  `json:"sweptBytes"`
	Freed      int64  `json:"freed"`
}

// SweepPlan is what a run of a policy would do.
type SweepPlan struct {
	Policy       string      `json:"policy"`
	At           time.Time   `json:"at"`
	Total        PlanTotal   `json:"total"`
	Repositories []PlanTotal `json:"repositories"`
	Ecosystems   []PlanTotal `json:"ecosystems"`
	Packages     []PlanTotal `json:"packages" doc:"those of which most is freed"`
	Reasons      []PlanTotal `json:"reasons"`
	Months       []PlanTotal `json:"months" doc:"by when the versions were published"`
	Asks         []string    `json:"asks" doc:"why a run would stop and ask"`
	Last         *Sweep      `json:"last,omitempty"`
	Then         int         `json:"then" doc:"of what would go, how many were there at the last sweep and stayed"`
	New          int         `json:"new" doc:"and how many came since"`
	Lines        []PlanLine  `json:"lines"`
	Found        int         `json:"found" doc:"how many versions fit what was asked to be listed"`
	Next         []time.Time `json:"next" doc:"the next times of its schedule"`
}

// Sweep is one run of a policy, or what somebody removed by hand.
type Sweep struct {
	ID           int64      `json:"id"`
	Policy       string     `json:"policy,omitempty" doc:"empty for what was removed by hand"`
	State        string     `json:"state" enum:"asking,underway,done,cancelled,failed"`
	Why          string     `json:"why,omitempty"`
	Repositories []string   `json:"repositories"`
	BegunBy      string     `json:"begunBy"`
	BegunAt      time.Time  `json:"begunAt"`
	EndedAt      *time.Time `json:"endedAt,omitempty"`
	Grace        string     `json:"grace"`
	Versions     int        `json:"versions" doc:"planned"`
	Bytes        int64      `json:"bytes"`
	Freed        int64      `json:"freed"`
	Done         int        `json:"done" doc:"removed"`
	Spared       int        `json:"spared" doc:"stayed after all: something had changed"`
	Back         int        `json:"back" doc:"brought back"`
	Reclaimed    int        `json:"reclaimed" doc:"whose bytes were reclaimed"`
	May          bool       `json:"may" doc:"whether the caller may undo or stop it"`
}

// SweepItem is a version that a sweep took.
type SweepItem struct {
	Repository string     `json:"repository"`
	PURL       string     `json:"purl"`
	Upload     string     `json:"upload,omitempty"`
	State      string     `json:"state" enum:"planned,removed,spared,back,reclaimed"`
	Note       string     `json:"note,omitempty"`
	At         *time.Time `json:"at,omitempty"`
	GraceUntil *time.Time `json:"graceUntil,omitempty" doc:"until when it can be brought back"`
	UsedAt     *time.Time `json:"usedAt,omitempty"`
	Users      int64      `json:"users"`
	Bytes      int64      `json:"bytes"`
	Freed      int64      `json:"freed"`
	Position   int        `json:"position"`
}

// SweepPage is a sweep with some of what it took.
type SweepPage struct {
	Sweep
	Items []SweepItem `json:"items"`
	After *int        `json:"after,omitempty" doc:"ask for what comes after it"`
}

// RunSweep begins a sweep.
type RunSweep struct {
	Policy string `json:"policy" maxLength:"63"`
	GoOn   bool   `json:"goOn,omitempty" doc:"also if it takes more than the policy lets it"`
}

// UndoSweep brings back what a sweep took.
type UndoSweep struct {
	PURLs []string `json:"purls,omitempty" maxItems:"1000" doc:"package URLs or patterns; none is everything"`
}

// Undone is what came of it.
type Undone struct {
	Back int       `json:"back"`
	Not  []NotBack `json:"not"`
}

// NotBack is a version that could not be brought back.
type NotBack struct {
	PURL string `json:"purl"`
	Why  string `json:"why"`
}

// RemoveVersion takes a version out of use by hand.
type RemoveVersion struct {
	PURL string `json:"purl" maxLength:"1000"`
}

// Pin keeps a version from every sweep.
type Pin struct {
	PURL       string     `json:"purl"`
	Repository string     `json:"repository"`
	Reason     string     `json:"reason"`
	By         string     `json:"by,omitempty"`
	At         time.Time  `json:"at,omitzero"`
	Until      *time.Time `json:"until,omitempty"`
}

// SetPin pins a version.
type SetPin struct {
	PURL       string `json:"purl" maxLength:"1000"`
	Repository string `json:"repository" maxLength:"63"`
	Reason     string `json:"reason,omitempty" maxLength:"500" doc:"needed to pin"`
	Until      string `json:"until,omitempty" maxLength:"60" doc:"a moment"`
	Off        bool   `json:"off,omitempty" doc:"take the pin off"`
}

// Reclaiming is one run that frees bytes that nothing names.
type Reclaiming struct {
	ID       int64      `json:"id"`
	BegunBy  string     `json:"begunBy"`
	BegunAt  time.Time  `json:"begunAt"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	Failure  string     `json:"failure,omitempty"`
	Versions int        `json:"versions" doc:"whose grace had ended"`
	Marked   int        `json:"marked" doc:"stored files that nothing named for the first time"`
	Files    int        `json:"files" doc:"stored files that were freed"`
	Bytes    int64      `json:"bytes" doc:"that they had"`
}
