package api

// PackageClient is a program that can be pointed at a repository.
type PackageClient struct {
	Name      string `json:"name" doc:"as it is typed"`
	Title     string `json:"title"`
	Ecosystem string `json:"ecosystem"`
	Publishes bool   `json:"publishes"`
}

// Pointing is what a client is pointed at.
type Pointing struct {
	Address          string `json:"address" doc:"with a slash at the end"`
	ID               string `json:"id" doc:"what the client calls it"`
	User             string `json:"user"`
	Everything       bool   `json:"everything" doc:"it answers for all packages"`
	Releases         bool   `json:"releases" doc:"what is read there"`
	Snapshots        bool   `json:"snapshots"`
	PublishReleases  bool   `json:"publishReleases" doc:"what is published there"`
	PublishSnapshots bool   `json:"publishSnapshots"`
	// Own are namespaces.
	Own []string `json:"own" doc:"namespaces whose packages are made here"`
}

// Setup is all that points a client at a repository. Where the secret belongs
// stands the placeholder.
type Setup struct {
	Client      PackageClient `json:"client"`
	Pointing    Pointing      `json:"pointing"`
	Placeholder string        `json:"placeholder"`
	Pieces      []Piece       `json:"pieces"`
	Commands    []string      `json:"commands" doc:"how it is used then"`
	CI          []Shell       `json:"ci" doc:"what CI sets, for each shell"`
	CIFiles     []Piece       `json:"ciFiles" doc:"files that name the variable CRELVO_TOKEN and have no secret, for clients that read no variables"`
	Recipe      string        `json:"recipe" doc:"for building a container, so that the secret stays in no layer"`
	Build       string        `json:"build" doc:"how that is built"`
	Token       NewToken      `json:"token" doc:"a token with the least rights that fit; its name is to be completed"`
}

// Piece is a part of the set-up of a client that belongs in one file.
type Piece struct {
	Title    string `json:"title"`
	File     string `json:"file" doc:"below the project's folder, or below the personal one if it begins with ~/"`
	Windows  string `json:"windows,omitempty" doc:"where a personal file is there, if that is elsewhere"`
	Language string `json:"language"`
	Personal bool   `json:"personal"`
	Secret   bool   `json:"secret" doc:"it must not be shared"`
	Text     string `json:"text" doc:"what stands in a file that has nothing else"`
}

// Shell is how variables are set in a shell.
type Shell struct {
	Name  string `json:"name" enum:"posix,powershell,cmd"`
	Title string `json:"title"`
	Text  string `json:"text"`
}
