package api

import "time"

// NewRelay is a relay to be made.
type NewRelay struct {
	Name       string   `json:"name" minLength:"1" maxLength:"63"`
	Repository string   `json:"repository" maxLength:"63" doc:"what arrives there is sent on"`
	Target     string   `json:"target" maxLength:"63"`
	Only       []string `json:"only,omitempty" maxItems:"100" doc:"patterns of packages and versions; left out: everything"`
	Holds      string   `json:"holds,omitempty" enum:"releases,snapshots,both" doc:"which maturity is sent; left out: releases"`
	FromNow    bool     `json:"fromNow,omitempty" doc:"what is there already is not sent"`
	Removals   bool     `json:"removals,omitempty" doc:"what is removed here is removed there, too, if that is another Crelvo"`
	Schedule   string   `json:"schedule,omitempty" maxLength:"100" doc:"when it is looked for what was missed, as cron writes it; left out: every hour"`
	Zone       string   `json:"zone,omitempty" maxLength:"64" doc:"time zone of the schedule and the hours; left out: UTC"`
	Hours      string   `json:"hours,omitempty" maxLength:"11" doc:"of the day, in which it sends; left out: all" example:"20:00-06:00"`
	BytesRate  int64    `json:"bytesPerSecond,omitempty" minimum:"0" doc:"how much is sent at most; left out: no bound"`
	Anyway     bool     `json:"anyway,omitempty" doc:"also if the target is not reached"`
}

// RelayChange is what is to be different; what is left out stays.
type RelayChange struct {
	Target    *string   `json:"target,omitempty" maxLength:"63"`
	Only      *[]string `json:"only,omitempty" maxItems:"100"`
	Holds     *string   `json:"holds,omitempty" enum:"releases,snapshots,both"`
	Schedule  *string   `json:"schedule,omitempty" maxLength:"100"`
	Zone      *string   `json:"zone,omitempty" maxLength:"64"`
	Hours     *string   `json:"hours,omitempty" maxLength:"11"`
	BytesRate *int64    `json:"bytesPerSecond,omitempty" minimum:"0"`
	Paused    *bool     `json:"paused,omitempty"`
	Removals  *bool     `json:"removals,omitempty" doc:"what is removed here is removed there, too, if that is another Crelvo"`
	Anyway    bool      `json:"anyway,omitempty" doc:"also if a new target is not reached"`
}

// Relay is a rule that sends what arrives in a repository on to another server, and how far it is.
type Relay struct {
	Name       string      `json:"name"`
	Repository string      `json:"repository"`
	Target     string      `json:"target"`
	Ecosystem  string      `json:"ecosystem"`
	Only       []string    `json:"only" doc:"none: everything"`
	Holds      string      `json:"holds" enum:"releases,snapshots,both"`
	Since      *time.Time  `json:"since,omitempty" doc:"only what came since then is sent"`
	Schedule   string      `json:"schedule"`
	Zone       string      `json:"zone"`
	Next       []time.Time `json:"next" doc:"when it is looked for what was missed"`
	Hours      string      `json:"hours,omitempty"`
	BytesRate  int64       `json:"bytesPerSecond" doc:"0: no bound"`
	Paused     bool        `json:"paused"`
	Removals   bool        `json:"removals" doc:"what is removed here is removed there, too"`
	Open       bool        `json:"open" doc:"it may send at the moment"`
	By         string      `json:"by"`
	MadeAt     time.Time   `json:"madeAt"`
	LookedAt   *time.Time  `json:"lookedAt,omitempty" doc:"when it was last looked for what was missed"`
	Waiting    int         `json:"waiting" doc:"versions that are to be sent"`
	Bytes      int64       `json:"bytes" doc:"of these"`
	Oldest     *time.Time  `json:"oldest,omitempty" doc:"since when the first of them waits"`
	Failed     int         `json:"failed" doc:"versions that are not tried again by themselves"`
	Sent       int         `json:"sent"`
	LastAt     *time.Time  `json:"lastAt,omitempty" doc:"when a version was sent last"`
	Said       string      `json:"said,omitempty" doc:"what went wrong last"`
	Telling    int         `json:"telling" doc:"packages whose labels, withdrawals or removals another Crelvo is to be told"`
	NotTaken   string      `json:"notTaken,omitempty" doc:"what of these it refused last, and why, or why it could not be told"`
}

// RelayedVersion is a version that a relay sends, or sent.
type RelayedVersion struct {
	PURL     string     `json:"purl" doc:"empty where it is not there any more"`
	Upload   string     `json:"upload,omitempty" doc:"of a snapshot"`
	Bytes    int64      `json:"bytes"`
	State    string     `json:"state" enum:"waiting,sent,failed"`
	Attempts int        `json:"attempts"`
	Since    time.Time  `json:"since" doc:"when it was taken up"`
	NextAt   *time.Time `json:"nextAt,omitempty" doc:"when it is tried again"`
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	Said     string     `json:"said,omitempty" doc:"what came of the last attempt"`
}
