package signin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"math/big"
	"sync"
	"time"

	"urbankeep/internal/keep"
)

const (
	// codeDigits is how long a code is, mailedFor how long one that was mailed is good, mailedPace how often one is mailed to
	// the same account, and maxMailed how many may be open.
	codeDigits = 6
	mailedFor  = 10 * time.Minute
	mailedPace = time.Minute
	maxMailed  = 2000
	// maxWrong is how often a mailed code may be guessed at.
	maxWrong = 5
)

// mailed are codes that were mailed and not used yet, by account.
type mailed struct {
	mu   sync.Mutex
	open map[int64]*mailedCode
}

type mailedCode struct {
	digest []byte
	sent   time.Time
	wrong  int
	used   bool
}

func (m *mailedCode) good(now time.Time) bool {
	return m != nil && !m.used && m.wrong < maxWrong && now.Sub(m.sent) < mailedFor
}

// waits reports whether a code was mailed that can be used.
func (m *mailed) waits(account int64) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.open[account].good(time.Now())
}

// next makes a code to be mailed; "" when one was mailed a moment ago, or too many are open.
func (m *mailed) next(account int64) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := time.Now()
	if one := m.open[account]; one != nil && now.Sub(one.sent) < mailedPace {
		return ""
	}
	for of, one := range m.open {
		if now.Sub(one.sent) >= mailedFor {
			delete(m.open, of)
		}
	}
	if m.open == nil {
		m.open = map[int64]*mailedCode{}
	}
	if len(m.open) >= maxMailed {
		return ""
	}
	number, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return ""
	}
	code := fmt.Sprintf("%0*d", codeDigits, number)
	m.open[account] = &mailedCode{digest: digest(keep.Secret(code)), sent: now}
	return code
}

// spend takes a code, which works once.
func (m *mailed) spend(account int64, code string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	one := m.open[account]
	if !one.good(time.Now()) {
		return false
	}
	if subtle.ConstantTimeCompare(one.digest, digest(keep.Secret(plainCode(code)))) != 1 {
		one.wrong++
		return false
	}
	one.used = true
	return true
}

// forget drops a code that could not be mailed.
func (m *mailed) forget(account int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.open, account)
}

// byMail mails a code to the account's address, and takes it.
func (a *Accounts) byMail(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time) error {
	if t.Code != "" {
		if a.mailed.spend(account.ID, t.Code) {
			return nil
		}
		return a.fail(ctx, v, account.Name, started, keep.BadCredentials, "wrong one-time code", nil)
	}
	if code := a.mailed.next(account.ID); code != "" {
		if err := a.SendCode(ctx, account, code); err != nil {
			a.mailed.forget(account.ID)
			return a.fail(ctx, v, account.Name, started, keep.Failure, "the one-time code can't be mailed: "+err.Error(), err)
		}
	}
	return a.ask(v, account.Name, keep.Refuse(keep.CodeNeeded, "the password is right; type the code that was mailed to you, too"))
}
