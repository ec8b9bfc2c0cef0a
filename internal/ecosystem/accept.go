package ecosystem

import (
	"net/http"
	"strconv"
	"strings"

	"crelvo/internal/core/fault"
)

// Acceptable is a part of an Accept header.
type Acceptable struct {
	Value  string
	Weight float64
}

// Accepted reads an Accept or Accept-Encoding header (RFC 9110, 12.4.2).
func Accepted(header string) (all []Acceptable) {
	for part := range strings.SplitSeq(header, ",") {
		value, parameters, _ := strings.Cut(part, ";")
		a := Acceptable{Value: strings.ToLower(strings.TrimSpace(value)), Weight: 1}
		for parameter := range strings.SplitSeq(parameters, ";") {
			if weight, ok := strings.CutPrefix(strings.ReplaceAll(parameter, " ", ""), "q="); ok {
				var err error
				if a.Weight, err = strconv.ParseFloat(weight, 64); err != nil {
					a.Weight = 0
				}
			}
		}
		all = append(all, a)
	}
	return all
}

// AcceptsGzip tells whether an Accept-Encoding header takes gzip.
func AcceptsGzip(header string) bool {
	for _, a := range Accepted(header) {
		if a.Value == "gzip" || a.Value == "*" {
			return a.Weight > 0
		}
	}
	return false
}

// RefuseInReason answers with an error for clients that show the reason phrase of
// the status line and nothing else. What they ask in passing keeps its
// connection.
func (c *Call) RefuseInReason(f *fault.Error) error {
	body, reason := f.Message+"\n", f.Sentences()
	if f.Hint != "" {
		body += f.Hint + "\n"
	}
	told := f.Code == "claimed" || f.Code == "removed" || f.Code == "wrong-address" // worth a connection
	if f.Kind == fault.NotFound && !told || f.Code == "sign-in-needed" {
		return c.String(f.Status(), body)
	}
	return c.SendReason(refusalStatus(f), reason, "text/plain; charset=utf-8", body)
}

// refusalStatus is the status of a refusal. To twine and nuget, 409 means that what
// they send is there already: told to skip what exists, they report it as done. So
// no other conflict is one.
func refusalStatus(f *fault.Error) int {
	if f.Kind == fault.Conflict && f.Code != "published-already" {
		return http.StatusUnprocessableEntity
	}
	return f.Status()
}
