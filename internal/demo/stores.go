package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"urbankeep/internal/desk/office"
	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
	"urbankeep/internal/service"
)

// The stores of the city beside its disk: deeds lie encrypted, old surveys in a bucket of the stand-in.
const (
	deeds        = "deeds"
	oldSurveys   = "surveys"
	bucketName   = "port-selwyn"
	bucketKey    = "survey-office"
	bucketSecret = "kept-at-the-customs-quay"
)

// storeElsewhere adds them, and gives the clerk who sees everything a way to them. stop ends the stand-in.
func (c *city) storeElsewhere(ctx context.Context, s *service.Service) (stop func(), err error) {
	objects, err := OpenObjectStore(filepath.Join(c.dir, "objects"), bucketName, bucketKey)
	if err != nil {
		return nil, err
	}
	at, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	server := &http.Server{Handler: objects, ReadHeaderTimeout: time.Minute}
	go server.Serve(at) // ends with stop
	stop = func() { server.Close() }
	defer func() {
		if err != nil {
			stop()
		}
	}()
	who := office.Actor{Operator: "ilse", Role: keep.Owner, Address: "127.0.0.1", Protocol: keep.Console}
	if err := c.seal(ctx, s); err != nil {
		return nil, err
	}
	bucket := keep.Store{Name: oldSurveys, Kind: keep.Object, Site: keep.Site{Endpoint: "http://" + at.Addr().String(), Bucket: bucketName, User: bucketKey}, Secret: bucketSecret}
	if _, _, err := s.Office.AddStore(ctx, who, bucket, ""); err != nil {
		return nil, fmt.Errorf("store %s: %w", oldSurveys, err)
	}
	_, err = s.Office.SetAccount(ctx, who, "records-desk", "", func(a *keep.Account) error {
		a.Mounts = append(a.Mounts, keep.Mount{At: "/" + deeds, Store: deeds, Folder: "/"}, keep.Mount{At: "/" + oldSurveys, Store: oldSurveys, Folder: "/"})
		return nil
	})
	return stop, errors.Join(err, c.fill(ctx, s))
}

// seal makes the store whose files are encrypted; it lies in the city's own folder, as its disk does.
func (c *city) seal(ctx context.Context, s *service.Service) (err error) {
	sealed := keep.Store{Name: deeds, Kind: keep.Sealed, Folder: filepath.Join(c.dir, deeds), Durability: keep.Power}
	if err := os.Mkdir(sealed.Folder, 0o750); err != nil {
		return err
	}
	if sealed.Mark, err = s.Stores.Mark(sealed); err != nil {
		return err
	}
	if _, err := s.Stores.MakeKey(sealed, ""); err != nil {
		return err
	}
	return s.DB.SaveStore(ctx, sealed)
}

// fill puts some files into both.
func (c *city) fill(ctx context.Context, s *service.Service) error {
	known, err := s.DB.Stores(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, one := range known {
		folders, files := []string{"harbour", "hillside"}, []string{"deed-1874.txt", "deed-1902.txt"}
		switch one.Name {
		case oldSurveys:
			folders, files = []string{"1998", "2004", "2011"}, []string{"levels.csv", "benchmarks.csv"}
		case deeds:
		default:
			continue
		}
		for _, folder := range folders {
			in, _, err := s.Stores.Open(one, folder)
			if err != nil {
				return err
			}
			for n, name := range files {
				errs = append(errs, put(in, name, fmt.Appendf(nil, "%s, %s, of the survey office of Port Selwyn: sheet %d\n", name, folder, n+1)))
			}
			errs = append(errs, in.Close())
		}
	}
	return errors.Join(errs...)
}

func put(in store.Folder, name string, content []byte) error {
	f, err := in.Open(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, store.FileMode)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(content, 0)
	return errors.Join(err, store.End(f, err == nil, false))
}
