package api

import "time"

// Node is one running program of those that serve together.
type Node struct {
	ID       string    `json:"id"`
	Name     string    `json:"name"`
	Address  string    `json:"address" doc:"where it answers itself"`
	Version  string    `json:"version"`
	Since    time.Time `json:"since"`
	SeenAt   time.Time `json:"seenAt" doc:"its last sign of life"`
	State    string    `json:"state" enum:"serving,draining,drained,lost" doc:"drained: it is to be left alone, and answers nothing any more"`
	Here     bool      `json:"here" doc:"it answers this"`
	Requests int       `json:"requests" doc:"that it is answering"`
	Answered int64     `json:"answered" doc:"requests in the last minute"`
	Memory   int64     `json:"memory" doc:"bytes"`
	Doing    []string  `json:"doing" doc:"what goes on in the background"`
}

// NodeChange says what is to be different of a node.
type NodeChange struct {
	Draining bool `json:"draining" doc:"it is to be left alone: it says that it is not ready, finishes what it does, and begins nothing in the background"`
}
