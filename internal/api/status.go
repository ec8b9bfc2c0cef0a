package api

import (
	"time"
)

// Status is how the service is.
type Status struct {
	Version      string    `json:"version"`
	StartedAt    time.Time `json:"startedAt"`
	Address      string    `json:"address" doc:"how clients reach the service"`
	Database     string    `json:"database" doc:"ok, or what is wrong" example:"ok"`
	Repositories int       `json:"repositories" doc:"those that the caller may read"`
	Packages     int64     `json:"packages"`
	Versions     int64     `json:"versions"`
	Bytes        int64     `json:"bytes"`
	Concerns     []Concern `json:"concerns" doc:"what is wrong, will be soon, or waits for somebody"`
}

// Concern is something that is wrong, will be soon, or waits for somebody.
type Concern struct {
	Level string `json:"level" enum:"wrong,soon,waits"`
	What  string `json:"what"`
	Do    string `json:"do" doc:"what to do about it"`
	Page  string `json:"page" doc:"of the console"`
}
