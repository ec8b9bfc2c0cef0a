package kinds

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// documents are those of an upstream, by path, query and address.
type documents map[string]string

func (d documents) ask(a ecosystem.Asked) (ecosystem.Reading, io.Closer, error) {
	is := a.Path
	if a.Address != "" {
		is = a.Address
	}
	if a.Query != "" {
		is += "?" + a.Query
	}
	text, ok := d[is]
	if !ok {
		return ecosystem.Reading{}, nil, fmt.Errorf("there is no %s", is)
	}
	r := io.NopCloser(strings.NewReader(text))
	return ecosystem.Reading{Reader: r, Address: "https://old.example/" + is}, r, nil
}

// TestEnumerate: the names that upstreams tell are read, page by page, in all forms; what is no such document is
// called so.
func TestEnumerate(t *testing.T) {
	entrance := `{"resources":[{"@id":"https://old.example/search","@type":"SearchQueryService/3.5.0"}]}`
	search := "https://old.example/search?q=&skip=%d&take=1000&prerelease=true&semVerLevel=2.0.0"
	crates := "https://old.example/api/v1/crates?q=&per_page=100&page=%d"
	for what, c := range map[string]struct {
		ecosystem string
		documents documents
		want      []string
		fails     string
	}{
		"npm, two pages": {"npm", documents{
			"-/v1/search?text=&size=250&from=0": `{"objects":[{"package":{"name":"@skerry/deck"}},{"package":{"name":"../x"}}],"total":3}`,
			"-/v1/search?text=&size=250&from=2": `{"objects":[{"package":{"name":"bell"}}],"total":3}`},
			[]string{"pkg:npm/%40skerry/deck", "pkg:npm/bell"}, ""},
		"npm, which says that there is more than it has": {"npm", documents{
			"-/v1/search?text=&size=250&from=0": `{"objects":[{"package":{"name":"bell"}}],"total":3}`,
			"-/v1/search?text=&size=250&from=1": `{"objects":[],"total":3}`}, []string{"pkg:npm/bell"}, ""},
		"npm, a page": {"npm", documents{"-/v1/search?text=&size=250&from=0": "<html>"}, nil, "cannot be read"},
		"pypi, as HTML": {"pypi", documents{"": `<!DOCTYPE html><a href="/simple/Tide_Cast/">Tide</a><a href="bell/">bell</a>` +
			`<a name="x">no</a>`}, []string{"pkg:pypi/bell", "pkg:pypi/tide-cast"}, ""},
		"pypi, as JSON": {"pypi", documents{"": `{"meta":{"api-version":"1.1"},"projects":[{"name":"Tide.Cast"},{"name":"a/b"}]}`},
			[]string{"pkg:pypi/tide-cast"}, ""},
		"pypi, other JSON": {"pypi", documents{"": `{"meta":{}}`}, nil, "lists none"},
		"pypi, nothing":    {"pypi", documents{"": ""}, nil, "cannot be read"},
		"nuget, two pages": {"nuget", documents{"index.json": entrance,
			fmt.Sprintf(search, 0): `{"totalHits":2,"data":[{"id":"Skerry.Link"}]}`,
			fmt.Sprintf(search, 1): `{"totalHits":2,"data":[{"id":"Bell"}]}`},
			[]string{"pkg:nuget/bell", "pkg:nuget/skerry.link"}, ""},
		"nuget without a search": {"nuget", documents{"index.json": `{"resources":[]}`}, nil, "offers no"},
		"cargo, two pages": {"cargo", documents{"config.json": `{"dl":"x","api":"https://old.example/"}`,
			fmt.Sprintf(crates, 1): `{"crates":[{"name":"hull"}],"meta":{"total":2}}`,
			fmt.Sprintf(crates, 2): `{"crates":[{"name":"bell"}],"meta":{"total":2}}`},
			[]string{"pkg:cargo/bell", "pkg:cargo/hull"}, ""},
		"cargo, an index alone": {"cargo", documents{"config.json": `{"dl":"x"}`}, nil, ""},
	} {
		e := slices.IndexFunc(All(), func(e ecosystem.Ecosystem) bool { return e.Name() == c.ecosystem })
		var got []string
		err := All()[e].(ecosystem.Enumerated).Enumerate(context.Background(), c.documents.ask, func(of purl.PURL) error {
			got = append(got, of.String())
			return nil
		})
		slices.Sort(got)
		if c.fails != "" && (err == nil || !strings.Contains(err.Error(), c.fails)) || c.fails == "" && err != nil {
			t.Errorf("%s: %v", what, err)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: it has %v", what, got)
		}
	}
}
