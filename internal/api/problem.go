package api

// Problem is an error (RFC 9457).
type Problem struct {
	Status int      `json:"status" doc:"HTTP status"`
	Title  string   `json:"title" doc:"the class of the error"`
	Code   string   `json:"code" doc:"stable, for programs" example:"name-taken"`
	Detail string   `json:"detail" doc:"what happened, in a sentence"`
	Hint   string   `json:"hint,omitempty" doc:"what to do"`
	Line   int      `json:"line,omitempty" doc:"where it is in a text that was given, such as a policy; from 1"`
	Errors []string `json:"errors,omitempty" doc:"what is wrong with the input, a line each"`
}

// Error makes a Problem an error.
func (p *Problem) Error() string { return p.Detail }

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is the media type of problems.
func (p *Problem) ContentType(string) string { return "application/problem+json" }
