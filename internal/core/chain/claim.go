package chain

import (
	"fmt"
	"strings"
	"time"

	"crelvo/internal/core/purl"
)

// Claim is a pattern of names that are ours, or, if it is lifted, of names that
// are not, although they were published here.
type Claim struct {
	Pattern purl.Pattern
	Lifted  bool
	Reason  string
	By      string
	At      time.Time
}

// Ours tells why a name is ours, so that no mirror answers for it; "" if it is
// not. publishedIn are the house members of the chain that have ever published
// it. A lift counts for more than a claim.
func Ours(claims []Claim, name purl.PURL, publishedIn []string) string {
	name.Version = ""
	why := ""
	for _, c := range claims {
		if !c.Pattern.MatchName(name) {
			continue
		}
		if c.Lifted {
			return ""
		}
		why = fmt.Sprintf("claimed by %s (%s: %s)", c.Pattern, c.By, c.Reason)
	}
	if why == "" && len(publishedIn) > 0 {
		why = "published in " + strings.Join(publishedIn, " and ")
	}
	return why
}
