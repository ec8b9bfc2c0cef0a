package api

import "time"

// NewBundle is a bundle that is asked for.
type NewBundle struct {
	From      []string     `json:"from" minItems:"1" maxItems:"20" doc:"repositories"`
	Only      []string     `json:"only,omitempty" maxItems:"1000" doc:"patterns of what is wanted of them; none: everything"`
	WithNeeds bool         `json:"withNeeds,omitempty" doc:"and what that needs in turn, of the same repositories"`
	SignWith  string       `json:"signWith" minLength:"1" doc:"the key that it is signed with"`
	Since     *BundleBasis `json:"since,omitempty" doc:"the bundle that it goes on from"`
}

// BundleBasis names a bundle.
type BundleBasis struct {
	ID     string    `json:"id" minLength:"1" maxLength:"64"`
	MadeAt time.Time `json:"madeAt"`
}

// Bundle is a bundle that was made here, or loaded.
type Bundle struct {
	ID       string            `json:"id"`
	Loaded   bool              `json:"loaded" doc:"false: it was made here"`
	Since    string            `json:"since,omitempty" doc:"the one that it goes on from"`
	MadeAt   time.Time         `json:"madeAt"`
	MadeBy   string            `json:"madeBy"`
	Origin   map[string]string `json:"origin" doc:"the repositories that it was made from, and, if it was loaded, where each went to"`
	Key      string            `json:"key" doc:"the keys that it was signed with"`
	Versions int               `json:"versions"`
	Came     int               `json:"came" doc:"of these, those that were not here before"`
	Bytes    int64             `json:"bytes"`
	At       time.Time         `json:"at" doc:"when it was made or loaded here"`
	By       string            `json:"by"`
}

// BundlePlan is what would become of a bundle.
type BundlePlan struct {
	ID      string        `json:"id"`
	MadeAt  time.Time     `json:"madeAt"`
	MadeBy  string        `json:"madeBy"`
	Keys    []string      `json:"keys" doc:"that it is signed with, and that are trusted here"`
	From    []string      `json:"from"`
	Since   string        `json:"since,omitempty"`
	New     int           `json:"new" doc:"versions that are to come"`
	There   int           `json:"there" doc:"versions that are here already"`
	Refused []RefusedItem `json:"refused" doc:"versions that cannot come: then nothing does"`
	Lacking []string      `json:"lacking" doc:"SHA-256 of the files that have to be sent"`
	Travels int64         `json:"travels" doc:"bytes of those"`
	Decided int           `json:"decided" doc:"decisions that are in it"`
}

// RefusedItem is a version that cannot come, and why.
type RefusedItem struct {
	PURL string `json:"purl"`
	Why  string `json:"why"`
}
