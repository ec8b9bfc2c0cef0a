// Package fault is how Crelvo says no: one error type whose kind decides the
// HTTP status, whose code is stable for programs, and whose message and hint
// are sentences for the person who meets it.
package fault

import (
	"errors"
	"fmt"
	"time"
)

// Kind is the class of a refusal.
type Kind int

// The kinds, each with the HTTP status that carries it.
const (
	Internal    Kind = 500
	Invalid     Kind = 400
	Unknown     Kind = 401 // the caller is not known: no, wrong or ended credentials
	Denied      Kind = 403
	NotFound    Kind = 404
	Conflict    Kind = 409
	TooLarge    Kind = 413
	TooMany     Kind = 429
	Unavailable Kind = 503
	Full        Kind = 507
)

// Error is a refusal or failure that a client may be shown.
type Error struct {
	Kind    Kind
	Code    string // stable, kebab-case, for programs
	Message string // one sentence: what happened
	Hint    string // one sentence: what to do; may be empty
	Cause   error  // for the log; never shown
	// Line is where it is in a text that was given, from 1; 0 if it is about no line.
	Line int
	// After is how long to wait before trying again, if that is known.
	After time.Duration
}

func (e *Error) Error() string { return e.Message }

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

// Status is the HTTP status of the error.
func (e *Error) Status() int { return int(e.Kind) }

// New makes an error; the message is formatted as by fmt.Sprintf.
func New(kind Kind, code, format string, args ...any) *Error {
	return &Error{Kind: kind, Code: code, Message: fmt.Sprintf(format, args...)}
}

// WithHint sets the hint, formatted as by fmt.Sprintf, and returns e.
func (e *Error) WithHint(format string, args ...any) *Error {
	e.Hint = fmt.Sprintf(format, args...)
	return e
}

// Sentences are the message and the hint, as one text.
func (e *Error) Sentences() string {
	if e.Hint == "" {
		return e.Message
	}
	return e.Message + ". " + e.Hint
}

// AtLine says where in a text it is, before the message too, and returns e.
func (e *Error) AtLine(line int) *Error {
	e.Line, e.Message = line, fmt.Sprintf("line %d: %s", line, e.Message)
	return e
}

// WithCause sets the cause and returns e.
func (e *Error) WithCause(err error) *Error {
	e.Cause = err
	return e
}

// Of gives the *Error inside err, or an Internal one that hides it.
func Of(err error) *Error {
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return &Error{Kind: Internal, Code: "internal",
		Message: "Crelvo failed to answer; the reason is in its log", Cause: err}
}

// Is tells whether err is, or wraps, an *Error of that kind.
func Is(err error, kind Kind) bool {
	var e *Error
	return errors.As(err, &e) && e.Kind == kind
}
