package npm

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// searchedAtOnce is how many packages a search is asked for at a time; registries give no more.
const searchedAtOnce = 250

// Enumerate implements ecosystem.Enumerated, by searching for anything
// (https://github.com/npm/registry/blob/main/docs/REGISTRY-API.md#get-v1search).
func (NPM) Enumerate(ctx context.Context, ask ecosystem.Asking, each func(of purl.PURL) error) error {
	for from := 0; ; {
		found, total, err := searched(ask, from, each)
		if err != nil {
			return err
		}
		if from += found; found == 0 || from >= total {
			return ctx.Err()
		}
	}
}

func searched(ask ecosystem.Asking, from int, each func(of purl.PURL) error) (found, total int, err error) {
	r, body, err := ask(ecosystem.Asked{Path: "-/v1/search", Accept: "application/json",
		Query: fmt.Sprintf("text=&size=%d&from=%d", searchedAtOnce, from)})
	if err != nil {
		return 0, 0, err
	}
	defer body.Close()
	var answer struct {
		Objects []struct {
			Package struct {
				Name string `json:"name"`
			} `json:"package"`
		} `json:"objects"`
		Total int `json:"total"`
	}
	if err := json.NewDecoder(r).Decode(&answer); err != nil {
		return 0, 0, errors.Join(errors.New("its answer to a search cannot be read"), err)
	}
	for _, o := range answer.Objects {
		scope, name, ok := splitName(o.Package.Name)
		if !ok {
			continue
		}
		if err := each(purl.PURL{Ecosystem: Name, Namespace: scope, Name: name}); err != nil {
			return 0, 0, err
		}
	}
	return len(answer.Objects), answer.Total, nil
}
