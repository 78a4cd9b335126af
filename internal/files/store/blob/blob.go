package blob

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/policy"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/streaming"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blockblob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"

	"urbankeep/internal/files/store/bucket"
	"urbankeep/internal/keep"
)

// driver is a container.
type driver struct{ c *container.Client }

// Open gives a container; nothing is asked of it yet.
func Open(site keep.Site, secret keep.Secret, transport http.RoundTripper) (bucket.Driver, error) {
	at := strings.TrimSuffix(site.Endpoint, "/") + "/" + site.Bucket
	options := &container.ClientOptions{ClientOptions: policy.ClientOptions{Transport: &http.Client{Transport: transport}, Retry: policy.RetryOptions{MaxRetries: 3, RetryDelay: 200 * time.Millisecond, MaxRetryDelay: 2 * time.Second}}}
	if text := secret.Reveal(); strings.Contains(text, "sig=") {
		c, err := container.NewClientWithNoCredential(at+"?"+strings.TrimPrefix(text, "?"), options)
		return &driver{c}, err
	}
	key, err := container.NewSharedKeyCredential(site.User, secret.Reveal())
	if err != nil {
		return nil, fmt.Errorf("the account's key can't be used: %w", err)
	}
	c, err := container.NewClientWithSharedKeyCredential(at, key, options)
	return &driver{c}, err
}

// Refuses is what names can't have: the service takes it for a slash.
const Refuses = `\`

// markName is how the mark of a folder is named: a name that ends with a slash is not taken everywhere.
const markName = ".urbankeep-folder"

func nameOf(key string) string {
	if strings.HasSuffix(key, "/") {
		return key + markName
	}
	return key
}

func keyOf(name string) string {
	if strings.HasSuffix(name, "/"+markName) {
		return strings.TrimSuffix(name, markName)
	}
	return name
}

// The names under which it is kept with a blob what blobs don't have.
const (
	modifiedName = "urbankeep_modified" // microseconds since 1970
	modeName     = "urbankeep_mode"     // octal
)

func metadata(kept bucket.Kept) map[string]*string {
	m := map[string]*string{}
	if !kept.Modified.IsZero() {
		text := strconv.FormatInt(kept.Modified.UnixMicro(), 10)
		m[modifiedName] = &text
	}
	if kept.Mode != 0 {
		text := strconv.FormatUint(uint64(kept.Mode.Perm()), 8)
		m[modeName] = &text
	}
	return m
}

func keptOf(m map[string]*string) (kept bucket.Kept) {
	for name, value := range m {
		switch {
		case value == nil:
		case strings.EqualFold(name, modifiedName):
			if n, err := strconv.ParseInt(*value, 10, 64); err == nil {
				kept.Modified = time.UnixMicro(n)
			}
		case strings.EqualFold(name, modeName):
			if n, err := strconv.ParseUint(*value, 8, 9); err == nil {
				kept.Mode = fs.FileMode(n)
			}
		}
	}
	return kept
}

// failure turns an error of the protocol into one that the service knows.
func failure(err error) error {
	var answer *azcore.ResponseError
	if err == nil || !errors.As(err, &answer) {
		return err
	}
	switch {
	case answer.ErrorCode == "ContainerNotFound":
		return errors.New("there is no such container")
	case answer.StatusCode == http.StatusNotFound:
		return fs.ErrNotExist
	case answer.StatusCode == http.StatusPreconditionFailed:
		return bucket.ErrChanged
	case answer.StatusCode == http.StatusInsufficientStorage, answer.StatusCode == http.StatusRequestEntityTooLarge:
		return syscall.ENOSPC
	case answer.StatusCode == http.StatusForbidden, answer.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("it refuses the key, or the key may not do that: %s", answer.ErrorCode)
	}
	return fmt.Errorf("it answers %d %s", answer.StatusCode, answer.ErrorCode)
}

func (d *driver) blob(key string) *blockblob.Client { return d.c.NewBlockBlobClient(nameOf(key)) }

func of[T any](p *T) (value T) {
	if p != nil {
		value = *p
	}
	return value
}

func (d *driver) Head(ctx context.Context, key string) (bucket.Object, error) {
	p, err := d.blob(key).GetProperties(ctx, nil)
	if err != nil {
		return bucket.Object{}, failure(err)
	}
	return bucket.Object{Key: key, Size: of(p.ContentLength), Modified: of(p.LastModified), Tag: string(of(p.ETag)), Kept: keptOf(p.Metadata)}, nil
}

func (d *driver) Get(ctx context.Context, key, tag string, from, length int64) (io.ReadCloser, error) {
	o := &blob.DownloadStreamOptions{Range: blob.HTTPRange{Offset: from, Count: max(length, 0)}}
	if tag != "" {
		match := azcore.ETag(tag)
		o.AccessConditions = &blob.AccessConditions{ModifiedAccessConditions: &blob.ModifiedAccessConditions{IfMatch: &match}}
	}
	answer, err := d.blob(key).DownloadStream(ctx, o)
	if err != nil {
		return nil, failure(err)
	}
	return answer.Body, nil
}

func (d *driver) Put(ctx context.Context, key string, body io.ReadSeeker, _ int64, kept bucket.Kept) error {
	_, err := d.blob(key).Upload(ctx, streaming.NopCloser(body), &blockblob.UploadOptions{Metadata: metadata(kept)})
	return failure(err)
}

// copyPace is how often it is asked whether a copy is done.
const copyPace = 100 * time.Millisecond

func (d *driver) Copy(ctx context.Context, from bucket.Object, to string) error {
	target := d.blob(to)
	begun, err := target.StartCopyFromURL(ctx, d.blob(from.Key).URL(), nil)
	if err != nil {
		return failure(err)
	}
	for status := of(begun.CopyStatus); status != blob.CopyStatusTypeSuccess; {
		if status == blob.CopyStatusTypeFailed || status == blob.CopyStatusTypeAborted {
			return errors.New("a copy failed on its side")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(copyPace):
		}
		p, err := target.GetProperties(ctx, nil)
		if err != nil {
			return failure(err)
		}
		status = of(p.CopyStatus)
	}
	return nil
}

func (d *driver) Keep(ctx context.Context, of bucket.Object, kept bucket.Kept) error {
	_, err := d.blob(of.Key).SetMetadata(ctx, metadata(kept), nil)
	return failure(err)
}

func (d *driver) Delete(ctx context.Context, key string) error {
	_, err := d.blob(key).Delete(ctx, nil)
	if err = failure(err); errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return err
}

func (d *driver) List(ctx context.Context, prefix string, deep bool, after string, most int) (page bucket.Page, err error) {
	limit, marker := int32(most), &after
	if after == "" {
		marker = nil
	}
	var items []*container.BlobItem
	var next *string
	if deep {
		found, err := d.c.NewListBlobsFlatPager(&container.ListBlobsFlatOptions{Prefix: &prefix, Marker: marker, MaxResults: &limit}).NextPage(ctx)
		if err != nil {
			return page, failure(err)
		}
		items, next = found.Segment.BlobItems, found.NextMarker
	} else {
		found, err := d.c.NewListBlobsHierarchyPager("/", &container.ListBlobsHierarchyOptions{Prefix: &prefix, Marker: marker, MaxResults: &limit}).NextPage(ctx)
		if err != nil {
			return page, failure(err)
		}
		for _, p := range found.Segment.BlobPrefixes {
			page.Prefixes = append(page.Prefixes, of(p.Name))
		}
		items, next = found.Segment.BlobItems, found.NextMarker
	}
	for _, one := range items {
		page.Objects = append(page.Objects, bucket.Object{Key: keyOf(of(one.Name)), Size: of(one.Properties.ContentLength), Modified: of(one.Properties.LastModified), Tag: string(of(one.Properties.ETag))})
	}
	page.Next = of(next)
	return page, nil
}

func (d *driver) Begin(_ context.Context, key string, kept bucket.Kept) (bucket.Upload, error) {
	return &upload{d: d, key: key, id: rand.Text(), kept: kept, blocks: map[int]string{}}, nil
}

func (d *driver) Resume(key, id string) bucket.Upload { return &upload{d: d, key: key, id: id} }

// upload is a blob that is sent in blocks. Blocks that are never put together are nowhere to be seen, and the
// service removes them by itself after a week; there is no call for that.
type upload struct {
	d       *driver
	key, id string
	kept    bucket.Kept

	mu     sync.Mutex
	blocks map[int]string
}

func (u *upload) ID() string { return u.id }

func (u *upload) Part(ctx context.Context, n int, body io.ReadSeeker, _ int64) error {
	id := base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "%s-%06d", u.id, n))
	if _, err := u.d.blob(u.key).StageBlock(ctx, id, streaming.NopCloser(body), nil); err != nil {
		return failure(err)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.blocks[n] = id
	return nil
}

func (u *upload) Complete(ctx context.Context) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	ids := make([]string, 0, len(u.blocks))
	for _, id := range u.blocks {
		ids = append(ids, id)
	}
	sort.Slice(ids, func(i, j int) bool { return number(ids[i]) < number(ids[j]) })
	_, err := u.d.blob(u.key).CommitBlockList(ctx, ids, &blockblob.CommitBlockListOptions{Metadata: metadata(u.kept)})
	return failure(err)
}

// number is the number of a block, by its ID.
func number(id string) int {
	text, _ := base64.StdEncoding.DecodeString(id)
	_, digits, _ := strings.Cut(string(text), "-")
	n, _ := strconv.Atoi(digits)
	return n
}

func (u *upload) Abort(context.Context) error { return nil }
