package cli

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFiguresReadWell(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 1<<20 - 1: "1.0 MiB", 5 << 30: "5.0 GiB", 1 << 62: "4096.0 PiB"} {
		assert.Equal(t, want, size(n))
	}
	assert.Equal(t, "-", rate(0, 1))
	assert.Equal(t, "-", rate(100, 0.001), "a moment says nothing about a rate")
	assert.Equal(t, "2.0 MiB/s", rate(4<<20, 2))
	for seconds, want := range map[float64]string{0.0021: "2 ms", 1.25: "1.2 s", 59.9: "59.9 s", 61: "1m1s", 7322: "2h2m2s"} {
		assert.Equal(t, want, span(seconds))
	}
	when := time.Date(2026, 3, 1, 12, 0, 0, 0, time.FixedZone("", 3600))
	assert.Equal(t, "2026-03-01 11:00:00", at(&when))
	assert.Equal(t, "-", at(nil))
	assert.Equal(t, "ftp in clear", over("ftp", false))
	assert.Equal(t, "sftp", over("sftp", true))
	assert.Empty(t, over("", false))
	assert.Equal(t, "refused: no-right", ended("refused", "no-right"))
}

func TestTablesLineUpAndEscapeWhatWouldSteerATerminal(t *testing.T) {
	var out bytes.Buffer
	table(&out, "NAME|SIZE", [][]string{{"größe", "1"}, {"a\x1b[31m\tb\u202e", "22"}})
	assert.Equal(t, "NAME                SIZE\ngröße               1\na\\x1b[31m\\tb\\u202e  22\n", out.String())
}

func TestTimesAreShownWhereTheReaderIs(t *testing.T) {
	defer zone.Store(time.UTC)
	moment := time.Date(2026, 7, 1, 22, 30, 0, 0, time.UTC)
	assert.Equal(t, "2026-07-01 22:30:00", at(&moment))
	require.NoError(t, showIn("Europe/Lisbon"))
	assert.Equal(t, "2026-07-01 23:30:00", at(&moment))
	var out bytes.Buffer
	table(&out, "TIME (UTC)|WHO", [][]string{{at(&moment), "ann"}})
	assert.Contains(t, out.String(), "TIME (Europe/Lisbon)")
	assert.ErrorContains(t, showIn("Port/Selwyn"), "no time zone")
}

// A table fits the terminal: columns go by rank, the rest is folded and never broken inside a word.
func TestTablesFitTheirTerminal(t *testing.T) {
	columns, ranks := []string{"WHO", "FROM", "WHAT"}, []int{0, 2, 0}
	rows := [][]string{{"crew-harbour", "2001:db8::1234:5678", "/basemaps/canal-district/sheet-12.gpkg was sent"}}
	head, fitted, gone := fit(columns, ranks, rows, 200)
	assert.Equal(t, columns, head)
	assert.Equal(t, rows, fitted)
	assert.Empty(t, gone)
	head, fitted, gone = fit(columns, ranks, rows, 70)
	assert.Equal(t, []string{"WHO", "WHAT"}, head)
	assert.Equal(t, []string{"FROM"}, gone)
	assert.Equal(t, [][]string{{"crew-harbour", rows[0][2]}}, fitted)
	_, fitted, _ = fit(columns, ranks, rows, 40)
	assert.Equal(t, [][]string{{"crew-harbour", "/basemaps/canal-district/"}, {"", "sheet-12.gpkg was sent"}}, fitted)
	_, fitted, _ = fit(columns, ranks, rows, 5)
	for _, row := range fitted {
		assert.Contains(t, "crew-harbour ", row[0], "no word is broken")
	}
	assert.Equal(t, []string{"one", "two"}, fold("one two", 3))
	assert.Equal(t, []string{""}, fold("", 3))
}
