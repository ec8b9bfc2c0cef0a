package api

// Explanation tells which repository answers for a package, and why the others
// do not.
type Explanation struct {
	PURL       string `json:"purl"`
	Repository string `json:"repository"`
	Ours       string `json:"ours,omitempty" doc:"why the name is ours, so that no mirror answers for it"`
	Outcome    string `json:"outcome" enum:"answered,absent,failed,refused"`
	Sentence   string `json:"sentence" doc:"the outcome in words"`
	Steps      []Step `json:"steps" doc:"every member, in order"`
}

// Step is what a member said.
type Step struct {
	Repository string   `json:"repository"`
	Kind       string   `json:"kind" enum:"house,mirror"`
	Via        []string `json:"via" doc:"the chains between"`
	Said       string   `json:"said" enum:"has it,stale,not here,failed,denied by pattern,claimed elsewhere,other ecosystem,other maturity,kept out,not asked"`
	Why        string   `json:"why"`
	Answers    bool     `json:"answers"`
	Skipped    bool     `json:"skipped,omitempty" doc:"it failed, and the chain says that it may"`
}
