// Package schedule is about the queue of jobs, which all nodes share, and when they are
// put into it. The rooms whose jobs they are bring their workers.
package schedule

import (
	"crelvo/internal/service/act"
)

// Schedule is the queue of jobs, and what puts them there at their times. It is safe
// for use by several at once.
type Schedule struct {
	*act.Act

	jobs jobs
}

// New makes the room.
func New(a *act.Act) *Schedule {
	return &Schedule{Act: a}
}
