package api

import (
	"time"
)

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

// The headers that Crelvo and its own clients tell each other things in.
const (
	// CodeHeader is the stable code of a refusal by a package protocol.
	CodeHeader = "Crelvo-Code"
	// DryRunHeader in a request asks a package protocol only whether it would be
	// let in; for what is published the value is snapshot or release.
	DryRunHeader = "Crelvo-Dry-Run"
	// TokenEndsHeader is when the token of the request ends, if that is soon.
	TokenEndsHeader = "Crelvo-Token-Ends"
)

// Role is a role that counts for somebody.
type Role struct {
	Role         string `json:"role"`
	Repositories string `json:"repositories" doc:"a name, or a pattern with *"`
	Packages     string `json:"packages,omitempty" doc:"a pattern; left out: all"`
	Through      string `json:"through,omitempty" doc:"team:NAME, signed-in or anonymous, where it was given to them"`
}

// Grant is a role that was given to somebody.
type Grant struct {
	ID           int64     `json:"id"`
	Holder       string    `json:"holder" doc:"a user, a robot, team:NAME, signed-in or anonymous"`
	Role         string    `json:"role" enum:"reader,publisher,promoter,curator,admin"`
	Repositories string    `json:"repositories" doc:"a name, or a pattern with *"`
	Packages     string    `json:"packages,omitempty" doc:"a pattern; left out: all"`
	By           string    `json:"by,omitempty"`
	At           time.Time `json:"at"`
}

// NewGrant is a role to be given to somebody.
type NewGrant struct {
	Holder       string `json:"holder" minLength:"1" maxLength:"80" doc:"a user, a robot, team:NAME, signed-in or anonymous"`
	Role         string `json:"role" enum:"reader,publisher,promoter,curator,admin"`
	Repositories string `json:"repositories" minLength:"1" maxLength:"63" doc:"a name, or a pattern with *" example:"snapshots"`
	Packages     string `json:"packages,omitempty" maxLength:"300" doc:"only packages that this pattern fits" example:"pkg:npm/@skerry/*"`
}

// Verdict tells whether somebody may do something, and why.
type Verdict struct {
	Allowed    bool     `json:"allowed"`
	Sentence   string   `json:"sentence"`
	Because    *Grant   `json:"because,omitempty" doc:"the grant that allows it"`
	Missing    string   `json:"missing,omitempty" doc:"the role that would be needed"`
	Elsewhere  []string `json:"elsewhere,omitempty" doc:"grants that would do, but are about something else"`
	Repository string   `json:"repository" doc:"the one that decides: what is published to a chain goes to one that it names"`
}

// User is a user or robot.
type User struct {
	Name        string     `json:"name"`
	Kind        string     `json:"kind" enum:"user,robot"`
	Description string     `json:"description"`
	Teams       []string   `json:"teams"`
	HasPassword bool       `json:"hasPassword"`
	Tokens      int        `json:"tokens" doc:"in force"`
	Sessions    int        `json:"sessions" doc:"of browsers"`
	CreatedAt   time.Time  `json:"createdAt"`
	BlockedAt   *time.Time `json:"blockedAt,omitempty" doc:"it does not get in since then"`
	SeenAt      *time.Time `json:"seenAt,omitempty" doc:"when it signed in or used a token last"`
}

// NewUser is a user or robot to be made.
type NewUser struct {
	Name        string `json:"name" minLength:"2" maxLength:"63"`
	Kind        string `json:"kind,omitempty" enum:"user,robot" default:"user"`
	Description string `json:"description,omitempty" maxLength:"500"`
	Password    string `json:"password,omitempty" maxLength:"1000" doc:"of a user; left out: one is made, to be changed at the first sign-in"`
}

// MadeUser is a new user, with the password that was made.
type MadeUser struct {
	Name     string `json:"name"`
	Password string `json:"password,omitempty" doc:"shown this once"`
}

// UserChange is what is to be different; what is left out stays.
type UserChange struct {
	Description *string `json:"description,omitempty" maxLength:"500"`
	Blocked     *bool   `json:"blocked,omitempty"`
}

// PasswordChange changes one's own password.
type PasswordChange struct {
	Old string `json:"old" minLength:"1" maxLength:"1000"`
	New string `json:"new" minLength:"1" maxLength:"1000"`
}

// FirstSteps are the first steps with a new service, and which are done.
type FirstSteps struct {
	Mirror    bool `json:"mirror" doc:"there is a mirror of an upstream"`
	Client    bool `json:"client" doc:"a package client fetched something"`
	Published bool `json:"published" doc:"something was published"`
}

// Ended is what was ended.
type Ended struct {
	Sessions int64 `json:"sessions"`
	Tokens   int64 `json:"tokens"`
}

// Team is a group of users and robots that grants can be given to.
type Team struct {
	Name        string    `json:"name"`
	Description string    `json:"description"`
	Members     []string  `json:"members"`
	CreatedAt   time.Time `json:"createdAt"`
}

// NewTeam is a team to be made.
type NewTeam struct {
	Name        string   `json:"name" minLength:"2" maxLength:"63"`
	Description string   `json:"description,omitempty" maxLength:"500"`
	Members     []string `json:"members,omitempty" maxItems:"1000"`
}

// TeamChange is what is to be different; what is left out stays.
type TeamChange struct {
	Description *string  `json:"description,omitempty" maxLength:"500"`
	Join        []string `json:"join,omitempty" maxItems:"1000"`
	Leave       []string `json:"leave,omitempty" maxItems:"1000"`
}

// Mended is what was not as the rows say, and was put right.
type Mended struct {
	What   string `json:"what" doc:"in words"`
	Count  int64  `json:"count"`
	Sample string `json:"sample" doc:"one of them"`
}

// EventChain is what came of looking at the whole activity record.
type EventChain struct {
	Events int64  `json:"events" doc:"how many are as they were written"`
	Last   int64  `json:"last" doc:"the number of the last of them"`
	Hash   string `json:"seal" doc:"its seal: whoever notes both can tell later that nothing up to there was taken away"`
	Broken int64  `json:"broken,omitempty" doc:"the number of the first event that is not as it was written"`
	Why    string `json:"why,omitempty"`
}

// SealedEvent is an event with its place in the chain: the seal is the SHA-256
// over the previous seal and the event as JSON without id, previous and seal.
type SealedEvent struct {
	Event
	Previous string `json:"previous"`
	Seal     string `json:"seal"`
}

// Token is a token without its secret.
type Token struct {
	Name       string     `json:"name"`
	Can        []string   `json:"can" doc:"empty: all that its owner may"`
	On         []string   `json:"on" doc:"repositories by name or pattern; empty: all"`
	Only       []string   `json:"only" doc:"patterns of packages; empty: all"`
	Owner      string     `json:"owner"`
	Robot      bool       `json:"robot,omitempty" doc:"its owner is one"`
	EndsSoon   bool       `json:"endsSoon" doc:"within a week, or ended already"`
	CreatedAt  time.Time  `json:"createdAt"`
	ExpiresAt  time.Time  `json:"expiresAt"`
	UsedAt     *time.Time `json:"usedAt,omitempty"`
	UsedFrom   string     `json:"usedFrom,omitempty"`
	UsedClient string     `json:"usedClient,omitempty"`
}

// NewToken is a token to be made.
type NewToken struct {
	For     string   `json:"for,omitempty" doc:"a user or robot; left out: the caller"`
	Name    string   `json:"name" minLength:"2" maxLength:"63"`
	Can     []string `json:"can,omitempty"`
	On      []string `json:"on,omitempty"`
	Only    []string `json:"only,omitempty" doc:"patterns of packages"`
	Seconds int64    `json:"seconds,omitempty" minimum:"0" doc:"how long it lasts; left out: 90 days"`
}

// MadeToken is a new token; the secret is shown this once.
type MadeToken struct {
	Token
	Secret string `json:"secret"`
}

// Event is a line of the activity record.
type Event struct {
	ID         int64             `json:"id"`
	At         time.Time         `json:"at"`
	Who        string            `json:"who"`
	Token      string            `json:"token,omitempty"`
	Address    string            `json:"address,omitempty"`
	Action     string            `json:"action"`
	Repository string            `json:"repository,omitempty"`
	Subject    string            `json:"subject,omitempty"`
	Detail     map[string]string `json:"detail,omitempty"`
}
