package record

// ChangeKind says what a change is about.
type ChangeKind string

// What changes are about.
const (
	OfPackage    ChangeKind = "package"    // new, changed or removed versions
	OfRepository ChangeKind = "repository" // made, changed or removed, and claims
	OfMirror     ChangeKind = "mirror"     // how a run of it is
	OfAccess     ChangeKind = "access"     // principals, grants, tokens, sessions
	OfBuild      ChangeKind = "build"
	OfTrack      ChangeKind = "track"
	OfPromotion  ChangeKind = "promotion"
	OfPolicy     ChangeKind = "policy"
	OfSweep      ChangeKind = "sweep"
	OfPin        ChangeKind = "pin"
	OfStore      ChangeKind = "store"
	OfNode       ChangeKind = "node"
	OfQuota      ChangeKind = "quota"
	OfAdvisory   ChangeKind = "advisory" // of a package, or of many if it names none
	OfWaiver     ChangeKind = "waiver"
	OfVetting    ChangeKind = "vetting" // a decision, or that one is wanted if it has a repository
	OfFeed       ChangeKind = "feed"
	OfKey        ChangeKind = "key"
	OfTransfer   ChangeKind = "transfer"
	OfRelay      ChangeKind = "relay"
	OfTarget     ChangeKind = "target" // set or removed, or how a tree is
	OfBundle     ChangeKind = "bundle" // one was made or loaded
	OfFigure     ChangeKind = "figure" // a sum or ranking was made anew, at the node that tells it
)

// Change tells every node what is not as it was.
type Change struct {
	Kind         ChangeKind `json:"kind"`
	RepositoryID int64      `json:"repositoryId,omitempty"`
	Repository   string     `json:"repository,omitempty"`
	Ecosystem    string     `json:"ecosystem,omitempty"`
	Namespace    string     `json:"namespace,omitempty"`
	Name         string     `json:"name,omitempty"`
	Version      string     `json:"version,omitempty"`
}
