package api

import (
	"time"

	"crelvo/internal/core/promotion"
)

// BuildHeader is the header by which an upload says which build it belongs to, as
// NAME#NUMBER; the query value build does the same.
const BuildHeader = "Crelvo-Build"

// Stage is a repository of a track, with what is asked for on the hop into it.
type Stage struct {
	Repository string   `json:"repository" maxLength:"63"`
	Gates      []string `json:"gates,omitempty" maxItems:"30" doc:"as they are written"`
	SignWith   string   `json:"signWith,omitempty" maxLength:"63" doc:"a signing key"`
	Onward     []string `json:"onward,omitempty" maxItems:"10" doc:"targets"`
	Restamps   []string `json:"restamps,omitempty" maxItems:"10" doc:"what is restamped that is left alone otherwise: image-labels, the version in labels and annotations of images, whose digest changes; image-references, references to images in charts; text in PATTERN, the version in files of file sets; text in PATTERN: OLD -> NEW, another text in these"`
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
	Build     string `json:"build,omitempty" doc:"that made it, as NAME#NUMBER; left out if that is not known"`
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
	LeftOut  string        `json:"leftOut,omitempty" doc:"why it does not go along, though it belongs to what does"`
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
	Target   string     `json:"target"`
	PURL     string     `json:"purl"`
	State    string     `json:"state" enum:"waiting,done,failed,cancelled"`
	Attempts int        `json:"attempts"`
	Said     string     `json:"said" doc:"what came of the last attempt"`
	NextAt   *time.Time `json:"nextAt,omitempty"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
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
	Restamps   []string           `json:"restamps,omitempty"`
	GoOn       bool               `json:"goOn,omitempty"`
	UndoneBy   string             `json:"undoneBy,omitempty"`
	UndoneAt   *time.Time         `json:"undoneAt,omitempty"`
	UndoReason string             `json:"undoReason,omitempty"`
	Next       map[string]string  `json:"next,omitempty" doc:"development versions to go on with, by package URL"`
	MayVote    bool               `json:"mayVote"`
	MayUndo    bool               `json:"mayUndo"`
	MayCancel  bool               `json:"mayCancel"`
}

// PromotionPage is all that is known of a promotion.
type PromotionPage struct {
	Promotion
	Planned    []PlannedVersion `json:"planned" doc:"what becomes of each version; empty to who may not see where they come from"`
	Deliveries []Delivery       `json:"deliveries"`
}

// AskedPromotion is what comes of asking for a promotion, or for what one would do.
type AskedPromotion struct {
	PromotionPage
	Problems []string `json:"problems" doc:"why it cannot be"`
	Already  bool     `json:"already" doc:"it was asked for before: it waits, is underway or done"`
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
