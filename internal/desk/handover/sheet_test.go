package handover

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
)

// facts are those of a service that has all three listeners, and of an account.
func facts(t *testing.T, edit func(*keep.Account)) Facts {
	a := &keep.Account{Name: "crew-harbour", State: keep.StateActive, PasswordHash: "set",
		Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "{account}"}}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}}
	if edit != nil {
		edit(a)
	}
	e, err := keep.Resolve(a, nil)
	require.NoError(t, err)
	listener := func(p keep.Protocol) keep.Listener {
		return keep.Listener{Name: string(p), Protocol: p, Encryption: keep.EncryptionRequired, PassiveLow: 47000, PassiveHigh: 47099}
	}
	return Facts{Host: "files.portselwyn.example", Account: e, Made: time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC),
		Doors:       []Door{{listener(keep.FTP), 21}, {listener(keep.FTPS), 990}, {listener(keep.SFTP), 22}},
		HostKeys:    []HostKey{{"ssh-ed25519", "SHA256:abc", "ssh-ed25519 AAAA"}},
		Certificate: Certificate{Fingerprint: "AB:CD", Until: time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)}}
}

func textOf(f Facts) string {
	s := New(f)
	return s.Text()
}

func TestASheetNamesOnlyTheDoorsThatAreOpenToTheAccount(t *testing.T) {
	f := facts(t, func(a *keep.Account) { require.NoError(t, a.Settings.PutText("protocols", "sftp")) })
	text := textOf(f)
	assert.Contains(t, text, "SFTP  port 22")
	assert.NotContains(t, text, "990")
	assert.NotContains(t, text, "Certificate")
	f.Doors[2].Stopped = true
	assert.Contains(t, textOf(f), "none is open to this account now")
	assert.NotContains(t, textOf(f), "Commands")
}

func TestASheetSaysWhatGoesInClear(t *testing.T) {
	assert.Contains(t, textOf(facts(t, nil)), "TLS on request (explicit), which is required")
	open := facts(t, func(a *keep.Account) { require.NoError(t, a.Settings.PutText("encryption", "optional")) })
	assert.Contains(t, textOf(open), "without it everything goes in clear")
	off := facts(t, nil)
	off.Doors[0].Encryption = keep.EncryptionOff
	text := textOf(off)
	assert.Contains(t, text, "without TLS: everything goes in clear")
	assert.Contains(t, text, "curl --user crew-harbour ftp://files.portselwyn.example:21/")
	assert.Contains(t, text, "set ftp:ssl-allow no")
}

func TestACertificateThatClientsTrustIsNotPinned(t *testing.T) {
	f := facts(t, nil)
	assert.NotContains(t, textOf(f), "--cacert")
	f.Certificate.SelfSigned, f.Certificate.PEM = true, "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"
	text := textOf(f)
	assert.Contains(t, text, "curl --ssl-reqd --cacert files.portselwyn.example.pem")
	assert.Contains(t, text, "END CERTIFICATE-----' > files.portselwyn.example.pem")
}

func TestHostsAndPortsStandAsEachProgramWantsThem(t *testing.T) {
	f := facts(t, nil)
	assert.Contains(t, textOf(f), "'files.portselwyn.example ssh-ed25519 AAAA'", "port 22 stands in known_hosts as nothing")
	f.Host, f.Doors[2].Port = "2001:db8::7", 2222
	text := textOf(f)
	assert.Contains(t, text, "'[2001:db8::7]:2222 ssh-ed25519 AAAA' > 2001:db8::7.known_hosts")
	assert.Contains(t, text, "'crew-harbour@[2001:db8::7]'")
	assert.Contains(t, text, "ftps://[2001:db8::7]:990/")
}

func TestOneKeyTwoProofsAndNobody(t *testing.T) {
	both := facts(t, func(a *keep.Account) { require.NoError(t, a.Settings.PutText("signInBy", "both")) })
	both.Keys = []keep.Key{{Label: "tablet", Type: "ssh-ed25519", Fingerprint: "SHA256:key", Expires: time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)}}
	text := textOf(both)
	assert.Contains(t, text, "Key tablet  ssh-ed25519 SHA256:key, until 2026-09-01")
	assert.Contains(t, text, "-i crew-harbour.key")
	assert.NotContains(t, text, "curl", "FTP can't show two proofs")
	anonymous := facts(t, func(a *keep.Account) {
		a.Name, a.PasswordHash = keep.Anonymous, ""
		a.Grants[0].Rights = keep.List | keep.Download
	})
	text = textOf(anonymous)
	assert.Contains(t, text, "your e-mail address, or anything")
	assert.NotContains(t, text, "sftp -P", "nobody signs in as anonymous over SFTP")
	assert.Contains(t, text, "read-only: list, download")
}

func TestNamesAreNeitherMarkupNorCommands(t *testing.T) {
	f := facts(t, nil)
	f.Service = "Survey *Office* <b>\x1b[31m"
	f.Keys = []keep.Key{{Label: "_odd_ `key`", Type: "ssh-rsa", Fingerprint: "SHA256:x"}}
	s := New(f)
	assert.Contains(t, s.Markdown(), `# Survey \*Office\* \<b>\[31m: how to connect`)
	assert.Contains(t, s.Markdown(), "**Key \\_odd\\_ \\`key\\`**")
	assert.NotContains(t, s.Text(), "\x1b[31m: ")
	for text, want := range map[string]string{"plain-1.key": "plain-1.key", "two words": "'two words'", "it's": `'it'\''s'`, "": "''", "$(id)": "'$(id)'"} {
		assert.Equal(t, want, quoted(text))
	}
}

func TestReachIsWhatTheDeepestGrantsGive(t *testing.T) {
	f := facts(t, func(a *keep.Account) {
		a.Mounts = append(a.Mounts, keep.Mount{At: "/maps", Store: "files", Folder: "maps", ReadOnly: true, Quota: &keep.Quota{Files: 5}})
		a.Grants = append(a.Grants, keep.Grant{Path: "/maps/new", Rights: keep.Upload | keep.List}, keep.Grant{Path: "/in", Rights: keep.Upload, Only: []string{"*.tif"}},
			keep.Grant{Path: "/none"})
	})
	var reach []Row
	for _, section := range New(f).Sections {
		if section.Title == "What you reach" {
			reach = section.Rows
		}
	}
	shown := map[string]string{}
	for _, r := range reach {
		shown[r.Label] = r.Text
	}
	assert.Equal(t, "read-only: list, download; holds at most 5 files", shown["/maps"], "the mount is read-only whatever the grants say")
	assert.Equal(t, "list", shown["/maps/new"])
	assert.Equal(t, "drop-only: upload (only *.tif)", shown["/in"])
	assert.NotContains(t, shown, "/none")
	assert.True(t, strings.HasPrefix(shown["/"], "full: list, download"))
}
