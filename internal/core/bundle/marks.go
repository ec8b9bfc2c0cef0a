package bundle

import "time"

// Marks are what was said of the versions of a package at another place, and when: whoever says something later is
// right.
type Marks struct {
	PURL      string       `json:"purl"`
	Labels    []Labelled   `json:"labels,omitempty" maxItems:"1000"`
	Withdrawn []Withdrawal `json:"withdrawn,omitempty" maxItems:"1000"`
	Removed   []Removal    `json:"removed,omitempty" maxItems:"1000"`
}

// Labelled is that a label was set to a version, or taken away.
type Labelled struct {
	Name    string    `json:"name" maxLength:"255"`
	Version string    `json:"version,omitempty" maxLength:"255" doc:"left out: it was taken away"`
	At      time.Time `json:"at"`
}

// Withdrawal is that a version was withdrawn, or that this was lifted.
type Withdrawal struct {
	Version string    `json:"version" maxLength:"255"`
	Reason  string    `json:"reason,omitempty"`
	Lifted  bool      `json:"lifted,omitempty"`
	At      time.Time `json:"at"`
}

// Removal is that a version was removed.
type Removal struct {
	Version string    `json:"version" maxLength:"255"`
	At      time.Time `json:"at"`
}

// MarksTaken is what came of taking them over.
type MarksTaken struct {
	Refused []string `json:"refused" doc:"what is not taken, and why"`
}
