package web

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

// EventFilter selects events. It is exported for the sake of the reflection that
// reads inputs.
type EventFilter struct {
	Since      string `query:"since" maxLength:"60" doc:"a moment"`
	Until      string `query:"until" maxLength:"60" doc:"a moment"`
	Who        string `query:"who" maxLength:"63"`
	Action     string `query:"action" maxLength:"63"`
	Repository string `query:"repository" maxLength:"63"`
	Subject    string `query:"subject" maxLength:"200" doc:"a part of it"`
}

func (w *Server) eventFilter(f EventFilter) (of record.EventFilter, err error) {
	of = record.EventFilter{Who: f.Who, Action: f.Action, Repository: f.Repository, Subject: f.Subject}
	if of.Since, err = w.moment(f.Since, false); err == nil {
		of.Until, err = w.moment(f.Until, false)
	}
	return of, err
}

// moment reads a moment of a request, in the one form that all parameters have: without
// a sign, a length of time is before now, and with later after it. "" is none.
func (w *Server) moment(text string, later bool) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	return catalog.ParseMoment(text, w.service.Now().UTC(), later)
}

func (w *Server) addActivity() {
	operate(w, "list-events", forSignedIn, http.MethodGet, "/api/v1/events",
		"The activity record, the newest first; who is no admin sees what they did themselves",
		func(ctx context.Context, v visit, in *struct {
			EventFilter
			Before int64 `query:"before" minimum:"0" doc:"only events with a lower id"`
			Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*answer[[]api.Event], error) {
			f, err := w.eventFilter(in.EventFilter)
			if err != nil {
				return nil, err
			}
			f.Before, f.Limit = in.Before, in.Limit
			shown := []api.Event{}
			err = w.service.Rights.Events(ctx, v.caller, f, func(e record.SealedEvent) error {
				shown = append(shown, api.Event(e.Event))
				return nil
			})
			return &answer[[]api.Event]{shown}, err
		})
	operate(w, "list-event-actions", forAdmin, http.MethodGet, "/api/v1/events/actions",
		"The kinds of event that there are",
		func(ctx context.Context, v visit, _ *none) (*answer[[]string], error) {
			all, err := w.service.Rights.EventActions(ctx, v.caller)
			return &answer[[]string]{append([]string{}, all...)}, err
		})
	operate(w, "verify-events", forAdmin, http.MethodGet, "/api/v1/events/chain", "Compute the chain of all events again",
		func(ctx context.Context, v visit, in *struct {
			Noted int64  `query:"noted" minimum:"0" doc:"the number of an event whose seal was noted before"`
			Seal  string `query:"seal" maxLength:"64" doc:"that seal"`
		}) (*answer[api.EventChain], error) {
			verified, err := w.service.Rights.VerifyEvents(ctx, v.caller, in.Noted, in.Seal)
			return &answer[api.EventChain]{api.EventChain(verified)}, err
		})
	w.addEventExport()
}

// addEventExport adds the activity record as JSON lines, which are streamed.
func (w *Server) addEventExport() {
	const path = "/api/v1/events/export"
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "export-events", Method: http.MethodGet, Path: path,
		Summary: "The activity record as JSON lines, the oldest first; filters as for list-events",
		Responses: map[string]*huma.Response{
			"200": {Description: "an event in each line, with previous and seal in hexadecimal",
				Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: &huma.Schema{Type: "string"}}}}}})
	w.guarded(http.MethodGet, path, forAdmin, func(c *echo.Context, caller access.Caller, _ catalog.Repository) error {
		f, err := w.eventFilter(EventFilter{Who: c.QueryParam("who"), Action: c.QueryParam("action"),
			Repository: c.QueryParam("repository"),
			Subject:    c.QueryParam("subject"), Since: c.QueryParam("since"), Until: c.QueryParam("until")})
		if err != nil {
			return err
		}
		f.OldestFirst = true
		h := c.Response().Header()
		h.Set("Content-Type", "application/x-ndjson")
		h.Set("Cache-Control", "no-store")
		h.Set("Content-Disposition", `attachment; filename="events.jsonl"`)
		lines := json.NewEncoder(c.Response())
		return w.service.Rights.Events(c.Request().Context(), caller, f, func(e record.SealedEvent) error {
			return lines.Encode(api.SealedEvent{Event: api.Event(e.Event), Previous: hex.EncodeToString(e.Previous),
				Seal: hex.EncodeToString(e.Hash)})
		})
	})
}
