package api

import (
	"time"
)

// Withdrawal is why a version is not to be used any more.
type Withdrawal struct {
	Reason string     `json:"reason"`
	By     string     `json:"by,omitempty" doc:"empty where the upstream of a mirror says so"`
	At     *time.Time `json:"at,omitempty"`
}

// Receiving is a version that is being received: it is not complete, and nobody sees
// it but who sends it.
type Receiving struct {
	PURL       string    `json:"purl"`
	Upload     string    `json:"upload,omitempty" doc:"of a snapshot"`
	Repository string    `json:"repository"`
	By         string    `json:"by"`
	BegunAt    time.Time `json:"begunAt"`
	LastAt     time.Time `json:"lastAt" doc:"when its last file came"`
	Files      int       `json:"files"`
	Bytes      int64     `json:"bytes"`
	Lacks      string    `json:"lacks,omitempty" doc:"what it waits for"`
	Until      time.Time `json:"until" doc:"when it is listed if nothing more comes or, where it lacks something, given up"`
}

// Withdraw marks a version as not to be used any more, or takes the mark away.
type Withdraw struct {
	PURL   string `json:"purl" maxLength:"1024" doc:"with a version"`
	Reason string `json:"reason,omitempty" maxLength:"1000" doc:"clients show it where their protocol can"`
	Undo   bool   `json:"undo,omitempty"`
}

// Look asks what files would become if they were published.
type Look struct {
	As       string     `json:"as,omitempty" maxLength:"1024" doc:"what all of them are, as a package URL, if they do not say so; with together"`
	Together bool       `json:"together,omitempty" doc:"they are one publication; else those of one version are put together"`
	Files    []LookFile `json:"files" minItems:"1" maxItems:"100"`
}

// LookFile is a file that may be published, and what of it was asked for so far.
type LookFile struct {
	Name   string `json:"name" maxLength:"255"`
	Size   int64  `json:"size" minimum:"0" doc:"in bytes"`
	SHA256 string `json:"sha256,omitempty" maxLength:"64" doc:"in hexadecimal, if it is known: tells whether the bytes are here already"`
	// Arriving is for large files, whose digest takes as long as they are sent.
	Arriving string    `json:"arriving,omitempty" maxLength:"64" doc:"the name under which it is sent in pieces (continue); its SHA-256 is wanted only if bytes of its size are here"`
	As       string    `json:"as,omitempty" maxLength:"1024" doc:"what it is, as a package URL, if it does not say so"`
	Seen     []Stretch `json:"seen,omitempty" maxItems:"200"`
}

// Stretch is a part of a file.
type Stretch struct {
	At    int64  `json:"at" minimum:"0" doc:"where it begins"`
	Bytes []byte `json:"bytes" doc:"in base64"`
}

// Looked is what files would become.
type Looked struct {
	Publications []Intended `json:"publications" doc:"each would become visible in one act; not final while anything is wanted"`
	Wanted       []Wanted   `json:"wanted" doc:"parts to send along with the same question"`
}

// Intended is a version that files would become.
type Intended struct {
	PURL       string         `json:"purl,omitempty" doc:"left out if the files do not say what they are"`
	Repository string         `json:"repository,omitempty" doc:"that would take it; a chain passes it on"`
	Snapshot   bool           `json:"snapshot"`
	There      bool           `json:"there" doc:"such a version is there already"`
	Same       bool           `json:"same" doc:"and byte for byte; of a snapshot, the newest upload"`
	Files      []IntendedFile `json:"files"`
	Refusal    *Refused       `json:"refusal,omitempty" doc:"why it would not be taken, as far as can be told"`
}

// IntendedFile is one of its files.
type IntendedFile struct {
	File int    `json:"file" doc:"its index in the question; -1 of one that is made"`
	Name string `json:"name" doc:"that it would get"`
	Size int64  `json:"size"`
	Here bool   `json:"here" doc:"its bytes need not be sent: a part named here with their SHA-256 will do"`
	// Arrived is of what was sent in pieces.
	Arrived int64 `json:"arrived" doc:"how many bytes of it came in pieces already (continue), under the name that was given"`
}

// Refused is why something would not be done.
type Refused struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
	Hint   string `json:"hint,omitempty"`
}

// Arrived is how much of a file came in pieces.
type Arrived struct {
	Arrived int64 `json:"arrived"`
}

// Wanted is a part of a file that must be seen, or its digest.
type Wanted struct {
	File   int   `json:"file"`
	At     int64 `json:"at"`
	Length int64 `json:"length"`
	Digest bool  `json:"digest,omitempty" doc:"its SHA-256 is wanted, and no part of it"`
}

// ArrivedPart stands for a file that was sent in pieces, in the form of a publication.
type ArrivedPart struct {
	Name   string `json:"name" doc:"under which it was sent"`
	Size   int64  `json:"size"`
	CRC32C uint32 `json:"crc32c" doc:"of its bytes, as a number"`
}

// Published is what came of publishing by hand.
type Published struct {
	PURL       string          `json:"purl"`
	Repository string          `json:"repository" doc:"where it is; a chain passes it on"`
	Same       bool            `json:"same" doc:"all of it was there already"`
	Name       string          `json:"name" doc:"of the upload; for a release its version"`
	Files      []PublishedFile `json:"files"`
}

// PublishedFile is a file that was published by hand.
type PublishedFile struct {
	Name   string `json:"name"`
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}
