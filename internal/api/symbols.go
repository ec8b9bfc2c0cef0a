package api

// Symbol is something that debuggers may ask for, and where it is.
type Symbol struct {
	Format     string `json:"format" enum:"elf,pe,pdb,portable-pdb,mach-o,source-map"`
	Key        string `json:"key,omitempty" doc:"its build id, uuid, or key at symbol servers" example:"4f9a1c0d2b7e"`
	Code       bool   `json:"code" doc:"it can be run"`
	Debug      bool   `json:"debug" doc:"it has what debuggers want to know"`
	PURL       string `json:"purl" doc:"of the version that has it"`
	Upload     string `json:"upload,omitempty" doc:"which upload of a snapshot"`
	Repository string `json:"repository"`
	Build      string `json:"build,omitempty" doc:"that made the version, as NAME#NUMBER"`
	File       string `json:"file,omitempty" doc:"of the version; left out of a file set"`
	Path       string `json:"path,omitempty" doc:"within the file or the set"`
	Bytes      int64  `json:"bytes"`
	Address    string `json:"address,omitempty" doc:"where debuggers get it, below the server's address"`
	// Known is for what can be run and has nothing for debuggers itself.
	Known bool `json:"known,omitempty" doc:"something else that the caller may read has what debuggers want to know of it"`
}

// WantedLook asks that a version be looked into.
type WantedLook struct {
	PURL       string `json:"purl" maxLength:"1024" doc:"a version"`
	Repository string `json:"repository,omitempty" maxLength:"110" doc:"left out: wherever it is"`
}

// LookedFor is what comes of that.
type LookedFor struct {
	Versions []string `json:"versions" doc:"package URLs of what is looked into: the version, and those that it is made of"`
}
