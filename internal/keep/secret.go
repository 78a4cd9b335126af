package keep

import "log/slog"

// Secret is text that prints as a redaction wherever it goes by accident:
// logs, errors, JSON. Reveal is the one way to its value.
type Secret string

const redacted = "(secret)"

// Reveal gives the text itself.
func (s Secret) Reveal() string { return string(s) }

func (s Secret) String() string               { return redacted }
func (s Secret) GoString() string             { return redacted }
func (s Secret) LogValue() slog.Value         { return slog.StringValue(redacted) }
func (s Secret) MarshalText() ([]byte, error) { return []byte(redacted), nil }
