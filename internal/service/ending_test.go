package service

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/exchange"
)

type kept = exchange.Uploads

// dying are records that nothing is written to any more once the service has died.
type dying struct {
	kept
	dies func(u keep.PartialUpload) bool
	dead bool
}

var errDead = errors.New("the service has ended")

func (d *dying) SaveUpload(ctx context.Context, u keep.PartialUpload, new bool) error {
	if d.dead = d.dead || d.dies(u); d.dead {
		return errDead
	}
	return d.kept.SaveUpload(ctx, u, new)
}

func (d *dying) DropUpload(ctx context.Context, u keep.PartialUpload) error {
	if d.dead {
		return errDead
	}
	return d.kept.DropUpload(ctx, u)
}

// deadFolder is a store in which nothing gets a new name any more.
type deadFolder struct {
	store.Folder
	no bool
}

func (f deadFolder) Rename(name string, to store.Folder, target string, replace bool) error {
	if f.no {
		return errDead
	}
	return f.Folder.Rename(name, to.(deadFolder).Folder, target, replace)
}

// TestAnUploadThatWasWholeStaysWhole ends the service right before and right after an upload gets its name: whoever asks for it
// afterwards is told that it is there, and it is, once.
func TestAnUploadThatWasWholeStaysWhole(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), Options{Dir: filepath.Join(dir, "data"), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { s.Stop(context.Background()) })
	folder := filepath.Join(dir, "files")
	require.NoError(t, os.MkdirAll(folder, 0o750))
	require.NoError(t, s.DB.SaveStore(t.Context(), keep.Store{Name: "files", Kind: keep.Disk, Folder: folder, Durability: keep.Process}))
	require.NoError(t, s.DB.AddAccount(t.Context(), &keep.Account{Name: "ann", State: keep.StateActive, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}},
		Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "ann"}}}))
	holder, err := s.DB.Holder(t.Context(), "ann")
	require.NoError(t, err)
	for _, both := range []bool{false, true} {
		for _, before := range []bool{false, true} {
			s.door.open = func(one keep.Store, folder string) (store.Folder, int, error) {
				f, made, err := s.Stores.Open(one, folder)
				return deadFolder{f, before}, made, err
			}
			files := exchange.Files{UploadsAt: func(*http.Request) string { return "/" }, KeepBoth: both, Log: slog.New(slog.DiscardHandler)}
			begin := func() *exchange.Stay {
				visit := s.door.arriveFrom("127.0.0.1", keep.SFTP, true, func(*keep.Fault) {})
				opened, err := visit.enter(t.Context(), holder.Account)
				require.NoError(t, err)
				t.Cleanup(func() { opened.Close(); visit.SignOut(nil) })
				stay := exchange.Arrive(httptest.NewRequest("GET", "/", nil))
				stay.Tree, stay.Uploads = opened, visit
				return stay
			}
			ask := func(stay *exchange.Stay, do func(http.ResponseWriter, *http.Request, *exchange.Stay) error, id, body string, headers ...string) (http.Header, error) {
				r := httptest.NewRequest("PATCH", "/", strings.NewReader(body))
				r.SetPathValue("id", id)
				for _, header := range append(headers, "Tus-Resumable: 1.0.0", "Content-Type: application/offset+octet-stream") {
					name, value, _ := strings.Cut(header, ": ")
					r.Header.Set(name, value)
				}
				w := httptest.NewRecorder()
				err := do(w, r, stay)
				return w.Header(), err
			}
			stay := begin()
			u, err := files.Begin(t.Context(), stay, keep.PartialUpload{Path: "/whole.bin", Size: 1000})
			require.NoError(t, err)
			stay.Uploads = &dying{kept: stay.Uploads, dies: func(u keep.PartialUpload) bool { return u.Done || before && u.Ending && u.Hashed > 0 }}
			_, err = ask(stay, files.PatchUpload, u.ID, strings.Repeat("x", 1000), "Upload-Offset: 0")
			require.Error(t, err)

			before = false
			stay = begin()
			h, err := ask(stay, files.HeadUpload, u.ID, "")
			require.NoError(t, err, "both %t, before %t", both, before)
			assert.Equal(t, "1000", h.Get("Upload-Offset"))
			left, err := stay.Uploads.Uploads(t.Context())
			require.NoError(t, err)
			assert.Empty(t, left)
			there, err := os.ReadDir(filepath.Join(folder, "ann"))
			require.NoError(t, err)
			require.Len(t, there, 1)
			assert.Equal(t, "whole.bin", there[0].Name())
			require.NoError(t, os.Remove(filepath.Join(folder, "ann", "whole.bin")))
		}
	}
}
