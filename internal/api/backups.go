package api

import "time"

// Backup is a run that puts all records and bytes somewhere else too.
type Backup struct {
	ID       int64      `json:"id"`
	Target   string     `json:"target" doc:"the path of a folder on the server, or the address of a bucket"`
	Name     string     `json:"name,omitempty" doc:"of what came of it, in the target"`
	By       string     `json:"by"`
	BegunAt  time.Time  `json:"begunAt"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	State    string     `json:"state" enum:"under way,done,failed"`
	Files    int64      `json:"files" doc:"that are in it"`
	Bytes    int64      `json:"bytes"`
	NewFiles int64      `json:"newFiles" doc:"of them, those that were not there from before"`
	NewBytes int64      `json:"newBytes"`
	Missing  int64      `json:"missing,omitempty" doc:"files whose bytes could not be read"`
	Said     string     `json:"said,omitempty" doc:"why it failed, or what is wrong with it"`
}

// NewBackup begins a backup.
type NewBackup struct {
	Target string `json:"target,omitempty" maxLength:"4000" doc:"the path of a folder on the server, or s3+https://HOST/BUCKET/PREFIX?region=REGION; left out: what the server was given" example:"/mnt/backup/crelvo"`
}
