package pypi

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"

	"golang.org/x/net/html"

	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Enumerate implements ecosystem.Enumerated, by the page of all projects, in either form (PEP 503, PEP 691).
func (y PyPI) Enumerate(_ context.Context, ask ecosystem.Asking, each func(of purl.PURL) error) error {
	path, _ := y.Root()
	r, closer, err := ask(ecosystem.Asked{Path: path, Accept: y.Accepts()})
	if err != nil {
		return err
	}
	defer closer.Close()
	body := bufio.NewReader(r)
	first, err := body.Peek(1)
	if err != nil {
		return errors.Join(errors.New("its page of all projects cannot be read"), err)
	}
	project := func(name string) error {
		if name = purl.NormalName(Name, name); name == "" || strings.ContainsAny(name, "/?#") {
			return nil
		}
		return each(purl.PURL{Ecosystem: Name, Name: name})
	}
	if first[0] == '{' {
		return projectsInJSON(body, project)
	}
	return projectsInHTML(body, project)
}

func projectsInJSON(r io.Reader, project func(name string) error) error {
	d := json.NewDecoder(r)
	if token, err := d.Token(); err != nil || token != json.Delim('{') {
		return errors.Join(errors.New("its page of all projects is no object"), err)
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		if key != "projects" {
			var other json.RawMessage
			if err := d.Decode(&other); err != nil {
				return err
			}
			continue
		}
		if token, err := d.Token(); err != nil || token != json.Delim('[') {
			return errors.Join(errors.New("its projects are no list"), err)
		}
		for d.More() {
			var p struct {
				Name string `json:"name"`
			}
			if err := d.Decode(&p); err != nil {
				return err
			}
			if err := project(p.Name); err != nil {
				return err
			}
		}
		return nil
	}
	return errors.New("its page of all projects lists none")
}

// projectsInHTML reads the names from where the links lead, since their texts may be written in any way.
func projectsInHTML(r io.Reader, project func(name string) error) error {
	for tokens := html.NewTokenizer(r); ; {
		switch tokens.Next() {
		case html.ErrorToken:
			if err := tokens.Err(); err != io.EOF {
				return fmt.Errorf("its page of all projects cannot be read: %w", err)
			}
			return nil
		case html.StartTagToken:
			token := tokens.Token()
			if token.Data != "a" {
				continue
			}
			for _, a := range token.Attr {
				u, err := url.Parse(a.Val)
				if a.Key != "href" || err != nil {
					continue
				}
				path := strings.TrimSuffix(u.Path, "/")
				if err := project(path[strings.LastIndexByte(path, '/')+1:]); err != nil {
					return err
				}
			}
		}
	}
}
