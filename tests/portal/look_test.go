package portal_test

import (
	"archive/tar"
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
)

// drawing is a service whose small pictures are drawn by the program that was built.
func drawing(t *testing.T) *testkit.Keep {
	return testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) { o.Program = testkit.Binary(t) })
}

func put(t *testing.T, k *testkit.Keep, name string, content []byte) {
	t.Helper()
	at := filepath.Join(k.Home("ann"), name)
	require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(t, os.WriteFile(at, content, 0o644))
}

func picture(t *testing.T, wide, high int) image.Image {
	drawn := image.NewNRGBA(image.Rect(0, 0, wide, high))
	for x := range wide {
		for y := range high {
			drawn.Set(x, y, color.NRGBA{uint8(x * 255 / wide), uint8(y * 255 / high), 90, 255})
		}
	}
	return drawn
}

// hugePNG says that it has so many pixels a side, in some bytes.
func hugePNG(side uint32) []byte {
	var out bytes.Buffer
	out.WriteString("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, content []byte) {
		binary.Write(&out, binary.BigEndian, uint32(len(content)))
		text := append([]byte(kind), content...)
		out.Write(text)
		binary.Write(&out, binary.BigEndian, crc32.ChecksumIEEE(text))
	}
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, side), side)
	chunk("IHDR", append(head, 1, 0, 0, 0, 0))
	var packed bytes.Buffer
	z := zlib.NewWriter(&packed)
	z.Write(make([]byte, 1<<20))
	z.Close()
	chunk("IDAT", packed.Bytes())
	chunk("IEND", nil)
	return out.Bytes()
}

func TestPicturesAreDrawnSmallAndHostileOnesHarmNobody(t *testing.T) {
	k := drawing(t)
	k.Account("ann")
	var asJPEG, asPNG bytes.Buffer
	require.NoError(t, jpeg.Encode(&asJPEG, picture(t, 2000, 1000), nil))
	require.NoError(t, png.Encode(&asPNG, picture(t, 100, 50)))
	put(t, k, "a.jpg", asJPEG.Bytes())
	put(t, k, "b.png", asPNG.Bytes())
	// A camera that was held upright says so.
	turned := append([]byte{0xFF, 0xD8, 0xFF, 0xE1, 0, 34}, "Exif\x00\x00MM\x00\x2a\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00\x06\x00\x00\x00\x00\x00\x00"...)
	put(t, k, "c.jpg", append(turned, asJPEG.Bytes()[2:]...))
	hostile := map[string][]byte{"huge.png": hugePNG(50_000), "wide.png": hugePNG(1 << 30), "cut.jpg": asJPEG.Bytes()[:5000], "text.png": []byte("<svg onload=alert(1)>"),
		"page.jpg": []byte("<html><script>alert(1)</script>"), "zero.gif": {}, "bomb.tif": append([]byte("II*\x00\x08\x00\x00\x00"), bytes.Repeat([]byte{0xff}, 4000)...)}
	for name, content := range hostile {
		put(t, k, name, content)
	}
	h := in(t, k, "ann")
	preview := func(name string, side int) (int, []byte) {
		return h.do("GET", fmt.Sprintf("preview/%s?side=%d", name, side), nil)
	}
	for name, want := range map[string]image.Point{"a.jpg": {320, 160}, "b.png": {100, 50}, "c.jpg": {160, 320}} {
		for range 2 { // drawn, then kept
			status, text := preview(name, 320)
			require.Equal(t, 200, status, "%s: %s", name, text)
			facts, err := jpeg.DecodeConfig(bytes.NewReader(text))
			require.NoError(t, err)
			assert.Equal(t, want, image.Pt(facts.Width, facts.Height), name)
		}
	}
	for name := range hostile {
		status, text := preview(name, 320)
		assert.Equal(t, 415, status, "%s: %.100s", name, text)
	}
	for path, want := range map[string]int{"a.jpg?side=5000": 400, "none.jpg?side=320": 404, "a.jpg": 400} {
		status, _ := h.do("GET", "preview/"+path, nil)
		assert.Equal(t, want, status, path)
	}
	status, _ := h.do("GET", "api/v1/me", nil)
	assert.Equal(t, 200, status, "the service stands")
	count := func() int {
		var trail []api.AuditRecord
		k.Must(&trail, "audit", "-account", "ann", "-action", "download", "-path", "/a.jpg")
		return len(trail)
	}
	assert.Equal(t, 1, count(), "who looks has read the file, once")
	// A changed picture is drawn anew; what may not be downloaded is not shown; the store has nothing of it.
	put(t, k, "a.jpg", asPNG.Bytes())
	status, text := preview("a.jpg", 320)
	require.Equal(t, 200, status)
	facts, err := jpeg.DecodeConfig(bytes.NewReader(text))
	require.NoError(t, err)
	assert.Equal(t, 100, facts.Width)
	entries, err := os.ReadDir(k.Home("ann"))
	require.NoError(t, err)
	assert.Len(t, entries, 3+len(hostile))
	k.Must(nil, "account", "set", "ann", "-rights", "list,upload")
	status, _ = preview("a.jpg", 320)
	assert.Equal(t, 403, status)
	k.Must(nil, "account", "set", "ann", "-rights", "full")
	k.Must(nil, "store", "set", "files", "-previews", "off")
	h = in(t, k, "ann")
	status, _ = preview("a.jpg", 320)
	assert.Equal(t, 415, status)
	assert.False(t, h.folder("/").Entries[0].Picture)
}

// What a browser is shown is never active in the portal's origin.
func TestWhatIsLookedAtIsNeverActive(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	page := []byte("<html><script>document.title='owned'</script>")
	kinds := map[string]string{"a.txt": "text/plain; charset=utf-8", "b.pdf": "application/pdf", "c.mp4": "video/mp4", "d.MP3": "audio/mpeg"}
	for name := range kinds {
		put(t, k, name, page)
	}
	for _, name := range []string{"e.html", "f.svg", "g.xhtml", "h.js", "i.swf", "j", "k.html.", "l.pdf.html"} {
		put(t, k, name, page)
		kinds[name] = ""
	}
	h := in(t, k, "ann")
	for name, kind := range kinds {
		response, err := h.http.Get(h.base + "look/" + name)
		require.NoError(t, err)
		io.Copy(io.Discard, response.Body)
		response.Body.Close()
		policy := response.Header.Get("Content-Security-Policy")
		if kind == "" {
			assert.Equal(t, 415, response.StatusCode, name)
			continue
		}
		assert.Equal(t, kind, response.Header.Get("Content-Type"), name)
		assert.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"))
		assert.Contains(t, policy, "default-src 'none'")
		if kind != "application/pdf" {
			assert.Contains(t, policy, "sandbox")
		}
		saved, err := h.http.Get(h.base + "files/" + name)
		require.NoError(t, err)
		saved.Body.Close()
		assert.True(t, strings.HasPrefix(saved.Header.Get("Content-Disposition"), "attachment"))
	}
	request, err := http.NewRequest("GET", h.base+"look/c.mp4", nil)
	require.NoError(t, err)
	request.Header.Set("Range", "bytes=2-5")
	response, err := h.http.Do(request)
	require.NoError(t, err)
	part, err := io.ReadAll(response.Body)
	response.Body.Close()
	require.NoError(t, err)
	assert.Equal(t, []any{206, string(page[2:6])}, []any{response.StatusCode, string(part)})
}

func TestFindingCopyingAndRemovingBelowAFolder(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/hidden=upload", "-grant", "/kept=read-only")
	for _, name := range []string{"plates/north/Harbour.tif", "plates/harbour-2.tif", "hidden/harbour.tif", "kept/harbour.tif", "other.tif"} {
		put(t, k, name, []byte(name))
	}
	h := in(t, k, "ann")
	find := func(text string) (found []string, end api.PortalSearched) {
		status, answer := h.do("GET", "api/v1/search?path=/&name="+text, nil)
		require.Equal(t, 200, status, string(answer))
		lines := strings.Split(strings.TrimSpace(string(answer)), "\n")
		for _, line := range lines[:len(lines)-1] {
			var one api.PortalFound
			require.NoError(t, json.Unmarshal([]byte(line), &one))
			found = append(found, one.In+"|"+one.Name)
		}
		require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &end))
		return found, end
	}
	found, end := find("HARBOUR")
	assert.ElementsMatch(t, []string{"/plates/north|Harbour.tif", "/plates|harbour-2.tif", "/kept|harbour.tif"}, found)
	assert.False(t, end.Cut)
	status, _ := h.do("GET", "api/v1/search?path=/&name=", nil)
	assert.Equal(t, 422, status)

	post := func(path string, body any, want int) api.Problem {
		t.Helper()
		status, text := h.do("POST", "api/v1/"+path, body)
		assert.Equal(t, want, status, string(text))
		var p api.Problem
		json.Unmarshal(text, &p)
		return p
	}
	post("copies", api.PortalRename{Path: "/plates", To: "/again"}, 204)
	assert.Equal(t, "plates/north/Harbour.tif", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "again/north/Harbour.tif"))))
	post("copies", api.PortalRename{Path: "/plates", To: "/again"}, 409)
	post("copies", api.PortalRename{Path: "/plates", To: "/plates/inside"}, 400)
	post("copies", api.PortalRename{Path: "/other.tif", To: "/kept/other.tif"}, 403)
	post("removals", api.PortalRemoval{Path: "/again"}, 409)
	post("removals", api.PortalRemoval{Path: "/again", Inside: true}, 204)
	assert.NoDirExists(t, filepath.Join(k.Home("ann"), "again"))
	post("removals", api.PortalRemoval{Path: "/kept", Inside: true}, 403)
	assert.FileExists(t, filepath.Join(k.Home("ann"), "kept/harbour.tif"))

	var why api.PortalWhy
	_, text := h.do("GET", "api/v1/why?path=/kept/harbour.tif&right=delete", nil)
	require.NoError(t, json.Unmarshal(text, &why))
	assert.False(t, why.May)
	assert.Contains(t, why.Say, "the grant on /kept gives read-only")
	_, text = h.do("GET", "api/v1/why?path=/x&right=upload", nil)
	require.NoError(t, json.Unmarshal(text, &why))
	assert.True(t, why.May)

	status, text = h.do("GET", "tar?path=/plates", nil)
	require.Equal(t, 200, status)
	got := map[string]string{}
	for r := tar.NewReader(bytes.NewReader(text)); ; {
		head, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		got[head.Name] = string(content)
	}
	assert.Equal(t, map[string]string{"north/": "", "north/Harbour.tif": "plates/north/Harbour.tif", "harbour-2.tif": "plates/harbour-2.tif"}, got)
}

// A long folder is there as soon as it is read, line by line.
func TestALongFolderComesAsItIsRead(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o755))
	const many = 20_000
	for i := range many {
		f, err := os.Create(filepath.Join(k.Home("ann"), fmt.Sprintf("reading-%05d.txt", i)))
		require.NoError(t, err)
		f.Close()
	}
	h := in(t, k, "ann")
	request, err := http.NewRequest("GET", h.base+"api/v1/folder?path=/", nil)
	require.NoError(t, err)
	request.Header.Set("Accept", "application/jsonl")
	response, err := h.http.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	lines := json.NewDecoder(response.Body)
	var head api.PortalFolder
	require.NoError(t, lines.Decode(&head))
	assert.Contains(t, head.May, "upload")
	names := map[string]bool{}
	for lines.More() {
		var batch []api.PortalEntry
		require.NoError(t, lines.Decode(&batch))
		for _, e := range batch {
			names[e.Name] = true
		}
	}
	assert.Len(t, names, many)
}
