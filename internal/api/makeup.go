package api

import "time"

// Makeup is what a version is made of that consists of layers.
type Makeup struct {
	PURL       string     `json:"purl"`
	Title      string     `json:"title" doc:"what people call it: its labels, or the beginning of its digest"`
	Repository string     `json:"repository"`
	Platform   string     `json:"platform,omitempty" example:"linux/amd64"`
	Platforms  []string   `json:"platforms" doc:"those of which there is one; empty if it is not for several"`
	Child      string     `json:"child,omitempty" doc:"the version for the platform, among those that it is made of"`
	Made       *time.Time `json:"made,omitempty" doc:"when it says that it was made"`
	Bytes      int64      `json:"bytes" doc:"of its layers, as they are sent"`
	Settings   []Setting  `json:"settings" doc:"how it is to be run, and what it says of itself"`
	Steps      []MadeStep `json:"steps" doc:"the lowest layer first"`
}

// Setting is one thing that a version says of how it is to be run.
type Setting struct {
	Name  string `json:"name" example:"entrypoint"`
	Value string `json:"value"`
}

// MadeStep is one that made a layer, or changed settings alone.
type MadeStep struct {
	Layer     string   `json:"layer,omitempty" doc:"the digest of the layer; left out if there is none"`
	MediaType string   `json:"mediaType,omitempty"`
	Bytes     int64    `json:"bytes"`
	By        string   `json:"by,omitempty" doc:"the command that made it, where that is known"`
	Sharing   []string `json:"sharing,omitempty" doc:"some of the other packages that have the layer too"`
}

// Comparison is how one version differs from another.
type Comparison struct {
	Before   Makeup              `json:"before"`
	After    Makeup              `json:"after"`
	Same     []MadeStep          `json:"same" doc:"layers of both"`
	Gone     []MadeStep          `json:"gone" doc:"layers of the first alone"`
	New      []MadeStep          `json:"new" doc:"layers of the second alone"`
	Settings []SettingDifference `json:"settings" doc:"that are not the same"`
	Files    *FileDifferences    `json:"files,omitempty" doc:"if they were asked for"`
}

// SettingDifference is a setting that is not the same; left out where it is not there.
type SettingDifference struct {
	Name   string `json:"name"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// FileDifferences are the files that are not the same in two versions.
type FileDifferences struct {
	Added   int              `json:"added"`
	Changed int              `json:"changed"`
	Removed int              `json:"removed"`
	Some    []FileDifference `json:"some" doc:"the first thousand, by path"`
	LeftOut string           `json:"leftOut,omitempty" doc:"why they were not compared"`
	Same    int              `json:"same,omitempty" doc:"of file sets: how many are the same"`
	New     int64            `json:"new,omitempty" doc:"of file sets: bytes of the second that the first does not have"`
}

// FileDifference is a file that is not the same; a side is left out where it is not there.
type FileDifference struct {
	Path   string     `json:"path"`
	Before *LayerFile `json:"before,omitempty"`
	After  *LayerFile `json:"after,omitempty"`
}

// LayerFile is a file in a version; mode and owner are told where it consists of layers.
type LayerFile struct {
	Bytes int64  `json:"bytes"`
	Mode  string `json:"mode,omitempty" example:"0755"`
	Owner string `json:"owner,omitempty" doc:"numbers of user and group" example:"0:0"`
	Link  string `json:"link,omitempty" doc:"where a link leads"`
	Code  string `json:"code,omitempty" doc:"for what it is code, where that was looked at" example:"ELF"`
}
