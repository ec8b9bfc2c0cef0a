package targets

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"crelvo/internal/core/bundle"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/secret"
	"crelvo/internal/upstream"
)

// marksAtOnce is how much is said of a package at once.
const marksAtOnce = 1000

// IsCrelvo tells whether a target, by its address, is a repository of another Crelvo.
func IsCrelvo(address, ecosystem string) bool {
	_, _, err := repositories.CrelvoAt(address, ecosystem)
	return err == nil
}

// TellsMarks tells whether a target is told of labels, withdrawals and removals.
func (s *Targets) TellsMarks(ctx context.Context, name string) (bool, error) {
	to, err := s.target(ctx, name)
	return !to.Plain && IsCrelvo(to.URL, to.Ecosystem), err
}

// Tell tells another Crelvo of labels, withdrawals and removals of a package, and gives what it refuses, and why; what
// it cannot be told of, since it is an older one, is no error. An error that is an *ecosystem.Rejection tells whether
// to try again.
func (s *Targets) Tell(ctx context.Context, target string, marks bundle.Marks) (refused []string, err error) {
	to, err := s.target(ctx, target)
	if err != nil {
		return nil, err
	}
	server, name, err := repositories.CrelvoAt(to.URL, to.Ecosystem)
	if err != nil {
		return nil, &ecosystem.Rejection{Said: target + " is no Crelvo", Final: true}
	}
	as, err := s.safe.OpenSignIn(to.Secret, secret.Target)
	if err != nil {
		return nil, err
	}
	ship := ecosystem.Shipment{URL: to.URL, User: as.User, Secret: as.Secret,
		Client: upstream.Plain(to.URL, to.Private), Agent: s.Settings.Version}
	for len(marks.Labels)+len(marks.Withdrawn)+len(marks.Removed) > 0 {
		some := bundle.Marks{PURL: marks.PURL}
		some.Labels, marks.Labels = first(marks.Labels)
		some.Withdrawn, marks.Withdrawn = first(marks.Withdrawn)
		some.Removed, marks.Removed = first(marks.Removed)
		raw, err := json.Marshal(some)
		if err != nil {
			return nil, err
		}
		status, said, err := ship.Ask(ctx, http.MethodPost, server+"api/v1/repositories/"+url.PathEscape(name)+"/marks",
			bytes.NewReader(raw), int64(len(raw)), map[string]string{"Content-Type": "application/json"})
		var no *ecosystem.Rejection
		if errors.As(err, &no) && (status == http.StatusNotFound || status == http.StatusMethodNotAllowed) {
			return nil, nil
		}
		if err != nil {
			return nil, inWords(to.Name, err)
		}
		var answer bundle.MarksTaken
		if err := json.Unmarshal(said, &answer); err != nil {
			return nil, &ecosystem.Rejection{Said: server + " answered something else than what it refuses"}
		}
		refused = append(refused, answer.Refused...)
	}
	return refused, nil
}

func first[T any](all []T) (some, rest []T) {
	n := min(len(all), marksAtOnce)
	return slices.Clip(all[:n]), all[n:]
}

// InOne puts what is refused into one sentence.
func InOne(refused []string) string {
	const most = 3
	said := strings.Join(refused[:min(len(refused), most)], "; ")
	if len(refused) > most {
		said += "; and more"
	}
	return said
}
