package api

import (
	"time"
)

// NextTimes are the next times of a schedule.
type NextTimes struct {
	Next []time.Time `json:"next"`
}
