package passwords

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/go-crypt/crypt"
	"github.com/go-crypt/crypt/algorithm"
	"github.com/go-crypt/crypt/algorithm/pbkdf2"
	"github.com/go-crypt/crypt/algorithm/shacrypt"
	"github.com/go-crypt/x/yescrypt"
	"golang.org/x/crypto/bcrypt"

	"urbankeep/internal/keep"
)

// Hashes that accounts bring from elsewhere are verified as they are, and turned into argon2id at the first sign-in.

// What one verification may cost: a second or so, and 64 MiB.
const (
	maxSHARounds    = 1_000_000
	maxPBKDF2Rounds = 2_000_000
	maxBcryptCost   = 14
	maxYescryptN    = 14 // the logarithm to base 2, for blocks of 4 KiB
	maxHashText     = 500
)

// broughtForms are the forms there are, by how they begin.
var broughtForms = []struct {
	prefix  string
	cost    func(parts []string) bool
	matches func(text string, password []byte) (bool, error)
}{
	{"$5$", shaCost, decoded(shacrypt.RegisterDecoder)},
	{"$6$", shaCost, decoded(shacrypt.RegisterDecoder)},
	{"$y$", yescryptCost, func(text string, password []byte) (bool, error) {
		got, err := yescrypt.Hash(password, []byte(text))
		return subtle.ConstantTimeCompare(got, []byte(text)) == 1, err
	}},
	{"$2a$", bcryptCost, bcryptMatches},
	{"$2b$", bcryptCost, bcryptMatches},
	{"$2y$", bcryptCost, bcryptMatches},
	{"$pbkdf2$", pbkdf2Cost, decoded(pbkdf2.RegisterDecoder)},
	{"$pbkdf2-sha256$", pbkdf2Cost, decoded(pbkdf2.RegisterDecoder)},
	{"$pbkdf2-sha512$", pbkdf2Cost, decoded(pbkdf2.RegisterDecoder)},
}

func decoded(register func(algorithm.DecoderRegister) error) func(string, []byte) (bool, error) {
	return func(text string, password []byte) (bool, error) {
		decoder := crypt.NewDecoder()
		if err := register(decoder); err != nil {
			return false, err
		}
		digest, err := decoder.Decode(text)
		if err != nil {
			return false, err
		}
		return digest.MatchBytesAdvanced(password)
	}
}

func bcryptMatches(text string, password []byte) (bool, error) {
	err := bcrypt.CompareHashAndPassword([]byte(text), password)
	if errors.Is(err, bcrypt.ErrMismatchedHashAndPassword) {
		return false, nil
	}
	return err == nil, err
}

func below(text string, most int) bool {
	n, err := strconv.Atoi(text)
	return err == nil && n > 0 && n <= most
}

func shaCost(parts []string) bool {
	if len(parts[len(parts)-1]) != map[string]int{"5": 43, "6": 86}[parts[1]] {
		return false
	}
	rounds, given := strings.CutPrefix(parts[2], "rounds=")
	return len(parts) == 4 && !given || len(parts) == 5 && given && below(rounds, maxSHARounds)
}

func bcryptCost(parts []string) bool {
	return len(parts) == 4 && len(parts[3]) == 53 && below(strings.TrimPrefix(parts[2], "0"), maxBcryptCost)
}

func pbkdf2Cost(parts []string) bool { return len(parts) == 5 && below(parts[2], maxPBKDF2Rounds) }

// yescryptDigits are those of its numbers, each of which is one more than its place.
const yescryptDigits = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

func yescryptCost(parts []string) bool {
	return len(parts) == 5 && len(parts[2]) == 3 && parts[2][0] == 'j' && strings.IndexByte(yescryptDigits, parts[2][1]) < maxYescryptN && strings.IndexByte(yescryptDigits, parts[2][2]) < 32
}

// CheckHash says what is wrong with a password hash that an account brings, as a [*keep.FieldError]. Its forms are those of
// crypt(3) (SHA-256, SHA-512, yescrypt, bcrypt), and PBKDF2 in the form of PHC.
func CheckHash(hash keep.Secret) error {
	text := hash.Reveal()
	bad := &keep.FieldError{Field: "password-hash", Say: "that form is not known, or would take too long: $5$, $6$, $y$, $2b$ and $pbkdf2-sha256$ are"}
	if len(text) > maxHashText {
		return bad
	}
	for _, form := range broughtForms {
		if !strings.HasPrefix(text, form.prefix) {
			continue
		}
		if parts := strings.Split(text, "$"); len(parts) < 4 || !form.cost(parts) {
			return bad
		}
		if _, err := form.matches(text, []byte("a password that is not it")); err != nil {
			return &keep.FieldError{Field: "password-hash", Say: "it is damaged: " + err.Error()}
		}
		return nil
	}
	return bad
}

// Brought reports whether a hash is not one of ours.
func Brought(hash keep.Secret) bool {
	return hash != "" && !strings.HasPrefix(hash.Reveal(), "$argon2id$")
}

// matchesBrought is Matches for a hash that an account brought.
func (h *Hasher) matchesBrought(ctx context.Context, hash, password keep.Secret) (bool, error) {
	for _, form := range broughtForms {
		if strings.HasPrefix(hash.Reveal(), form.prefix) {
			if err := h.turns.Take(ctx); err != nil {
				return false, err
			}
			defer h.turns.GiveBack()
			return form.matches(hash.Reveal(), []byte(password.Reveal()))
		}
	}
	return false, fmt.Errorf("a stored password hash has an unknown form")
}
