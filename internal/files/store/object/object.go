package object

import (
	"context"
	"crypto/md5"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"urbankeep/internal/files/store/bucket"
	"urbankeep/internal/keep"
)

// driver is a bucket.
type driver struct {
	core   *minio.Core
	bucket string
}

// Open gives a bucket that is reached with a key; nothing is asked of it yet.
func Open(site keep.Site, secret keep.Secret, transport http.RoundTripper) (bucket.Driver, error) {
	at, err := url.Parse(site.Endpoint)
	if err != nil {
		return nil, err
	}
	lookup := minio.BucketLookupPath
	if site.HostStyle {
		lookup = minio.BucketLookupDNS
	}
	region := site.Region
	if region == "" {
		region = "us-east-1" // what stores without regions expect in a signature
	}
	core, err := minio.NewCore(at.Host, &minio.Options{Creds: credentials.NewStaticV4(site.User, secret.Reveal(), ""), Secure: at.Scheme == "https", Transport: &careful{RoundTripper: transport}, Region: region, BucketLookup: lookup, MaxRetries: 4})
	if err != nil {
		return nil, err
	}
	return &driver{core, site.Bucket}, nil
}

// careful uses a connection no more on which an answer without a body had one: some servers end a deletion (204) with
// the last chunk of none, which the next answer on that connection would begin with.
type careful struct {
	http.RoundTripper
	sloppy atomic.Bool // the server is seen to do so, or may: nothing is known yet
	known  atomic.Bool
}

func (c *careful) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Method == http.MethodDelete && (!c.known.Load() || c.sloppy.Load()) {
		r = r.Clone(r.Context())
		r.Close = true
	}
	answer, err := c.RoundTripper.RoundTrip(r)
	if err == nil && r.Method == http.MethodDelete && answer.StatusCode == http.StatusNoContent {
		c.sloppy.Store(len(answer.TransferEncoding) > 0)
		c.known.Store(true)
	}
	return answer, err
}

// The names under which it is kept with an object what objects don't have.
const (
	modifiedName = "Urbankeep-Modified" // microseconds since 1970
	modeName     = "Urbankeep-Mode"     // octal
)

func metadata(kept bucket.Kept) map[string]string {
	m := map[string]string{}
	if !kept.Modified.IsZero() {
		m[modifiedName] = strconv.FormatInt(kept.Modified.UnixMicro(), 10)
	}
	if kept.Mode != 0 {
		m[modeName] = strconv.FormatUint(uint64(kept.Mode.Perm()), 8)
	}
	return m
}

func keptOf(m map[string]string) (kept bucket.Kept) {
	for name, value := range m {
		switch {
		case strings.EqualFold(name, modifiedName):
			if n, err := strconv.ParseInt(value, 10, 64); err == nil {
				kept.Modified = time.UnixMicro(n)
			}
		case strings.EqualFold(name, modeName):
			if n, err := strconv.ParseUint(value, 8, 9); err == nil {
				kept.Mode = fs.FileMode(n)
			}
		}
	}
	return kept
}

// failure turns an error of the protocol into one that the service knows.
func failure(err error) error {
	if err == nil {
		return nil
	}
	var answer minio.ErrorResponse
	if !errors.As(err, &answer) {
		return err
	}
	switch {
	case answer.Code == "NoSuchBucket":
		return fmt.Errorf("there is no bucket named %s", answer.BucketName)
	case answer.Code == "NoSuchKey", answer.StatusCode == http.StatusNotFound:
		return fs.ErrNotExist
	case answer.StatusCode == http.StatusPreconditionFailed:
		return bucket.ErrChanged
	case answer.Code == "QuotaExceeded", answer.StatusCode == http.StatusInsufficientStorage, answer.StatusCode == http.StatusRequestEntityTooLarge:
		return syscall.ENOSPC
	case answer.StatusCode == http.StatusForbidden, answer.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("it refuses the key, or the key may not do that: %s", answer.Code)
	}
	return err
}

func (d *driver) Head(ctx context.Context, key string) (bucket.Object, error) {
	info, err := d.core.StatObject(ctx, d.bucket, key, minio.StatObjectOptions{})
	if err != nil {
		return bucket.Object{}, failure(err)
	}
	return bucket.Object{Key: key, Size: info.Size, Modified: info.LastModified, Tag: info.ETag, Kept: keptOf(info.UserMetadata)}, nil
}

func (d *driver) Get(ctx context.Context, key, tag string, from, length int64) (io.ReadCloser, error) {
	var opts minio.GetObjectOptions
	switch {
	case length >= 0:
		opts.SetRange(from, from+length-1)
	case from > 0:
		opts.SetRange(from, 0)
	}
	if tag != "" {
		opts.SetMatchETag(tag)
	}
	body, _, _, err := d.core.GetObject(ctx, d.bucket, key, opts)
	if err != nil {
		return nil, failure(err)
	}
	return body, nil
}

// sum is the hash by which the store sees whether a body came whole.
func sum(body io.ReadSeeker) (string, error) {
	h := md5.New()
	if _, err := io.Copy(h, body); err != nil {
		return "", err
	}
	_, err := body.Seek(0, io.SeekStart)
	return base64.StdEncoding.EncodeToString(h.Sum(nil)), err
}

func (d *driver) Put(ctx context.Context, key string, body io.ReadSeeker, size int64, kept bucket.Kept) error {
	hash, err := sum(body)
	if err != nil {
		return err
	}
	_, err = d.core.PutObject(ctx, d.bucket, key, body, size, hash, "", minio.PutObjectOptions{UserMetadata: metadata(kept), DisableContentSha256: true})
	return failure(err)
}

func (d *driver) Copy(ctx context.Context, from bucket.Object, to string) error {
	return d.copy(ctx, from, to, nil)
}

func (d *driver) Keep(ctx context.Context, of bucket.Object, kept bucket.Kept) error {
	return d.copy(ctx, of, of.Key, metadata(kept))
}

// maxCopy is the largest object that is copied with one call, bytes (5 GiB); larger ones are in parts.
const (
	maxCopy  = 5 << 30
	copyPart = 512 << 20
)

// copy copies an object, with other metadata unless that is nil.
func (d *driver) copy(ctx context.Context, from bucket.Object, to string, meta map[string]string) error {
	if from.Size <= maxCopy {
		dst := minio.CopyDestOptions{Bucket: d.bucket, Object: to, UserMetadata: meta, ReplaceMetadata: meta != nil}
		_, err := d.core.Client.CopyObject(ctx, dst, minio.CopySrcOptions{Bucket: d.bucket, Object: from.Key})
		return failure(err)
	}
	if meta == nil {
		now, err := d.Head(ctx, from.Key)
		if err != nil {
			return err
		}
		meta = metadata(now.Kept)
	}
	dst := minio.CopyDestOptions{Bucket: d.bucket, Object: to, UserMetadata: meta, ReplaceMetadata: true, PartSize: copyPart, NumThreads: 4}
	_, err := d.core.ComposeObject(ctx, dst, minio.CopySrcOptions{Bucket: d.bucket, Object: from.Key})
	return failure(err)
}

func (d *driver) Delete(ctx context.Context, key string) error {
	err := failure(d.core.RemoveObject(ctx, d.bucket, key, minio.RemoveObjectOptions{}))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return err
}

func (d *driver) List(_ context.Context, prefix string, deep bool, after string, most int) (page bucket.Page, err error) {
	delimiter := "/"
	if deep {
		delimiter = ""
	}
	found, err := d.core.ListObjectsV2(d.bucket, prefix, "", after, delimiter, most)
	if err != nil {
		return page, failure(err)
	}
	for _, o := range found.Contents {
		page.Objects = append(page.Objects, bucket.Object{Key: o.Key, Size: o.Size, Modified: o.LastModified, Tag: strings.Trim(o.ETag, `"`)})
	}
	for _, p := range found.CommonPrefixes {
		page.Prefixes = append(page.Prefixes, p.Prefix)
	}
	if found.IsTruncated {
		page.Next = found.NextContinuationToken
	}
	return page, nil
}

func (d *driver) Begin(ctx context.Context, key string, kept bucket.Kept) (bucket.Upload, error) {
	id, err := d.core.NewMultipartUpload(ctx, d.bucket, key, minio.PutObjectOptions{UserMetadata: metadata(kept)})
	if err != nil {
		return nil, failure(err)
	}
	return &upload{d: d, key: key, id: id, parts: map[int]minio.CompletePart{}}, nil
}

func (d *driver) Resume(key, id string) bucket.Upload { return &upload{d: d, key: key, id: id} }

// upload is an object that is sent in parts.
type upload struct {
	d       *driver
	key, id string

	mu    sync.Mutex
	parts map[int]minio.CompletePart
}

func (u *upload) ID() string { return u.id }

func (u *upload) Part(ctx context.Context, n int, body io.ReadSeeker, size int64) error {
	hash, err := sum(body)
	if err != nil {
		return err
	}
	done, err := u.d.core.PutObjectPart(ctx, u.d.bucket, u.key, u.id, n, body, size, minio.PutObjectPartOptions{Md5Base64: hash, DisableContentSha256: true})
	if err != nil {
		return failure(err)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.parts[n] = minio.CompletePart{PartNumber: n, ETag: done.ETag}
	return nil
}

func (u *upload) Complete(ctx context.Context) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	parts := make([]minio.CompletePart, 0, len(u.parts))
	for _, p := range u.parts {
		parts = append(parts, p)
	}
	sort.Slice(parts, func(i, j int) bool { return parts[i].PartNumber < parts[j].PartNumber })
	_, err := u.d.core.CompleteMultipartUpload(ctx, u.d.bucket, u.key, u.id, parts, minio.PutObjectOptions{})
	return failure(err)
}

func (u *upload) Abort(ctx context.Context) error {
	err := failure(u.d.core.AbortMultipartUpload(ctx, u.d.bucket, u.key, u.id))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return err
}
