package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"crelvo/internal/api"
)

// Me tells who the client is signed in as.
func (c *Client) Me(ctx context.Context) (api.Me, error) {
	return get[api.Me](ctx, c, "/api/v1/me", nil)
}

// Tokens lists the tokens of the client's owner, or of somebody else.
func (c *Client) Tokens(ctx context.Context, owner string) ([]api.Token, error) {
	return get[[]api.Token](ctx, c, "/api/v1/tokens", url.Values{"for": {owner}})
}

// AddToken makes a token.
func (c *Client) AddToken(ctx context.Context, n api.NewToken) (out api.MadeToken, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/tokens", n, &out)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, owner, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/tokens/"+url.PathEscape(name)+"?"+url.Values{"for": {owner}}.Encode(),
		nil, nil)
}

// AllTokens lists the tokens of everybody.
func (c *Client) AllTokens(ctx context.Context) ([]api.Token, error) {
	return get[[]api.Token](ctx, c, "/api/v1/tokens/all", nil)
}

const users, teams, grants = "/api/v1/users", "/api/v1/teams", "/api/v1/grants"

// Users lists users and robots; kind may be "" for both.
func (c *Client) Users(ctx context.Context, kind string) ([]api.User, error) {
	return get[[]api.User](ctx, c, users, url.Values{"kind": {kind}})
}

// AddUser makes a user or robot.
func (c *Client) AddUser(ctx context.Context, n api.NewUser) (out api.MadeUser, err error) {
	return out, c.do(ctx, http.MethodPost, users, n, &out)
}

// EditUser changes a user or robot.
func (c *Client) EditUser(ctx context.Context, name string, change api.UserChange) error {
	return c.do(ctx, http.MethodPatch, users+"/"+url.PathEscape(name), change, nil)
}

// RemoveUser removes a user or robot.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, users+"/"+url.PathEscape(name), nil, nil)
}

// GivePassword gives a user a new password.
func (c *Client) GivePassword(ctx context.Context, name string) (out api.MadeUser, err error) {
	return out, c.do(ctx, http.MethodPost, users+"/"+url.PathEscape(name)+"/password", nil, &out)
}

// ChangePassword changes the password of the client's owner.
func (c *Client) ChangePassword(ctx context.Context, change api.PasswordChange) error {
	return c.do(ctx, http.MethodPut, "/api/v1/me/password", change, nil)
}

// SignOutEverywhere ends the sessions, and with tokens all tokens, of somebody;
// "" is the client's owner.
func (c *Client) SignOutEverywhere(ctx context.Context, name string, tokens bool) (out api.Ended, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/sign-out?"+
		url.Values{"for": {name}, "tokens": {strconv.FormatBool(tokens)}}.Encode(), nil, &out)
}

// Teams lists teams.
func (c *Client) Teams(ctx context.Context) ([]api.Team, error) {
	return get[[]api.Team](ctx, c, teams, nil)
}

// AddTeam makes a team.
func (c *Client) AddTeam(ctx context.Context, n api.NewTeam) error {
	return c.do(ctx, http.MethodPost, teams, n, nil)
}

// EditTeam changes a team.
func (c *Client) EditTeam(ctx context.Context, name string, change api.TeamChange) error {
	return c.do(ctx, http.MethodPatch, teams+"/"+url.PathEscape(name), change, nil)
}

// RemoveTeam removes a team.
func (c *Client) RemoveTeam(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, teams+"/"+url.PathEscape(name), nil, nil)
}

// Grants lists grants.
func (c *Client) Grants(ctx context.Context) ([]api.Grant, error) {
	return get[[]api.Grant](ctx, c, grants, nil)
}

// AddGrant gives somebody a role.
func (c *Client) AddGrant(ctx context.Context, n api.NewGrant) (out api.Grant, err error) {
	return out, c.do(ctx, http.MethodPost, grants, n, &out)
}

// RemoveGrant takes a role away.
func (c *Client) RemoveGrant(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodDelete, grants+"/"+strconv.FormatInt(id, 10), nil, nil)
}

// CheckGrant tells whether somebody may do something; who may be "" for the
// client's owner, purl "" for the repository as such.
func (c *Client) CheckGrant(ctx context.Context, who, action, repository, purl string) (api.Verdict, error) {
	return get[api.Verdict](ctx, c, of(repository, "check"), url.Values{"who": {who}, "action": {action}, "purl": {purl}})
}

// EventQuery selects events; zero fields select all.
type EventQuery struct {
	Since, Until                     time.Time
	Who, Action, Repository, Subject string
	Limit                            int
}

func (q EventQuery) values() url.Values {
	values := url.Values{"who": {q.Who}, "action": {q.Action}, "repository": {q.Repository}, "subject": {q.Subject}}
	for name, at := range map[string]time.Time{"since": q.Since, "until": q.Until} {
		if !at.IsZero() {
			values.Set(name, at.UTC().Format(time.RFC3339))
		}
	}
	return values
}

// Events lists the activity record.
func (c *Client) Events(ctx context.Context, q EventQuery) ([]api.Event, error) {
	values := q.values()
	values.Set("limit", strconv.Itoa(q.Limit))
	return get[[]api.Event](ctx, c, "/api/v1/events", values)
}

// VerifyEvents computes the chain of events again; noted and seal are of an event
// that was noted before, or 0.
func (c *Client) VerifyEvents(ctx context.Context, noted int64, seal string) (api.EventChain, error) {
	return get[api.EventChain](ctx, c, "/api/v1/events/chain",
		url.Values{"noted": {strconv.FormatInt(noted, 10)}, "seal": {seal}})
}

// VerifyRecords compares records with each other, and tells what was put right.
func (c *Client) VerifyRecords(ctx context.Context) (out []api.Mended, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/records/verification", nil, &out)
}

// ExportEvents writes the activity record as JSON lines, the oldest first.
func (c *Client) ExportEvents(ctx context.Context, q EventQuery, w io.Writer) error {
	r, err := c.request(ctx, http.MethodGet, "/api/v1/events/export?"+q.values().Encode(), nil)
	if err != nil {
		return err
	}
	response, err := c.send(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}
