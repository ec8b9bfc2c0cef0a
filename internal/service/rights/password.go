package rights

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
)

// The parameters of argon2id (RFC 9106) that new passwords are hashed with.
const (
	argonMemory  = 19 << 10 // KiB
	argonTime    = 2
	argonThreads = 1
	argonKey     = 32
)

var hashText = base64.RawStdEncoding

// hashPassword gives a PHC string.
func hashPassword(password string) string {
	var salt [16]byte
	rand.Read(salt[:])
	key := argon2.IDKey([]byte(password), salt[:], argonTime, argonMemory, argonThreads, argonKey)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		hashText.EncodeToString(salt[:]), hashText.EncodeToString(key))
}

// verifyPassword compares a password with a PHC string. Few run at a time, since
// each takes memory.
func (s *Rights) verifyPassword(ctx context.Context, phc, password string) bool {
	select {
	case s.hashing <- struct{}{}:
		defer func() { <-s.hashing }()
	case <-ctx.Done():
		return false
	}
	var version, threads int
	var memory, passes uint32
	var rest string
	if _, err := fmt.Sscanf(phc, "$argon2id$v=%d$m=%d,t=%d,p=%d$%s", &version, &memory, &passes, &threads,
		&rest); err != nil {
		return false
	}
	saltText, keyText, ok := strings.Cut(rest, "$")
	if !ok {
		return false
	}
	salt, err1 := hashText.DecodeString(saltText)
	key, err2 := hashText.DecodeString(keyText)
	if errors.Join(err1, err2) != nil {
		return false
	}
	computed := argon2.IDKey([]byte(password), salt, passes, memory, uint8(threads), uint32(len(key)))
	return subtle.ConstantTimeCompare(computed, key) == 1
}

// minEnvironmentToken is the least length of a token that the environment gives.
const minEnvironmentToken = 20

const environmentToken = "from-environment"

// FirstSignIn is what came of Bootstrap.
type FirstSignIn struct {
	Name, Password string // Password is "" if there is nothing new to tell
}

// Bootstrap makes the first user, admin. The password and the token are taken
// from the environment if given; else a password is generated, once. Given
// ones are set at every start.
func (s *Rights) Bootstrap(ctx context.Context, password, token string) (FirstSignIn, error) {
	const name = "admin"
	if password != "" && len(password) < minPassword {
		return FirstSignIn{}, fault.New(fault.Invalid, "weak-password", "CRELVO_ADMIN_PASSWORD is shorter than %d characters",
			minPassword)
	}
	if token != "" && len(token) < minEnvironmentToken {
		return FirstSignIn{}, fault.New(fault.Invalid, "weak-token", "CRELVO_ADMIN_TOKEN is shorter than %d characters",
			minEnvironmentToken)
	}
	var first FirstSignIn
	any, err := s.DB.AnyPrincipal(ctx)
	if err != nil {
		return first, err
	}
	if !any {
		set := password
		if set == "" && token == "" {
			set = rand.Text()
			first = FirstSignIn{Name: name, Password: set}
		}
		if err := s.AddPrincipal(ctx, Bootstrapper, NewPrincipal{Name: name, Password: set, Given: first.Password != "",
			Grants: []access.Grant{{Role: access.Admin, Repositories: "*"}}}); err != nil {
			return first, err
		}
	}
	admin, err := s.DB.Principal(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return first, nil // renamed or removed; the environment does not bring it back
	}
	if err != nil {
		return first, err
	}
	return first, s.changeAccess(ctx, func(tx *record.Tx) error {
		if password != "" && !s.verifyPassword(ctx, admin.PasswordHash, password) {
			if err := tx.SetPassword(ctx, admin.ID, hashPassword(password), false); err != nil {
				return err
			}
			if _, err := tx.EndSessions(ctx, admin.ID, [32]byte{}); err != nil {
				return err
			}
		}
		if token == "" {
			return nil // other nodes may have one; crelvo token revoke ends it for all
		}
		now := s.Now()
		if _, err := tx.RevokeToken(ctx, admin.ID, environmentToken, now); err != nil {
			return err
		}
		return tx.PutToken(ctx, record.Token{PrincipalID: admin.ID, Name: environmentToken, CreatedAt: now,
			ExpiresAt: now.Add(10 * 365 * 24 * time.Hour)}, sha256.Sum256([]byte(token)))
	})
}
