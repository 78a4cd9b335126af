package dav_test

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/tests/testkit"
)

// What RFC 4918 and RFC 9110 ask for, and suites do not try.
func TestTheCornersOfTheStandard(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("ben", "-home", "files:ann")
	c, ben := as(t, k, "ann"), as(t, k, "ben")
	put(t, k, "ann", "in/a.txt", "0123456789")
	put(t, k, "ann", "in/b.txt", "b")
	const lock = `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`

	// Locks say what they hold for; a refusal names it, and for one below a folder that member.
	told := c.want(200, "LOCK", "/in/a.txt", lock)
	assert.Contains(t, told, "<d:lockroot><d:href>/dav/in/a.txt</d:href></d:lockroot>")
	text := ben.want(423, "PUT", "/in/a.txt", "x")
	assert.Contains(t, text, "<d:lock-token-submitted><d:href>/dav/in/a.txt</d:href>")
	text = ben.want(207, "DELETE", "/in/", "")
	assert.Contains(t, text, "<d:href>/dav/in/a.txt</d:href><d:status>HTTP/1.1 423 Locked</d:status>")
	text = ben.want(207, "MOVE", "/in/", "", "Destination: /dav/out")
	assert.Contains(t, text, "/dav/in/a.txt")
	assert.FileExists(t, filepath.Join(k.Home("ann"), "in/b.txt"), "nothing has gone")
	c.want(409, "LOCK", "/nowhere/a.txt", lock)

	// Properties.
	text = c.want(207, "PROPPATCH", "/in/b.txt", `<propertyupdate xmlns="DAV:"><set><prop><getetag>x</getetag></prop></set></propertyupdate>`)
	assert.Contains(t, text, "cannot-modify-protected-property")
	when := time.Date(2024, 5, 6, 7, 8, 9, 0, time.UTC)
	c.want(207, "PROPPATCH", "/in/b.txt", `<propertyupdate xmlns="DAV:"><set><prop><getlastmodified>`+when.Format(http.TimeFormat)+`</getlastmodified></prop></set></propertyupdate>`)
	info, err := os.Stat(filepath.Join(k.Home("ann"), "in/b.txt"))
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(when), info.ModTime())
	c.want(207, "PROPPATCH", "/in/b.txt", `<propertyupdate xmlns="DAV:" xml:lang="de"><set><prop><sheet xmlns="urn:city">Blatt</sheet></prop></set></propertyupdate>`)
	text = c.want(207, "PROPFIND", "/in/b.txt", `<propfind xmlns="DAV:"><prop><sheet xmlns="urn:city"/></prop></propfind>`, "Depth: 0")
	assert.Contains(t, text, `xml:lang="de"`)
	c.want(400, "PROPFIND", "/in/b.txt", `<propfind xmlns="DAV:"><prop><getetag/></prop><allprop/></propfind>`, "Depth: 0")
	for _, order := range []binary.AppendByteOrder{binary.BigEndian, binary.LittleEndian} {
		var wide []byte
		for _, unit := range utf16.Encode([]rune("\ufeff" + `<?xml version="1.0" encoding="utf-16"?><propfind xmlns="DAV:"><prop><sheet xmlns="urn:city"/></prop></propfind>`)) {
			wide = order.AppendUint16(wide, unit)
		}
		assert.Contains(t, c.want(207, "PROPFIND", "/in/b.txt", string(wide), "Depth: 0"), "Blatt")
		c.want(400, "PROPFIND", "/in/b.txt", string(wide[:21]), "Depth: 0")
	}

	// HTTP.
	code, _, h := c.do("HEAD", "/in/", "")
	assert.Equal(t, 200, code)
	assert.NotEmpty(t, h.Get("Last-Modified"))
	c.want(404, "HEAD", "/nowhere/", "")
	assert.Equal(t, "0123456789", c.want(200, "GET", "/in/a.txt", "", "Range: lines=1-2"))
	assert.Equal(t, "12", c.want(206, "GET", "/in/a.txt", "", "Range: bytes=1-2"))
	c.want(200, "OPTIONS", "/", "")
	request, err := http.NewRequestWithContext(t.Context(), "OPTIONS", c.base+"/", nil)
	require.NoError(t, err)
	request.SetBasicAuth("ann", "a wrong password")
	wrong, err := c.http.Do(request)
	require.NoError(t, err)
	wrong.Body.Close()
	assert.Equal(t, 401, wrong.StatusCode)
	for _, at := range []string{"*", "/"} {
		raw, err := net.Dial("tcp", k.Address("web"))
		require.NoError(t, err)
		fmt.Fprintf(raw, "OPTIONS %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", at, k.Address("web"))
		answer, err := http.ReadResponse(bufio.NewReader(raw), nil)
		require.NoError(t, err, at)
		io.Copy(io.Discard, answer.Body)
		raw.Close()
		assert.Equal(t, []any{200, "1, 2, 3"}, []any{answer.StatusCode, answer.Header.Get("DAV")}, at)
	}
	assert.True(t, strings.HasPrefix(c.want(405, "GET", "/in/", ""), "that is a folder"))
}
