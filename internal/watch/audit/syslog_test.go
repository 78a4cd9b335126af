package audit_test

import (
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/watch/audit"
)

// message is the grammar of RFC 5424, section 6, as far as our messages use it.
var message = regexp.MustCompile(`^<(\d{1,3})>1 (\S+) ([!-~]{1,255}) urbankeep - ([!-~]{1,32}) \[record@32473((?: [a-z]+="(?:[^"\\\]]|\\["\\\]])*")*)\] (.*)$`)

var field = regexp.MustCompile(` ([a-z]+)="((?:[^"\\\]]|\\["\\\]])*)"`)

func TestARecordIsOneSyslogMessage(t *testing.T) {
	r := keep.AuditRecord{Seq: 7, At: time.Date(2026, 3, 1, 2, 3, 4, 5000, time.UTC), Account: "crew-harbour", Address: "192.0.2.1", Protocol: keep.SFTP, Encrypted: true, Session: "ABC",
		Action: keep.Uploading, Path: `/a "b]\`, Bytes: 5, Duration: 1500 * time.Millisecond, Outcome: keep.Interrupted, Reason: keep.ClientGone}
	assert.Equal(t, `<109>1 2026-03-01T02:03:04.000005Z port-selwyn urbankeep - upload [record@32473 seq="7" account="crew-harbour" address="192.0.2.1" protocol="sftp" encrypted="true" session="ABC" `+
		`path="/a \"b\]\\" bytes="5" seconds="1.5" outcome="interrupted" reason="client-gone"] crew-harbour upload /a "b]\ interrupted client-gone`, audit.Syslog("port-selwyn", &r))
	for outcome, priority := range map[keep.Outcome]string{keep.Done: "<110>", keep.Refused: "<108>", keep.Failed: "<107>"} {
		r.Outcome = outcome
		assert.True(t, strings.HasPrefix(audit.Syslog("", &r), priority+"1 2026-03-01T02:03:04.000005Z - urbankeep "), outcome)
	}
}

// Whatever a client calls its files, a message has its form, its fields can be read
// back, and nothing in it steers a terminal or ends a line.
func FuzzSyslog(f *testing.F) {
	for _, text := range []string{"/plain", `"]\`, "a\nb", "\x1b[2J", "\xff\xfe", "täglich", "]", "\u202e", ""} {
		f.Add(text, text)
	}
	f.Fuzz(func(t *testing.T, path, detail string) {
		r := keep.AuditRecord{Seq: 1, At: time.Unix(0, 0), Action: keep.Deleting, Path: path, Detail: detail, Account: "ann", Outcome: keep.Done}
		text := audit.Syslog("host name", &r)
		require.True(t, utf8.ValidString(text))
		require.Negative(t, strings.IndexFunc(text, unicode.IsControl), "%q", text)
		parts := message.FindStringSubmatch(text)
		require.NotNil(t, parts, "%q", text)
		require.Equal(t, "host_name", parts[3])
		read := map[string]string{}
		for _, one := range field.FindAllStringSubmatch(parts[5], -1) {
			read[one[1]] = strings.NewReplacer(`\"`, `"`, `\\`, `\`, `\]`, `]`).Replace(one[2])
		}
		for name, is := range map[string]string{"path": path, "detail": detail} {
			if utf8.ValidString(is) && strings.IndexFunc(is, unicode.IsControl) < 0 {
				require.Equal(t, is, read[name])
			}
		}
	})
}
