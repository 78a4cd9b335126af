//go:build linux

package faults_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// browser is a client's sign-in to the portal, as long as it lasts.
type browser struct {
	cookie string
	left   string // an upload that was begun, and of which nobody knows what became
}

func (b *browser) signIn(p *testkit.Process) bool {
	text, _ := json.Marshal(api.PortalSignIn{Account: "crew-harbour", Password: testkit.Password})
	status, _, header := ask(p, "", "POST", "/portal/api/v1/sign-in", text, "Content-Type", "application/json")
	b.cookie = ""
	if status == http.StatusOK {
		for _, cookie := range (&http.Response{Header: header}).Cookies() {
			b.cookie += cookie.Name + "=" + cookie.Value + "; "
		}
	}
	return b.cookie != ""
}

// ask is one request of the browser, which signs in anew where it has to.
func (b *browser) ask(p *testkit.Process, method, at string, body []byte, headers ...string) (answer, []byte, http.Header) {
	for range 2 {
		if b.cookie == "" && !b.signIn(p) {
			return no, nil, nil // so it was never asked
		}
		status, text, header := ask(p, "", method, at, body, append(headers, "Cookie", b.cookie)...)
		switch {
		case status == http.StatusUnauthorized: // the sign-in is over
			b.cookie = ""
		case status >= 200 && status < 300:
			return yes, text, header
		case status >= 400 && status < 500, status == http.StatusInsufficientStorage:
			return no, text, header
		default:
			return unknown, nil, nil
		}
	}
	return no, nil, nil
}

func (b *browser) post(p *testkit.Process, route string, body any) answer {
	text, _ := json.Marshal(body)
	told, _, _ := b.ask(p, "POST", "/portal/api/v1/"+route, text, "Content-Type", "application/json")
	return told
}

// put uploads a file: in one request, or in pieces with a number, as tus has it.
func (b *browser) put(p *testkit.Process, dir, name string, content []byte, pieces int) answer {
	b.post(p, "folders", api.PortalPath{Path: "/" + dir})
	if pieces == 1 {
		told, _, _ := b.ask(p, "PUT", "/portal/files/"+name, content)
		return told
	}
	if b.left != "" {
		if told, _, _ := b.ask(p, "DELETE", b.left, nil, "Tus-Resumable", "1.0.0"); told != unknown {
			b.left = ""
		}
	}
	about := "replace " + base64.StdEncoding.EncodeToString([]byte("yes")) + ",path " + base64.StdEncoding.EncodeToString([]byte("/"+name))
	told, _, header := b.ask(p, "POST", "/portal/api/v1/uploads", nil, "Tus-Resumable", "1.0.0", "Upload-Length", fmt.Sprint(len(content)), "Upload-Metadata", about)
	if told != yes {
		return no // nothing of it has come
	}
	b.left = header.Get("Location")
	for n := range pieces {
		from, to := n*len(content)/pieces, (n+1)*len(content)/pieces
		told, _, _ := b.ask(p, "PATCH", b.left, content[from:to], "Tus-Resumable", "1.0.0", "Content-Type", "application/offset+octet-stream", "Upload-Offset", fmt.Sprint(from))
		if told != yes {
			return unknown // all may have come all the same, and the next start ends it
		}
	}
	b.left = ""
	return yes
}
