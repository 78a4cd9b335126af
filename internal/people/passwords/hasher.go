package passwords

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"time"

	zxcvbn "github.com/ccojocar/zxcvbn-go"
	"golang.org/x/crypto/argon2"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

// The cost of one password hash (RFC 9106, section 4, its second recommended
// option scaled to the memory that a burst of sign-ins may take).
const (
	argonPasses  = 2
	argonMemory  = 19 << 10 // KiB
	argonThreads = 1
	argonSalt    = 16 // bytes
	argonKey     = 32 // bytes
)

// MinPassword is the fewest characters a password may have, MaxPassword the
// most bytes that are worth hashing.
const (
	MinPassword = 10
	MaxPassword = 1024
)

// Hasher computes password hashes, a bounded number at once. It remembers for a
// while which password was right for which hash, so that an instrument that signs
// in every minute stays cheap: as a keyed digest, which is worth nothing outside
// this process.
type Hasher struct {
	turns *source.Turns
	key   [32]byte

	mu    sync.Mutex
	right map[[sha256.Size]byte]time.Time // digests, and when the password was last hashed
}

// How long, and how many, right passwords are remembered.
const (
	remembered    = time.Hour
	maxRemembered = 10_000
)

// NewHasher makes a Hasher.
func NewHasher() *Hasher {
	// Half of the processors work for those who want in, whoever floods, and each takes 19 MiB.
	h := &Hasher{turns: source.NewTurns(max(1, runtime.GOMAXPROCS(0)/2), 0), right: map[[sha256.Size]byte]time.Time{}}
	rand.Read(h.key[:])
	return h
}

// digest is what is remembered of a password that was right for a hash.
func (h *Hasher) digest(hash, password keep.Secret) (sum [sha256.Size]byte) {
	mac := hmac.New(sha256.New, h.key[:])
	fmt.Fprintf(mac, "%d:%s%s", len(hash), hash.Reveal(), password.Reveal())
	mac.Sum(sum[:0])
	return sum
}

func (h *Hasher) knows(digest [sha256.Size]byte) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	at, known := h.right[digest]
	return known && time.Since(at) < remembered
}

func (h *Hasher) remember(digest [sha256.Size]byte) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.right) >= maxRemembered {
		clear(h.right)
	}
	h.right[digest] = time.Now()
}

func (h *Hasher) derive(ctx context.Context, password, salt []byte, memory, passes uint32, threads uint8, size uint32) ([]byte, error) {
	if err := h.turns.Take(ctx); err != nil {
		return nil, err
	}
	defer h.turns.GiveBack()
	return argon2.IDKey(password, salt, passes, memory, threads, size), nil
}

// Check says what is wrong with a new password, as a [*keep.FieldError].
func Check(password keep.Secret, account string) error {
	text := password.Reveal()
	switch {
	case len([]rune(text)) < MinPassword:
		return &keep.FieldError{Field: "password", Say: fmt.Sprintf("it needs at least %d characters: choose a longer one or have one generated", MinPassword)}
	case len(text) > MaxPassword:
		return &keep.FieldError{Field: "password", Say: fmt.Sprintf("it is longer than %d bytes", MaxPassword)}
	case strings.ContainsAny(text, "\r\n\x00"):
		return &keep.FieldError{Field: "password", Say: "it holds a line break or NUL, which FTP clients can't send"}
	}
	if s := Estimate(password, account); s.Score < leastScore {
		return &keep.FieldError{Field: "password", Say: "it is easily guessed (" + s.Say + "): choose another or have one generated"}
	}
	return nil
}

// leastScore is what a new password must reach: guessing it offline takes more than
// moments.
const leastScore = 2

// Strength is an estimate of how hard a password is to guess.
type Strength struct {
	Score int    `json:"score"` // 0, guessed at once, to 4, not to be guessed
	Say   string `json:"say"`
}

// maxEstimated bounds the estimate's work, characters: what comes after it only
// makes a password stronger.
const maxEstimated = 64

// Estimate says how hard a password is to guess for somebody who knows the
// account's name, common words and patterns, and has its hash.
func Estimate(password keep.Secret, account string) Strength {
	text := []rune(password.Reveal())
	text = text[:min(len(text), maxEstimated)]
	found := zxcvbn.PasswordStrength(string(text), append(strings.FieldsFunc(account, func(r rune) bool { return strings.ContainsRune("._-@+", r) }), account, "urbankeep"))
	say := []string{"guessed at once", "guessed in minutes", "guessed in hours to days", "hard to guess", "not to be guessed"}[found.Score]
	return Strength{found.Score, say}
}

// Hash makes the argon2id hash of a password in PHC form.
func (h *Hasher) Hash(ctx context.Context, password keep.Secret) (keep.Secret, error) {
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	key, err := h.derive(ctx, []byte(password.Reveal()), salt, argonMemory, argonPasses, argonThreads, argonKey)
	if err != nil {
		return "", err
	}
	b64 := base64.RawStdEncoding.EncodeToString
	return keep.Secret(fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonPasses, argonThreads, b64(salt), b64(key))), nil
}

// decoy is hashed against when there is no hash, so that an unknown name takes
// as long as a wrong password.
const decoy = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// Matches reports whether a password belongs to a hash. An empty hash matches
// nothing, in the same time.
func (h *Hasher) Matches(ctx context.Context, hash, password keep.Secret) (bool, error) {
	text := hash.Reveal()
	if text == "" {
		text = decoy
	}
	if len(password.Reveal()) > MaxPassword {
		password = password[:MaxPassword]
	}
	digest := h.digest(hash, password)
	if hash != "" && h.knows(digest) {
		return true, nil
	}
	if Brought(hash) {
		ok, err := h.matchesBrought(ctx, hash, password)
		return ok && err == nil, err
	}
	var version int
	var memory, passes uint32
	var threads uint8
	parts := strings.Split(text, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, fmt.Errorf("a stored password hash is not argon2id in PHC form")
	}
	if _, err := fmt.Sscanf(parts[2], "v=%d", &version); err != nil || version != argon2.Version {
		return false, fmt.Errorf("a stored password hash has an unknown version")
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil {
		return false, fmt.Errorf("a stored password hash has unreadable costs")
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false, fmt.Errorf("a stored password hash is damaged")
	}
	got, err := h.derive(ctx, []byte(password.Reveal()), salt, memory, passes, threads, uint32(len(want)))
	if err != nil {
		return false, err
	}
	ok := subtle.ConstantTimeCompare(got, want) == 1 && hash.Reveal() != ""
	if ok {
		h.remember(digest)
	}
	return ok, nil
}

// Generate makes a password of four groups of letters and digits that can't be
// mistaken for one another, about 99 bits.
func Generate() keep.Secret {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789" // no i, l, o, 0, 1
	var groups []string
	for range 4 {
		var group strings.Builder
		for group.Len() < 5 {
			b := make([]byte, 1)
			rand.Read(b)
			if int(b[0]) < 256/len(letters)*len(letters) { // no letter more likely than another
				group.WriteByte(letters[int(b[0])%len(letters)])
			}
		}
		groups = append(groups, group.String())
	}
	return keep.Secret(strings.Join(groups, "-"))
}
