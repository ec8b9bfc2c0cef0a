package rights

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

const (
	// sessionLength is how long a browser stays signed in.
	sessionLength = 12 * time.Hour
	// DefaultTokenLength is how long tokens last if nothing else is said.
	DefaultTokenLength = 90 * 24 * time.Hour
	// warnBefore is how long before its end a token is warned of at most; a short one
	// is in its last tenth.
	warnBefore = 7 * 24 * time.Hour
	// passwordMemory is how long a right password is not hashed again.
	passwordMemory = 5 * time.Minute
	minPassword    = 10
)

// EndsSoon tells whether somebody should see to a token by now.
func EndsSoon(created, ends, now time.Time) bool {
	return ends.Sub(now) < min(warnBefore, ends.Sub(created)/10)
}

// newSecret makes a secret: the prefix, 160 random bits and check digits.
func newSecret() string {
	var random [20]byte
	rand.Read(random[:])
	body := access.TokenPrefix + strings.ToLower(access.TokenText.EncodeToString(random[:]))
	return body + access.CheckDigits(body)
}

// knownCaller is a caller whose secret was found to be right.
type knownCaller struct {
	caller  access.Caller
	tokenID int64     // 0 for a password
	ends    time.Time // when the secret, or the trust in this entry, ends
	made    time.Time // of a token
}

// Origin is where a request comes from.
type Origin struct{ Address, UserAgent string }

func (o Origin) on(c access.Caller) access.Caller {
	c.Address, c.UserAgent = o.Address, o.UserAgent
	return c
}

// memoryKey is the key of a secret among the callers that are remembered. What is
// right as one kind of secret is nothing as another.
func memoryKey(kind, secret string) [32]byte { return sha256.Sum256([]byte(kind + "\x00" + secret)) }

// ByToken finds the caller who has a token. Who has none is put on record.
func (s *Rights) ByToken(ctx context.Context, secret string, from Origin) (access.Caller, error) {
	caller, who, err := s.callerOf(ctx, secret, from)
	var f *fault.Error
	if errors.As(err, &f) {
		return access.Caller{}, s.notIn(who, f)
	}
	return caller, err
}

// callerOf is ByToken without the record; who is as far as it is known then.
func (s *Rights) callerOf(ctx context.Context, secret string, from Origin) (caller, who access.Caller, err error) {
	who = from.on(access.Caller{})
	if strings.HasPrefix(secret, access.TokenPrefix) && !access.TokenWhole(secret) {
		return caller, who, fault.New(fault.Unknown, "token-damaged", "the token is damaged: its check digits do not fit").
			WithHint("Copy it again, whole and without spaces or line breaks.")
	}
	key := memoryKey("token", secret)
	generation, now := s.AccessAge(), s.Now()
	known, ok := s.callers.Get(key)
	if !ok || known.Generation != generation {
		t, p, err := s.DB.ByToken(ctx, sha256.Sum256([]byte(secret)))
		if errors.Is(err, record.ErrNotFound) {
			return caller, who, fault.New(fault.Unknown, "token-unknown", "this server does not know the token").
				WithHint("It may belong to another server, or have been removed; make one with crelvo token new.")
		}
		if err != nil {
			return caller, who, err
		}
		who.Name, who.Token = p.Name, t.Name
		if t.RevokedAt != nil {
			return caller, who, fault.New(fault.Unknown, "token-revoked", "the token %q of %s was revoked on %s",
				t.Name, p.Name, t.RevokedAt.UTC().Format(act.TimeForm)).WithHint("Make a new one with crelvo token new.")
		}
		if p.BlockedAt != nil {
			return caller, who, blocked(p)
		}
		c, err := CallerWith(p, t)
		if err != nil {
			return caller, who, err
		}
		known = act.Aged[knownCaller]{Value: knownCaller{c, t.ID, t.ExpiresAt, t.CreatedAt}, Generation: generation}
		s.callers.Add(key, known)
	}
	caller = from.on(known.Value.caller)
	caller.TokenEnds, caller.Generation = known.Value.ends, generation
	caller.TokenMade = known.Value.made
	if !now.Before(known.Value.ends) {
		return access.Caller{}, caller, fault.New(fault.Unknown, "token-ended", "the token %q of %s ended on %s",
			caller.Token, caller.Name, known.Value.ends.UTC().Format(act.TimeForm)).
			WithHint("Make a new one with crelvo token new.")
	}
	s.counting.TokenUsed(record.TokenUse{TokenID: known.Value.tokenID, At: now, From: from.Address,
		Client: from.UserAgent})
	return caller, caller, nil
}

// CallerWith is the caller that somebody is with a token.
func CallerWith(p record.Principal, t record.Token) (access.Caller, error) {
	c := CallerOf(p)
	c.Token = t.Name
	for _, text := range t.Only {
		pattern, err := purl.ParsePattern(text)
		if err != nil {
			return c, err
		}
		c.Only = append(c.Only, pattern)
	}
	for _, can := range t.Can {
		c.Can = append(c.Can, access.Action(can))
	}
	if len(t.On) > 0 {
		c.On = t.On
	}
	return c, nil
}

// notIn notes that somebody did not get in.
func (s *Rights) notIn(who access.Caller, f *fault.Error) error {
	s.Refused(who, "", "to get in", f)
	return f
}

func blocked(p record.Principal) *fault.Error {
	return fault.New(fault.Unknown, "blocked", "%s was blocked on %s", p.Name, p.BlockedAt.UTC().Format(act.TimeForm)).
		WithHint("An admin can let it in again.")
}

// Nobody is who did not sign in, with what everybody may do.
func (s *Rights) Nobody(ctx context.Context, from Origin) (access.Caller, error) {
	generation := s.AccessAge()
	if known := s.nobodys.Load(); known != nil && known.Generation == generation {
		return from.on(access.Caller{Grants: known.Value}), nil
	}
	grants, err := s.DB.GrantsOf(ctx, 0)
	if err != nil {
		return access.Caller{}, err
	}
	s.nobodys.Store(&act.Aged[[]access.Grant]{Value: grants, Generation: generation})
	return from.on(access.Caller{Grants: grants}), nil
}

// BySecret finds the caller of HTTP Basic: the secret is a token, or the
// password of the named user.
func (s *Rights) BySecret(ctx context.Context, name, secret string, from Origin) (access.Caller, error) {
	if strings.HasPrefix(secret, access.TokenPrefix) {
		return s.ByToken(ctx, secret, from)
	}
	// The token of the environment need not be of Crelvo's own making.
	if len(secret) >= minEnvironmentToken {
		// A password of that length is no token that was refused.
		if c, _, err := s.callerOf(ctx, secret, from); err == nil {
			return c, nil
		}
	}
	return s.byPassword(ctx, name, secret, from)
}

var wrongPassword = fault.New(fault.Unknown, "wrong-password", "the name or the password is wrong").
	WithHint("Package clients are best given a token; make one with crelvo token new.")

func (s *Rights) byPassword(ctx context.Context, name, password string, from Origin) (access.Caller, error) {
	key := memoryKey("password", name+"\x00"+password)
	generation, now := s.AccessAge(), s.Now()
	if known, ok := s.callers.Get(key); ok && known.Generation == generation && now.Before(known.Value.ends) {
		c := from.on(known.Value.caller)
		c.Generation = generation
		return c, nil
	}
	if !text.Fit(name, false) || len(name) > text.MaxName {
		name = "" // nobody has such a name; it is refused, slowed down and noted as any wrong one
	}
	// Many requests at once with one password are one attempt.
	tried, err, _ := s.trying.Do(string(key[:])+from.Address, func() (any, error) {
		return s.tryPassword(context.WithoutCancel(ctx), key, name, password, from)
	})
	if err != nil {
		return access.Caller{}, err
	}
	return from.on(tried.(access.Caller)), nil
}

// tryPassword is byPassword for a password that was not right lately.
func (s *Rights) tryPassword(
	ctx context.Context, key [32]byte, name, password string, from Origin,
) (access.Caller, error) {
	generation, now := s.AccessAge(), s.Now()
	who := from.on(access.Caller{Name: name})
	if err := s.brake.try(ctx, name, from.Address, now); fault.Is(err, fault.TooMany) {
		who.Name = "" // whether there is such a user was not looked up
		return access.Caller{}, s.notIn(who, fault.Of(err))
	} else if err != nil {
		return access.Caller{}, err
	}
	p, err := s.DB.Principal(ctx, name)
	if err != nil && !errors.Is(err, record.ErrNotFound) {
		return access.Caller{}, err
	}
	// For a name that nobody has, and for robots, which have no password, it is as
	// slow as for any other, so that names cannot be tried out.
	hash := p.PasswordHash
	if hash == "" {
		hash = s.nobodysHash
	}
	right := s.verifyPassword(ctx, hash, password) && p.PasswordHash != ""
	if p.ID == 0 {
		// Names can be made up without end: they are one attempt on record, by its
		// address, and leave room for those on who there is.
		who.Name = ""
	}
	if !right {
		return access.Caller{}, s.notIn(who, wrongPassword)
	}
	if err := s.brake.succeeded(ctx, name, from.Address); err != nil {
		return access.Caller{}, err
	}
	if p.BlockedAt != nil {
		return access.Caller{}, s.notIn(who, blocked(p))
	}
	c := CallerOf(p)
	c.Generation = generation
	s.callers.Add(key, act.Aged[knownCaller]{Value: knownCaller{caller: c, ends: now.Add(passwordMemory)},
		Generation: generation})
	return c, nil
}

func CallerOf(p record.Principal) access.Caller {
	return access.Caller{ID: p.ID, Name: p.Name, Robot: p.Kind == "robot", Grants: p.Grants}
}

// CallerNamed is the caller that a user or robot is; for the program itself,
// which needs no secret.
func (s *Rights) CallerNamed(ctx context.Context, name string) (access.Caller, error) {
	p, err := s.DB.Principal(ctx, name)
	return CallerOf(p), err
}

// SignIn starts a browser's session and returns its secret.
func (s *Rights) SignIn(
	ctx context.Context, name, password string, from Origin,
) (secret string, ends time.Time, err error) {
	caller, err := s.byPassword(ctx, name, password, from)
	if err != nil {
		return "", ends, err
	}
	secret = rand.Text() + rand.Text()
	now := s.Now()
	ends = now.Add(sessionLength)
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.AddSession(ctx, sha256.Sum256([]byte(secret)), caller.ID, now, ends, from.Address,
			from.UserAgent); err != nil {
			return err
		}
		return tx.Append(ctx, s.Event(caller, record.EventSignedIn))
	})
	return secret, ends, err
}

// SignInClient implements ecosystem.Desk: a package client signs in with a
// password, and gets a token of its own.
func (s *Rights) SignInClient(
	ctx context.Context, caller access.Caller, client, name, password string,
) (secret string, err error) {
	from := Origin{Address: caller.Address, UserAgent: caller.UserAgent}
	known, err := s.byPassword(ctx, name, password, from)
	if err != nil {
		return "", err
	}
	secret, _, err = s.AddToken(ctx, from.on(known), NewToken{Name: client + "-" + strings.ToLower(rand.Text()[:8])})
	return secret, err
}

// SignOutClient implements ecosystem.Desk.
func (s *Rights) SignOutClient(ctx context.Context, caller access.Caller) error {
	if caller.Token == "" {
		return fault.New(fault.Invalid, "no-token", "the request was not made with a token")
	}
	return s.RevokeToken(ctx, caller, "", caller.Token)
}

// BySession finds the caller of a browser's session; an anonymous one if it
// has ended.
func (s *Rights) BySession(ctx context.Context, secret string, from Origin) (access.Caller, error) {
	key := memoryKey("session", secret)
	generation, now := s.AccessAge(), s.Now()
	if known, ok := s.callers.Get(key); ok && known.Generation == generation && now.Before(known.Value.ends) {
		c := from.on(known.Value.caller)
		c.Generation = generation
		return c, nil
	}
	p, ends, err := s.DB.BySession(ctx, sha256.Sum256([]byte(secret)), now)
	if errors.Is(err, record.ErrNotFound) || err == nil && p.BlockedAt != nil {
		return s.Nobody(ctx, from)
	}
	if err != nil {
		return access.Caller{}, err
	}
	c := CallerOf(p)
	c.Generation = generation
	s.callers.Add(key, act.Aged[knownCaller]{Value: knownCaller{caller: c, ends: ends}, Generation: generation})
	return from.on(c), nil
}

// SignOut ends a browser's session.
func (s *Rights) SignOut(ctx context.Context, secret string) error {
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		return tx.EndSession(ctx, sha256.Sum256([]byte(secret)))
	})
}

// changeAccess runs a transaction about who may do what.
func (s *Rights) changeAccess(ctx context.Context, do func(tx *record.Tx) error) error {
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.Tell(ctx, record.Change{Kind: record.OfAccess}); err != nil {
			return err
		}
		return do(tx)
	})
}

// NewToken is what a new token is to be like.
type NewToken struct {
	For    string // the principal; "" for the caller
	Name   string
	Can    []access.Action // empty: all that its owner may
	On     []string        // repository patterns; empty: all
	Only   []string        // package patterns; empty: all
	Length time.Duration   // 0 for the default
}

// AddToken makes a token and returns its secret, which is not kept.
func (s *Rights) AddToken(
	ctx context.Context, caller access.Caller, n NewToken,
) (secret string, t record.Token, err error) {
	owner, err := s.tokenOwner(ctx, caller, n.For)
	if err != nil {
		return "", t, err
	}
	if err := act.CheckName("token", n.Name); err != nil {
		return "", t, err
	}
	if owner.PasswordGiven && owner.ID == caller.ID && caller.Token == "" {
		return "", t, fault.New(fault.Denied, "change-password-first",
			"the password of %s was given by somebody else, and is to be changed before it is good for a token", owner.Name).
			WithHint("Change it: crelvo user password.")
	}
	for _, can := range n.Can {
		if !slices.Contains(access.Actions, can) {
			return "", t, fault.New(fault.Invalid, "bad-action", "a token cannot be limited to %q", can).
				WithHint("Choose from read, publish, promote, remove and manage.")
		}
	}
	for _, on := range n.On {
		if !repositoriesForm(on) {
			return "", t, act.Invalid("bad-repositories", "%q is neither the name of a repository nor a pattern", on).
				WithHint("Write a name, or a pattern with * for any run of characters, such as shore-*.")
		}
	}
	if err := s.namedOnes(caller, n.On); err != nil {
		return "", t, err
	}
	if err := s.withinRights(CallerOf(owner), n); err != nil {
		return "", t, err
	}
	for _, only := range n.Only {
		if _, err := packagesPattern(only); err != nil {
			return "", t, err
		}
	}
	longest := s.Settings.LongestToken
	if n.Length == 0 {
		n.Length = min(DefaultTokenLength, longest)
	}
	if n.Length < 0 || n.Length > longest {
		return "", t, fault.New(fault.Invalid, "bad-expiry", "a token lasts at most %s on this server", daysOf(longest)).
			WithHint("Whoever runs the server can raise that (longest-token).")
	}
	now := s.Now()
	t = record.Token{PrincipalID: owner.ID, Name: n.Name, On: n.On, Only: n.Only, CreatedAt: now,
		ExpiresAt: now.Add(n.Length)}
	for _, can := range n.Can {
		t.Can = append(t.Can, string(can))
	}
	secret = newSecret()
	return secret, t, s.changeAccess(ctx, func(tx *record.Tx) error {
		id, ok, err := tx.AddToken(ctx, t, sha256.Sum256([]byte(secret)))
		if err != nil {
			return err
		}
		if !ok {
			return fault.New(fault.Conflict, "name-taken", "%s has a token %q already", owner.Name, n.Name).
				WithHint("Choose another name, or revoke that one first: crelvo token revoke %s.", n.Name)
		}
		t.ID = id
		event := s.Event(caller, record.EventTokenMade)
		event.Subject = owner.Name + "/" + n.Name
		event.Detail = map[string]string{"can": strings.Join(t.Can, ", "), "on": strings.Join(t.On, ", "),
			"only":  strings.Join(t.Only, ", "),
			"until": t.ExpiresAt.UTC().Format(act.TimeForm)}
		return tx.Append(ctx, event)
	})
}

// namedOnes checks that repositories that are named, and not meant by a pattern, are
// there.
func (s *Rights) namedOnes(caller access.Caller, on []string) error {
	for _, name := range on {
		if r, ok := s.directory.Known().ByName[name]; strings.Contains(name, "*") ||
			ok && (s.directory.Allow(caller, access.Read, access.Of(r)) == nil ||
				s.directory.Allow(caller, access.Publish, access.Of(r)) == nil) {
			continue
		}
		return fault.New(fault.NotFound, "no-such-repository", "there is no repository %q that you may read", name).
			WithHint("%sA pattern may fit what is not there yet.", s.directory.DidYouMean(caller, name))
	}
	return nil
}

// withinRights refuses a token for what its owner may nowhere do, where it would be
// good for.
func (s *Rights) withinRights(owner access.Caller, n NewToken) error {
	for _, can := range n.Can {
		may := can == access.Anyone || can == access.SignedIn || can == access.ManageSome ||
			s.directory.Allow(owner, can, act.Everything) == nil
		for _, r := range s.directory.Repositories() {
			inside := len(n.On) == 0 || slices.ContainsFunc(n.On, func(pattern string) bool {
				ok, err := path.Match(pattern, r.Name)
				return ok && err == nil
			})
			may = may || inside && access.Decide(owner, can, access.Of(r)).Allowed
		}
		if !may && !slices.ContainsFunc(n.On, func(pattern string) bool { return strings.Contains(pattern, "*") }) {
			return fault.New(fault.Invalid, "beyond-rights", "%s may not %s anything%s, so a token for that would be of no use",
				owner.Name, can, onText(n.On)).
				WithHint("Have the role granted first: crelvo grant add ROLE --to %s --on REPOSITORY.", owner.Name)
		}
	}
	return nil
}

func onText(on []string) string {
	if len(on) == 0 {
		return ""
	}
	return " on " + strings.Join(on, ", ")
}

// tokenOwner: tokens are made with a session or password, or with a token that
// is not limited; those of others by an admin.
func (s *Rights) tokenOwner(ctx context.Context, caller access.Caller, name string) (record.Principal, error) {
	if caller.Limited() {
		return record.Principal{}, fault.New(fault.Denied, "token-too-narrow",
			"the token %q is limited, so it cannot look after tokens", caller.Token).
			WithHint("Sign in with a password: crelvo login.")
	}
	if name == "" || name == caller.Name {
		if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
			return record.Principal{}, err
		}
		return s.DB.Principal(ctx, caller.Name)
	}
	refusal := s.directory.Allow(caller, access.Manage, act.Everything)
	if refusal != nil && s.directory.Allow(caller, access.Manage, access.Of(catalog.Repository{Name: name})) != nil {
		return record.Principal{}, refusal
	}
	p, err := s.DB.Principal(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return p, fault.New(fault.NotFound, "no-such-user", "there is no user or robot %q", name)
	}
	if err == nil && refusal != nil && !managesAllOf(caller, p) {
		err = refusal
	}
	return p, err
}

// managesAllOf tells whether a robot is that of an admin of a pattern which its name
// fits: one that may do nothing where the caller is no admin.
func managesAllOf(caller access.Caller, p record.Principal) bool {
	return p.Kind == "robot" && !slices.ContainsFunc(p.Grants, func(g access.Grant) bool {
		open := g.Holder == access.Everybody || g.Holder == access.Anonymous
		return !open && !access.Decide(caller, access.Manage, about(g)).Allowed
	})
}

// Tokens lists the tokens of the caller, or for an admin of somebody else.
func (s *Rights) Tokens(ctx context.Context, caller access.Caller, owner string) ([]record.Token, error) {
	p, err := s.tokenOwner(ctx, caller, owner)
	if err != nil {
		return nil, err
	}
	return s.DB.Tokens(ctx, p.ID)
}

// daysOf writes a length of time in whole days, if it is some.
func daysOf(d time.Duration) string {
	if days := d / (24 * time.Hour); days > 0 && d%(24*time.Hour) == 0 {
		return act.Plural(int64(days), "day")
	}
	return d.String()
}

// AllTokens lists the tokens of everybody, for an admin.
func (s *Rights) AllTokens(ctx context.Context, caller access.Caller) ([]record.OwnedToken, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.AllTokens(ctx)
}

// RevokeToken ends a token at once. Whoever comes with a token may end it.
func (s *Rights) RevokeToken(ctx context.Context, caller access.Caller, owner, name string) error {
	var p record.Principal
	var err error
	if owner == "" && caller.Token != "" && name == caller.Token {
		p, err = s.DB.Principal(ctx, caller.Name)
	} else {
		p, err = s.tokenOwner(ctx, caller, owner)
	}
	if err != nil {
		return err
	}
	return s.changeAccess(ctx, func(tx *record.Tx) error {
		done, err := tx.RevokeToken(ctx, p.ID, name, s.Now())
		if err != nil {
			return err
		}
		if !done {
			return fault.New(fault.NotFound, "no-such-token", "%s has no token %q", p.Name, name).
				WithHint("crelvo token list shows them.")
		}
		event := s.Event(caller, record.EventTokenRevoked)
		event.Subject = p.Name + "/" + name
		return tx.Append(ctx, event)
	})
}

func (s *Rights) Purge() { s.callers.Purge() }

func (s *Rights) Chores() []act.Chore {
	return []act.Chore{
		{Every: 2 * time.Second, What: "noting refusals", Do: s.noteRefusals, Last: true},
		{Every: time.Hour, What: "forgetting wrong passwords of before", Do: func(ctx context.Context) error {
			return s.DB.ForgetSignInFailures(ctx, s.Now().Add(-forgiveAfter))
		}},
	}
}
