package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"urbankeep/internal/api"
	"urbankeep/internal/face/command"
	"urbankeep/internal/keep"
)

const setupHelp = `Without flags it asks, step by step, and says why each matters; an empty answer leaves a step for later.
With flags it takes those steps only and asks nothing. Each step is checked at once. Run it again to go on.
The password of the first operator is asked for, else it is the first line of standard input.`

func setupCommands() []*command.Command {
	return []*command.Command{clientCommand("setup", "", "Walk from an empty data folder to a first account", setupHelp, setup)}
}

// answers are what can be said in flags instead.
type answers struct {
	operator, name, host, ftp, ftps, sftp, web, passive, certificate, key, store, group, account, accountKey string
}

func setup(flags *flag.FlagSet, f *common) run {
	a := &answers{}
	flags.StringVar(&a.operator, "operator", "", "the first operator's `name`, an owner")
	flags.StringVar(&a.name, "name", "", "what the service is `called`")
	flags.StringVar(&a.ftp, "ftp", "", "`address` of FTP with explicit TLS, or off")
	flags.StringVar(&a.ftps, "ftps", "", "`address` of FTP with implicit TLS, or off")
	flags.StringVar(&a.sftp, "sftp", "", "`address` of SFTP, or off")
	flags.StringVar(&a.web, "web", "", "`address` of a web listener with TLS for people with a browser: the portal, links and WebDAV, without the console")
	flags.StringVar(&a.host, "host", "", "the host `name` or address under which clients reach it")
	flags.StringVar(&a.passive, "passive", "", "`LOW-HIGH`: the ports of passive FTP, half for each FTP listener")
	flags.StringVar(&a.certificate, "certificate", "", "`file` with a certificate and its chain, to be followed")
	flags.StringVar(&a.key, "certificate-key", "", "`file` with its key; else the same file")
	flags.StringVar(&a.store, "store", "", "`NAME=FOLDER`: a store to add")
	flags.StringVar(&a.group, "group", "", "a group to add, by `name`; its accounts get a home each in the store and every right in it")
	flags.StringVar(&a.account, "account", "", "an account to add, by `name`, in the group")
	flags.StringVar(&a.accountKey, "account-key", "", "`file` with its public key; else it gets a password, and you a link that shows it once")
	return func(ctx context.Context, env command.Env, c *client, _ []string) error {
		w := &setupWalk{ctx: ctx, env: env, c: c, given: a, in: bufio.NewReader(env.In), asks: *a == answers{}, said: env.Out}
		if *f.json {
			w.said = env.Err
		}
		if err := w.walk(); err != nil {
			return err
		}
		if *f.json {
			var page api.Page[api.SetupStep]
			if err := c.call(ctx, http.MethodGet, "/setup-steps", nil, &page); err != nil {
				return err
			}
			return printJSON(env.Out, page.Items)
		}
		return nil
	}
}

// setupWalk goes through the steps.
type setupWalk struct {
	ctx   context.Context
	env   command.Env
	c     *client
	given *answers
	in    *bufio.Reader
	asks  bool
	said  io.Writer // what was done

	store, group string // made on the way
}

func (w *setupWalk) walk() error {
	takes := map[string]func() (bool, error){"operator": w.operator, "name": w.called, "listeners": w.listeners, "host": w.host, "passive": w.passive,
		"certificate": w.certificate, "browsers": w.browsers, "host-keys": w.hostKeys, "store": w.addStore, "group": w.addGroup, "account": w.addAccount, "handover": w.handOver}
	steps, err := w.steps("")
	if err != nil {
		return err
	}
	for _, s := range steps {
		if w.asks {
			fmt.Fprintf(w.env.Err, "\n%s (%s)\n  %s\n", s.Title, s.State, s.Why)
			if s.Says != "" {
				fmt.Fprintf(w.env.Err, "  now: %s\n", safe(s.Says))
			}
		}
		take := takes[s.Step]
		if take == nil {
			continue
		}
		for {
			took, err := take()
			if err != nil && w.asks && !errors.Is(err, io.EOF) { // nothing was changed: ask again
				fmt.Fprintf(w.env.Err, "  %s\n", err)
				continue
			}
			if err != nil {
				return fmt.Errorf("%s: %w", s.Step, err)
			}
			if took {
				if err := w.check(s.Step); err != nil {
					return err
				}
			}
			break
		}
	}
	if w.asks {
		fmt.Fprintln(w.env.Err, "\nurbankeep checkup looks at everything; urbankeep setup goes on with what you left.")
	}
	return nil
}

// steps are all, with a check-up of one; "" for none.
func (w *setupWalk) steps(check string) ([]api.SetupStep, error) {
	var page api.Page[api.SetupStep]
	err := w.c.call(w.ctx, http.MethodGet, "/setup-steps?check="+check, nil, &page)
	return page.Items, err
}

// check marks a step as taken and shows what a check-up finds of it.
func (w *setupWalk) check(step string) error {
	if err := w.c.call(w.ctx, http.MethodPut, "/setup-steps/"+step, api.SetupMark{State: "done"}, nil); err != nil {
		return err
	}
	steps, err := w.steps(step)
	for _, s := range steps {
		if s.Step != step {
			continue
		}
		for _, one := range s.Check {
			if api.IsWrong(one.State) {
				fmt.Fprintf(w.env.Err, "  %s %s: %s\n     → %s\n", marks[one.State], one.State, safe(one.Says), safe(one.Do))
			}
		}
	}
	return err
}

// answer is what a flag says, or who is asked; "" leaves the step.
func (w *setupWalk) answer(given, question string) (string, error) {
	if !w.asks || given != "" {
		return given, nil
	}
	fmt.Fprintf(w.env.Err, "  %s: ", question)
	line, err := w.in.ReadString('\n')
	if err != nil && line == "" {
		fmt.Fprintln(w.env.Err)
		return "", io.EOF
	}
	return strings.TrimSpace(line), nil
}

func (w *setupWalk) done(say string, args ...any) (bool, error) {
	fmt.Fprintf(w.said, say+"\n", args...)
	return true, nil
}

func (w *setupWalk) operator() (bool, error) {
	given, err := w.answer(w.given.operator, "your name as an operator (empty: later)")
	if given == "" || err != nil {
		return false, err
	}
	var password string
	if _, isTerminal := terminal(w.env); isTerminal {
		password, err = askPassword(w.env, given)
	} else if password, err = w.in.ReadString('\n'); errors.Is(err, io.EOF) && password != "" {
		err = nil
	}
	if err != nil {
		return false, err
	}
	ask := api.OperatorNew{Operator: given, Role: keep.Owner, Password: strings.TrimRight(password, "\r\n")}
	if err := w.c.call(w.ctx, http.MethodPost, "/operators", ask, nil); err != nil {
		return false, err
	}
	return w.done("operator %s added as owner", given)
}

func (w *setupWalk) called() (bool, error) {
	given, err := w.answer(w.given.name, "name of the service")
	if given == "" || err != nil {
		return false, err
	}
	if err := w.c.call(w.ctx, http.MethodPatch, "/service", api.IdentityChange{Name: &given}, nil); err != nil {
		return false, err
	}
	return w.done("the service is called %s", given)
}

func (w *setupWalk) host() (bool, error) {
	given, err := w.answer(w.given.host, "host name or address that clients use, without a port")
	if given == "" || err != nil {
		return false, err
	}
	if err := w.c.call(w.ctx, http.MethodPatch, "/service", api.IdentityChange{Host: &given}, nil); err != nil {
		return false, err
	}
	return w.done("clients come to %s", given)
}

func (w *setupWalk) listeners() (bool, error) {
	took := false
	for _, l := range []struct{ name, given, what string }{{"ftp", w.given.ftp, "FTP with explicit TLS"}, {"ftps", w.given.ftps, "FTP with implicit TLS"}, {"sftp", w.given.sftp, "SFTP"}} {
		given, err := w.answer(l.given, l.what+": address as in :"+map[string]string{"ftp": "21", "ftps": "990", "sftp": "2222"}[l.name]+", off, or empty to leave it")
		if err != nil {
			return took, err
		}
		if given == "" {
			continue
		}
		ask := api.ListenerChange{}
		if off := given == "off"; off {
			ask.Stopped = &off
		} else {
			ask.Address, ask.Stopped = &given, new(bool)
		}
		if err := w.c.call(w.ctx, http.MethodPatch, "/listeners/"+l.name, ask, nil); err != nil {
			return took, err
		}
		took = true
		if _, err := w.done("listener %s: %s", l.name, given); err != nil {
			return took, err
		}
	}
	return took, nil
}

// peopleListener is the web listener that the set-up makes.
const peopleListener = "people"

func (w *setupWalk) browsers() (bool, error) {
	given, err := w.answer(w.given.web, "address of a web listener for them: as in :443, or empty for none")
	if given == "" || err != nil {
		if errors.Is(err, io.EOF) { // the last question: who had no more to say has left it
			err = nil
		}
		return false, err
	}
	tls := keep.EncryptionRequired
	ask := api.ListenerNew{Name: peopleListener, Protocol: keep.Web, ListenerChange: api.ListenerChange{Address: &given, Encryption: &tls, Faces: &[]keep.Face{keep.PortalFace, keep.PassesFace, keep.DavFace}}}
	if err := w.c.call(w.ctx, http.MethodPost, "/listeners", ask, nil); err != nil {
		return false, err
	}
	return w.done("listener %s: %s, for the portal, links and WebDAV; a certificate that browsers trust: certificate acme", peopleListener, given)
}

func (w *setupWalk) passive() (bool, error) {
	given, err := w.answer(w.given.passive, "passive ports as LOW-HIGH, half for each FTP listener")
	if given == "" || err != nil {
		return false, err
	}
	var low, high int
	if n, _ := fmt.Sscanf(given, "%d-%d", &low, &high); n != 2 || low >= high {
		return false, &keep.FieldError{Field: "passive", Say: "use LOW-HIGH, as in 47000-47199"}
	}
	var page api.Page[api.Listener]
	if err := w.c.call(w.ctx, http.MethodGet, "/listeners", nil, &page); err != nil {
		return false, err
	}
	var ftp []api.Listener
	for _, l := range page.Items {
		if l.Protocol.IsFTP() {
			ftp = append(ftp, l)
		}
	}
	if len(ftp) == 0 {
		return false, errors.New("there is no FTP listener: passive ports are for FTP")
	}
	each := (high - low + 1) / len(ftp)
	set := func(i int) error {
		from, to := low+i*each, low+(i+1)*each-1
		if i == len(ftp)-1 {
			to = high
		}
		return w.c.call(w.ctx, http.MethodPatch, "/listeners/"+name(ftp[i].Name), api.ListenerChange{PassiveLow: &from, PassiveHigh: &to}, nil)
	}
	// No two listeners may share a port, not even on the way: who is in the way goes first.
	var waits []int
	for i := range ftp {
		if set(i) != nil {
			waits = append(waits, i)
		}
	}
	for _, i := range waits {
		if err := set(i); err != nil {
			return false, err
		}
	}
	return w.done("passive ports: %s", given)
}

func (w *setupWalk) certificate() (bool, error) {
	given, err := w.answer(w.given.certificate, "file with your own certificate and its chain, whole path, or self-signed")
	if given == "" || err != nil {
		return false, err
	}
	ask := api.CertificateChange{SelfSigned: given == "self-signed"}
	if !ask.SelfSigned {
		ask.CertificateFile = given
		if ask.KeyFile, err = w.answer(w.given.key, "file with its key (empty: the same file)"); err != nil {
			return false, err
		}
	}
	var made api.Certificate
	if err := w.c.call(w.ctx, http.MethodPut, "/certificates/main", ask, &made); err != nil {
		return false, err
	}
	return w.done("certificate for %s, until %s", strings.Join(made.Names, ", "), made.Expires.Format("2006-01-02"))
}

func (w *setupWalk) hostKeys() (bool, error) {
	given, err := w.answer("", "keep these keys? yes, or empty to come back (hostkey import takes others)")
	return given == "yes", err
}

func (w *setupWalk) addStore() (bool, error) {
	given, err := w.answer(w.given.store, "a store as NAME=FOLDER, or empty to use what is there")
	if given == "" || err != nil {
		return false, err
	}
	called, folder, ok := strings.Cut(given, "=")
	if !ok {
		return false, &keep.FieldError{Field: "store", Say: "use NAME=FOLDER, as in plates=/srv/plates"}
	}
	if err := w.c.call(w.ctx, http.MethodPost, "/stores", api.StoreNew{Name: called, Folder: folder}, nil); err != nil {
		return false, err
	}
	w.store = called
	return w.done("store %s in %s", called, folder)
}

// home is where accounts of this set-up live: in the store that was just made, or the first.
func (w *setupWalk) home() (keep.Mount, error) {
	if w.store == "" {
		var page api.Page[api.Store]
		if err := w.c.call(w.ctx, http.MethodGet, "/stores", nil, &page); err != nil {
			return keep.Mount{}, err
		}
		if len(page.Items) == 0 {
			return keep.Mount{}, errors.New("there is no store: add one with store add")
		}
		w.store = page.Items[0].Name
	}
	return keep.Mount{At: "/", Store: w.store, Folder: "{account}"}, nil
}

func (w *setupWalk) addGroup() (bool, error) {
	given, err := w.answer(w.given.group, "name of the group; its accounts get a home each, with every right in it")
	if given == "" || err != nil {
		return false, err
	}
	home, err := w.home()
	if err != nil {
		return false, err
	}
	ask := api.GroupNew{Name: given, Mounts: []keep.Mount{home}, Grants: []keep.Grant{{Path: "/", Rights: keep.Full}}, Settings: map[string]json.RawMessage{}}
	if err := w.c.call(w.ctx, http.MethodPost, "/groups", ask, nil); err != nil {
		return false, err
	}
	w.group = given
	return w.done("group %s: a home for each in %s:{account}, every right in it", given, home.Store)
}

func (w *setupWalk) addAccount() (bool, error) {
	given, err := w.answer(w.given.account, "name of the account")
	if given == "" || err != nil {
		return false, err
	}
	w.given.account = given
	key, err := w.answer(w.given.accountKey, "file with its public key (empty: a password)")
	if err != nil {
		return false, err
	}
	var text []byte
	if key != "" {
		if text, err = os.ReadFile(key); err != nil {
			w.given.account = ""
			return false, fmt.Errorf("read the public key: %w", err)
		}
	}
	ask := api.AccountNew{Name: given, Mounts: []keep.Mount{}, Grants: []keep.Grant{}, Settings: map[string]json.RawMessage{}, Groups: []string{}}
	if w.group != "" {
		ask.Groups = []string{w.group}
	} else {
		home, err := w.home()
		if err != nil {
			return false, err
		}
		ask.Mounts, ask.Grants = []keep.Mount{home}, []keep.Grant{{Path: "/", Rights: keep.Full}}
	}
	if err := w.c.call(w.ctx, http.MethodPost, "/accounts", ask, nil); err != nil {
		return false, err
	}
	if key != "" {
		if err := w.c.call(w.ctx, http.MethodPost, "/accounts/"+name(given)+"/keys", api.KeyNew{Key: string(text)}, nil); err != nil {
			return false, err
		}
		return w.done("account %s added, with its key", given)
	}
	var link api.PasswordLink
	if err := w.c.call(w.ctx, http.MethodPost, "/accounts/"+name(given)+"/password-link", api.PasswordLinkNew{Days: 3}, &link); err != nil {
		return false, err
	}
	if link.Shut != "" {
		link.Link += " (" + link.Shut + ")"
	}
	return w.done("account %s added; this link shows its password once: %s", given, link.Link)
}

func (w *setupWalk) handOver() (bool, error) {
	if w.given.account == "" {
		return false, nil
	}
	text, err := w.c.raw(w.ctx, http.MethodGet, "/accounts/"+name(w.given.account)+"/handover?format=text", nil)
	if err != nil {
		if w.asks { // there is no address yet: the sheet comes later
			fmt.Fprintf(w.env.Err, "  %s\n", err)
			return false, nil
		}
		return false, err
	}
	_, err = fmt.Fprintf(w.said, "\n%s", text)
	return true, err
}
