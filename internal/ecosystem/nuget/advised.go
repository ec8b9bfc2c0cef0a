package nuget

import (
	"encoding/json"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
)

// doorAdvised is where the clients ask for known vulnerabilities
// (https://learn.microsoft.com/nuget/api/vulnerability-info).
const doorAdvised = "vulnerabilities/"

// advisoriesChanged is when an advisory changed last; zero where none is known.
func advisoriesChanged(c *ecosystem.Call) (time.Time, error) {
	if desk, ok := c.Desk.(ecosystem.Adviser); ok {
		return desk.AdvisoriesChanged(c.Request().Context())
	}
	return time.Time{}, nil
}

// advisedPage is one page of what is known; there is only one, whose address changes with it.
type advisedPage struct {
	Name    string    `json:"@name"`
	ID      string    `json:"@id"`
	Updated time.Time `json:"@updated"`
	Comment string    `json:"comment"`
}

// advised is a range of versions of a package that an advisory is about.
type advised struct {
	URL      string `json:"url"`
	Severity int    `json:"severity"`
	Versions string `json:"versions"`
}

// getAdvised answers with the list of pages, and with the page: the advisories of each package,
// by its id in small letters. It is written as it is read.
func getAdvised(c *ecosystem.Call) error {
	changed, err := advisoriesChanged(c)
	if err != nil {
		return err
	}
	desk, ok := c.Desk.(ecosystem.Adviser)
	if !ok || changed.IsZero() {
		return missing(c)
	}
	switch strings.TrimPrefix(c.Rest, doorAdvised) {
	case "index.json":
		c.Response().Header().Set("Cache-Control", "no-cache")
		return c.JSON(http.StatusOK, []advisedPage{{Name: "all", Updated: changed.UTC(), Comment: "all that is known",
			ID: c.Base() + doorAdvised + "all.json?changed=" + strconv.FormatInt(changed.UnixNano(), 36)}})
	case "all.json":
	default:
		return missing(c)
	}
	h := c.Response().Header()
	h.Set("Content-Type", "application/json")
	h.Set("Cache-Control", "no-cache")
	if c.Request().Method == http.MethodHead {
		return c.NoContent(http.StatusOK)
	}
	w := io.Writer(c.Response())
	name, between := "", "{"
	err = desk.AdvisedIn(c.Request().Context(), Name, func(k safety.Known) error {
		for _, one := range advisedOf(c, k) {
			raw, err := json.Marshal(one)
			if err != nil {
				return err
			}
			text := "," + string(raw)
			if k.Package.Name != name {
				text = between + strconv.Quote(strings.ToLower(k.Package.Name)) + ":[" + string(raw)
				name, between = k.Package.Name, "],"
			}
			if _, err := io.WriteString(w, text); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	end := "{}"
	if name != "" {
		end = "]}"
	}
	_, err = io.WriteString(w, end)
	return err
}

// advisedOf writes what an advisory says in the clients' own form, a range for each stretch.
func advisedOf(c *ecosystem.Call, k safety.Known) (all []advised) {
	severity := map[safety.Severity]int{safety.None: 0, safety.Low: 0, safety.Medium: 1, safety.Unknown: 1, safety.High: 2,
		safety.Critical: 3}[k.Finding().Rating.Severity]
	if safety.Malicious(k.ID) {
		severity = 3
	}
	add := func(versions string) { all = append(all, advised{c.AdvisoryPage(k.ID), severity, versions}) }
	for _, r := range k.Ranges {
		for _, s := range r.Stretches() {
			from, to := "(, ", s.To+")"
			if s.From != "" {
				from = "[" + s.From + ", "
			}
			if s.ToIt {
				to = s.To + "]"
			}
			add(from + to)
		}
	}
	for _, v := range k.Versions {
		add("[" + v + "]")
	}
	return all
}
