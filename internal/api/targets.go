package api

import "time"

// Target is a place outside that versions go on to: a repository on another server, or a plain tree.
type Target struct {
	Name      string      `json:"name"`
	Ecosystem string      `json:"ecosystem"`
	URL       string      `json:"url" doc:"of the server, or where the tree is written"`
	HasSecret bool        `json:"hasSecret"`
	Tree      *TargetTree `json:"tree,omitempty" doc:"of a plain tree"`
	By        string      `json:"by"`
	At        time.Time   `json:"at"`
}

// TargetTree is how a plain tree is: files that any web server hands out as they are.
type TargetTree struct {
	Kind     string     `json:"kind" doc:"folder, sftp, ftp, put or s3"`
	ReadAt   string     `json:"readAt,omitempty" doc:"at which address it is read"`
	HostKey  string     `json:"hostKey,omitempty" doc:"of the machine, for SFTP"`
	Packages int        `json:"packages"`
	Waiting  int        `json:"waiting" doc:"packages that are still to be written, or looked at"`
	Files    int        `json:"files"`
	Bytes    int64      `json:"bytes"`
	WroteAt  *time.Time `json:"wroteAt,omitempty" doc:"when it was written to last, and all was well"`
	Failure  string     `json:"failure,omitempty" doc:"what went wrong last"`
	NextAt   *time.Time `json:"nextAt,omitempty" doc:"when it is tried again"`
}

// NewTarget is one to be made, or written anew.
type NewTarget struct {
	Name      string `json:"name" minLength:"1" maxLength:"63"`
	Ecosystem string `json:"ecosystem" maxLength:"30"`
	URL       string `json:"url" maxLength:"2000" doc:"where the ecosystem's clients publish to, or where a tree is written"`
	User      string `json:"user,omitempty" maxLength:"200"`
	Secret    string `json:"secret,omitempty" maxLength:"10000"`
	Tree      bool   `json:"tree,omitempty" doc:"it is a plain tree"`
	ReadAt    string `json:"readAt,omitempty" maxLength:"2000" doc:"at which address the tree is read"`
	HostKey   string `json:"hostKey,omitempty" maxLength:"200" doc:"of the machine, for SFTP: SHA256:…"`
	Anyway    bool   `json:"anyway,omitempty" doc:"also if the tree cannot be written to now"`
}

// CheckedTarget is what was found of a target.
type CheckedTarget struct {
	Files        int      `json:"files" doc:"of a tree, that were looked at"`
	Missing      int      `json:"missing" doc:"that were not there"`
	Other        int      `json:"other" doc:"that were not as they were written"`
	MissingFiles []string `json:"missingFiles" doc:"the first of them"`
	OtherFiles   []string `json:"otherFiles" doc:"the first of them"`
}
