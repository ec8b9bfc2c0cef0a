package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/test/house"
)

// wire is a line to a site that cuts, delays, truncates and refuses connections, as long as it is bad.
type wire struct {
	net.Listener
	bytes atomic.Int64 // that went over it, both ways together

	mu    sync.Mutex
	to    string
	torn  bool // nothing goes through
	bad   bool
	dice  *rand.Rand
	lines map[net.Conn]bool
}

// newWire lays a line, which is bad if there are dice.
func newWire(t *testing.T, to string, dice *rand.Rand) *wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &wire{Listener: l, bad: dice != nil, dice: dice, lines: map[net.Conn]bool{}}
	w.leadTo(to)
	t.Cleanup(func() {
		l.Close()
		w.set(false)
	})
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			go w.carry(from)
		}
	}()
	return w
}

// set makes the line bad, or good; what is open ends, as when somebody pulls a plug.
func (w *wire) set(bad bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.bad = bad
	for line := range w.lines {
		line.Close()
	}
}

// leadTo is where the line leads from now on.
func (w *wire) leadTo(address string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.to = strings.TrimPrefix(address, "http://")
}

// tear tears the line, with all that is underway, or mends it.
func (w *wire) tear(torn bool) {
	w.mu.Lock()
	w.torn = torn
	w.mu.Unlock()
	w.set(w.dice != nil)
}

// Write implements io.Writer: it counts.
func (w *wire) Write(p []byte) (int, error) {
	w.bytes.Add(int64(len(p)))
	return len(p), nil
}

// fate is what becomes of a connection: after how many bytes of each direction it ends, and how long each read waits.
func (w *wire) fate() (sent, got int64, wait time.Duration) {
	const all = 1 << 40
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.torn {
		return 0, 0, 0
	}
	if !w.bad {
		return all, all, 0
	}
	switch w.dice.IntN(6) {
	case 0:
		return 0, 0, 0
	case 1:
		return w.dice.Int64N(3000), all, 0
	case 2:
		return all, w.dice.Int64N(1000), 0
	case 3:
		return all, all, time.Duration(w.dice.IntN(200)) * time.Millisecond
	case 4:
		return all, w.dice.Int64N(10), 100 * time.Millisecond // done there, and nobody hears of it
	}
	return all, all, 0
}

func (w *wire) carry(from net.Conn) {
	defer from.Close()
	sent, got, wait := w.fate()
	if sent == 0 {
		return
	}
	w.mu.Lock()
	address := w.to
	w.mu.Unlock()
	to, err := net.Dial("tcp", address)
	if err != nil {
		return
	}
	defer to.Close()
	w.mu.Lock()
	w.lines[from], w.lines[to] = true, true
	w.mu.Unlock()
	ended := make(chan struct{}, 2)
	for _, way := range []struct {
		into, from net.Conn
		most       int64
	}{{to, from, sent}, {from, to, got}} {
		go func() {
			_, _ = io.CopyN(way.into, io.TeeReader(slow{way.from, wait}, w), way.most)
			ended <- struct{}{}
		}()
	}
	<-ended
	w.mu.Lock()
	delete(w.lines, from)
	delete(w.lines, to)
	w.mu.Unlock()
}

type slow struct {
	net.Conn
	wait time.Duration
}

func (s slow) Read(p []byte) (int, error) {
	time.Sleep(s.wait) // the delay of the line, which is what it is about
	return s.Conn.Read(p)
}

// sites are Crelvos that send each other what arrives, over bad lines.
type sites struct {
	t      *testing.T
	dice   *rand.Rand
	names  []string
	houses []*house.House
	wires  []*wire
	// is what must be everywhere in the end: the SHA-256 of what one site alone published, by its path; at is what
	// several published with other bytes, which stays at each as it published it.
	is map[string]string
	at []map[string]string
}

func newSites(t *testing.T, names ...string) *sites {
	t.Helper()
	s := &sites{t: t, names: names, dice: rand.New(rand.NewPCG(1, uint64(time.Now().UnixNano()))), is: map[string]string{}}
	for range names {
		h, _ := another(t)
		s.houses, s.at = append(s.houses, h), append(s.at, map[string]string{})
	}
	for i := range names {
		for j := range names {
			if i == j {
				continue
			}
			w := newWire(t, s.houses[j].Address, rand.New(rand.NewPCG(uint64(i), uint64(j))))
			s.wires = append(s.wires, w)
			c := s.desk(i)
			if err := c.SetTarget(t.Context(), api.NewTarget{Name: names[j], Ecosystem: "npm",
				URL: "http://" + w.Addr().String() + "/at/yard/npm/", Secret: house.Token}); err != nil {
				t.Fatal(err)
			}
			if _, err := c.AddRelay(t.Context(), api.NewRelay{Name: names[j], Repository: "yard", Target: names[j],
				Anyway: true}); err != nil {
				t.Fatal(err)
			}
		}
	}
	return s
}

func (s *sites) desk(i int) *client.Client {
	return &client.Client{Server: s.houses[i].Address, Token: house.Token, Agent: "crelvo-tests"}
}

// publish publishes a version at a site; sum is "" if that has it from elsewhere since a moment ago, with other bytes.
func (s *sites) publish(i int, p madeup.Package) (path, sum string) {
	s.t.Helper()
	content := p.NPM()
	path = "/at/yard/npm/" + p.Name + "/-/" + p.Name + "-" + p.Version + ".tgz"
	a, err := s.houses[i].Ask(s.t.Context(), http.MethodPut, "/at/yard/npm/"+p.Name, house.Token,
		strings.NewReader(string(p.NPMDocument("latest", content))))
	if err == nil && a.Status == 403 && strings.Contains(string(a.Body), "published-already") && s.sum(i, path) != "" {
		return path, ""
	}
	if err != nil || a.Status != 200 && a.Status != 201 {
		s.t.Fatalf("publishing %s at %s: %d %s %v", p.Version, s.names[i], a.Status, a.Body, err)
	}
	digest := sha256.Sum256(content)
	return path, hex.EncodeToString(digest[:])
}

// sum is the SHA-256 of what a site has at a path; "" if it has nothing.
func (s *sites) sum(i int, path string) string {
	s.t.Helper()
	a, err := s.houses[i].Ask(s.t.Context(), http.MethodGet, path, house.Token, nil)
	if err != nil || a.Status != 200 && a.Status != 404 {
		s.t.Fatalf("%s at %s: %d %v", path, s.names[i], a.Status, err)
	}
	if a.Status == 404 {
		return ""
	}
	digest := sha256.Sum256(a.Body)
	return hex.EncodeToString(digest[:])
}

// lacks is something that a site has not as it must have it in the end; "" if there is no such thing.
func (s *sites) lacks() string {
	for i := range s.houses {
		for path, is := range s.is {
			if got := s.sum(i, path); got != is {
				return fmt.Sprintf("%s has %q of %s, and it is %s", s.names[i], got, path, is)
			}
		}
		if got, is := s.labels(i), s.labels(0); got != is {
			return fmt.Sprintf("%s has the labels %s, and %s has %s", s.names[i], got, s.names[0], is)
		}
	}
	return ""
}

// labels are those of all packages at a site that nobody published differently.
func (s *sites) labels(i int) (all string) {
	s.t.Helper()
	for n := range 5 {
		var document struct {
			DistTags map[string]string `json:"dist-tags"`
		}
		a, err := s.houses[i].Ask(s.t.Context(), http.MethodGet, fmt.Sprintf("/at/yard/npm/gauge-%d", n), house.Token, nil)
		if err == nil && a.Status == 200 {
			err = json.Unmarshal(a.Body, &document)
		}
		if err != nil {
			s.t.Fatal(err)
		}
		all += fmt.Sprint(document.DistTags)
	}
	return all
}

// TestSites: what is published at any of three sites, while the lines between them are bad, is at all of them in
// the end, once, as it was published, without anybody's help; what two published differently each keeps, and the
// relay tells of it. CRELVO_SOAK=1 does it for half an hour.
func TestSites(t *testing.T) {
	t.Parallel()
	s := newSites(t, "north", "south", "mainland")
	lasts := time.Minute
	if os.Getenv("CRELVO_SOAK") != "" {
		lasts = 30 * time.Minute
	}
	end, n := time.Now().Add(lasts), 0
	for time.Now().Before(end) {
		n++
		i := s.dice.IntN(len(s.houses))
		p := madeup.Package{Name: fmt.Sprintf("gauge-%d", s.dice.IntN(5)), Version: fmt.Sprintf("1.%d.0", n), Licence: "MIT"}
		switch s.dice.IntN(12) {
		case 0: // two sites, two opinions
			p.Name = "opinion"
			for _, i := range s.dice.Perm(len(s.houses))[:2] {
				p.Description = s.names[i]
				if path, sum := s.publish(i, p); sum != "" { // else the other's came already
					s.at[i][path] = sum
				}
			}
		case 1: // the plug is pulled
			s.wires[s.dice.IntN(len(s.wires))].set(true)
		default:
			path, sum := s.publish(i, p)
			if sum == "" {
				t.Fatalf("somebody else published %s %s", p.Name, p.Version)
			}
			s.is[path] = sum
		}
		time.Sleep(time.Duration(s.dice.IntN(200)) * time.Millisecond) // people are not faster
	}
	for _, w := range s.wires {
		w.set(false)
	}
	lacks := ""
	healed := time.Now()
	eventually(t, 6*time.Minute, "all sites to be in step", func() bool {
		lacks = s.lacks()
		return lacks == ""
	})
	t.Logf("%d versions of %d publications are everywhere %v after the lines were good again", len(s.is), n,
		time.Since(healed).Round(time.Millisecond))
	opinions := 0
	for i := range s.houses {
		for path, sum := range s.at[i] {
			opinions++
			if got := s.sum(i, path); got != sum {
				t.Errorf("what %s published at %s is something else now", s.names[i], path)
			}
		}
	}
	eventually(t, 6*time.Minute, "the relays to be done", func() bool {
		for i := range s.houses {
			all, err := s.desk(i).Relays(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range all {
				if r.Waiting > 0 {
					return false
				}
			}
		}
		return true
	})
	told := 0
	for i := range s.houses {
		all, err := s.desk(i).Relays(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range all {
			told += r.Failed
		}
	}
	if opinions > 1 && told == 0 {
		t.Errorf("of %d versions that two published differently, nobody tells", opinions)
	}
}
