package ecosystem

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"crelvo/internal/core/catalog"
)

// Sending is an ecosystem whose versions can be sent on to another server, by the
// protocol that its clients publish with.
type Sending interface {
	// Send publishes a version there. What is there already with the same bytes, as
	// after an attempt whose answer was lost, is no error. An error that is a
	// *Refusal tells whether to try again.
	Send(ctx context.Context, s Shipment) error
}

// Shipment is a version that is sent to another server.
type Shipment struct {
	Namespace, Name, Version string
	Files                    []catalog.File
	URL                      string // of the repository, as its clients have it, with a slash at the end
	User, Secret             string // by HTTP Basic, or without a user as a Bearer token; both may be ""
	Client                   *http.Client
	Agent                    string
	Open                     func(f catalog.File) (SeekableFile, error)
}

// Refusal is another server's answer that is not what was hoped for.
type Refusal struct {
	Status int
	Said   string
	Final  bool // it will say the same next time
}

func (r *Refusal) Error() string { return r.Said }

// Ask makes a request, and gives the beginning of the answer's body. Status 200 to
// 299, and 404 for GET, are no refusals.
func (s Shipment) Ask(ctx context.Context, method, address string, body io.Reader, length int64, headers map[string]string) (status int, said []byte, err error) {
	request, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return 0, nil, &Refusal{Said: err.Error(), Final: true}
	}
	if body != nil {
		request.ContentLength = length
	}
	request.Header.Set("User-Agent", s.Agent)
	for name, value := range headers {
		request.Header.Set(name, value)
	}
	switch {
	case s.User != "":
		request.SetBasicAuth(s.User, s.Secret)
	case s.Secret != "":
		request.Header.Set("Authorization", "Bearer "+s.Secret)
	}
	response, err := s.Client.Do(request)
	if err != nil {
		return 0, nil, err
	}
	defer response.Body.Close()
	said, err = io.ReadAll(io.LimitReader(response.Body, 4<<20))
	if err != nil {
		return 0, nil, err
	}
	ok := response.StatusCode < 300 || response.StatusCode == http.StatusNotFound && method == http.MethodGet
	if !ok {
		// Many servers say the same in the status line and in the body.
		answer, text := response.Status, strings.TrimSpace(string(said))
		switch first, _, _ := strings.Cut(text, "\n"); {
		case text == "" || len(text) > 500 || strings.HasPrefix(text, "<"):
		case strings.Contains(answer, strings.TrimRight(first, ".")):
		default:
			answer += ": " + text
		}
		// Wrong credentials may be mended, and servers recover.
		final := response.StatusCode < 500 && response.StatusCode != http.StatusUnauthorized && response.StatusCode != http.StatusForbidden &&
			response.StatusCode != http.StatusRequestTimeout && response.StatusCode != http.StatusTooManyRequests
		err = &Refusal{Status: response.StatusCode, Said: fmt.Sprintf("%s %s was answered %s", method, request.URL.Redacted(), answer), Final: final}
	}
	return response.StatusCode, said, err
}

// Piped gives what write writes as a body to be read. It must be closed.
func Piped(write func(w io.Writer) error) io.ReadCloser {
	r, w := io.Pipe()
	go func() { w.CloseWithError(write(w)) }()
	return r
}
