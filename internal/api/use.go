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

// Space is what a repository holds of an ecosystem now.
type Space struct {
	Repository string `json:"repository"`
	Ecosystem  string `json:"ecosystem"`
	Packages   int64  `json:"packages"`
	Versions   int64  `json:"versions"`
	Bytes      int64  `json:"bytes"`
	Shared     int64  `json:"shared" doc:"bytes that other versions have too"`
	Grace      int64  `json:"grace" doc:"bytes of what was removed and can be brought back"`
}

// SpaceDay is what a repository held of an ecosystem at the end of a day.
type SpaceDay struct {
	Repository string `json:"repository"`
	Ecosystem  string `json:"ecosystem"`
	When       string `json:"when" doc:"the day" example:"2026-03-14"`
	Versions   int64  `json:"versions"`
	Bytes      int64  `json:"bytes"`
}

// SpaceMonth is what a repository holds now that came in a month.
type SpaceMonth struct {
	Repository string `json:"repository"`
	When       string `json:"when" doc:"the month" example:"2026-03"`
	Versions   int64  `json:"versions"`
	Bytes      int64  `json:"bytes"`
}

// SpacePage is where storage goes.
type SpacePage struct {
	Now     []Space      `json:"now"`
	Days    []SpaceDay   `json:"days"`
	Ages    []SpaceMonth `json:"ages"`
	Files   int64        `json:"files,omitempty" doc:"in the store; for admins"`
	Bytes   int64        `json:"bytes,omitempty"`
	Unnamed int64        `json:"unnamed,omitempty" doc:"bytes that nothing names"`
	Free    int64        `json:"free,omitempty" doc:"what the disk has room for"`
	// Where making them takes long, figures hold for some minutes.
	AsOf time.Time `json:"asOf" doc:"when the oldest of these figures was made"`
}
