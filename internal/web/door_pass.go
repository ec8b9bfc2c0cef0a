package web

import (
	"cmp"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/fault"
	"crelvo/internal/core/text"
	"crelvo/internal/service/rights"
)

// passPath is where package clients get a pass, by the token flow of image registries:
// https://distribution.github.io/distribution/spec/auth/token/ with GET, and …/auth/oauth/
// with POST. What it is for (scope) is not sealed into it: who may do what is asked with
// every request.
const passPath = "/pass"

// maxPassForm is the largest form, in bytes.
const maxPassForm = 64 << 10

// passAnswer is what either gives.
type passAnswer struct {
	Token       string    `json:"token,omitempty"`
	AccessToken string    `json:"access_token"`
	Refresh     string    `json:"refresh_token,omitempty"`
	Scope       string    `json:"scope,omitempty"`
	ExpiresIn   int       `json:"expires_in"`
	IssuedAt    time.Time `json:"issued_at"`
}

func (w *Server) addPasses() {
	w.route(http.MethodGet, passPath, forAnyone, func(c *echo.Context) error {
		header := c.Request().Header.Get("Authorization")
		name, secret, basic := c.Request().BasicAuth()
		if scheme, token, ok := strings.Cut(header, " "); ok && strings.EqualFold(scheme, "Bearer") {
			name, secret = "token", strings.TrimSpace(token)
		} else if !basic && header != "" {
			return w.refusePass(c, fault.New(fault.Unknown, "bad-authorization",
				"the Authorization header is neither Basic nor Bearer"))
		}
		return w.givePass(c, name, secret, c.QueryParam("offline_token") == "true")
	})
	w.route(http.MethodPost, passPath, forAnyone, func(c *echo.Context) error {
		r := c.Request()
		r.Body = http.MaxBytesReader(c.Response(), r.Body, maxPassForm)
		if err := r.ParseForm(); err != nil {
			return w.refusePass(c, fault.New(fault.Invalid, "bad-form", "the form cannot be read").WithCause(err))
		}
		for name := range r.PostForm {
			if err := text.Check("a field of the form", r.PostForm.Get(name), false, text.MaxText); err != nil {
				return w.refusePass(c, err)
			}
		}
		switch grant := r.PostForm.Get("grant_type"); grant {
		case "password":
			return w.givePass(c, cmp.Or(r.PostForm.Get("username"), "nobody"), r.PostForm.Get("password"),
				r.PostForm.Get("access_type") == "offline")
		case "refresh_token":
			// Such a token is one of ours, whoever it was given to.
			return w.givePass(c, "token", r.PostForm.Get("refresh_token"), true)
		default:
			return w.refusePass(c, fault.New(fault.Invalid, "bad-grant", "%.40q is no grant type that is known here", grant).
				WithHint("Use password or refresh_token."))
		}
	})
}

// givePass answers with a pass for a name and a secret.
func (w *Server) givePass(c *echo.Context, name, secret string, lasting bool) error {
	r := c.Request()
	c.Response().Header().Set("Cache-Control", "no-store")
	if err := admit(r); err != nil {
		return w.refusePass(c, err)
	}
	from := rights.Origin{Address: text.Clean(c.RealIP(), false, text.MaxRemark),
		UserAgent: text.Clean(r.UserAgent(), false, text.MaxRemark)}
	now := w.service.Now()
	pass, caller, ends, err := w.service.Rights.Pass(r.Context(), name, secret, from)
	if err != nil {
		return w.refusePass(c, err)
	}
	answer := passAnswer{Token: pass, AccessToken: pass, Scope: strings.Join(r.Form["scope"], " "),
		ExpiresIn: max(int(ends.Sub(now).Seconds()), 1), IssuedAt: now.UTC().Truncate(time.Second)}
	if lasting && caller.Token != "" {
		answer.Refresh = secret
	}
	return c.JSON(http.StatusOK, answer)
}

// refusePass answers with an error in the forms that clients show.
func (w *Server) refusePass(c *echo.Context, err error) error {
	f := named(asFault(err), requestID(c))
	retryAfter(c.Response().Header(), f)
	if f.Kind == fault.Unknown {
		challenge(c.Response().Header())
	}
	said := map[string]any{"details": f.Sentences(), "error": "invalid_grant", "error_description": f.Sentences(),
		"errors": []map[string]string{{"code": "UNAUTHORIZED", "message": f.Sentences()}}}
	if err := c.JSON(f.Status(), said); err != nil {
		return err
	}
	return f // for the log; the answer is out
}
