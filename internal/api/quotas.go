package api

import "time"

// Quota is how much something may use, and how much it does.
type Quota struct {
	About        string    `json:"about" doc:"a repository, team:NAME (the repositories that the team is an admin of) or store:NAME" example:"team:berth-crew"`
	Kind         string    `json:"kind" enum:"repository,team,store"`
	Name         string    `json:"name"`
	Soft         int64     `json:"soft,omitempty" doc:"bytes, from which on it is told; left out: there is no such bound"`
	Hard         int64     `json:"hard,omitempty" doc:"bytes, beyond which nothing is taken; left out: there is no such bound"`
	Used         int64     `json:"used" doc:"bytes: of a repository what its versions in use have, of a store what is there"`
	State        string    `json:"state" enum:"within,warned,full"`
	AsOf         time.Time `json:"asOf" doc:"when it was counted"`
	Repositories []string  `json:"repositories,omitempty" doc:"that a team's quota is about"`
}

// QuotaDetail is a quota with what it is used for.
type QuotaDetail struct {
	Quota
	Most   []QuotaUse   `json:"most" doc:"the packages that use most"`
	Sweeps []QuotaSweep `json:"sweeps" doc:"what sweeps would free now"`
}

// QuotaUse is a package and what it uses.
type QuotaUse struct {
	Repository string `json:"repository"`
	PURL       string `json:"purl"`
	Bytes      int64  `json:"bytes"`
}

// QuotaSweep is what a sweep by a policy would free.
type QuotaSweep struct {
	Policy   string `json:"policy"`
	Versions int    `json:"versions"`
	Bytes    int64  `json:"bytes"`
}

// QuotaChange gives a quota; what is left out stays as it is.
type QuotaChange struct {
	Soft *int64 `json:"soft,omitempty" minimum:"0" doc:"bytes; 0 is none"`
	Hard *int64 `json:"hard,omitempty" minimum:"0" doc:"bytes; 0 is none"`
}
