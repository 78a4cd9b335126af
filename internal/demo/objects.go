package demo

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"
)

// ObjectStore stands in for an object store of the sample city: it speaks as much of S3 as a store of kind object asks
// for, checks the name of the key but no signature, and keeps each object as a file. It is for trying things
// on one machine, and for tests.
type ObjectStore struct {
	Bucket string
	Key    string // the access key that is let in

	// Before, if not nil, is called with every request; an error of it is the answer, with its status.
	Before func(r *http.Request) *ObjectFault

	dir string

	mu      sync.Mutex
	objects map[string]object
	keys    []string // sorted
	uploads map[string]*objectUpload
	made    int
}

// ObjectFault is an answer that is no success.
type ObjectFault struct {
	Status int
	Code   string
}

type object struct {
	Key      string            `json:"key"`
	Size     int64             `json:"size"`
	Tag      string            `json:"tag"`
	Modified time.Time         `json:"modified"`
	Meta     map[string]string `json:"meta,omitempty"`
	file     string
}

type objectUpload struct {
	key   string
	meta  map[string]string
	parts map[int]objectPart
}

type objectPart struct {
	file string
	tag  string
	size int64
}

// OpenObjectStore opens a folder of objects.
func OpenObjectStore(dir, bucket, key string) (*ObjectStore, error) {
	s := &ObjectStore{Bucket: bucket, Key: key, dir: dir, objects: map[string]object{}, uploads: map[string]*objectUpload{}}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	left, _ := filepath.Glob(filepath.Join(dir, "*.part"))
	for _, name := range left {
		os.Remove(name)
	}
	heads, err := filepath.Glob(filepath.Join(dir, "*.json"))
	for _, name := range heads {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		var o object
		if err := json.Unmarshal(text, &o); err != nil {
			return nil, err
		}
		o.file = strings.TrimSuffix(name, ".json")
		s.objects[o.Key] = o
		s.keys = append(s.keys, o.Key)
	}
	sort.Strings(s.keys)
	return s, err
}

// Objects gives the keys that there are, and how many uploads are unfinished.
func (s *ObjectStore) Objects() (keys []string, unfinished int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.keys), len(s.uploads)
}

func (s *ObjectStore) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.Before != nil {
		if fault := s.Before(r); fault != nil {
			fault.write(w, r)
			return
		}
	}
	if !strings.Contains(r.Header.Get("Authorization"), "Credential="+s.Key+"/") {
		(&ObjectFault{http.StatusForbidden, "InvalidAccessKeyId"}).write(w, r)
		return
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if bucket != s.Bucket {
		(&ObjectFault{http.StatusNotFound, "NoSuchBucket"}).write(w, r)
		return
	}
	var fault *ObjectFault
	q := r.URL.Query()
	switch {
	case key == "" && r.Method == http.MethodGet && q.Has("location"):
		writeXML(w, `<LocationConstraint xmlns="http://s3.amazonaws.com/doc/2006-03-01/"></LocationConstraint>`)
	case key == "" && r.Method == http.MethodGet:
		s.list(w, q)
	case key == "":
		w.WriteHeader(http.StatusOK)
	case r.Method == http.MethodGet || r.Method == http.MethodHead:
		fault = s.get(w, r, key)
	case r.Method == http.MethodPut && q.Has("uploadId"):
		fault = s.putPart(w, r, key, q)
	case r.Method == http.MethodPut && r.Header.Get("X-Amz-Copy-Source") != "":
		fault = s.copy(w, r, key)
	case r.Method == http.MethodPut:
		fault = s.put(w, r, key)
	case r.Method == http.MethodPost && q.Has("uploads"):
		s.begin(w, r, key)
	case r.Method == http.MethodPost && q.Has("uploadId"):
		fault = s.complete(w, r, key, q.Get("uploadId"))
	case r.Method == http.MethodDelete && q.Has("uploadId"):
		fault = s.abort(w, q.Get("uploadId"))
	case r.Method == http.MethodDelete:
		s.remove(key)
		w.WriteHeader(http.StatusNoContent)
	default:
		fault = &ObjectFault{http.StatusNotImplemented, "NotImplemented"}
	}
	if fault != nil {
		fault.write(w, r)
	}
}

func (f *ObjectFault) write(w http.ResponseWriter, r *http.Request) {
	io.Copy(io.Discard, io.LimitReader(r.Body, 1<<20))
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(f.Status)
	if r.Method != http.MethodHead {
		fmt.Fprintf(w, "<Error><Code>%s</Code><Message>%s</Message></Error>", f.Code, f.Code)
	}
}

func writeXML(w http.ResponseWriter, text string) {
	w.Header().Set("Content-Type", "application/xml")
	io.WriteString(w, xml.Header+text)
}

func (s *ObjectStore) list(w http.ResponseWriter, q url.Values) {
	prefix, delimiter := q.Get("prefix"), q.Get("delimiter")
	after := max(q.Get("continuation-token"), q.Get("start-after"))
	most, err := strconv.Atoi(q.Get("max-keys"))
	if err != nil || most > 1000 {
		most = 1000
	}
	type entry struct {
		Key          string
		LastModified string
		ETag         string
		Size         int64
	}
	type common struct{ Prefix string }
	var found struct {
		XMLName               xml.Name `xml:"ListBucketResult"`
		IsTruncated           bool
		NextContinuationToken string `xml:",omitempty"`
		EncodingType          string
		Contents              []entry
		CommonPrefixes        []common
	}
	found.EncodingType = "url"
	encode := func(text string) string { return strings.ReplaceAll(url.QueryEscape(text), "+", "%20") }
	s.mu.Lock()
	at, _ := slices.BinarySearch(s.keys, max(prefix, after))
	last := ""
	for n := 0; at < len(s.keys); {
		key := s.keys[at]
		if !strings.HasPrefix(key, prefix) {
			break
		}
		if key <= after && after != "" {
			at++
			continue
		}
		if n == most {
			found.IsTruncated, found.NextContinuationToken = true, last
			break
		}
		n++
		if i := strings.Index(key[len(prefix):], delimiter); delimiter != "" && i >= 0 {
			group := key[:len(prefix)+i+len(delimiter)]
			found.CommonPrefixes = append(found.CommonPrefixes, common{encode(group)})
			last = group + "\xff"
			skip, _ := slices.BinarySearch(s.keys[at:], last)
			at += skip
			continue
		}
		o := s.objects[key]
		found.Contents = append(found.Contents, entry{encode(key), o.Modified.UTC().Format("2006-01-02T15:04:05.000Z"), `"` + o.Tag + `"`, o.Size})
		last = key
		at++
	}
	s.mu.Unlock()
	text, err := xml.Marshal(found)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	writeXML(w, string(text))
}

func (s *ObjectStore) object(key string) (object, *ObjectFault) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o, there := s.objects[key]
	if !there {
		return o, &ObjectFault{http.StatusNotFound, "NoSuchKey"}
	}
	return o, nil
}

func (s *ObjectStore) get(w http.ResponseWriter, r *http.Request, key string) *ObjectFault {
	o, fault := s.object(key)
	if fault != nil {
		return fault
	}
	if match := strings.Trim(r.Header.Get("If-Match"), `"`); match != "" && match != o.Tag {
		return &ObjectFault{http.StatusPreconditionFailed, "PreconditionFailed"}
	}
	f, err := os.Open(o.file)
	if err != nil {
		return &ObjectFault{http.StatusNotFound, "NoSuchKey"}
	}
	defer f.Close()
	for name, value := range o.Meta {
		w.Header().Set("X-Amz-Meta-"+name, value)
	}
	w.Header().Set("ETag", `"`+o.Tag+`"`)
	w.Header().Set("Content-Type", "application/octet-stream")
	r.Header.Del("If-Match") // which was answered
	http.ServeContent(w, r, "", o.Modified, f)
	return nil
}

// body takes a request's body into a file, if it is what its hash says.
func (s *ObjectStore) body(r *http.Request) (file, tag string, size int64, fault *ObjectFault) {
	f, err := os.CreateTemp(s.dir, "*.part")
	if err != nil {
		return "", "", 0, &ObjectFault{http.StatusInsufficientStorage, "QuotaExceeded"}
	}
	h := md5.New()
	size, err = io.Copy(io.MultiWriter(f, h), r.Body)
	sum := h.Sum(nil)
	if err = errors.Join(err, f.Close()); err != nil {
		os.Remove(f.Name())
		return "", "", 0, &ObjectFault{http.StatusBadRequest, "IncompleteBody"}
	}
	if claimed := r.Header.Get("Content-Md5"); claimed != "" && claimed != base64.StdEncoding.EncodeToString(sum) {
		os.Remove(f.Name())
		return "", "", 0, &ObjectFault{http.StatusBadRequest, "BadDigest"}
	}
	return f.Name(), hex.EncodeToString(sum), size, nil
}

func metaOf(h http.Header) map[string]string {
	meta := map[string]string{}
	for name := range h {
		if short, is := strings.CutPrefix(name, "X-Amz-Meta-"); is {
			meta[short] = h.Get(name)
		}
	}
	return meta
}

func (s *ObjectStore) put(w http.ResponseWriter, r *http.Request, key string) *ObjectFault {
	file, tag, size, fault := s.body(r)
	if fault != nil {
		return fault
	}
	w.Header().Set("ETag", `"`+tag+`"`)
	return s.keep(object{Key: key, Size: size, Tag: tag, Meta: metaOf(r.Header)}, file)
}

// keep gives a file a key.
func (s *ObjectStore) keep(o object, file string) *ObjectFault {
	s.mu.Lock()
	defer s.mu.Unlock()
	sum := sha256.Sum256([]byte(o.Key))
	s.made++
	o.file = filepath.Join(s.dir, fmt.Sprintf("%s-%d-%d", hex.EncodeToString(sum[:]), time.Now().UnixNano(), s.made))
	o.Modified = time.Now().Truncate(time.Millisecond)
	text, err := json.Marshal(o)
	if err == nil {
		err = os.WriteFile(o.file+".json", text, 0o600)
	}
	if err = errors.Join(err, os.Rename(file, o.file)); err != nil {
		return &ObjectFault{http.StatusInternalServerError, "InternalError"}
	}
	if old, there := s.objects[o.Key]; there {
		os.Remove(old.file)
		os.Remove(old.file + ".json")
	} else {
		at, _ := slices.BinarySearch(s.keys, o.Key)
		s.keys = slices.Insert(s.keys, at, o.Key)
	}
	s.objects[o.Key] = o
	return nil
}

func (s *ObjectStore) remove(key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, there := s.objects[key]; there {
		os.Remove(o.file)
		os.Remove(o.file + ".json")
		delete(s.objects, key)
		at, _ := slices.BinarySearch(s.keys, key)
		s.keys = slices.Delete(s.keys, at, at+1)
	}
}

func (s *ObjectStore) copy(w http.ResponseWriter, r *http.Request, key string) *ObjectFault {
	source, err := url.PathUnescape(strings.TrimPrefix(r.Header.Get("X-Amz-Copy-Source"), "/"))
	if err != nil {
		return &ObjectFault{http.StatusBadRequest, "InvalidArgument"}
	}
	o, fault := s.object(strings.TrimPrefix(source, s.Bucket+"/"))
	if fault != nil {
		return fault
	}
	if match := strings.Trim(r.Header.Get("X-Amz-Copy-Source-If-Match"), `"`); match != "" && match != o.Tag {
		return &ObjectFault{http.StatusPreconditionFailed, "PreconditionFailed"}
	}
	content, err := os.ReadFile(o.file)
	if err != nil {
		return &ObjectFault{http.StatusNotFound, "NoSuchKey"}
	}
	f, err := os.CreateTemp(s.dir, "*.part")
	if err == nil {
		_, err = f.Write(content)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return &ObjectFault{http.StatusInsufficientStorage, "QuotaExceeded"}
	}
	meta := o.Meta
	if strings.EqualFold(r.Header.Get("X-Amz-Metadata-Directive"), "REPLACE") {
		meta = metaOf(r.Header)
	}
	if fault := s.keep(object{Key: key, Size: o.Size, Tag: o.Tag, Meta: meta}, f.Name()); fault != nil {
		return fault
	}
	writeXML(w, fmt.Sprintf(`<CopyObjectResult><ETag>"%s"</ETag><LastModified>%s</LastModified></CopyObjectResult>`, o.Tag, time.Now().UTC().Format("2006-01-02T15:04:05.000Z")))
	return nil
}

func (s *ObjectStore) begin(w http.ResponseWriter, r *http.Request, key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.made++
	id := fmt.Sprintf("upload-%d-%d", time.Now().UnixNano(), s.made)
	s.uploads[id] = &objectUpload{key: key, meta: metaOf(r.Header), parts: map[int]objectPart{}}
	writeXML(w, fmt.Sprintf("<InitiateMultipartUploadResult><Bucket>%s</Bucket><UploadId>%s</UploadId></InitiateMultipartUploadResult>", s.Bucket, id))
}

func (s *ObjectStore) putPart(w http.ResponseWriter, r *http.Request, _ string, q url.Values) *ObjectFault {
	n, err := strconv.Atoi(q.Get("partNumber"))
	if err != nil || n < 1 || n > 10_000 {
		return &ObjectFault{http.StatusBadRequest, "InvalidArgument"}
	}
	file, tag, size, fault := s.body(r)
	if fault != nil {
		return fault
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	u := s.uploads[q.Get("uploadId")]
	if u == nil {
		os.Remove(file)
		return &ObjectFault{http.StatusNotFound, "NoSuchUpload"}
	}
	os.Remove(u.parts[n].file)
	u.parts[n] = objectPart{file, tag, size}
	w.Header().Set("ETag", `"`+tag+`"`)
	return nil
}

// leastPart is the smallest part but the last, bytes.
const leastPart = 5 << 20

func (s *ObjectStore) complete(w http.ResponseWriter, r *http.Request, key, id string) *ObjectFault {
	var asked struct {
		Part []struct {
			PartNumber int
			ETag       string
		}
	}
	text, err := io.ReadAll(io.LimitReader(r.Body, 4<<20))
	if err == nil {
		err = xml.NewDecoder(bytes.NewReader(text)).Decode(&asked)
	}
	if err != nil {
		return &ObjectFault{http.StatusBadRequest, "MalformedXML"}
	}
	s.mu.Lock()
	u := s.uploads[id]
	delete(s.uploads, id)
	s.mu.Unlock()
	if u == nil || u.key != key {
		return &ObjectFault{http.StatusNotFound, "NoSuchUpload"}
	}
	out, err := os.CreateTemp(s.dir, "*.part")
	if err != nil {
		return &ObjectFault{http.StatusInsufficientStorage, "QuotaExceeded"}
	}
	h, size := md5.New(), int64(0)
	for i, p := range asked.Part {
		had, there := u.parts[p.PartNumber]
		if !there || strings.Trim(p.ETag, `"`) != had.tag {
			return &ObjectFault{http.StatusBadRequest, "InvalidPart"}
		}
		if had.size < leastPart && i < len(asked.Part)-1 {
			return &ObjectFault{http.StatusBadRequest, "EntityTooSmall"}
		}
		in, err := os.Open(had.file)
		if err != nil {
			return &ObjectFault{http.StatusBadRequest, "InvalidPart"}
		}
		n, err := io.Copy(out, in)
		in.Close()
		if size += n; err != nil {
			return &ObjectFault{http.StatusInsufficientStorage, "QuotaExceeded"}
		}
		raw, _ := hex.DecodeString(had.tag)
		h.Write(raw)
	}
	out.Close()
	for _, p := range u.parts {
		os.Remove(p.file)
	}
	tag := fmt.Sprintf("%s-%d", hex.EncodeToString(h.Sum(nil)), len(asked.Part))
	if fault := s.keep(object{Key: key, Size: size, Tag: tag, Meta: u.meta}, out.Name()); fault != nil {
		return fault
	}
	writeXML(w, fmt.Sprintf(`<CompleteMultipartUploadResult><Bucket>%s</Bucket><ETag>"%s"</ETag></CompleteMultipartUploadResult>`, s.Bucket, tag))
	return nil
}

func (s *ObjectStore) abort(w http.ResponseWriter, id string) *ObjectFault {
	s.mu.Lock()
	defer s.mu.Unlock()
	u := s.uploads[id]
	if u == nil {
		return &ObjectFault{http.StatusNotFound, "NoSuchUpload"}
	}
	for _, p := range u.parts {
		os.Remove(p.file)
	}
	delete(s.uploads, id)
	w.WriteHeader(http.StatusNoContent)
	return nil
}
