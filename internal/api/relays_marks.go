package api

// MarksTaken is what came of taking over what was said of versions at another place.
type MarksTaken struct {
	Refused []string `json:"refused" doc:"what is not taken, and why"`
}
