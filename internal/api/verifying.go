package api

import "time"

// Verification is a run that reads every stored byte and compares it with what it should be.
type Verification struct {
	ID       int64      `json:"id"`
	By       string     `json:"by"`
	BegunAt  time.Time  `json:"begunAt"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	Repair   bool       `json:"repair" doc:"what is damaged is mended, where that is possible"`
	Files    int64      `json:"files" doc:"that were read; one in two stores counts twice"`
	Bytes    int64      `json:"bytes"`
	AllFiles int64      `json:"allFiles" doc:"that there were when it began"`
	AllBytes int64      `json:"allBytes"`
	Damaged  int64      `json:"damaged"`
	Mended   int64      `json:"mended"`
	Unknown  int64      `json:"unknown" doc:"files in stores that no record knows of, and that were not touched for a day; with repair they are dropped"`
	Waits    string     `json:"waits,omitempty" doc:"why it does not go on; it is tried again"`
}

// NewVerification begins a run, or joins the one under way.
type NewVerification struct {
	Repair bool `json:"repair" doc:"mend what is damaged, from another store or from an upstream that has it"`
}

// Damage is stored bytes that are not what they should be.
type Damage struct {
	SHA256   string        `json:"sha256"`
	Size     int64         `json:"size"`
	Store    string        `json:"store"`
	What     string        `json:"what" example:"missing"`
	FoundAt  time.Time     `json:"foundAt"`
	MendedAt *time.Time    `json:"mendedAt,omitempty"`
	How      string        `json:"how,omitempty" doc:"by what it was mended"`
	Of       []DamagedFile `json:"of" doc:"what the bytes belong to"`
}

// DamagedFile is a file of a version whose bytes are damaged.
type DamagedFile struct {
	PURL       string `json:"purl"`
	Repository string `json:"repository"`
	File       string `json:"file"`
	By         string `json:"by" doc:"who published it"`
	Build      string `json:"build,omitempty"`
}
