package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
)

// common are the flags that every client command has.
type common struct {
	data      *string
	server    *string
	tokenFile *string
	json      *bool
	zone      *string
}

func commonFlags(flags *flag.FlagSet) *common {
	return &common{
		data:      command.DataFlag(flags),
		server:    flags.String("server", "", "`URL` of a service elsewhere, as in https://keep.example:8470; needs a token"),
		tokenFile: flags.String("token-file", "", "`file` with the API token for -server; else URBANKEEP_TOKEN"),
		json:      flags.Bool("json", false, "print JSON instead of a table"),
		zone:      flags.String("zone", "UTC", "show times in this `time zone`, as in Europe/Lisbon; JSON and CSV stay in UTC"),
	}
}

// client calls the API.
type client struct {
	http  *http.Client
	base  string
	token string
	where string // for people

	unchanged bool // the last change that was asked for changed nothing
	told      bool // the command says so itself
}

// now says what became of a change.
func (c *client) now(said string) string {
	if c.unchanged {
		c.told = true
		return "is so already: nothing changed"
	}
	return said
}

func (f *common) client() (*client, error) {
	if *f.server == "" {
		socket := filepath.Join(*f.data, command.SocketName)
		dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "unix", socket)
		}
		return &client{http: &http.Client{Transport: &http.Transport{DialContext: dial}}, base: "http://control", where: socket}, nil
	}
	token := os.Getenv("URBANKEEP_TOKEN")
	if *f.tokenFile != "" {
		text, err := os.ReadFile(*f.tokenFile)
		if err != nil {
			return nil, fmt.Errorf("read the token: %w", err)
		}
		token = strings.TrimSpace(string(text))
	}
	if token == "" {
		return nil, command.Usagef("-server needs a token: give -token-file, or set URBANKEEP_TOKEN")
	}
	return &client{http: &http.Client{}, base: strings.TrimSuffix(*f.server, "/"), token: token, where: *f.server}, nil
}

// problem is an error that the service gave.
type problem struct{ api.Problem }

func (p problem) Error() string {
	if p.Field != "" {
		return p.Field + ": " + p.Detail
	}
	return p.Detail
}

// call makes one request; ask and answer may be nil.
func (c *client) call(ctx context.Context, method, path string, ask, answer any) error {
	text, err := c.raw(ctx, method, path, ask)
	if err != nil || answer == nil {
		return err
	}
	return json.Unmarshal(text, answer)
}

func (c *client) raw(ctx context.Context, method, path string, ask any) ([]byte, error) {
	response, err := c.ask(ctx, method, path, ask)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, c.unreachable(err)
	}
	return text, nil
}

// ask makes one request; an answer that is an error becomes one.
func (c *client) ask(ctx context.Context, method, path string, ask any) (*http.Response, error) {
	var send io.Reader
	if ask != nil {
		text, err := json.Marshal(ask)
		if err != nil {
			return nil, err
		}
		send = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, send)
	if err != nil {
		return nil, err
	}
	if ask != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	response, err := c.http.Do(request)
	if err != nil {
		return nil, c.unreachable(err)
	}
	c.unchanged = response.Header.Get(api.Unchanged) != ""
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		if err != nil {
			return nil, c.unreachable(err)
		}
		var p problem
		if json.Unmarshal(text, &p.Problem) != nil || p.Detail == "" {
			return nil, fmt.Errorf("%s answered %s, which is not an answer of this service: is the address right?", c.where, response.Status)
		}
		return nil, p
	}
	return response, nil
}

func (c *client) unreachable(err error) error {
	var failed *url.Error
	if errors.As(err, &failed) {
		err = failed.Err
	}
	if c.token == "" {
		var op *net.OpError
		if errors.As(err, &op) {
			err = op.Err
		}
		if errors.Is(err, os.ErrPermission) {
			return fmt.Errorf("the control socket %s may not be opened by this user: become the user that runs the service", c.where)
		}
		return fmt.Errorf("no service answers at %s (%w): start one with urbankeep serve, or say which data folder with -data", c.where, err)
	}
	return fmt.Errorf("%s can't be reached: %w: check the address and that the service runs", c.where, err)
}

// stream writes what a GET answers as it comes.
func (c *client) stream(ctx context.Context, path string, w io.Writer) error {
	response, err := c.ask(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err = io.Copy(w, response.Body); err != nil {
		return fmt.Errorf("the answer broke off: %w: go on with -after and the number of the last record", err)
	}
	return nil
}

// name makes a path part of a name.
func name(text string) string { return url.PathEscape(text) }
