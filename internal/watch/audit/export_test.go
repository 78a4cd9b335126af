package audit_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/watch/audit"
)

func TestRecordsGoOutInOpenFormatsHoweverFilesAreNamed(t *testing.T) {
	r := keep.AuditRecord{Seq: 7, At: time.Date(2026, 3, 1, 8, 5, 9, 123456000, time.UTC), Account: "crew-harbour", Address: "192.0.2.7", Protocol: keep.SFTP, Encrypted: true, Session: "S",
		Action: keep.Uploading, Path: "/old town/=plan\x1b[2J,\"x\".tif", Bytes: 2048, Duration: 1600 * time.Millisecond, Outcome: keep.Interrupted, Reason: keep.ClientGone, Detail: "-it broke off"}
	written := map[string]string{}
	for _, f := range audit.Formats {
		var out bytes.Buffer
		require.NoError(t, f.Line(&out, &r))
		assert.NotContains(t, out.String(), "\x1b", f.Name)
		assert.Equal(t, 1, bytes.Count(out.Bytes(), []byte("\n")), f.Name)
		written[f.Name] = out.String()
	}
	assert.Equal(t, "Sun Mar  1 08:05:09 2026 2 192.0.2.7 2048 /old_town/=plan_[2J,\"x\".tif b _ i r crew-harbour sftp 0 * i\n", written["xferlog"])
	assert.Equal(t, "2026-03-01 08:05:09.123 192.0.2.7 crew-harbour upload /old%20town/=plan%1B%5B2J,%22x%22.tif - 0 2048 1.600 sftp true interrupted client-gone S 7\n", written["w3c"])
	rows, err := csv.NewReader(bytes.NewReader([]byte(written["csv"]))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"7", "2026-03-01T08:05:09.123456Z", "crew-harbour", "", "192.0.2.7", "sftp", "true", "S", "upload", `/old town/=plan\x1b[2J,\"x\".tif`, "", "0", "2048", "1.6", "interrupted", "client-gone", "'-it broke off", "", "", "", "", "", "", "", "", ""}, rows[0])
	var back map[string]any
	require.NoError(t, json.Unmarshal([]byte(written["jsonl"]), &back))
	assert.Equal(t, r.Path, back["path"], "JSON holds the name as it is")
	for _, f := range audit.Formats {
		var out bytes.Buffer
		require.NoError(t, f.Line(&out, &keep.AuditRecord{Seq: 8, Operator: "ilse", Action: keep.GateSet, Outcome: keep.Done}))
		assert.Equal(t, f.Name == "xferlog", out.Len() == 0, "%s: only transfers are in a transfer log", f.Name)
	}
	_, err = audit.FormatNamed("pdf")
	assert.ErrorContains(t, err, "use csv, jsonl, xferlog, w3c")
}
