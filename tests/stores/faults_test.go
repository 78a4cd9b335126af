package stores_test

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/demo"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
	"urbankeep/tests/testkit/sftptalk"
)

// standIn is an object store whose answers a test may spoil.
type standIn struct {
	*demo.ObjectStore
	server *httptest.Server
	spoil  atomic.Pointer[func(r *http.Request) *demo.ObjectFault]
}

func newStandIn(t *testing.T, k *testkit.Keep) *standIn {
	objects, err := demo.OpenObjectStore(t.TempDir(), "city", "key")
	require.NoError(t, err)
	s := &standIn{ObjectStore: objects}
	objects.Before = func(r *http.Request) *demo.ObjectFault {
		if spoil := s.spoil.Load(); spoil != nil {
			return (*spoil)(r)
		}
		return nil
	}
	s.server = httptest.NewServer(objects)
	t.Cleanup(s.server.Close)
	_, errs, status := k.CLIWith("secret\n", "store", "add", "cloud", "-kind", "object", "-endpoint", s.server.URL, "-bucket", "city", "-user", "key")
	require.Zero(t, status, errs)
	return s
}

func (s *standIn) spoils(how func(r *http.Request) *demo.ObjectFault) {
	if how == nil {
		s.spoil.Store(nil)
		return
	}
	s.spoil.Store(&how)
}

// names are the keys that accounts see.
func (s *standIn) names() (names []string) {
	keys, _ := s.Objects()
	for _, key := range keys {
		if !strings.HasPrefix(key, ".urbankeep") && !strings.HasSuffix(key, "/") {
			names = append(names, key)
		}
	}
	return names
}

func TestNothingIsAcknowledgedThatAnObjectStoreDoesNotHave(t *testing.T) {
	t.Parallel()
	k := testkit.Start(t)
	s := newStandIn(t, k)
	k.Account("ann", "-home", "cloud:ann", "-quota-bytes", "100M")
	file, content := testkit.File(t, 12_000_000)
	back := filepath.Join(t.TempDir(), "back")
	put := func(name string) (string, error) { return k.Curl("ann", "ftps", "/"+name, "-T", file) }
	out, err := put("before")
	require.NoError(t, err, out)
	failing := func(status int, code string, which func(*http.Request) bool) func(*http.Request) *demo.ObjectFault {
		return func(r *http.Request) *demo.ObjectFault {
			if which(r) {
				return &demo.ObjectFault{Status: status, Code: code}
			}
			return nil
		}
	}
	parts := func(r *http.Request) bool { return r.URL.Query().Has("partNumber") }
	writes := func(r *http.Request) bool { return r.Method != http.MethodGet && r.Method != http.MethodHead }
	for name, fault := range map[string]struct {
		how func(*http.Request) *demo.ObjectFault
		say string
	}{
		"full":      {failing(507, "QuotaExceeded", parts), "the disk is full"},
		"forbidden": {failing(403, "AccessDenied", writes), "did not do it"},
		"completed": {failing(403, "AccessDenied", func(r *http.Request) bool { return r.Method == http.MethodPost && r.URL.Query().Has("uploadId") }), "did not do it"},
	} {
		t.Run(name, func(t *testing.T) {
			s.spoils(fault.how)
			out, err := k.Curl("ann", "ftps", "/"+name, "-T", file, "-v")
			s.spoils(nil)
			assert.Error(t, err, "it is not acknowledged")
			assert.Contains(t, out, fault.say)
			assert.Equal(t, []string{"ann/before"}, s.names(), "nothing of it appears")
			out, err = k.Curl("ann", "ftps", "/before", "-T", file)
			require.NoError(t, err, "what was there can be replaced once it is over: %s", out)
		})
	}
	t.Run("slow", func(t *testing.T) {
		s.spoils(func(*http.Request) *demo.ObjectFault { time.Sleep(time.Second); return nil })
		defer s.spoils(nil)
		out, err := put("slow")
		require.NoError(t, err, out)
		out, err = k.Curl("ann", "ftps", "/slow", "-o", back)
		require.NoError(t, err, out)
		assert.True(t, bytes.Equal(content, testkit.OnDisk(t, back)))
	})
	t.Run("revoked", func(t *testing.T) {
		c := sftptalk.Dial(t, k, "ann")
		defer func() {
			assert.EqualValues(t, 0, c.Status(14, sftptalk.Str("/made"), sftptalk.NoAttrs()), "the session lives on")
		}()
		s.spoils(failing(403, "InvalidAccessKeyId", func(*http.Request) bool { return true }))
		_, err := k.Curl("ann", "ftps", "/before", "-o", back)
		assert.Error(t, err)
		text, _, status := k.CLI("store", "check", "cloud", "-json")
		assert.NotZero(t, status)
		assert.Contains(t, text, "refuses the key")
		require.Eventually(t, func() bool { return strings.Contains(k.Must(nil, "store", "list"), "AWAY") }, testkit.Patience, time.Second, "waited for the store to be away")
		s.spoils(nil)
		require.Eventually(t, func() bool { return strings.Count(k.Must(nil, "store", "list"), "AWAY") == 0 }, testkit.Patience, time.Second, "waited for it to come back")
		out, err := k.Curl("ann", "ftps", "/before", "-o", back)
		require.NoError(t, err, out)
	})
	t.Run("a client that leaves", func(t *testing.T) {
		c := sftptalk.Dial(t, k, "ann")
		handle := c.Open("/left", 2|8) // write, make
		for at := 0; at < len(content); at += 32_000 {
			require.EqualValues(t, 0, c.Status(6, handle, sftptalk.U64(uint64(at)), sftptalk.Str(string(content[at:min(at+32_000, len(content))]))))
		}
		_, unfinished := s.Objects()
		assert.Equal(t, 1, unfinished)
		require.NoError(t, c.SSH.Close())
		require.Eventually(t, func() bool { _, unfinished := s.Objects(); return unfinished == 0 }, testkit.Patience, 100*time.Millisecond, "waited for what it had sent to be taken away")
		assert.NotContains(t, s.names(), "ann/left")
	})
	_, unfinished := s.Objects()
	assert.Zero(t, unfinished, "no parts are left")
	var recounted api.Recount
	k.Must(&recounted, "quota", "recount", "cloud:ann")
	assert.Equal(t, recounted.BytesNow, recounted.BytesBefore, "the books are right")
	assert.Equal(t, recounted.FilesNow, recounted.FilesBefore)
}

// The process ends in the middle of an upload: nothing of it appears, and the parts go.
func TestAKillLeavesNothingInTheBucket(t *testing.T) {
	t.Parallel()
	objects, err := demo.OpenObjectStore(t.TempDir(), "city", "key")
	require.NoError(t, err)
	begun := make(chan struct{}, 100)
	objects.Before = func(r *http.Request) *demo.ObjectFault {
		if r.URL.Query().Has("partNumber") {
			begun <- struct{}{}
		}
		return nil
	}
	server := httptest.NewServer(objects)
	defer server.Close()
	data := testkit.Folder(t)
	p := testkit.Launch(t, data)
	p.CLI(nil, "secret\n", "store", "add", "cloud", "-kind", "object", "-endpoint", server.URL, "-bucket", "city", "-user", "key")
	p.CLI(nil, testkit.Password+"\n", "account", "add", "crew-harbour", "-password", "-home", "cloud:ann")
	file, _ := testkit.File(t, 40_000_000)
	upload := p.Curl("--limit-rate", "10M", "-T", file, "ftps://"+p.FTPS+"/big")
	require.NoError(t, upload.Start())
	<-begun
	require.NoError(t, p.Run.Process.Kill())
	p.Run.Wait()
	upload.Wait()
	_, unfinished := objects.Objects()
	assert.Equal(t, 1, unfinished)
	again := testkit.LaunchAgain(t, data)
	require.Eventually(t, func() bool { _, unfinished := objects.Objects(); return unfinished == 0 }, testkit.Patience, 100*time.Millisecond, "waited for the parts to be taken away")
	keys, _ := objects.Objects()
	assert.NotContains(t, keys, "ann/big")
	again.Run.Process.Kill()
	again.Run.Wait()
}

// A real store that is killed in the middle of uploads: who was told that a file is there finds it.
func TestAnObjectStoreThatIsKilledLosesNoAcknowledgedUpload(t *testing.T) {
	t.Parallel()
	swift := counterpart.StartSwift(t, "city")
	k := testkit.Start(t)
	addObject(t, k, swift)
	k.Account("ann", "-home", "cloud:ann")
	file, content := testkit.File(t, 6_000_000)
	stop := make(chan struct{})
	done := make(chan []string)
	var count atomic.Int32
	go func() {
		var acknowledged []string
		for n := 0; ; n++ {
			select {
			case <-stop:
				done <- acknowledged
				return
			default:
			}
			name := "/f" + string(rune('a'+n%26)) + string(rune('a'+n/26%26))
			if _, err := k.Curl("ann", "ftps", name, "-T", file); err == nil {
				acknowledged = append(acknowledged, name)
				count.Add(1)
			}
		}
	}()
	for range 2 {
		before := count.Load()
		require.Eventually(t, func() bool { return count.Load() > before }, testkit.Patience, 10*time.Millisecond, "waited for an upload")
		time.Sleep(200 * time.Millisecond) // into the next
		swift.Kill()
		time.Sleep(500 * time.Millisecond)
		swift.Revive()
	}
	close(stop)
	acknowledged := <-done
	require.NotEmpty(t, acknowledged)
	back := filepath.Join(t.TempDir(), "back")
	for _, name := range acknowledged {
		require.Eventually(t, func() bool {
			_, err := k.Curl("ann", "ftps", name, "-o", back)
			return err == nil
		}, testkit.Patience, time.Second, "waited for "+name)
		assert.True(t, bytes.Equal(content, testkit.OnDisk(t, back)), name)
	}
}
