package exchange

import (
	"bytes"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
)

// Problem is an error that is a status.
type Problem struct {
	Status int
	Say    string
}

func (p *Problem) Error() string { return p.Say }

// ProblemOf is an error as who called reads it (RFC 9457).
func ProblemOf(err error) api.Problem {
	shown := api.Problem{Type: "about:blank"}
	var field *keep.FieldError
	var plain *Problem
	switch {
	case errors.As(err, &field):
		shown.Status, shown.Field, shown.Detail = http.StatusUnprocessableEntity, field.Field, field.Say
	case errors.As(err, &plain):
		shown.Status, shown.Detail = plain.Status, plain.Say
	default:
		fault := keep.FaultOf(err)
		shown.Status, shown.Detail = StatusOf(fault.Reason), fault.Say
		if said := (*keep.Fault)(nil); fault.Reason != keep.Failure || errors.As(err, &said) {
			shown.Reason = string(fault.Reason)
		}
	}
	shown.Title = http.StatusText(shown.Status)
	return shown
}

// Refuse answers an error as its problem (RFC 9457). What is no refusal is the service's own fault, which its log tells of.
func Refuse(w http.ResponseWriter, r *http.Request, err error, log *slog.Logger) {
	shown := ProblemOf(err)
	if shown.Status == http.StatusInternalServerError && r.Context().Err() == nil {
		log.Error("request failed", "cause", err, "root", errors.Unwrap(err))
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(shown.Status)
	json.NewEncoder(w).Encode(shown)
}

// StatusOf is the status for a reason.
func StatusOf(reason keep.Reason) int {
	switch reason {
	case keep.NotFound:
		return http.StatusNotFound
	case keep.BadCredentials:
		return http.StatusUnauthorized
	case keep.AlreadyThere, keep.BadHash, keep.NotEmpty, keep.NotAFolder, keep.IsAFolder, keep.InUse, keep.ShutsYouOut, keep.InClear:
		return http.StatusConflict
	case keep.TooManyAttempts, keep.TooManySessions:
		return http.StatusTooManyRequests
	case keep.TooLarge:
		return http.StatusRequestEntityTooLarge
	case keep.QuotaFull, keep.DiskFull:
		return http.StatusInsufficientStorage
	case keep.StoreAway, keep.SourceAway, keep.Stopping, keep.TrailUnavailable:
		return http.StatusServiceUnavailable
	case keep.BadName, keep.BadRequest:
		return http.StatusBadRequest
	case keep.Failure:
		return http.StatusInternalServerError
	}
	return http.StatusForbidden
}

// Read reads a request's JSON; unknown fields are refused.
func Read(w http.ResponseWriter, r *http.Request, into any) error { return read(w, r, into, Body) }

// ReadFirst reads the JSON of who has not signed in.
func ReadFirst(w http.ResponseWriter, r *http.Request, into any) error {
	return read(w, r, into, FirstBody)
}

func read(w http.ResponseWriter, r *http.Request, into any, body func(http.ResponseWriter, *http.Request) ([]byte, error)) error {
	if kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); kind != "application/json" {
		return &Problem{http.StatusUnsupportedMediaType, "send the request as application/json"}
	}
	text, err := body(w, r)
	if err != nil {
		return err
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into); err != nil {
		return &Problem{http.StatusBadRequest, "the request is not well-formed: " + strings.TrimPrefix(err.Error(), "json: ")}
	}
	return nil
}

// Write answers with JSON.
func Write(w http.ResponseWriter, value any) error {
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	return json.NewEncoder(w).Encode(value)
}

// DoneWith answers that something was done, or gives why it was not.
func DoneWith(w http.ResponseWriter, err error) error {
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}
