package cargo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// searchedAtOnce is how many crates a search is asked for at a time; registries give no more.
const searchedAtOnce = 100

// Enumerate implements ecosystem.Enumerated, by searching for anything where the index says that the API is
// (https://doc.rust-lang.org/cargo/reference/registry-web-api.html#search).
func (k Cargo) Enumerate(ctx context.Context, ask ecosystem.Asking, each func(of purl.PURL) error) error {
	path, _ := k.Root()
	r, body, err := ask(ecosystem.Asked{Path: path})
	if err != nil {
		return err
	}
	var config struct{ API string }
	err = json.NewDecoder(io.LimitReader(r, maxManifest)).Decode(&config)
	if err := errors.Join(err, body.Close()); err != nil {
		return errors.Join(errors.New("its config.json cannot be read"), err)
	}
	if config.API == "" {
		return nil // it is an index, and no more
	}
	at := strings.TrimSuffix(config.API, "/") + "/api/v1/crates"
	for page, had := 1, 0; ; page++ {
		found, total, err := searched(ask, fmt.Sprintf("%s?q=&per_page=%d&page=%d", at, searchedAtOnce, page), each)
		if err != nil {
			return err
		}
		if had += found; found == 0 || had >= total {
			return ctx.Err()
		}
	}
}

func searched(ask ecosystem.Asking, at string, each func(of purl.PURL) error) (found, total int, err error) {
	r, body, err := ask(ecosystem.Asked{Address: at, Accept: "application/json"})
	if err != nil {
		return 0, 0, err
	}
	defer body.Close()
	var answer struct {
		Crates []struct {
			Name string `json:"name"`
		} `json:"crates"`
		Meta struct {
			Total int `json:"total"`
		} `json:"meta"`
	}
	if err := json.NewDecoder(r).Decode(&answer); err != nil {
		return 0, 0, errors.Join(errors.New("its answer to a search cannot be read"), err)
	}
	for _, c := range answer.Crates {
		if c.Name == "" {
			continue
		}
		if err := each(purl.PURL{Ecosystem: Name, Name: purl.NormalName(Name, c.Name)}); err != nil {
			return 0, 0, err
		}
	}
	return len(answer.Crates), answer.Meta.Total, nil
}
