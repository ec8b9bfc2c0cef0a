package api

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
