package keep

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSettingsAreReadAsNumbersListsAndTexts(t *testing.T) {
	for _, c := range []struct{ name, json, text, say string }{
		{"maxSessions", `3`, "3", "3"}, {"maxSessions", `"3"`, "3", "3"}, {"maxSessions", `0`, "0", "any number"},
		{"quotaBytes", `1610612736`, "1536MiB", "1.5 GiB"}, {"quotaBytes", `"1.5GiB"`, "1536MiB", "1.5 GiB"}, {"quotaBytes", `"0"`, "0", "any"}, {"quotaBytes", `1001`, "1001", "1001 B"},
		{"speedUp", `"2MiB"`, "2MiB", "2 MiB/s"},
		{"idleTime", `90`, "1m30s", "1m30s"}, {"idleTime", `"10m"`, "10m", "10m"}, {"idleTime", `"1h"`, "1h0m", "1h0m"}, {"idleTime", `0`, "0s", "the usual 15m"},
		{"umask", `"7"`, "007", "007"},
		{"protocols", `["ftp","sftp"]`, "ftp,sftp", "ftp, sftp"}, {"protocols", `"all"`, "all", "all"}, {"protocols", `[]`, "all", "all"},
		{"allow", `["192.0.2.7","2001:db8::/32"]`, "192.0.2.7,2001:db8::/32", "192.0.2.7, 2001:db8::/32"}, {"allow", `"everybody"`, "everybody", "everybody"}, {"deny", `[]`, "nobody", "nobody"},
		{"validUntil", `"2027-03-01"`, "2027-03-01", "2027-03-01 00:00 UTC"}, {"validUntil", `"2027-03-01T18:30:00+02:00"`, "2027-03-01T16:30:00Z", "2027-03-01 16:30 UTC"}, {"validUntil", `"never"`, "never", "never"},
		{"starters", `["/in","done/"]`, "/in,/done", "/in, /done"}, {"starters", `"none"`, "none", "none"},
		{"encryption", `"optional"`, "optional", "optional: plain FTP allowed"}, {"signInBy", `"both"`, "both", "a key, then a password"},
	} {
		g := &Group{Name: "g"}
		require.NoError(t, g.Settings.Put(c.name, json.RawMessage(c.json)), c.json)
		require.NoError(t, g.Check())
		sets := g.Sets()
		require.Len(t, sets, 1, c.json)
		assert.Equal(t, c.text, sets[0].Text, c.json)
		assert.Equal(t, c.say, sets[0].Say, c.json)
		kept, err := json.Marshal(g.Settings)
		require.NoError(t, err)
		var back Settings
		require.NoError(t, json.Unmarshal(kept, &back))
		assert.Equal(t, g.Settings, back, "what is kept is read back")
		require.NoError(t, g.Settings.Put(c.name, json.RawMessage("null")))
		assert.Empty(t, g.Sets())
	}
}

func TestAnEndBeforeTheBeginningIsRefusedWhoeverSetsIt(t *testing.T) {
	a := &Account{Name: "ann", State: StateActive, Mounts: []Mount{{At: "/", Store: "files", Folder: "x"}}}
	require.NoError(t, a.Settings.PutText("validFrom", "2027-02-01"))
	g := &Group{Name: "season"}
	require.NoError(t, g.Settings.PutText("validUntil", "2027-01-01"))
	_, err := Resolve(a, []*Group{g})
	assert.ErrorContains(t, err, "would end before it begins")
}

func TestMountsAreReadBackAsTheyAreSaid(t *testing.T) {
	for _, text := range []string{"/=files:{account}", "/maps=files:shared/maps,ro", "/in=files:/,umask=007,bytes=2048,files=3"} {
		m, err := ParseMount(text)
		require.NoError(t, err)
		require.NoError(t, m.check())
		assert.Equal(t, text, m.Text())
		var back Mount
		require.NoError(t, json.Unmarshal([]byte(`"`+text+`"`), &back))
		require.NoError(t, back.check())
		assert.Equal(t, m, back)
	}
	for text, say := range map[string]string{"/maps": "AT=STORE:FOLDER", "/maps=files": "STORE:FOLDER", "/maps=files:x,rw": "is not known", "/maps=files:x,umask=9": "no mask", "/maps=files:x,bytes=much": "no size"} {
		_, err := ParseMount(text)
		assert.ErrorContains(t, err, say, text)
	}
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"at":"/","colour":"red"}`), new(Mount)), "colour")
}

func TestWindowsAtTheirEdges(t *testing.T) {
	open := func(w Window, at string) bool {
		ready, err := w.prepare()
		require.NoError(t, err)
		now, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		return ready.open(now)
	}
	night := Window{Days: "fri", Hours: "22:00-06:00", Zone: "Europe/Oslo"}
	assert.False(t, open(night, "2026-11-27T20:59:59Z"))
	assert.True(t, open(night, "2026-11-27T21:00:00Z"), "ten in the evening in Oslo")
	assert.True(t, open(night, "2026-11-28T04:59:59Z"), "the night belongs to Friday")
	assert.False(t, open(night, "2026-11-28T05:00:00Z"))
	assert.False(t, open(night, "2026-11-28T21:30:00Z"))
	assert.False(t, open(night, "2026-11-27T03:00:00Z"), "the small hours of Friday belong to Thursday")
	summer := Window{Hours: "08:00-24:00", Zone: "Europe/Oslo"}
	assert.True(t, open(summer, "2026-07-01T06:00:00Z"), "summer time")
	assert.False(t, open(summer, "2026-11-27T06:59:59Z"))
	around := Window{Days: "sat-mon"}
	for day, want := range map[string]bool{"27": false, "28": true, "29": true, "30": true} {
		assert.Equal(t, want, open(around, "2026-11-"+day+"T12:00:00Z"), day)
	}
	season := Window{From: Moment{noon}, Until: Moment{noon.Add(time.Hour)}}
	assert.False(t, open(season, "2026-11-25T10:59:59Z"))
	assert.True(t, open(season, "2026-11-25T11:00:00Z"))
	assert.False(t, open(season, "2026-11-25T12:00:00Z"))
}

func TestExplainNamesEachStepThatSaysNo(t *testing.T) {
	a := account(nil, grant("/", addOnly))
	a.PasswordHash = "h"
	for name, text := range map[string]string{"allow": "192.0.2.0/24", "maxSessions": "2", "protocols": "sftp", "validUntil": "2026-12-01"} {
		require.NoError(t, a.Settings.PutText(name, text))
	}
	e, err := Resolve(a, nil)
	require.NoError(t, err)
	full := []Room{{At: "/", Quota: Quota{Bytes: 100}, Used: Quota{Bytes: 100}}}
	networks, err := ParseNetworks("", "198.51.100.0/24")
	require.NoError(t, err)
	listeners := []Listener{{Name: "ftp", Protocol: FTP}, {Name: "sftp", Protocol: SFTP}}
	for _, c := range []struct {
		ask  func(*Question)
		step string
	}{
		{func(*Question) {}, ""},
		{func(q *Question) { q.Listeners = listeners[:1] }, "gate"},
		{func(q *Question) { q.Gate.Deny = networks; q.From = "198.51.100.9" }, "gate"},
		{func(q *Question) { q.From = "203.0.113.1" }, "networks"},
		{func(q *Question) { q.LockedOut = "after failed sign-ins" }, "lockout"},
		{func(q *Question) { q.At = noon.AddDate(0, 1, 0) }, "account"},
		{func(q *Question) { q.Sessions = 2 }, "sessions"},
		{func(q *Question) { q.Right = Delete }, "right"},
		{func(q *Question) { q.Room = full }, "quota"},
		{func(q *Question) { q.Room, q.Right = full, Download }, ""}, // reading takes no room
	} {
		q := Question{Right: Upload, Path: "/f", At: noon, From: "192.0.2.9", Listeners: listeners}
		c.ask(&q)
		said := ""
		for _, step := range Explain(e, q) {
			if !step.OK && said == "" {
				said = step.Name
			}
			assert.NotEmpty(t, step.Say)
		}
		assert.Equal(t, c.step, said)
	}
	listeners[1].Deny = networks
	asked := Explain(e, Question{Right: Upload, Path: "/f", At: noon, Listeners: listeners, Gate: Rules{Allow: networks}})
	assert.Equal(t, "listeners: sftp; of the service: networks allowed: 198.51.100.0/24; denied: nobody; of sftp: networks allowed: everybody; denied: 198.51.100.0/24", asked[0].Say, "who may connect is said to who does not ask from where")
}

// Times, lengths and sizes are read as people write them; what isn't one is refused with the forms that are.
func TestValuesAreReadAsPeopleWriteThem(t *testing.T) {
	now := time.Date(2027, 3, 10, 15, 4, 5, 0, time.UTC)
	for text, want := range map[string]string{"2027-03-01": "2027-03-01T00:00:00Z", "2027-03-01T08:00": "2027-03-01T08:00:00Z", "2027-03-01 08:00": "2027-03-01T08:00:00Z", "2027-03-01T08:00:09": "2027-03-01T08:00:09Z",
		"2027-03-01T08:00:00+02:00": "2027-03-01T06:00:00Z", "2027-03-01T08:00+02:00": "2027-03-01T06:00:00Z", "now": "2027-03-10T15:04:05Z", "today": "2027-03-10T00:00:00Z", "yesterday": "2027-03-09T00:00:00Z", "tomorrow": "2027-03-11T00:00:00Z",
		"-7d": "2027-03-03T15:04:05Z", "+2w": "2027-03-24T15:04:05Z", "-90m": "2027-03-10T13:34:05Z", "-1h": "2027-03-10T14:04:05Z"} {
		got, err := ParseMoment(text, now)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, got.Format(time.RFC3339), text)
		}
	}
	for _, text := range []string{"", "7d", "-d", "-7x", "soon", "2027-13-01", "2027-02-30", "-9999999d", "2027-03-01T8"} {
		_, err := ParseMoment(text, now)
		assert.ErrorContains(t, err, "-7d", text)
	}
	var m Moment
	assert.Error(t, m.UnmarshalText([]byte("-7d")), "a setting does not count from now")
	for text, want := range map[string]int64{"90": 90, "90s": 90, "10m": 600, "10min": 600, "1h30m": 5400, "1d": 86400, "2w": 1209600, "1d12h": 129600} {
		var s Seconds
		if assert.NoError(t, s.UnmarshalText([]byte(text)), text) {
			assert.EqualValues(t, want, s, text)
		}
	}
	for _, text := range []string{"", "1y", "m", "-1m", "1.5s", "999999999w", "1hx"} {
		assert.Error(t, new(Seconds).UnmarshalText([]byte(text)), text)
	}
	for text, want := range map[string]int64{"4096": 4096, "500M": 500 << 20, "10 GB": 10e9, "10gb": 10e9, "1TB": 1e12, "500kB": 5e5, "2GiB": 2 << 30, "1.5G": 3 << 29, "0": 0} {
		got, err := ParseSize("size", text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, got, text)
		}
	}
	for _, text := range []string{"10 XB", "GB", "-1GB", "9999999TiB", "1,5G"} {
		_, err := ParseSize("size", text)
		assert.ErrorContains(t, err, "KiB, MiB, GiB, TiB", text)
	}
	var s Settings
	require.NoError(t, s.PutText("deny", "everybody"))
	assert.True(t, s.Deny.Has("192.0.2.1") && s.Deny.Has("2001:db8::1"))
	require.NoError(t, s.PutText("deny", "nobody"))
	assert.Empty(t, *s.Deny)
	assert.ErrorContains(t, s.PutText("allow", "nobody"), "lets nobody in")
	require.NoError(t, s.PutText("allow", "everybody"))
	assert.Empty(t, *s.Allow)
}
