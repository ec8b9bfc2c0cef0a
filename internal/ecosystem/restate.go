package ecosystem

import (
	"context"

	"crelvo/internal/core/catalog"
)

// Restating is an ecosystem whose versions are named by their content, and may state inside
// the label that names them for people: with another label inside they are other versions.
type Restating interface {
	Maturing
	// Restate tells what becomes of a version. What it does not name is not touched. Errors
	// are in words, or those of what it is given.
	Restate(ctx context.Context, v ToRestate) (Restated, error)
}

// ToRestate is a version that is to state another label.
type ToRestate struct {
	Version   string // as it is named
	Raw       []byte // its own file
	MediaType string
	From, To  string // the label; the same if only what the version names becomes another
	// Part gives a part of it; nil if it is not there.
	Part func(catalog.Sum) ([]byte, error)
	// Became tells what became of another version that it names.
	Became func(version string) (Became, error)
}

// Became is what became of a version: the same one if nothing did.
type Became struct {
	Version string
	Size    int64 // of its own file, in bytes; 0 if it is the same
}

// Restated is a version that states another label.
type Restated struct {
	Version string
	// Files are those with other bytes, its own among them; none if it stayed what it is.
	Files []RestatedFile
	// Mentions are texts that name the old label, and stay.
	Mentions []string
}

// RestatedFile is a file with other bytes.
type RestatedFile struct {
	Was, Name string
	Raw       []byte
	Changes   []Edit
}

// Relabelled is a version that is named by its content, and got another label, in another
// repository.
type Relabelled struct {
	Namespace, Name              string
	From, To                     string // labels
	FromVersion, ToVersion       string
	FromRepository, ToRepository string
}

// FullName is the name with its namespace, as references have it.
func (r Relabelled) FullName() string {
	if r.Namespace == "" {
		return r.Name
	}
	return r.Namespace + "/" + r.Name
}
