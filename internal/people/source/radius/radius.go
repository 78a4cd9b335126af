package radius

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/md5"
	"errors"
	"fmt"
	"strings"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

const (
	// retry is how long an answer is waited for until the question is sent again.
	retry = 700 * time.Millisecond
	// maxPassword is as long as one may be (RFC 2865, section 5.2), bytes; maxForged how many false answers are waited through.
	maxPassword, maxForged = 128, 20
	ourIdentifier          = "urbankeep"
)

// Radius asks a server. See [source.Asker].
type Radius struct{ set keep.Source }

// Open prepares one; nothing is sent yet.
func Open(s keep.Source) *Radius { return &Radius{s} }

// Close implements [source.Asker].
func (r *Radius) Close() {}

// Look implements [source.Asker]: it can't be done.
func (r *Radius) Look(context.Context, string) (*source.Person, error) {
	return nil, fmt.Errorf("RADIUS says nothing about somebody without a password: %w", errors.ErrUnsupported)
}

// Ask implements [source.Asker].
func (r *Radius) Ask(ctx context.Context, q source.Question) (*source.Person, error) {
	if q.Password == "" || len(q.Password) > maxPassword || len(q.Name) > 253 {
		return nil, source.ErrWrong
	}
	answer, err := r.exchange(ctx, q)
	if err != nil {
		return nil, &source.Away{Cause: err}
	}
	switch answer.Code {
	case radius.CodeAccessAccept:
		p := &source.Person{ID: strings.ToLower(q.Name)}
		groups, _ := rfc2865.FilterID_GetStrings(answer)
		p.Groups = groups
		return p, nil
	case radius.CodeAccessChallenge:
		return nil, &source.Challenge{Say: said(answer), State: rfc2865.State_Get(answer)}
	}
	return nil, source.ErrWrong
}

// said are the words that an answer has for people, without what a terminal would obey.
func said(answer *radius.Packet) string {
	words, _ := rfc2865.ReplyMessage_GetStrings(answer)
	text := strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0 {
			return ' '
		}
		return c
	}, strings.Join(words, " "))
	return strings.TrimSpace(text)
}

func (r *Radius) exchange(ctx context.Context, q source.Question) (*radius.Packet, error) {
	var errs []error
	for i, server := range r.set.Servers {
		within := r.set.Timeout.Duration()
		if until, ok := ctx.Deadline(); ok {
			within = time.Until(until)
		}
		one, cancel := context.WithTimeout(ctx, within/time.Duration(len(r.set.Servers)-i))
		answer, err := r.askOne(one, server, q)
		cancel()
		if err == nil {
			return answer, nil
		}
		if errors.Is(err, context.DeadlineExceeded) {
			err = errors.New("no answer: does it know this machine, and is the secret the same on both sides?")
		}
		errs = append(errs, fmt.Errorf("%s: %w", server, err))
	}
	return nil, errors.Join(errs...)
}

func (r *Radius) askOne(ctx context.Context, server string, q source.Question) (*radius.Packet, error) {
	packet := radius.New(radius.CodeAccessRequest, []byte(r.set.Secret.Reveal()))
	errs := []error{
		rfc2869.MessageAuthenticator_Add(packet, make([]byte, md5.Size)),
		rfc2865.UserName_AddString(packet, q.Name),
		rfc2865.UserPassword_AddString(packet, q.Password.Reveal()),
		rfc2865.NASIdentifier_AddString(packet, ourIdentifier),
		rfc2865.NASPortType_Add(packet, rfc2865.NASPortType_Value_Virtual),
	}
	if q.From != "" {
		errs = append(errs, rfc2865.CallingStationID_AddString(packet, q.From))
	}
	if q.State != nil {
		errs = append(errs, rfc2865.State_Add(packet, q.State))
	}
	sum, err := seal(packet)
	if err := errors.Join(append(errs, err)...); err != nil {
		return nil, err
	}
	if err := rfc2869.MessageAuthenticator_Set(packet, sum); err != nil {
		return nil, err
	}
	answer, err := (&radius.Client{Retry: retry, MaxPacketErrors: maxForged}).Exchange(ctx, packet, server)
	if err != nil {
		return nil, err
	}
	copied := *answer
	copied.Authenticator = packet.Authenticator
	if wanted, err := seal(&copied); err != nil || !hmac.Equal(wanted, rfc2869.MessageAuthenticator_Get(answer)) {
		return nil, errors.New("an answer without a right Message-Authenticator, which may be forged: have the server send one")
	}
	return answer, nil
}

// seal is the Message-Authenticator of a packet (RFC 3579, section 3.2), which holds a place for it.
func seal(packet *radius.Packet) ([]byte, error) {
	raw, err := packet.MarshalBinary()
	if err != nil {
		return nil, err
	}
	for rest := raw[20:]; len(rest) >= 2 && int(rest[1]) >= 2 && int(rest[1]) <= len(rest); rest = rest[rest[1]:] {
		if radius.Type(rest[0]) == rfc2869.MessageAuthenticator_Type {
			copy(rest[2:rest[1]], bytes.Repeat([]byte{0}, md5.Size))
		}
	}
	mac := hmac.New(md5.New, packet.Secret)
	mac.Write(raw)
	return mac.Sum(nil), nil
}

// Check implements [source.Asker].
func (r *Radius) Check(ctx context.Context, q source.Question) ([]keep.Step, *source.Person) {
	if q.Name == "" || q.Password == "" {
		q.Name, q.Password = "urbankeep-check", "-" // any answer is one
		_, err := r.Ask(ctx, q)
		var away *source.Away
		if errors.As(err, &away) {
			return []keep.Step{{Name: "reached", Say: away.Cause.Error()}}, nil
		}
		return []keep.Step{{Name: "reached", OK: true, Say: "it answers, and both know the same secret; whether it knows somebody takes their password"}}, nil
	}
	p, err := r.Ask(ctx, q)
	var away *source.Away
	var asks *source.Challenge
	switch {
	case errors.As(err, &away):
		return []keep.Step{{Name: "reached", Say: away.Cause.Error()}}, nil
	case errors.As(err, &asks):
		return []keep.Step{{Name: "reached", OK: true, Say: "it answers"}, {Name: "password", OK: true, Say: "right; then it asks: " + asks.Say}}, nil
	case err != nil:
		return []keep.Step{{Name: "reached", OK: true, Say: "it answers"}, {Name: "password", Say: err.Error()}}, nil
	}
	groups := "it says no group (Filter-Id)"
	if len(p.Groups) > 0 {
		groups = strings.Join(p.Groups, "; ")
	}
	return []keep.Step{{Name: "reached", OK: true, Say: "it answers"}, {Name: "password", OK: true, Say: "right"}, {Name: "groups", OK: true, Say: groups}}, p
}
