package keep

import (
	"encoding/json"
	"testing"
)

// What an operator types for a grant or a mount is refused in words, or comes back
// from its own text as the same thing; nothing of it leaves its folder.
func FuzzGrantsAndMountsComeBackAsTheyWereTyped(f *testing.F) {
	for _, seed := range []string{"/=full", "/in=add-only;only=*.tif,*.las;never=~*", "/x=list;days=fri-mon;hours=22:00-06:00;zone=Europe/Oslo;from=2026-01-01", "/maps=files:shared/maps,ro,bytes=2G",
		"/=files:{account}", "/a=files:../x", "/=files:/,umask=7,files=0", "=;=;", "/\x00=full", "/in=full;hours=24:00-01:00"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if g, err := ParseGrant(text); err == nil && checkGrants([]Grant{g}) == nil {
			g.Path = cleanOrFail(t, g.Path)
			again, err := ParseGrant(g.Text())
			if err != nil || again.Text() != g.Text() {
				t.Fatalf("%q becomes %q, then %q: %v", text, g.Text(), again.Text(), err)
			}
			if g.Window != nil {
				if _, err := g.Window.prepare(); err != nil {
					t.Fatalf("%q was taken and can't be used: %v", text, err)
				}
			}
		}
		m, err := ParseMount(text)
		if err != nil || checkMounts([]Mount{m}) != nil {
			return
		}
		if err := m.check(); err != nil {
			t.Fatalf("%q is refused only at the second look: %v", text, err)
		}
		again, err := ParseMount(m.Text())
		if err != nil || again.check() != nil || again.Text() != m.Text() {
			t.Fatalf("%q becomes %q, then %q: %v", text, m.Text(), again.Text(), err)
		}
		if folder := m.FolderFor("ann"); folder == "" || folder[0] == '/' || folder == ".." {
			t.Fatalf("%q leads to %q", text, folder)
		}
	})
}

// cleanOrFail is the path as a check leaves it.
func cleanOrFail(t *testing.T, at string) string {
	clean, err := CleanPath("/", at)
	if err != nil {
		t.Fatalf("the path %q of a grant that was taken: %v", at, err)
	}
	return clean
}

// Settings that were taken from anybody's JSON say what they are, and are read back
// from their own text.
func FuzzSettings(f *testing.F) {
	for _, seed := range [][2]string{{"maxSessions", "3"}, {"quotaBytes", `"1.5GiB"`}, {"allow", `["192.0.2.0/24"]`}, {"validUntil", `"2027-01-01T00:00:00.5Z"`}, {"protocols", `"ftp, sftp"`}, {"umask", `"777"`}, {"starters", `["/a/../b"]`},
		{"idleTime", `"1h3m"`}, {"speedUp", "1e9"}, {"deny", "[null]"}} {
		f.Add(seed[0], seed[1])
	}
	f.Fuzz(func(t *testing.T, name, raw string) {
		g := Group{Name: "g"}
		if g.Settings.Put(name, json.RawMessage(raw)) != nil || g.Check() != nil {
			return
		}
		for _, value := range g.Sets() {
			var back Settings
			if err := back.PutText(value.Name, value.Text); err != nil || back.Text(value.Name) != value.Text {
				t.Fatalf("%s %s says %q, which comes back as %q: %v", name, raw, value.Text, back.Text(value.Name), err)
			}
			if value.Say == "" {
				t.Fatalf("%s %s says nothing", name, raw)
			}
		}
	})
}
