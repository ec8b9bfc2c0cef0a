package api

import "time"

// Target is a repository on another server that promotions go on to.
type Target struct {
	Name      string    `json:"name"`
	Ecosystem string    `json:"ecosystem"`
	URL       string    `json:"url"`
	HasSecret bool      `json:"hasSecret"`
	By        string    `json:"by"`
	At        time.Time `json:"at"`
}

// NewTarget is one to be made, or written anew.
type NewTarget struct {
	Name      string `json:"name" minLength:"1" maxLength:"63"`
	Ecosystem string `json:"ecosystem" maxLength:"30"`
	URL       string `json:"url" maxLength:"2000" doc:"where the ecosystem's clients publish to"`
	User      string `json:"user,omitempty" maxLength:"200"`
	Secret    string `json:"secret,omitempty" maxLength:"10000"`
}
