package bundle

// Question is what a Crelvo asks another one of what a repository keeps.
type Question struct {
	Ecosystem string   `json:"ecosystem,omitempty" maxLength:"30" doc:"left out: any"`
	Only      []string `json:"only,omitempty" maxItems:"1000" doc:"patterns of packages and versions; left out: everything"`
	// Packages are told of with what their publishers said, builds and promotions; without them all are, without that.
	Packages []string `json:"packages,omitempty" maxItems:"1000" doc:"package URLs of those that are asked for, which are told of with what their publishers said and with their builds; left out: all, without that"`
	After    string   `json:"after,omitempty" maxLength:"2000" doc:"go on after this package"`
}

// Held is what a repository keeps, or some of it.
type Held struct {
	Packages []Package `json:"packages"`
	Builds   []Build   `json:"builds"`
	LeftOut  []LeftOut `json:"leftOut" doc:"what the repository keeps out, and why"`
	Next     string    `json:"next,omitempty" doc:"ask again with it as after; left out: that is all"`
}

// Wanted names files of a repository.
type Wanted struct {
	Packages []string `json:"packages" minItems:"1" maxItems:"1000" doc:"package URLs of those that have them"`
	SHA256   []Sum    `json:"sha256" minItems:"1" maxItems:"10000"`
	From     *int64   `json:"from,omitempty" minimum:"0" doc:"the bytes of the one file that is named, from this one on, are the answer, without a tar archive"`
}
