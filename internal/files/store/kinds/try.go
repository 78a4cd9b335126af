package kinds

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Step is one thing that the service asks of a store, and how that went.
type Step struct {
	What string
	Err  error
	Took time.Duration
}

// Try does everything that the service asks of a store, with files of its own in a folder that no account
// sees, which it removes. It ends with the first step that others rest on.
func (k *Stores) Try(s keep.Store) (steps []Step) {
	try := func(what string, do func() error) bool {
		started := time.Now()
		err := do()
		steps = append(steps, Step{what, err, time.Since(started)})
		return err == nil
	}
	var root, in store.Folder
	if !try("reach it", func() (err error) { root, err = k.root(s); return err }) {
		return steps
	}
	defer root.Close()
	if !try("list it", func() error { _, err := listed(root); return err }) {
		return steps
	}
	if !try("make a folder", func() (err error) {
		if err = root.Mkdir(store.SpoolName, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
		spool, err := root.Enter(store.SpoolName)
		if err != nil {
			return err
		}
		defer spool.Close()
		name := "check-" + rand.Text()
		if err = spool.Mkdir(name, 0o700); err == nil {
			in, err = spool.Enter(name)
		}
		return err
	}) {
		return steps
	}
	defer in.Close()
	content := make([]byte, 100_000)
	rand.Read(content)
	if try("write a file", func() error {
		f, err := in.Open("one", os.O_CREATE|os.O_EXCL|os.O_WRONLY, store.FileMode)
		if err != nil {
			return err
		}
		_, err = f.WriteAt(content, 0)
		return errors.Join(err, store.End(f, err == nil, s.Durability == keep.Power))
	}) {
		try("read it", func() error { return same(in, "one", content) })
		try("write in the middle of it", func() error {
			f, err := in.Open("one", os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			copy(content[50_000:], "the middle")
			_, err = f.WriteAt([]byte("the middle"), 50_000)
			if err = errors.Join(err, store.End(f, err == nil, false)); err != nil {
				return err
			}
			return same(in, "one", content)
		})
		try("set its time", func() error { return in.SetTimes("one", time.Time{}, time.Now().Add(-time.Hour)) })
		try("rename it", func() error {
			if err := in.Rename("one", in, "two", false); err != nil {
				return err
			}
			return same(in, "two", content)
		})
		try("list the folder", func() error {
			names, err := listed(in)
			if err == nil && (len(names) != 1 || names[0] != "two") {
				err = fmt.Errorf("it shows %q where there is one file, two", names)
			}
			return err
		})
		try("delete it", func() error { return in.Remove("two", false) })
	}
	try("delete the folder", func() error { return clear(root, in) })
	return steps
}

// clear removes the folder that was tried, and the one above it when nothing else is in it.
func clear(root, in store.Folder) error {
	for _, name := range []string{"one", "two"} {
		in.Remove(name, false)
	}
	spool, err := root.Enter(store.SpoolName)
	if err != nil {
		return err
	}
	defer spool.Close()
	names, err := listed(spool)
	for _, name := range names {
		if len(name) > len("check-") && name[:len("check-")] == "check-" {
			err = errors.Join(err, spool.Remove(name, true))
		}
	}
	root.Remove(store.SpoolName, true) // it stays when something else is in it
	return err
}

func listed(f store.Folder) (names []string, err error) {
	entries, err := f.Entries()
	if err != nil {
		return nil, err
	}
	defer entries.Close()
	for {
		found, err := entries.Next(store.SmallRead)
		if err == io.EOF {
			return names, nil
		}
		if err != nil {
			return names, err
		}
		for _, one := range found {
			names = append(names, one.Name())
		}
		if len(names) > 1000 {
			return names, nil
		}
	}
}

func same(in store.Folder, name string, want []byte) error {
	f, err := in.Open(name, os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	got, err := io.ReadAll(io.LimitReader(f, int64(len(want))+1))
	if err == nil && !bytes.Equal(got, want) {
		err = errors.New("other bytes came back than were written")
	}
	return err
}
