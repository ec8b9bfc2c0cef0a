package api

import "time"

// Transfer is what becomes of the packages of a folder, or became of them.
type Transfer struct {
	From     string            `json:"from"`
	To       string            `json:"to" doc:"the repository that was named"`
	Versions []TransferVersion `json:"versions"`
	// PassedOver counts files that belong to no package: checksums, metadata that is made anew.
	PassedOver int `json:"passedOver"`
}

// TransferVersion is a version, or files of which nobody can tell what they are.
type TransferVersion struct {
	PURL       string   `json:"purl,omitempty"`
	Repository string   `json:"repository,omitempty" doc:"that takes it"`
	Files      []string `json:"files" doc:"below the folder"`
	Bytes      int64    `json:"bytes" doc:"of all its files"`
	Travels    int64    `json:"travels" doc:"of these, that have to be sent"`
	State      string   `json:"state" enum:"new,there,refused,came,failed"`
	Why        string   `json:"why,omitempty" doc:"why it is refused, or did not come"`
	Hint       string   `json:"hint,omitempty"`
}

// What becomes of a version in a transfer.
const (
	TransferNew     = "new"     // it would come
	TransferThere   = "there"   // it is there already, byte for byte
	TransferRefused = "refused" // it would not be taken
	TransferCame    = "came"
	TransferFailed  = "failed" // it was to come, and did not
)

// Count counts the versions in a state, the bytes of them, and those that have to be sent.
func (t Transfer) Count(state string) (n int, bytes, travels int64) {
	for _, v := range t.Versions {
		if v.State == state {
			n, bytes, travels = n+1, bytes+v.Bytes, travels+v.Travels
		}
	}
	return n, bytes, travels
}

// NewTransferRun is a transfer from one repository into another that the server is to do.
type NewTransferRun struct {
	From      string     `json:"from" maxLength:"63" doc:"a repository or a mirror, whose packages are taken"`
	To        string     `json:"to" maxLength:"63" doc:"the repository that they go to"`
	Only      []string   `json:"only,omitempty" maxItems:"1000" doc:"patterns of packages and versions that are wanted; left out: everything"`
	Since     *time.Time `json:"since,omitempty" doc:"only what was published since then"`
	DryRun    bool       `json:"dryRun,omitempty" doc:"only plan it"`
	BytesRate int64      `json:"bytesPerSecond,omitempty" minimum:"0" doc:"how much is fetched at most; left out: no bound"`
}

// TransferRun is a transfer that the server does.
type TransferRun struct {
	ID        int64      `json:"id"`
	From      string     `json:"from"`
	To        string     `json:"to"`
	Only      []string   `json:"only" doc:"none: everything"`
	Since     *time.Time `json:"since,omitempty"`
	DryRun    bool       `json:"dryRun"`
	BytesRate int64      `json:"bytesPerSecond" doc:"how much is fetched at most; 0: no bound"`
	By        string     `json:"by"`
	BegunAt   time.Time  `json:"begunAt"`
	EndedAt   *time.Time `json:"endedAt,omitempty"`
	State     string     `json:"state" enum:"planning,moving,checking,done,stopped,failed"`
	Why       string     `json:"why,omitempty" doc:"why it failed"`
	Packages  int        `json:"packages" doc:"that were looked at for the plan"`
	Fetched   int64      `json:"fetched" doc:"bytes that came from elsewhere"`
	// Left is an estimate, from how fast it was until now.
	Left    *int64        `json:"secondsLeft,omitempty"`
	ToCome  TransferCount `json:"toCome"`
	Came    TransferCount `json:"came"`
	There   TransferCount `json:"there" doc:"already, byte for byte"`
	Refused TransferCount `json:"refused" doc:"not taken, by the plan"`
	Failed  TransferCount `json:"failed" doc:"was to come, and did not"`
}

// TransferCount is how much of a transfer there is in a state.
type TransferCount struct {
	Versions int   `json:"versions"`
	Bytes    int64 `json:"bytes" doc:"of all their files"`
	Travels  int64 `json:"travels" doc:"of these, that are to be fetched, as far as is known"`
}

// TransferItem is a version in the plan of a transfer, and what became of it.
type TransferItem struct {
	N       int    `json:"n" doc:"its place in the plan"`
	PURL    string `json:"purl"`
	Upload  string `json:"upload,omitempty" doc:"of a snapshot"`
	Files   int    `json:"files"`
	Bytes   int64  `json:"bytes"`
	Travels int64  `json:"travels"`
	State   string `json:"state" enum:"new,there,refused,came,failed"`
	Why     string `json:"why,omitempty" doc:"why it is refused, or did not come"`
}

// TransferItems are some of the versions of a transfer.
type TransferItems struct {
	Items []TransferItem `json:"items"`
	More  bool           `json:"more" doc:"there are more after the last of them"`
}
