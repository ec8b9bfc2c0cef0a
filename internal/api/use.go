package api

import (
	"time"
)

// UsePart is a day, a client, or whatever else use is parted by.
type UsePart struct {
	Part      string `json:"part"`
	Downloads int64  `json:"downloads"`
	Users     int64  `json:"users" doc:"different ones that signed in"`
}

// UsedPackage is how much a package is used.
type UsedPackage struct {
	Repository string     `json:"repository"`
	PURL       string     `json:"purl"`
	Versions   int64      `json:"versions"`
	Bytes      int64      `json:"bytes"`
	Downloads  int64      `json:"downloads"`
	Before     int64      `json:"before" doc:"in as many days before"`
	Users      int64      `json:"users"`
	UsedAt     *time.Time `json:"usedAt,omitempty"`
}

// WhoUses is who still uses a version.
type WhoUses struct {
	Users  []VersionUser `json:"users"`
	Builds []string      `json:"builds" doc:"as NAME#NUMBER"`
	Needs  []NeededBy    `json:"needs" doc:"versions that need it, directly and by way of others"`
}

// NeededBy is a version that needs another.
type NeededBy struct {
	PURL  string `json:"purl"`
	Wants string `json:"wants" doc:"the version or range that it states"`
	Via   string `json:"via,omitempty" doc:"the package that it states, where that is something between"`
}

// VersionUser is who downloaded a version.
type VersionUser struct {
	Name    string    `json:"name"`
	Kind    string    `json:"kind" enum:"user,robot"`
	LastAt  time.Time `json:"lastAt"`
	Clients []string  `json:"clients"`
}

// Space is what a repository holds of an ecosystem.
type Space struct {
	Repository string `json:"repository"`
	Ecosystem  string `json:"ecosystem,omitempty"`
	When       string `json:"when,omitempty" doc:"a day, or a month"`
	Packages   int64  `json:"packages,omitempty"`
	Versions   int64  `json:"versions"`
	Bytes      int64  `json:"bytes"`
	Shared     int64  `json:"shared,omitempty" doc:"bytes that other versions have too"`
	Grace      int64  `json:"grace,omitempty" doc:"bytes of what was removed and can be brought back"`
}

// SpacePage is where storage goes.
type SpacePage struct {
	Now     []Space `json:"now"`
	Days    []Space `json:"days"`
	Ages    []Space `json:"ages"`
	Files   int64   `json:"files,omitempty" doc:"in the store; for admins"`
	Bytes   int64   `json:"bytes,omitempty"`
	Unnamed int64   `json:"unnamed,omitempty" doc:"bytes that nothing names"`
	Free    int64   `json:"free,omitempty" doc:"what the disk has room for"`
}
