package testkit

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
)

// Caller calls the API over HTTP and holds each answer to openapi.yaml.
type Caller struct {
	t      *testing.T
	Base   string
	HTTP   *http.Client
	Doc    *openapi3.T
	router routers.Router
	Seen   map[string]bool // operations that were called
	mu     *sync.Mutex     // while an answer is held to the description
}

func NewCaller(t *testing.T, k *Keep) *Caller {
	c := Described(t, "../../internal/face/web/openapi.yaml")
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	client := &http.Client{Jar: jar, Timeout: Patience, Transport: &http.Transport{}}
	t.Cleanup(client.CloseIdleConnections)
	c.Base, c.HTTP = "http://"+k.ConsoleAddress(), client
	return c
}

// Described is a caller that only holds what others call to a description.
func Described(t *testing.T, file string) *Caller {
	read, _ := descriptions.LoadOrStore(file, sync.OnceValues(func() (*description, error) {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		doc, err := openapi3.NewLoader().LoadFromData(text)
		if err != nil {
			return nil, err
		}
		router, err := legacy.NewRouter(doc)
		return &description{doc: doc, router: router}, err
	}))
	d, err := read.(func() (*description, error))()
	require.NoError(t, err)
	return &Caller{t: t, Doc: d.doc, router: d.router, mu: &d.mu, Seen: map[string]bool{}}
}

// description is an API as its file has it: reading that takes its time.
type description struct {
	doc    *openapi3.T
	router routers.Router
	mu     sync.Mutex
}

var descriptions sync.Map // by file

// Call makes a request, checks the answer's status and shape, and reads it.
func (c *Caller) Call(method, path string, body any, status int, into any) {
	c.t.Helper()
	var send io.Reader
	if text, isText := body.(string); isText {
		send = strings.NewReader(text)
	} else if body != nil {
		text, err := json.Marshal(body)
		require.NoError(c.t, err)
		send = bytes.NewReader(text)
	}
	request, err := http.NewRequest(method, c.Base+"/api/v1"+path, send)
	require.NoError(c.t, err)
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := c.HTTP.Do(request)
	require.NoError(c.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(c.t, err)
	require.Equal(c.t, status, response.StatusCode, "%s %s: %s", method, path, text)
	if kind := response.Header.Get("Content-Type"); strings.Contains(kind, "json") && !strings.Contains(kind, "jsonl") || status == http.StatusNoContent {
		c.Hold(request, response, text)
	} else { // what is no JSON has no shape to hold it to
		c.Held(request)
	}
	if into != nil {
		require.NoError(c.t, json.Unmarshal(text, into))
	}
}

// Held notes that an operation was called.
func (c *Caller) Held(request *http.Request) {
	c.t.Helper()
	c.mu.Lock()
	defer c.mu.Unlock()
	described := request.Clone(context.Background())
	described.URL.Scheme, described.URL.Host, described.Host = "", "", ""
	route, _, err := c.router.FindRoute(described)
	require.NoError(c.t, err, request.URL.Path)
	c.Seen[route.Operation.OperationID] = true
}

// Hold checks an answer against the description.
func (c *Caller) Hold(request *http.Request, response *http.Response, text []byte) {
	c.t.Helper()
	c.mu.Lock()
	defer c.mu.Unlock()
	described := request.Clone(context.Background())
	described.URL.Scheme, described.URL.Host, described.Host = "", "", ""
	route, parameters, err := c.router.FindRoute(described)
	require.NoError(c.t, err, request.URL.Path)
	c.Seen[route.Operation.OperationID] = true
	err = openapi3filter.ValidateResponse(context.Background(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: described, PathParams: parameters, Route: route},
		Status:                 response.StatusCode, Header: response.Header, Body: io.NopCloser(bytes.NewReader(text)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true}})
	require.NoError(c.t, err, "%s %s: %s", request.Method, request.URL.Path, text)
}

// SetUp makes the first operator through the set-up link and signs it in.
func SetUp(t *testing.T, k *Keep, c *Caller) {
	link, err := k.SetupLink(t.Context())
	require.NoError(t, err)
	_, secret, _ := strings.Cut(link, "#")
	ask := api.SetUp{Secret: secret, Operator: "ilse", Password: Password}
	c.Call("POST", "/setup", api.SetUp{Secret: "guessed", Operator: "mallory", Password: Password}, 401, nil)
	c.Call("POST", "/setup", ask, 201, nil)
	ask.Operator = "second"
	c.Call("POST", "/setup", ask, 401, nil) // spent
	var state struct{ Needed bool }
	c.Call("GET", "/setup", nil, 200, &state)
	assert.False(t, state.Needed)
	c.Call("POST", "/sign-in", api.SignIn{Operator: "ilse", Password: Password}, 200, nil)
}

// SignedIn is a caller that an operator with [Password] has signed in with.
func SignedIn(t *testing.T, k *Keep, operator string) *Caller {
	c := NewCaller(t, k)
	c.Call("POST", "/sign-in", api.SignIn{Operator: operator, Password: Password}, 200, nil)
	return c
}

// Get asks for a page, with headers as "Name: value"; redirects are not followed. Its body is closed when
// the test ends.
func Get(t testing.TB, url string, headers ...string) (*http.Response, error) {
	request, err := http.NewRequest(http.MethodGet, url, nil)
	require.NoError(t, err)
	for _, header := range headers {
		name, value, _ := strings.Cut(header, ": ")
		request.Header.Set(name, value)
	}
	response, err := http.DefaultTransport.RoundTrip(request)
	if err == nil {
		t.Cleanup(func() { response.Body.Close() })
	}
	return response, err
}
