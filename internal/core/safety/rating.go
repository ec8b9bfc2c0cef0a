package safety

import (
	"cmp"
	"fmt"
	"math"
	"strings"

	cvss20 "github.com/pandatix/go-cvss/20"
	cvss30 "github.com/pandatix/go-cvss/30"
	cvss31 "github.com/pandatix/go-cvss/31"
	cvss40 "github.com/pandatix/go-cvss/40"
)

// Severity is how bad something is, in the words of CVSS
// (https://www.first.org/cvss/v4.0/specification-document, section 6).
type Severity int

// The severities, from the least to the worst. Unknown is that nobody said.
const (
	Unknown Severity = iota
	None
	Low
	Medium
	High
	Critical
)

var severities = []string{"unknown", "none", "low", "medium", "high", "critical"}

// String is the severity in a word.
func (s Severity) String() string { return severities[s] }

// MarshalText implements encoding.TextMarshaler.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Severity) UnmarshalText(word []byte) (err error) {
	*s, err = ParseSeverity(string(word))
	return err
}

// SeverityWords are the words of ParseSeverity that say how bad something is.
func SeverityWords() []string { return severities[Low:] }

// ParseSeverity reads a word; MODERATE, as some databases say, is medium.
func ParseSeverity(word string) (Severity, error) {
	word = strings.ToLower(word)
	if word == "moderate" {
		word = "medium"
	}
	for s, w := range severities {
		if w == word {
			return Severity(s), nil
		}
	}
	return Unknown, fmt.Errorf("%q is no severity; it is one of %s", word, strings.Join(SeverityWords(), ", "))
}

// Rating is how bad something is, and where a vector says so, by how much.
type Rating struct {
	Severity Severity `json:"severity,omitempty"`
	Score    float64  `json:"score,omitempty"`  // 0 to 10
	Vector   string   `json:"vector,omitempty"` // by CVSS; "" where only a word was given
}

// Or is the worse of two ratings; of those that are as bad, the first.
func (r Rating) Or(other Rating) Rating {
	if cmp.Or(cmp.Compare(other.Severity, r.Severity), cmp.Compare(other.Score, r.Score)) > 0 {
		return other
	}
	return r
}

// String is the rating for people: high (8.1).
func (r Rating) String() string {
	if r.Vector == "" {
		return r.Severity.String()
	}
	return fmt.Sprintf("%s (%.1f)", r.Severity, r.Score)
}

// RateCVSS computes the score of a vector of CVSS 2.0, 3.0, 3.1 or 4.0: by what is in it of
// base, threat and environment.
func RateCVSS(vector string) (Rating, error) {
	if len(vector) > 1000 {
		return Rating{}, fmt.Errorf("a CVSS vector of %d characters is none", len(vector))
	}
	var score float64
	switch {
	case strings.HasPrefix(vector, "CVSS:4.0/"):
		v, err := cvss40.ParseVector(vector)
		if err != nil {
			return Rating{}, err
		}
		score = v.Score()
	case strings.HasPrefix(vector, "CVSS:3.1/"):
		v, err := cvss31.ParseVector(vector)
		if err != nil {
			return Rating{}, err
		}
		score = v.EnvironmentalScore()
	case strings.HasPrefix(vector, "CVSS:3.0/"):
		v, err := cvss30.ParseVector(vector)
		if err != nil {
			return Rating{}, err
		}
		score = v.EnvironmentalScore()
	default:
		v, err := cvss20.ParseVector(strings.Trim(vector, "()"))
		if err != nil {
			return Rating{}, err
		}
		score = v.BaseScore()
	}
	score = math.Round(score*10) / 10
	return Rating{Severity: ofScore(score), Score: score, Vector: vector}, nil
}

// ofScore is the word for a score, by the qualitative scale of CVSS 3 and 4.
func ofScore(score float64) Severity {
	switch {
	case score <= 0:
		return None
	case score < 4:
		return Low
	case score < 7:
		return Medium
	case score < 9:
		return High
	}
	return Critical
}
