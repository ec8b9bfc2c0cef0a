package nuget

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// searches are the names under which a search is offered, the best first.
var searches = []string{"SearchQueryService/3.5.0", "SearchQueryService/Versioned", "SearchQueryService/3.4.0",
	"SearchQueryService/3.0.0-rc", "SearchQueryService/3.0.0-beta", "SearchQueryService"}

// searchedAtOnce is how many packages a search is asked for at a time; servers give no more.
const searchedAtOnce = 1000

// Enumerate implements ecosystem.Enumerated, by searching for anything
// (https://learn.microsoft.com/nuget/api/search-query-service-resource).
func (n NuGet) Enumerate(ctx context.Context, ask ecosystem.Asking, each func(of purl.PURL) error) error {
	r, body, err := ask(ecosystem.Asked{Path: n.Entrance(), Accept: "application/json"})
	if err != nil {
		return err
	}
	at, err := resourceIn(r, searches...)
	if err := errors.Join(err, body.Close()); err != nil {
		return err
	}
	for skip := 0; ; {
		found, total, err := searched(ask, at, skip, each)
		if err != nil {
			return err
		}
		if skip += found; found == 0 || skip >= total {
			return ctx.Err()
		}
	}
}

func searched(
	ask ecosystem.Asking, at string, skip int, each func(of purl.PURL) error,
) (found, total int, err error) {
	joint := "?"
	if strings.Contains(at, "?") {
		joint = "&"
	}
	r, body, err := ask(ecosystem.Asked{Accept: "application/json", Address: at + joint + fmt.Sprintf(
		"q=&skip=%d&take=%d&prerelease=true&semVerLevel=2.0.0", skip, searchedAtOnce)})
	if err != nil {
		return 0, 0, err
	}
	defer body.Close()
	var answer struct {
		TotalHits int `json:"totalHits"`
		Data      []struct {
			ID string `json:"id"`
		} `json:"data"`
	}
	if err := json.NewDecoder(r).Decode(&answer); err != nil {
		return 0, 0, errors.Join(errors.New("its answer to a search cannot be read"), err)
	}
	for _, d := range answer.Data {
		if d.ID == "" {
			continue
		}
		if err := each(purl.PURL{Ecosystem: Name, Name: purl.NormalName(Name, d.ID)}); err != nil {
			return 0, 0, err
		}
	}
	return len(answer.Data), answer.TotalHits, nil
}
