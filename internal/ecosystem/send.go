package ecosystem

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"crelvo/internal/core/catalog"
)

// Sending is an ecosystem whose versions can be sent on to another server, by the
// protocol that its clients publish with.
type Sending interface {
	// Send publishes a version there. What is there already with the same bytes, as
	// after an attempt whose answer was lost, is no error. An error that is a
	// *Rejection tells whether to try again.
	Send(ctx context.Context, s Shipment) error
}

// Shipment is a version that is sent to another server.
type Shipment struct {
	Namespace, Name, Version string
	Files                    []catalog.File
	Labels                   []string // of the version, where it is named by its content
	URL                      string   // of the repository, as its clients have it, with a slash at the end
	User, Secret             string   // by HTTP Basic, or without a user as a Bearer token; both may be ""
	Client                   *http.Client
	Agent                    string
	// LabelsLater: labels are told of afterwards, with the times of theirs.
	LabelsLater bool
	Open        func(f catalog.File) (SeekableFile, error)
}

// LabelsLater is the header by which another Crelvo that publishes here says that it tells of labels afterwards, with
// the times when they were set there.
const LabelsLater = "Crelvo-Labels-Later"

// Rejection is another server's answer that is not what was hoped for.
type Rejection struct {
	Status int
	Said   string
	Final  bool // it will say the same next time
}

func (r *Rejection) Error() string { return r.Said }

// request is one that is signed in, unless it leads to another host.
func (s Shipment) request(ctx context.Context, method, address string, body io.Reader) (*http.Request, error) {
	request, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, &Rejection{Said: err.Error(), Final: true}
	}
	request.Header.Set("User-Agent", s.Agent)
	if s.LabelsLater {
		request.Header.Set(LabelsLater, "yes")
	}
	home, err := url.Parse(s.URL)
	switch {
	case err != nil || home.Host != request.URL.Host || home.Scheme != request.URL.Scheme:
	case s.User != "":
		request.SetBasicAuth(s.User, s.Secret)
	case s.Secret != "":
		request.Header.Set("Authorization", "Bearer "+s.Secret)
	}
	return request, nil
}

// SHA256At computes the digest of what is at an address, in hexadecimal; "" if
// nothing is.
func (s Shipment) SHA256At(ctx context.Context, address string) (string, error) {
	request, err := s.request(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	response, err := s.Client.Do(request)
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return "", nil
	}
	digest := sha256.New()
	if _, err := io.Copy(digest, response.Body); err != nil {
		return "", err
	}
	return hex.EncodeToString(digest.Sum(nil)), nil
}

// Already judges a file that another server says is there already, by the digest
// of what is there; "" is that it does not tell. Only the same bytes are those of
// an attempt before.
func Already(f catalog.File, there string) error {
	switch there {
	case f.Digests.Hex("sha256"):
		return nil
	case "":
		return &Rejection{Said: f.Name + " is there already, and the server does not tell with which bytes", Final: true}
	}
	return &Rejection{Said: f.Name + " is there already, with other bytes", Final: true}
}

// Ask makes a request, and gives the beginning of the answer's body. Status 200 to
// 299, and 404 for GET, are no refusals.
func (s Shipment) Ask(
	ctx context.Context, method, address string, body io.Reader, length int64, headers map[string]string,
) (status int, said []byte, err error) {
	request, err := s.request(ctx, method, address, body)
	if err != nil {
		return 0, nil, err
	}
	if body != nil {
		request.ContentLength = length
	}
	for name, value := range headers {
		request.Header.Set(name, value)
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
		final := response.StatusCode < 500 && response.StatusCode != http.StatusUnauthorized &&
			response.StatusCode != http.StatusForbidden &&
			response.StatusCode != http.StatusRequestTimeout && response.StatusCode != http.StatusTooManyRequests
		err = &Rejection{Status: response.StatusCode,
			Said: fmt.Sprintf("%s %s was answered %s", method, request.URL.Redacted(),
				answer), Final: final}
	}
	return response.StatusCode, said, err
}

// Piped gives what write writes as a body to be read. It must be closed.
func Piped(write func(w io.Writer) error) io.ReadCloser {
	r, w := io.Pipe()
	go func() { w.CloseWithError(write(w)) }()
	return r
}

// SignedBeside is an ecosystem whose clients look for a detached signature beside a file.
type SignedBeside interface {
	// SignsBeside tells whether they do beside this one.
	SignsBeside(file string) bool
}
