package rights

import (
	"net/netip"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"crelvo/internal/core/fault"
	"crelvo/internal/service/act"
)

// brake slows down who tries passwords: after some failures in a row each
// further one makes an account at a place, or the place, wait twice as long. What
// others do elsewhere slows nobody down, so nobody can be kept out by it. Every node
// counts for itself. The waits are bounded.
type brake struct {
	mu       sync.Mutex
	accounts *lru.Cache[string, failures] // at a place
	places   *lru.Cache[string, failures]
}

type failures struct {
	times int
	last  time.Time
}

// placeOf is where somebody is: an address, or with the longer ones the network
// that one household has.
func placeOf(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil || a.Unmap().Is4() {
		return address
	}
	network, err := a.Prefix(64)
	if err != nil {
		return address
	}
	return network.String()
}

const (
	freeAccount, longestAccount = 5, 30 * time.Second
	freePlace, longestPlace     = 30, 2 * time.Minute
	// forgiveAfter is when failures are forgotten.
	forgiveAfter = 15 * time.Minute
)

func newBrake() *brake {
	return &brake{accounts: act.NewCache[string, failures](10_000), places: act.NewCache[string, failures](10_000)}
}

// wait is how long is to be waited after so many failures, the last one then.
func (f failures) wait(now time.Time, free int, longest time.Duration) time.Duration {
	if f.times < free {
		return 0
	}
	pause := longest
	if over := f.times - free; over < 10 {
		pause = min(time.Second<<over, longest)
	}
	return max(0, f.last.Add(pause).Sub(now))
}

// try counts an attempt as a failure, until succeeded says otherwise, so that
// attempts at the same time count as well; or it refuses it.
func (b *brake) try(account, place string, now time.Time) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	place = placeOf(place)
	account += " " + place
	of := func(all *lru.Cache[string, failures], key string) failures {
		f, _ := all.Get(key)
		if now.Sub(f.last) > forgiveAfter {
			f = failures{}
		}
		return f
	}
	a, p := of(b.accounts, account), of(b.places, place)
	pause := a.wait(now, freeAccount, longestAccount)
	if place != "" {
		pause = max(pause, p.wait(now, freePlace, longestPlace))
	}
	if pause > 0 {
		pause = pause.Truncate(time.Second) + time.Second
		f := fault.New(fault.TooMany, "slow-down", "too many wrong passwords; try again in %s", pause).
			WithHint("Tokens are not slowed down.")
		f.After = pause
		return f
	}
	b.accounts.Add(account, failures{a.times + 1, now})
	b.places.Add(place, failures{p.times + 1, now})
	return nil
}

// succeeded takes back what try counted.
func (b *brake) succeeded(account, place string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	place = placeOf(place)
	b.accounts.Remove(account + " " + place)
	if f, ok := b.places.Get(place); ok {
		f.times--
		b.places.Add(place, f)
	}
}
