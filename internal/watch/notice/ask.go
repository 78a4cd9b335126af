package notice

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

// Ask asks a receiver whether a held upload may appear. The call is a CloudEvent in binary mode (CloudEvents 1.0, HTTP
// protocol binding, section 3.1) whose data is the file; the answer is JSON with "answer", yes or no, and perhaps a
// "reason". Anything else is no answer, and an error. open opens the file: it is read twice, once to sign it.
func (t *Teller) Ask(ctx context.Context, r keep.Receiver, h *keep.Held, open func() (store.File, error)) (answer keep.CheckAnswer, said string, err error) {
	if r.Kind != keep.WebCall || r.Off {
		return "", "", fmt.Errorf("the receiver %s can't be asked: it is off, or one of mail", r.Name)
	}
	file, err := open()
	if err != nil {
		return "", "", err
	}
	defer file.Close()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, r.URL, io.NopCloser(io.NewSectionReader(file, 0, h.Size)))
	if err != nil {
		return "", "", err
	}
	request.ContentLength = h.Size
	if h.Size == 0 {
		request.Body = http.NoBody
	}
	request.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(io.NewSectionReader(file, 0, h.Size)), nil }
	id := fmt.Sprintf("urbankeep-check-%s-%d", h.ID, h.Came.UnixMicro())
	for _, header := range [][2]string{{"Content-Type", "application/octet-stream"}, {"User-Agent", "Urban-Keep"}, {"Ce-Specversion", "1.0"}, {"Ce-Id", id}, {"Ce-Source", t.Source}, {"Ce-Type", "urbankeep.check"},
		{"Ce-Subject", url.PathEscape(h.Path)}, {"Ce-Time", h.Came.Format(time.RFC3339Nano)}, {"Ce-Account", url.PathEscape(h.Account)}, {"Ce-Protocol", string(h.Protocol)}, {"Ce-Sha256", h.Hash}} {
		if header[1] != "" {
			request.Header.Set(header[0], header[1])
		}
	}
	for _, one := range r.Headers {
		request.Header.Set(one.Name, one.Value.Reveal())
	}
	if err := Sign(request.Header, r.SigningKey(), id, time.Now(), readerOf(ctx, io.NewSectionReader(file, 0, h.Size))); err != nil {
		return "", "", err
	}
	response, err := t.caller.of(&r).Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return "", "", errors.New("it had not answered by then")
		}
		return "", "", plainly(err, r.Timeout)
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	var told struct {
		Answer keep.CheckAnswer `json:"answer"`
		Reason string           `json:"reason"`
	}
	if response.StatusCode != http.StatusOK || json.Unmarshal(text, &told) != nil || told.Answer != keep.CheckYes && told.Answer != keep.CheckNo {
		return "", "", fmt.Errorf(`it gave no answer that counts ({"answer": "yes"} or no): %s`, strings.TrimSpace(strconv.Itoa(response.StatusCode)+" "+oneLine(text)))
	}
	return told.Answer, oneLine([]byte(told.Reason)), nil
}

// readerOf stops reading when ctx ends.
func readerOf(ctx context.Context, r io.Reader) io.Reader { return &until{ctx, r} }

type until struct {
	ctx context.Context
	r   io.Reader
}

func (u *until) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}
