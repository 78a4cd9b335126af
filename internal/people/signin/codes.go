package signin

import (
	"bytes"
	"context"
	"crypto/rand"
	"image/png"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
	"github.com/pquerna/otp/totp"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

const (
	// codeStep is how long a one-time code is shown (RFC 6238, section 5.2), seconds.
	codeStep = 30
	// codeDrift is how many steps a clock may be ahead or behind.
	codeDrift = 1
	// codeSecret is the least length of a secret, base32 digits: the 160 bits that RFC 4226,
	// section 4, asks for.
	codeSecret = 32
	// recoveryCodes is how many there are; each works once, for who has lost the device.
	recoveryCodes = 10
	// codePicture is the side of the picture that authenticators read, pixels.
	codePicture = 220
)

// Codes are what an authenticator needs to make one-time codes.
type Codes struct {
	Secret  keep.Secret // base32
	URI     keep.Secret // otpauth://
	Picture []byte      // of the URI, PNG
}

// NewCodes makes a secret. Nothing is kept until [Operators.UseCodes] or [Accounts.UseCodes] shows that
// an authenticator has it.
func NewCodes(service, name string) (*Codes, error) {
	key, err := totp.Generate(totp.GenerateOpts{Issuer: service, AccountName: name, Period: codeStep})
	if err != nil {
		return nil, err
	}
	picture, err := key.Image(codePicture, codePicture)
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	if err := png.Encode(&text, picture); err != nil {
		return nil, err
	}
	return &Codes{keep.Secret(key.Secret()), keep.Secret(key.URL()), text.Bytes()}, nil
}

// UseCodes asks an operator for a one-time code at each sign-in from now on, once it has
// shown that it can make them, and gives its recovery codes, this once.
func (o *Operators) UseCodes(ctx context.Context, v Visitor, name string, secret keep.Secret, code string) (recovery []keep.Secret, err error) {
	operator, err := o.find(ctx, name)
	if err != nil {
		return nil, err
	}
	if operator.CodeSecret != "" {
		return nil, keep.Refuse(keep.AlreadyThere, "one-time codes are asked for already: switch them off first")
	}
	step, err := firstStep(secret, code)
	if err != nil {
		return nil, err
	}
	operator.CodeSecret, operator.CodeStep = secret, step
	recovery, digests := newRecovery()
	return recovery, o.save(ctx, v, operator.Name, operator, "one-time codes on", []string{"recovery"}, digests, nothingElse)
}

// firstStep is the time step of a code that shows that an authenticator has a secret.
func firstStep(secret keep.Secret, code string) (int64, error) {
	step, ok := stepOf(secret, plainCode(code))
	if !ok || len(secret.Reveal()) < codeSecret {
		return 0, &keep.FieldError{Field: "code", Say: "it is not what this secret gives now: is the clock of your device right?"}
	}
	return step, nil
}

// newRecovery makes recovery codes.
func newRecovery() (codes []keep.Secret, digests [][]byte) {
	for range recoveryCodes {
		text := strings.ToLower(rand.Text()[:16])
		codes = append(codes, keep.Secret(text[:4]+"-"+text[4:8]+"-"+text[8:12]+"-"+text[12:]))
		digests = append(digests, digest(keep.Secret(text)))
	}
	return codes, digests
}

// plainCode is a code without what people put between its digits.
func plainCode(code string) string {
	return strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
}

// stepOf finds the time step whose code this is, now or nearly now.
func stepOf(secret keep.Secret, code string) (int64, bool) {
	now := time.Now().Unix() / codeStep
	for step := now - codeDrift; step <= now+codeDrift; step++ {
		if ok, err := hotp.ValidateCustom(code, uint64(step), secret.Reveal(), hotp.ValidateOpts{Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}); err == nil && ok {
			return step, true
		}
	}
	return 0, false
}

// spendCode takes a one-time code or a recovery code, each of which works once, and says
// which it was. [records.ErrNotFound] when it is neither.
func (o *Operators) spendCode(ctx context.Context, operator *keep.Operator, code string) (said string, err error) {
	code = plainCode(code)
	if step, ok := stepOf(operator.CodeSecret, code); ok {
		return "with a one-time code", o.DB.SpendStep(ctx, operator.ID, step)
	}
	return "with a recovery code", o.DB.SpendRecovery(ctx, operator.ID, digest(keep.Secret(code)))
}

// DropOwnCodes stops asking an operator for codes, at its own wish; code is one.
func (o *Operators) DropOwnCodes(ctx context.Context, v Visitor, name, code string) error {
	operator, err := o.find(ctx, name)
	if err != nil || operator.CodeSecret == "" {
		return err
	}
	if why := tryCode(o.Guard, o.Trail, v, OperatorTarget(name)); why != nil {
		return why
	}
	if _, err := o.spendCode(ctx, operator, code); err == records.ErrNotFound {
		return &keep.FieldError{Field: "code", Say: errCode.Say}
	} else if err != nil {
		return err
	}
	_, err = o.Set(ctx, v, name, name, Change{NoCodes: true})
	return err
}
